"""The clock of the running machine, against a time server."""

import secrets
import socket
import struct
from datetime import UTC, datetime
from typing import Annotated, ClassVar

import msgspec

from fundamen.messages import Message, say
from fundamen.prerequisites.answer import Answer, met_if, unknown
from fundamen.prerequisites.requirement import USUAL_SECONDS, CheckContext, Name, Requirement, Seconds, only_live

# Source: RFC 5905, section 7.3 (the packet), and section 14 (a client that asks once). 1900 is the era's beginning.
_PACKET = struct.Struct("!BBbbII4sQQQQ")
_VERSION_4_CLIENT = 4 << 3 | 3
_SERVER = 4
_TO_UNIX = 2_208_988_800  # seconds from 1900 to 1970
_MOST_STRATUM = 15  # 0 is a refusal, 16 a server that has no time itself


class Clock(Requirement, frozen=True, kw_only=True, tag="clock"):
    """The clock is right to some seconds, by the time server that is named."""

    server: Name
    port: Annotated[int, msgspec.Meta(ge=1, le=65535)] = 123
    within: Seconds = 60.0
    seconds: Seconds = USUAL_SECONDS

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-clock-is-right-to-s", within=self.within, server=self.server)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.set-the-clock-and-have-it")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        family, kind, _, _, address = socket.getaddrinfo(self.server, self.port, type=socket.SOCK_DGRAM)[0]
        with socket.socket(family, kind) as client:
            client.settimeout(self.seconds)
            client.connect(address)
            cookie = secrets.randbits(64)  # what comes back must be an answer to this
            client.send(_PACKET.pack(_VERSION_4_CLIENT, 0, 0, 0, 0, 0, b"", 0, 0, 0, cookie))
            try:
                packet = client.recv(1024)
            except TimeoutError:
                return unknown(say("prerequisites.gives-no-time-within-s", server=self.server, seconds=self.seconds))
        if len(packet) < _PACKET.size:
            return unknown(say("prerequisites.answers-with-bytes-which-are-no", server=self.server, count=len(packet)))
        first, stratum, *_, origin, _received, sent = _PACKET.unpack_from(packet)
        if first & 7 != _SERVER or not 0 < stratum <= _MOST_STRATUM or origin != cookie or not sent:
            return unknown(say("prerequisites.has-no-time-to-give", server=self.server))
        away = (asked.now - datetime.fromtimestamp((sent >> 32) - _TO_UNIX, UTC)).total_seconds()
        return met_if(
            abs(away) <= self.within,
            say("prerequisites.it-is-s", abs=abs(away), more="ahead" if away > 0 else "behind"),
        )

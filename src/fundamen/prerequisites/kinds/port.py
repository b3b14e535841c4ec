"""A TCP port: served by someone, or free to be taken."""

import errno
import socket
from typing import Annotated, ClassVar, Literal

import msgspec

from fundamen.messages import Message, as_said, say
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import USUAL_SECONDS, CheckContext, Name, Requirement, Seconds, only_live


class Port(Requirement, frozen=True, kw_only=True, tag="port"):
    """Someone accepts connections at a port, or no one has taken it."""

    number: Annotated[int, msgspec.Meta(ge=1, le=65535)]
    state: Literal["served", "free"] = "served"
    host: Name = "127.0.0.1"
    seconds: Seconds = USUAL_SECONDS

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        what = (
            say("prerequisites.a-program-accepts-connections-at")
            if self.state == "served"
            else say("prerequisites.no-program-uses")
        )
        return say("prerequisites.port-of", what=what, number=self.number, host=self.host)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return (
            say("prerequisites.start-the-service-that-serves-it")
            if self.state == "served"
            else say("prerequisites.find-who-has-it-and-give")
        )

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        return self._free() if self.state == "free" else self._check_server()

    def _check_server(self) -> Answer:
        try:
            socket.create_connection((self.host, self.number), self.seconds).close()
        except TimeoutError:
            return unmet(say("prerequisites.no-answer-within-s", seconds=self.seconds))
        except ConnectionRefusedError:
            return unmet(say("prerequisites.the-connection-is-refused-no-program"))
        except OSError as error:
            return unmet(as_said(error.strerror or str(error)))
        return met(say("prerequisites.a-connection-was-accepted"))

    def _free(self) -> Answer:
        family, _, _, _, address = socket.getaddrinfo(self.host, self.number, type=socket.SOCK_STREAM)[0]
        with socket.socket(family, socket.SOCK_STREAM) as taken:
            taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # what is only closing is no hindrance
            try:
                taken.bind(address)
            except OSError as error:
                if error.errno == errno.EADDRINUSE:
                    return unmet(say("prerequisites.a-program-uses-it"))
                return unknown(as_said(error.strerror or str(error)))
        return met(say("prerequisites.no-program-uses-it"))

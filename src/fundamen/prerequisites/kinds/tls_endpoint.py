"""A TLS server whose certificate the machine trusts."""

from datetime import timedelta
from typing import Annotated, ClassVar

import msgspec

from fundamen.machine.tls_server import fetch_certificates
from fundamen.messages import Message, say
from fundamen.model.errors import UnreadableError
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import USUAL_SECONDS, CheckContext, Name, Requirement, Seconds


class TlsEndpoint(Requirement, frozen=True, kw_only=True, tag="tls endpoint"):
    """A server answers with TLS, and its certificate is for it, holds, and ends in a root that the machine trusts."""

    host: Name
    port: Annotated[int, msgspec.Meta(ge=1, le=65535)] = 443
    days_left: int = 0  # that its certificate must still hold
    seconds: Seconds = USUAL_SECONDS

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.a-trusted-tls-connection-to", host=self.host, port=self.port)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.fundamen-inspect-server", host=self.host, port=self.port)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - they load much, and few sheets need
        from fundamen.trace.certificates import inspect_server  # noqa: PLC0415 - them

        try:
            shown = fetch_certificates(self.host, self.port, self.seconds)
        except UnreadableError as error:
            return unmet(error.why)
        issuers = PublisherAuthority(asked.now).issuers(asked.machine)
        found = inspect_server(self.host, self.port, shown, issuers, asked.now)
        if found.wrong_name:
            return unmet(found.wrong_name)
        for chain in found.failing:
            return unmet(chain.why)
        until = found.chains[0].links[0].certificate.not_after
        if until - asked.now < timedelta(days=self.days_left):
            return unmet(say("prerequisites.its-certificate-holds-only-until", until=until))
        return met(say("prerequisites.its-certificate-holds-until", until=until))

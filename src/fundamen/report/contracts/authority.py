"""The contracts of ``authority`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.certificate_authorities.examining import AuthorityState
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure


class AuthorityFinding(msgspec.Struct, frozen=True):
    """One thing that was looked at."""

    about: str
    is_right: bool
    found: Message


class AuthorityRecord(msgspec.Struct, frozen=True):
    """A certificate authority of a directory."""

    entry: str
    directory: str
    findings: tuple[AuthorityFinding, ...] = ()
    certificate_sha256: str | None = None
    host: str | None = None
    resuming: Message | None = None  # how a waiting installer continues safely
    faults: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.authority/2"] = "fundamen.authority/2"


def authority_record(state: AuthorityState, directory: str, following: tuple[Message, ...]) -> AuthorityRecord:
    """An authority as JSON has it."""
    return AuthorityRecord(
        entry=state.wanted.entry,
        directory=directory,
        findings=tuple(AuthorityFinding(str(each.about), each.is_right, each.found) for each in state.findings),
        certificate_sha256=state.certificate.sha256 if state.certificate is not None else None,
        host=state.host.name if state.host is not None and state.host.name else None,
        resuming=state.resuming,
        faults=len(state.faults),
        next=following,
    )

"""The contract of ``roots list`` with ``--json``."""

from collections.abc import Iterable, Sequence
from typing import Literal

import msgspec

from fundamen.trust.certificate import Certificate


class RootPart(msgspec.Struct, frozen=True):
    """One root certificate that a machine trusts."""

    name: str
    sha256: str
    valid_from: str
    valid_until: str
    where: tuple[str, ...]  # in which of the machine's stores


class RootsRecord(msgspec.Struct, frozen=True):
    """The root certificates that a machine trusts."""

    roots: tuple[RootPart, ...]
    schema: Literal["fundamen.roots/1"] = "fundamen.roots/1"


def roots_record(roots: Iterable[tuple[Certificate, Sequence[str]]]) -> RootsRecord:
    """The contract's form of some roots."""
    return RootsRecord(
        tuple(
            RootPart(c.subject.whole, c.sha256, c.not_before.isoformat(), c.not_after.isoformat(), tuple(where))
            for c, where in roots
        )
    )

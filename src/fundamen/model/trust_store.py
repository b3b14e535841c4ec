"""Define the entries of a trust store."""

from enum import StrEnum

import msgspec

from fundamen.messages import Message


class StoreRole(StrEnum):
    """Roles of a certificate in its store."""

    ROOT = "root"  # every program of the machine may trust it
    USERS_ROOT = "user's root"  # only this user's programs trust it, not an installer that runs as the machine
    ON_DEMAND = "root on demand"  # the system fetches and trusts it by itself when a chain first ends in it
    ISSUER = "issuer"  # it helps to build chains, and is trusted by no one for its own sake
    DISTRUSTED = "distrusted"  # whatever else speaks for it


class StoredCertificate(msgspec.Struct, frozen=True):
    """One certificate of a trust store, or one that came in some other way."""

    der: bytes
    role: StoreRole
    where: str  # in words, as "the machine's store Root" or "the file"
    purposes: frozenset[str] | None = None  # to which the store restricts it, as object identifiers; None: to none


class TrustStores(msgspec.Struct, frozen=True):
    """All that a machine keeps about whom it trusts."""

    certificates: tuple[StoredCertificate, ...] = ()
    revocation_lists: tuple[bytes, ...] = ()  # DER
    on_demand: frozenset[bytes] = frozenset()  # SHA-1 of roots that the system fetches by itself
    looked_at: tuple[str, ...] = ()  # where, in the machine's own words
    gaps: tuple[Message, ...] = ()  # what could not be read, and why

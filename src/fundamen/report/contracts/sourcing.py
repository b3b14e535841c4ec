"""The contracts of ``sources`` with ``--json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.messages import Message
from fundamen.sources.catalogue import Catalogue
from fundamen.sources.offers import Offer
from fundamen.sources.own_copies import CheckedCopy, CopyOutcome


class SourcePart(msgspec.Struct, frozen=True):
    """One trusted source."""

    name: str
    location: str
    fingerprint: str
    trusted_at: str
    expires_at: str
    packages: int
    mirrors: tuple[str, ...]


class SourcesRecord(msgspec.Struct, frozen=True):
    """Trusted sources, for ``sources list --json`` and ``sources trust --json``."""

    sources: tuple[SourcePart, ...]
    schema: Literal["fundamen.sources/1"] = "fundamen.sources/1"


class OfferPart(msgspec.Struct, frozen=True):
    """One offer."""

    package: str
    version: str
    publisher: str
    architecture: str
    source: str
    eligible: bool
    why: Message | None


class OffersRecord(msgspec.Struct, frozen=True):
    """All offers for one need, for ``sources offers --json``."""

    need: str
    offers: tuple[OfferPart, ...]
    builds: tuple[str, ...]  # versions with a build for the architecture that was asked for, the newest first
    schema: Literal["fundamen.offers/2"] = "fundamen.offers/2"


class PublicationRecord(msgspec.Struct, frozen=True):
    """The published package, for ``sources publish --json``."""

    package: str
    files: int
    fingerprint: str
    expires_at: str
    schema: Literal["fundamen.publication/1"] = "fundamen.publication/1"


def source_part(catalogue: Catalogue) -> SourcePart:
    """The contract's form of a trusted source."""
    source = catalogue.source
    times = (source.trusted_at.isoformat(), catalogue.expires_at.isoformat())
    return SourcePart(source.name, source.location, source.fingerprint, *times, catalogue.count, source.mirrors)


def offer_part(offer: Offer) -> OfferPart:
    """The contract's form of an offer."""
    package = offer.package
    words = (package.name, package.version, package.publisher, str(package.architecture))
    return OfferPart(*words, offer.source.name, offer.is_eligible, offer.obstacle)


class CopiesRecord(msgspec.Struct, frozen=True):
    """Our own copies, for ``sources verify --json``; the sound ones are only counted."""

    count: int
    changed: tuple[CheckedCopy, ...]
    schema: Literal["fundamen.copies/3"] = "fundamen.copies/3"


def copies_record(checked: Sequence[CheckedCopy]) -> CopiesRecord:
    """The contract's form of the check of our own copies."""
    changed = (each for each in checked if each.outcome is not CopyOutcome.INTACT)
    return CopiesRecord(len(checked), tuple(changed))

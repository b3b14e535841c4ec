"""What the trusted sources offer for a need, best first, each with why it may or may not be used."""

from collections.abc import Iterable, Sequence

import msgspec
from packaging.version import InvalidVersion, Version

from fundamen.model.architecture import Architecture, Platform
from fundamen.model.package import NEUTRAL, Package, PackageFile
from fundamen.sources.store import Catalogue, Source


class Offer(msgspec.Struct, frozen=True):
    """One package of one source that has a component of the needed name."""

    source: Source
    package: Package
    file: PackageFile
    obstacle: str | None  # why it may not be used; None where it may

    @property
    def is_eligible(self) -> bool:
        """Whether the package may be used."""
        return self.obstacle is None


def find_offers(
    catalogues: Iterable[Catalogue],
    name: str,
    platform: Platform,
    architecture: Architecture,
    in_place: Sequence[tuple[str, str]] = (),
) -> tuple[Offer, ...]:
    """All offers for a component, the eligible ones first, each group from best to worst.

    Args:
        catalogues: the proven catalogues.
        name: the component's name; compared without case.
        platform: of the program that needs it.
        architecture: likewise.
        in_place: (package name, version) of packages whose sound files stand on the machine already; their version
            is kept, since versions of one package must not be mixed.
    """
    offers = [
        Offer(catalogue.source, package, file, _obstacle(package, platform, architecture, in_place))
        for catalogue in catalogues
        for package in catalogue.packages
        for file in package.files
        if file.answers_to(name)
    ]
    return tuple(sorted(offers, key=_rank, reverse=True))


def _obstacle(
    package: Package, platform: Platform, architecture: Architecture, in_place: Sequence[tuple[str, str]]
) -> str | None:
    if package.withdrawn is not None:
        return f"withdrawn: {package.withdrawn}"
    if package.platform is not platform:
        return f"is for {package.platform}, not {platform}"
    if not package.architecture.serves(architecture):
        return f"is for {package.architecture}, not {architecture}"
    if package.language != NEUTRAL:
        return f"is the package for the language {package.language}, not the neutral one"
    versions = {version for name, version in in_place if name == package.name}
    if versions and package.version not in versions:
        return f"version {', '.join(sorted(versions))} stands here already, and versions must not be mixed"
    return None


def _rank(offer: Offer) -> tuple[bool, bool, Version, str]:
    return offer.is_eligible, offer.package.language == NEUTRAL, _version(offer.package.version), offer.source.name


def _version(text: str) -> Version:
    try:
        return Version(text)
    except InvalidVersion:
        return Version("0")  # an order is not known; anything that has one goes first

"""What the trusted sources offer for a need, best first, each with why it may or may not be used."""

from collections.abc import Iterable, Iterator, Sequence

import msgspec
from packaging.specifiers import SpecifierSet
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
    names: Sequence[str],
    platform: Platform,
    architecture: Architecture,
    in_place: Sequence[tuple[str, str]] = (),
    versions: str = "",
) -> tuple[Offer, ...]:
    """All offers for a component, the eligible ones first, each group from best to worst.

    Args:
        catalogues: the proven catalogues.
        names: what the component's file may be called; compared without case, ``*`` stands for anything; the first
            of them that an eligible package has is the best.
        platform: of the program that needs it.
        architecture: likewise.
        in_place: (package name, version) of packages whose sound files stand on the machine already; their version
            is kept, since versions of one package must not be mixed.
        versions: which versions of the package serve (PEP 440, "Version specifiers"); empty where any may.
    """
    offers: list[tuple[Offer, int]] = []  # with the place of its name among those that were asked for
    for catalogue in catalogues:
        for package in catalogue.packages:
            for file in package.files:
                place = next((place for place, name in enumerate(names) if file.answers_to(name)), None)
                if place is not None:
                    obstacle = next(_obstacles(package, platform, architecture, in_place, versions), None)
                    offers.append((Offer(catalogue.source, package, file, obstacle), place))
    return tuple(offer for offer, _ in sorted(offers, key=lambda found: _rank(*found), reverse=True))


def _obstacles(
    package: Package,
    platform: Platform,
    architecture: Architecture,
    in_place: Sequence[tuple[str, str]],
    serving: str,
) -> Iterator[str]:
    if package.withdrawn is not None:
        yield f"withdrawn: {package.withdrawn}"
    if package.platform is not platform:
        yield f"is for {package.platform}, not {platform}"
    if not package.architecture.serves(architecture):
        yield f"is for {package.architecture}, not {architecture}"
    if package.language != NEUTRAL:
        yield f"is the package for the language {package.language}, not the neutral one"
    if serving and _version(package.version) not in SpecifierSet(serving, prereleases=True):
        yield f"its version does not serve; one that is {serving} is asked for"
    versions = {version for name, version in in_place if name == package.name}
    if versions and package.version not in versions:
        yield f"version {', '.join(sorted(versions))} stands here already, and versions must not be mixed"


def _rank(offer: Offer, place: int) -> tuple[bool, int, bool, Version, str]:
    return (
        offer.is_eligible,
        -place,
        offer.package.language == NEUTRAL,
        _version(offer.package.version),
        offer.source.name,
    )


def _version(text: str) -> Version:
    try:
        return Version(text)
    except InvalidVersion:
        return Version("0")  # an order is not known; anything that has one goes first

"""Find the offers of the trusted sources for a need, best first, each with why it may or may not be used."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType

import msgspec
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import InvalidVersion, Version

from fundamen.messages import Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.package import NEUTRAL, Package, PackageEntry
from fundamen.sources.catalogue import Catalogue, Source, SourceKind


class Offer(msgspec.Struct, frozen=True):
    """One package of one source that has a component of the needed name."""

    source: Source
    package: Package
    entry: PackageEntry  # which it has
    obstacle: Message | None  # why it may not be used; None where it may
    is_owners: bool = False  # whether what is at fault came from this source, as the machine's package database says

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
    pins: Mapping[str, str] = MappingProxyType({}),
) -> tuple[Offer, ...]:
    """All offers for a component, the eligible ones first, each group from best to worst.

    Args:
        catalogues: the proven catalogues.
        names: what the component's file may be called; compared without case, ``*`` stands for anything; the first
            of them that an eligible package has is the best.
        platform: of the program that needs it.
        architecture: likewise.
        in_place: (package name, version) of packages whose sound files are on the machine already; their version
            is kept, since versions of one package must not be mixed.
        versions: which versions of the package serve (PEP 440, "Version specifiers"); empty where any may.
        pins: package name -> versions that someone asks for, whatever is on the machine already.
    """
    offers: list[tuple[Offer, int]] = []  # with the place of its name among those that were asked for
    for catalogue in catalogues:
        for package in catalogue.packages_with(names):
            for entry in package.entries:
                place = next((place for place, name in enumerate(names) if entry.answers_to(name)), None)
                if place is not None:
                    obstacle = next(_obstacles(package, platform, architecture, in_place, versions, pins), None)
                    offers.append((Offer(catalogue.source, package, entry, obstacle, catalogue.is_owner), place))
    return tuple(offer for offer, _ in sorted(offers, key=lambda found: _rank(*found), reverse=True))


def require_specifier(versions: str) -> None:
    """Make sure that something typed says which versions serve. Raises: UsageError: it does not."""
    try:
        SpecifierSet(versions)
    except InvalidSpecifier as error:
        raise UsageError(
            what=say("sources.the-versions-cannot-be-used", versions=printable(versions)),
            why=say("sources.that-is-no-version-specifier-pep"),
            do=say("sources.write-it-as-for-example-4"),
        ) from error


def find_builds(offers: Iterable[Offer], platform: Platform, architecture: Architecture) -> tuple[str, ...]:
    """The versions of which there is a build for an architecture that is not withdrawn, the newest first."""
    versions = {
        offer.package.version
        for offer in offers
        if offer.package.platform.serves(platform)
        and offer.package.architecture.serves(architecture)
        and offer.package.withdrawn is None
    }
    return tuple(sorted(versions, key=_version, reverse=True))


def _obstacles(
    package: Package,
    platform: Platform,
    architecture: Architecture,
    in_place: Sequence[tuple[str, str]],
    serving: str,
    pins: Mapping[str, str],
) -> Iterator[Message]:
    if package.withdrawn is not None:
        yield say("sources.withdrawn", withdrawn=package.withdrawn)
    if not package.platform.serves(platform):
        yield say("sources.is-for-not", platform=package.platform, other_platform=platform)
    if not package.architecture.serves(architecture):
        yield say("sources.is-for-not", platform=package.architecture, other_platform=architecture)
    if package.language != NEUTRAL:
        yield say("sources.is-the-package-for-the-language", language=package.language)
    if package.is_for_developers:
        yield say("sources.is-the-edition-for-developers-not")
    if serving and _version(package.version) not in SpecifierSet(serving, prereleases=True):
        yield say("sources.its-version-does-not-serve-one", serving=serving)
    if package.unproven is not None:
        yield say("sources.not-proven", unproven=package.unproven)
    pinned = pins.get(package.name)
    if pinned is not None and _version(package.version) not in SpecifierSet(pinned, prereleases=True):
        yield say("sources.its-version-was-not-asked-for", pinned=pinned)
    versions = {version for name, version in in_place if name == package.name and pinned is None}
    if versions and package.version not in versions:
        yield say("sources.version-is-installed-here-and-versions", versions=", ".join(sorted(versions)))


def _rank(offer: Offer, place: int) -> tuple[bool, bool, int, bool, bool, Version, str]:
    return (
        offer.is_eligible,
        offer.is_owners,
        -place,
        offer.package.language == NEUTRAL,
        offer.source.kind
        not in {SourceKind.MEDIA, SourceKind.REFERENCE},  # a signed catalogue's whole packages go first
        _version(offer.package.version),
        offer.source.name,
    )


def _version(text: str) -> Version:
    try:
        return Version(text)
    except InvalidVersion:
        return Version("0")  # an order is not known; anything that has one goes first

"""Plan a restoration: the packages that bring what is at fault, and of their files those that are not sound."""

from collections.abc import Iterator, Sequence

import msgspec

from fundamen.loaders.load_map import Outcome
from fundamen.loaders.loading import system_folder
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Base, Package, PackageFile, PackageLink
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.restore.steps import InstallPackages, PlaceFile, PlaceLink, place_file
from fundamen.sources.catalogue import Catalogue, Source
from fundamen.sources.layout import place_parts
from fundamen.sources.offers import Offer, find_offers
from fundamen.trace.records import Component, Trace
from fundamen.trust.digest import digest_of

_MOST_HOPS = 5  # from link to link


class Unmet(msgspec.Struct, frozen=True):
    """A fault for which there is no trusted remedy."""

    name: str
    why: str


class Plan(msgspec.Struct, frozen=True):
    """What would be done for one program, and what cannot be."""

    program: MachinePath
    packages: tuple[tuple[Source, Package], ...]
    steps: tuple[PlaceFile | PlaceLink, ...]
    untouched: tuple[MachinePath, ...]  # files of these packages that are sound already
    unmet: tuple[Unmet, ...]
    installs: InstallPackages | None = None  # what the operating system's package manager is to install

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to be done."""
        return not self.steps and self.installs is None

    @property
    def size(self) -> int:
        """How many bytes are to be written, not counting what is kept."""
        return sum(step.size for step in self.steps)


def plan_restoration(machine: Machine, trace: Trace, catalogues: Sequence[Catalogue]) -> Plan:
    """Choose packages for all faults of a trace, and from each package the files that are not as it has them."""
    standing = _in_place(machine, trace, catalogues)
    chosen: dict[tuple[str, Package], Offer] = {}
    unmet = []
    # What is outdated goes first: only another version of its package can mend it, and the other faults then follow it.
    for fault in sorted(trace.faults, key=lambda fault: fault.verdict is not Verdict.OUTDATED):
        in_place = () if fault.verdict is Verdict.OUTDATED else standing
        offers = find_offers(
            catalogues,
            fault.sought_as,
            machine.platform,
            fault.wanted_architecture,
            in_place,
            fault.sought_versions,
        )
        if offers and offers[0].is_eligible:
            package = offers[0].package
            chosen.setdefault((offers[0].source.name, package), offers[0])
            standing = [known for known in standing if known[0] != package.name] + [(package.name, package.version)]
        else:
            unmet.append(Unmet(fault.name, _why_unmet(offers, catalogues)))
    steps: dict[str, PlaceFile | PlaceLink] = {}
    untouched: list[MachinePath] = []
    for offer in chosen.values():
        for file in offer.package.files:
            path = machine.real(place_of(machine, trace, offer.package, file))
            because = _difference(machine, path, offer.package, file)
            if because is None:
                untouched.append(path)
            else:
                step = place_file(path, file, offer.package, offer.source, because)
                steps.setdefault(machine.folded(path), step)
        for link in _missing_links(machine, trace, offer):
            steps.setdefault(machine.folded(link.path), link)
    packages = tuple((offer.source, offer.package) for offer in chosen.values())
    return Plan(trace.program, packages, tuple(steps.values()), tuple(untouched), tuple(unmet))


def _missing_links(machine: Machine, trace: Trace, offer: Offer) -> Iterator[PlaceLink]:
    """The links of a package that lead to a file of it, and stand no longer; a broken one is mended by its file."""
    files = {machine.real(place_of(machine, trace, offer.package, file)): file for file in offer.package.files}
    links = {place_of(machine, trace, offer.package, link): link for link in offer.package.links}
    for path, link in links.items():
        folder = machine.real(machine.folder_of(path))
        place = machine.join(folder, machine.paths.basename(path))
        leads_to = machine.join(folder, link.target)
        for _ in range(_MOST_HOPS):  # to another link of the package
            if (further := links.get(leads_to)) is None:
                break
            leads_to = machine.join(machine.folder_of(leads_to), further.target)
        file = files.get(machine.real(leads_to))
        if file is not None and machine.paths.basename(place) not in machine.names(folder):
            yield PlaceLink(
                path=place,
                because="missing",
                sha256=file.sha256,
                size=0,
                link=link.target,
                leads_to=machine.real(leads_to),
                package=offer.package,
                source=offer.source,
            )


def with_found_places(machine: Machine, plan: Plan, remaining: Sequence[Component]) -> Plan:
    """Add steps for faults that a rehearsal leaves because the loader finds a bad copy before the package's place.

    The bad copy is replaced where it lies, by the file of that name from the plan's packages.
    """
    steps = {machine.folded(step.path): step for step in plan.steps}
    for fault in remaining:
        found = [c.path for c in fault.searched if c.outcome in {Outcome.REFUSED, Outcome.TAKEN}]
        for source, package in plan.packages:
            for file in package.files:
                if found and any(file.answers_to(name) for name in fault.sought_as):
                    path = machine.real(found[0])
                    step = place_file(path, file, package, source, str(fault.verdict))
                    steps.setdefault(machine.folded(path), step)
    return msgspec.structs.replace(plan, steps=tuple(steps.values()))


def place_of(machine: Machine, trace: Trace, package: Package, file: PackageFile | PackageLink) -> MachinePath:
    """Where on the machine a file or link of a package belongs."""
    match file.base:
        case Base.PROGRAM:
            folder = machine.folder_of(machine.real(trace.program))
        case Base.SYSTEM:
            folder = system_folder(machine, package.architecture)
        case Base.ROOT:
            folder = MachinePath("C:\\" if machine.platform is Platform.WINDOWS else "/")
    return machine.join(folder, *place_parts(file))


def _in_place(machine: Machine, trace: Trace, catalogues: Sequence[Catalogue]) -> list[tuple[str, str]]:
    """(name, version) of the packages of which this program uses sound files, known by their digests."""
    digests: dict[MachinePath, str] = {}
    names = {name for component in trace.components if component.path is not None for name in component.sought_as}
    listed = [(package, file) for c in catalogues for package in c.packages_with(names) for file in package.files]
    found = []
    for component in trace.components:
        if component.path is None or component.is_fault:
            continue
        for package, file in listed:
            if not any(file.answers_to(name) for name in component.sought_as):
                continue
            if component.path not in digests:
                with machine.open(component.path) as source:
                    digests[component.path] = digest_of(source)
            if digests[component.path] == file.sha256 and package.withdrawn is None:
                found.append((package.name, package.version))
    return found


def _difference(machine: Machine, path: MachinePath, package: Package, file: PackageFile) -> str | None:
    """What is wrong with the file at a place; None where it is the package's own."""
    entry = machine.look(path)
    if entry.kind is EntryKind.ABSENT:
        return "missing"
    try:
        with machine.open(path) as source:
            if source.size == file.size and digest_of(source) == file.sha256:
                return None
    except UnreadableError as error:
        return error.why
    return _how_it_differs(machine, path, package)


def _how_it_differs(machine: Machine, path: MachinePath, package: Package) -> str:
    try:
        binary = machine.binary(path)
    except UnreadableError:
        return "corrupt"
    if binary.problems:
        return "corrupt"
    if not binary.architecture.serves(package.architecture):
        return f"for {binary.architecture}, not {package.architecture}"
    return "other bytes"


def _why_unmet(offers: Sequence[Offer], catalogues: Sequence[Catalogue]) -> str:
    if not catalogues:
        return "no source is trusted yet"
    if not offers:
        return "no trusted source has it"
    return "; ".join(f"{o.package.name} {o.package.version} from {o.source.name}: {o.obstacle}" for o in offers[:3])

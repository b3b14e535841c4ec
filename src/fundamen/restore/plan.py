"""Plan a restoration: the packages that bring what is at fault, and of their files those that are not sound."""

import contextlib
import logging
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from fundamen.changes.base import Step
from fundamen.changes.files import Change
from fundamen.changes.moves import Move, free_aside
from fundamen.changes.packages import InstallPackages
from fundamen.changes.rights import ChangeRights, allow
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.loading import system_folder
from fundamen.machine.access import find_barrier, user_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.widths import find_program_of, other_width
from fundamen.messages import Message, join_clauses, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Base, Package, PackageEntry, PackageFile
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.restore.differences import find_difference, find_impostor, has_entry, why_link_is_placed
from fundamen.restore.steps import PlaceFile, PlaceFolder, PlaceLink, place_file, place_folder
from fundamen.sources.catalogue import Catalogue, Source, SourceKind
from fundamen.sources.layout import place_parts
from fundamen.sources.offers import Offer, find_offers
from fundamen.trace.records import INSTALLED_FILE, Component, Trace
from fundamen.trust.digest import digest_of

_LOG = logging.getLogger(__name__)

_MOST_HOPS = 5  # from link to link


class Unmet(msgspec.Struct, frozen=True):
    """A fault for which there is no trusted remedy."""

    name: str
    why: Message


class Pin(msgspec.Struct, frozen=True):
    """Versions of a package that someone asks for: an older one too, and where another is installed already."""

    package: str
    versions: str  # PEP 440, "Version specifiers"


PlanStep = PlaceFile | PlaceLink | PlaceFolder | Move | ChangeRights | Change


class Plan(msgspec.Struct, frozen=True):
    """The steps for some programs, and the faults without a remedy."""

    program: MachinePath
    packages: tuple[tuple[Source, Package], ...]
    steps: tuple[PlanStep, ...]
    untouched: tuple[MachinePath, ...]  # files of these packages that are sound already
    unmet: tuple[Unmet, ...]
    installs: InstallPackages | None = None  # what the operating system's package manager is to install
    other_width: MachinePath | None = None  # the program that needs packages for the other word size too

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to be done."""
        return not self.steps and self.installs is None

    @property
    def all_steps(self) -> tuple[Step, ...]:
        """The steps as they are done."""
        return (self.installs, *self.steps) if self.installs is not None else self.steps

    @property
    def placed(self) -> tuple[PlaceFile | PlaceLink, ...]:
        """The steps that put a file or link in place."""
        return tuple(step for step in self.steps if isinstance(step, PlaceFile | PlaceLink))

    @property
    def own(self) -> tuple[Change, ...]:
        """The steps that need no package: a link, or a file changed in place."""
        return tuple(s for s in self.steps if isinstance(s, Change) and not isinstance(s, PlaceFile | PlaceLink))

    @property
    def folders(self) -> tuple[PlaceFolder, ...]:
        """The steps that make a folder."""
        return tuple(step for step in self.steps if isinstance(step, PlaceFolder))

    @property
    def moved(self) -> tuple[Move, ...]:
        """The steps that set something aside."""
        return tuple(step for step in self.steps if isinstance(step, Move))

    @property
    def rights(self) -> tuple[ChangeRights, ...]:
        """The steps that change rights."""
        return tuple(step for step in self.steps if isinstance(step, ChangeRights))

    @property
    def size(self) -> int:
        """How many bytes are to be written, not counting what is kept."""
        return sum(step.size for step in (*self.placed, *self.own))


def plan_restoration(
    machine: Machine, traces: Sequence[Trace], catalogues: Sequence[Catalogue], pins: Sequence[Pin] = ()
) -> Plan:
    """Choose packages for all faults of some traces, and from each package the files that are not as it has them.

    A package that is chosen for one program is chosen for the others too, in the same version. Where the machine runs
    programs for both word sizes, what is shared is brought for both.
    """
    choosing = _Choosing(machine, traces, catalogues, pins)
    for pin in pins:
        choosing.choose_pinned(pin)
    faults = [(trace, fault) for trace in traces for fault in trace.faults]
    # What is outdated goes first: only another version of its package can mend it, and the other faults then follow it.
    for trace, fault in sorted(faults, key=lambda each: each[1].verdict is not Verdict.OUTDATED):
        choosing.choose_for(trace, fault)
    other = choosing.choose_other_width()
    steps: dict[str, PlanStep] = {}
    untouched: dict[MachinePath, None] = {}
    unmet = choosing.unmet
    for trace, offer in choosing.chosen.values():
        called_for: list[PlanStep] = list(_missing_folders(machine, trace, offer))
        for file in offer.package.files:
            path = _place_for(machine, trace, offer, file)
            because = find_difference(machine, path, offer.package, file)
            if because is None:
                untouched[path] = None
            else:
                called_for.append(place_file(machine, path, file, offer.package, offer.source, because))
        for step in (*called_for, *_missing_links(machine, trace, offer)):
            if (impostor := find_impostor(machine, step.path)) and step.writes_file and has_entry(machine, step.path):
                aside = free_aside(machine, step.path)
                steps |= by_place(machine, [Move(path=step.path, because=impostor, aside=aside), step])
            elif impostor:
                unmet.append(Unmet(step.path, say("restore.set-it-aside-then-restore-again", impostor=impostor)))
            else:
                steps.setdefault(machine.fold(step.path), step)
    packages = tuple(dict.fromkeys((offer.source, offer.package) for _, offer in choosing.chosen.values()))
    return Plan(
        program=traces[0].program,
        packages=packages,
        steps=tuple(steps.values()),
        untouched=tuple(untouched),
        unmet=tuple(dict.fromkeys(unmet)),
        other_width=other,
    )


def by_place(machine: Machine, steps: Iterable[PlanStep]) -> dict[str, PlanStep]:
    """Steps by their places; where one sets aside what another replaces, both are kept."""
    return {f"{machine.fold(step.path)}{chr(0) if step.vacates else ''}": step for step in steps}


class _Choosing:
    """Packages are chosen one after the other; what is chosen already is preferred to what is not."""

    def __init__(
        self, machine: Machine, traces: Sequence[Trace], catalogues: Sequence[Catalogue], pins: Sequence[Pin]
    ) -> None:
        self._machine, self._traces, self._catalogues = machine, traces, catalogues
        self._pins = {pin.package: pin.versions for pin in pins}
        # One and the same package may be brought for several programs, beside each of them.
        self.chosen: dict[tuple[str, Package, MachinePath], tuple[Trace, Offer]] = {}
        self.unmet: list[Unmet] = []
        self._brought: set[str] = set()  # paths of files and links that are counted from the root, and of their folders
        digests: dict[MachinePath, str] = {}
        self._standing = [each for trace in traces for each in _in_place(machine, trace, catalogues, digests)]

    def choose_pinned(self, pin: Pin) -> None:
        """Choose a package whose version is asked for, wherever a program depends on it."""
        shown: Sequence[Offer] = ()
        for trace in self._traces:
            for component in trace.components:
                offers = [o for o in self._offers(component) if o.package.name == pin.package]
                shown = shown or offers
                if offers and offers[0].is_eligible:
                    self._choose(trace, offers[0])
        if not any(package.name == pin.package for _, package, _ in self.chosen):
            name = next((o.entry.name for o in shown if isinstance(o.entry, PackageFile)), pin.package)
            self.unmet.append(Unmet(name, _why_unmet(shown, self._catalogues)))

    def choose_for(self, trace: Trace, fault: Component) -> None:
        """Choose the package for a fault, or say why there is none."""
        if fault.kind == INSTALLED_FILE and fault.name in self._brought:
            return
        offers = self._offers(fault)
        _LOG.debug("%s of %s is %s: %d offers", fault.name, trace.program, fault.verdict, len(offers))
        if offers and offers[0].is_eligible:
            self._choose(trace, offers[0])
        else:
            why = _why_unmet(offers, self._catalogues)
            _LOG.debug("%s has no remedy: %s", fault.name, why)
            self.unmet.append(Unmet(fault.name, why))

    def choose_other_width(self) -> MachinePath | None:
        """Choose for the other word size too what is shared by all programs; the program there needs it."""
        program: MachinePath | None = None
        for trace, offer in tuple(self.chosen.values()):
            package, width = offer.package, other_width(offer.package.architecture)
            companion = self._companion(package, width) if width is not None and _is_shared(package) else None
            if companion is None or width is None:
                continue
            program = program or find_program_of(self._machine, width)
            if program is None:
                return None
            self._choose(trace, msgspec.structs.replace(offer, source=companion[0], package=companion[1]))
        return program

    def _companion(self, package: Package, width: Architecture) -> tuple[Source, Package] | None:
        """The same package for another architecture."""
        names = [file.name for file in package.files]
        for catalogue in self._catalogues:
            for each in catalogue.packages_with(names):
                alike = msgspec.structs.replace(each, architecture=package.architecture, files=package.files)
                alike = msgspec.structs.replace(alike, links=package.links, proven_by=package.proven_by)
                if each.architecture is width and alike == package:
                    return catalogue.source, each
        return None

    def _offers(self, component: Component) -> tuple[Offer, ...]:
        outdated = component.verdict is Verdict.OUTDATED
        return find_offers(
            self._catalogues,
            component.sought_as,
            self._machine.platform,
            component.wanted_architecture,
            () if outdated else self._standing,
            component.sought_versions,
            self._pins,
        )

    def _choose(self, trace: Trace, offer: Offer) -> None:
        package = offer.package
        beside = trace.program if _is_beside(package) else MachinePath("")
        if (offer.source.name, package, beside) in self.chosen:
            return
        _LOG.debug("chosen: %s %s for %s", package.name, package.version, package.architecture)
        self.chosen[offer.source.name, package, beside] = (trace, offer)
        self._standing = [known for known in self._standing if known[0] != package.name]
        self._standing.append((package.name, package.version))
        for entry in package.entries:
            self._brought.update(_with_folders(entry))


def _with_folders(entry: PackageEntry) -> Iterator[str]:
    """The path of something that is counted from the root, and of each folder above it; of others nothing."""
    path = f"/{entry.place}" if entry.base is Base.ROOT else ""
    while path:
        yield path
        path = path.rpartition("/")[0]


def _is_shared(package: Package) -> bool:
    """Whether all of a package lies where programs share it."""
    return all(file.base is not Base.PROGRAM for file in package.files)


def _is_beside(package: Package) -> bool:
    """Whether some of a package lies beside the program for which it is brought."""
    return any(entry.base is Base.PROGRAM for entry in package.entries)


def _missing_folders(machine: Machine, trace: Trace, offer: Offer) -> Iterator[PlaceFolder]:
    """The folders of a package that stand no longer; where a link stands that leads nowhere, its end is another's."""
    for folder in offer.package.folders:
        path = place_of(machine, trace, offer.package, folder)
        place = machine.own_place(path)
        if machine.look(path).kind is EntryKind.ABSENT and not has_entry(machine, place):
            yield place_folder(machine, place, folder, offer.package, offer.source)


def _place_for(machine: Machine, trace: Trace, offer: Offer, file: PackageFile) -> MachinePath:
    """Where a file of a package goes: links to folders are followed, but where it belongs itself it takes the place.

    A link there may lead to what is someone else's. One to a file beside it, as libraries have, is followed all the
    same, unless the system's package manager has brought it: that never does (dpkg(1) replaces the link).
    """
    path = place_of(machine, trace, offer.package, file)
    place, real = machine.own_place(path), machine.real(path)
    is_beside = machine.fold(machine.folder_of(real)) == machine.fold(machine.folder_of(place))
    return real if is_beside and offer.source.kind is not SourceKind.ARCHIVE else place


def _missing_links(machine: Machine, trace: Trace, offer: Offer) -> Iterator[PlaceLink]:
    """The links of a package that are gone, lead to nothing by another target, or have something else in their place.

    One with the package's own target is mended by what it leads to.
    """
    files = {machine.real(place_of(machine, trace, offer.package, file)): file for file in offer.package.files}
    links = {place_of(machine, trace, offer.package, link): link for link in offer.package.links}
    for path, link in links.items():
        place = machine.own_place(path)
        leads_to = machine.join(machine.folder_of(place), link.target)
        for _ in range(_MOST_HOPS):  # to another link of the package
            if (further := links.get(leads_to)) is None:
                break
            leads_to = machine.join(machine.folder_of(leads_to), further.target)
        file = files.get(machine.real(leads_to))
        if because := why_link_is_placed(machine, path, place, link.target):
            yield PlaceLink(
                path=place,
                because=because,
                sha256=file.sha256 if file is not None else "",
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
    steps = by_place(machine, plan.steps)
    for path, file, package, source, verdict in _bad_copies(plan, remaining):
        real = machine.real(path)
        steps.setdefault(machine.fold(real), place_file(machine, real, file, package, source, str(verdict)))
    return msgspec.structs.replace(plan, steps=tuple(steps.values()))


def with_rights(machine: Machine, overlay: Machine, plan: Plan, remaining: Sequence[Trace]) -> Plan:
    """Add the steps that let the user of a program reach and read its files, one barrier of each file at a time.

    Args:
        machine: as it is.
        overlay: as it would be by the plan.
        plan: the steps so far.
        remaining: the traces of the programs on that.
    """
    steps = by_place(machine, plan.steps)
    for trace in remaining:
        user = user_of(overlay, trace.program, trace.run_as)
        for fault in trace.faults:
            blocked = (each.path for each in fault.searched if each.outcome is CandidateOutcome.BLOCKED)
            path = fault.path or next(blocked, None)
            if user is None or path is None or fault.verdict is not Verdict.BLOCKED:
                continue
            barrier = find_barrier(overlay, path, user, runs=path == trace.program and fault.kind == "program")
            if barrier is None or machine.look(barrier.path).kind is EntryKind.ABSENT:
                continue
            key = machine.fold(barrier.path)
            placed = steps.get(key)
            if isinstance(placed, PlaceFile):
                mode = barrier.rights.mode | barrier.lacks
                because = say("restore.mode-not", because=placed.because, mode=barrier.rights.mode, other_mode=mode)
                steps[key] = msgspec.structs.replace(placed, mode=mode, keeps_mode=False, because=because)
                continue
            with contextlib.suppress(OSError, UnreadableError):
                steps.setdefault(key, allow(machine, barrier.path, barrier.lacks, barrier.reason(user)))
    return msgspec.structs.replace(plan, steps=tuple(steps.values()))


def with_set_aside(machine: Machine, plan: Plan, remaining: Sequence[Component]) -> Plan:
    """The same, but gentler: the bad copy is set aside, so that the loader goes on to the package's own place."""
    steps = by_place(machine, plan.steps)
    for path, *_, verdict in _bad_copies(plan, remaining):
        place = machine.own_place(path)
        move = Move(
            path=place,
            because=say("restore.and-found-before-the-right-one", verdict=verdict),
            aside=free_aside(machine, place),
        )
        steps.setdefault(machine.fold(place), move)
    return msgspec.structs.replace(plan, steps=tuple(steps.values()))


def _bad_copies(
    plan: Plan, remaining: Sequence[Component]
) -> Iterator[tuple[MachinePath, PackageFile, Package, Source, Verdict]]:
    """Wrong files that the loader finds for a fault, with the file of the plan's packages that it should find."""
    for fault in remaining:
        found = [c.path for c in fault.searched if c.outcome in {CandidateOutcome.REFUSED, CandidateOutcome.TAKEN}]
        for source, package in plan.packages:
            for file in package.files:
                if found and any(file.answers_to(name) for name in fault.sought_as):
                    yield found[0], file, package, source, fault.verdict


def place_of(machine: Machine, trace: Trace, package: Package, file: PackageEntry) -> MachinePath:
    """Where on the machine a file, link or folder of a package belongs."""
    match file.base:
        case Base.PROGRAM:
            folder = machine.folder_of(machine.real(trace.program))
        case Base.SYSTEM:
            folder = system_folder(machine, package.architecture)
        case Base.ROOT:
            folder = MachinePath("C:\\" if machine.platform is Platform.WINDOWS else "/")
    return machine.join(folder, *place_parts(file, machine.platform))


def _in_place(
    machine: Machine, trace: Trace, catalogues: Sequence[Catalogue], digests: dict[MachinePath, str]
) -> list[tuple[str, str]]:
    """(name, version) of the packages of which this program uses sound files, by their digests, which are kept."""
    names = {name for component in trace.components if component.path is not None for name in component.sought_as}
    listed = [(package, file) for c in catalogues for package in c.packages_with(names) for file in package.files]
    called: dict[str, list[tuple[Package, PackageFile]]] = {}
    for each in listed:
        for name in set(map(str.lower, each[1].names)):
            called.setdefault(name, []).append(each)
    found = []
    for component in trace.components:
        if component.path is None or component.is_fault:
            continue
        for package, file in _files_called(called, listed, component.sought_as):
            if component.path not in digests:
                with machine.open(component.path) as source:
                    digests[component.path] = digest_of(source)
            if digests[component.path] == file.sha256 and package.withdrawn is None:
                found.append((package.name, package.version))
    return found


def _files_called(
    called: Mapping[str, list[tuple[Package, PackageFile]]],
    listed: list[tuple[Package, PackageFile]],
    names: Sequence[str],
) -> Iterator[tuple[Package, PackageFile]]:
    """Of the files of packages those that answer to one of some names."""
    if any("*" in name for name in names):
        return (each for each in listed if any(each[1].answers_to(name) for name in names))
    return (each for name in names for each in called.get(name.lower(), ()) if each[1].answers_to(name))


def _why_unmet(offers: Sequence[Offer], catalogues: Sequence[Catalogue]) -> Message:
    if not catalogues:
        return say("restore.no-source-is-trusted-yet")
    if not offers:
        return say("restore.no-trusted-source-has-it")
    return join_clauses(
        *(
            say(
                "restore.from",
                name=o.package.name_and_version,
                source=o.source.name,
                obstacle=o.obstacle,
            )
            for o in offers[:3]
        )
    )

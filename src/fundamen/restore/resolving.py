"""From a plan to the work on one machine: what each step would write there, looked up and computed now.

Nothing on the machine is changed. Steps that change the same file follow on one another, and become one.
"""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType
from typing import Any

import msgspec

from fundamen.changes.base import AS_AROUND, MISSING, Step, Work
from fundamen.changes.files import Change
from fundamen.changes.folders import SetFolder
from fundamen.changes.forms import (
    CopyLink,
    EnableService,
    Expected,
    ImportRoot,
    Install,
    MakeFolder,
    MakeLink,
    PlannedStep,
    PutFile,
    RemoveRegistryValue,
    RemoveValue,
    RunService,
    SetAside,
    SetDirectoryEntry,
    SetEntry,
    SetLimit,
    SetRegistryEntry,
    SetRegistryValue,
    SetValue,
    TakeColdCopy,
    UseInstaller,
)
from fundamen.changes.hives import place_of_key, read_hive
from fundamen.changes.installer_trust import plan_run
from fundamen.changes.limits import plan_limit
from fundamen.changes.lists import list_with
from fundamen.changes.moves import Move, free_aside
from fundamen.changes.packages import InstallPackages
from fundamen.changes.registry_edits import RegistryStep, edited_hive, unfit
from fundamen.changes.root_stores import plan_root_import
from fundamen.changes.services import links_to_enable, start_by_itself
from fundamen.changes.starting import plan_start
from fundamen.formats.setting import Format, Found, Key, find_value, format_of, with_value, without_value
from fundamen.machine.accounts import GROUPS, USERS, number_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.places import Place
from fundamen.model.architecture import Platform
from fundamen.model.errors import RestorationError, UntrustedError, UsageError
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.file_state import FileState, read_state
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.steps import rights_of
from fundamen.sources.catalogue import Catalogue, Source
from fundamen.sources.os_archive import NewPackages
from fundamen.trust.certificate import read_certificate
from fundamen.trust.fingerprint import grouped

_MOST_SETTINGS = 16 << 20  # bytes of one file

Fetch = Callable[[Source, PackageFile], HostPath]
Keep = Callable[[bytes], HostPath]
Bring = Callable[[Sequence[str]], NewPackages]


class Means(msgspec.Struct, frozen=True):
    """What a plan is resolved with."""

    catalogues: Sequence[Catalogue]  # of trusted sources, proven
    fetch: Fetch  # brings a file of a source in
    keep: Keep  # keeps bytes of ours until they are placed
    bring: Bring  # what the operating system's archive has
    now_seconds: int  # since 1970, UTC
    environment: Mapping[str, str] = MappingProxyType({})  # of this process: what is run gets some of it


def resolve_plan(machine: Machine, plan: PlanFile, means: Means) -> Work:
    """What a plan comes to on a machine as it is now.

    Raises:
        RestorationError: the machine is not as a step expects it.
        UsageError: a step cannot be done here.
        UntrustedError: no trusted source has a file, or a root is not the one that its fingerprint tells.
        UnreadableError: a file cannot be read.
    """
    resolving = _Resolving(machine, plan, means)
    for step in plan.steps:
        resolving.add(step)
    titles = tuple(dict.fromkeys(step.title for step in plan.steps))
    steps, copies = tuple(resolving.steps.values()), tuple(resolving.copies)
    further = tuple(map(MachinePath, plan.further))
    return Work(MachinePath(plan.program), titles, steps, resolving.contents, copies, further, plan.because)


class _Resolving:
    def __init__(self, machine: Machine, plan: PlanFile, means: Means) -> None:
        self._machine, self._plan, self._means = machine, plan, means
        self.steps: dict[str, Step] = {}  # by the folded place
        self.contents: dict[str, HostPath] = {}
        self.copies: list[MachinePath] = []  # folders of which a cold copy is taken first
        self._written: dict[str, bytes] = {}  # settings files as they would be, by the folded place

    def add(self, step: PlannedStep) -> None:
        """Add what a step comes to."""
        _ADDING[type(step)](self, step)

    def enable_service(self, step: EnableService) -> None:
        if self._machine.platform is Platform.WINDOWS:
            self.edit_registry(start_by_itself(self._machine, step))
            return
        for link, target in links_to_enable(self._machine, step.name):
            because = step.because or f"{step.name} is not enabled"
            self.make_link(MakeLink(path=link, target=target, because=because))

    def run_service(self, step: RunService) -> None:
        start = plan_start(self._machine, step.name, step.because)
        if start is not None:
            self.steps[f"service {step.name}"] = start

    def install(self, step: Install) -> None:
        new = self._means.bring(step.names)
        path = MachinePath(", ".join(each.name for each in new.wanted))
        if new.wanted:
            found = InstallPackages(path=path, because=step.because, packages=new.wanted, files=new.files)
            self.steps[f"packages {path}"] = found

    def use_installer(self, step: UseInstaller) -> None:
        found = plan_run(self._machine, step, self._means.now_seconds, self._means.environment)
        self.steps[f"installer {found.path}"] = found

    def set_limit(self, step: SetLimit) -> None:
        limit = plan_limit(self._machine, step)
        if limit is not None:
            self.steps[f"limit {limit.path}"] = limit

    def change_entry(self, step: SetDirectoryEntry) -> None:
        from fundamen.changes.directory_entries import plan_entry_change  # noqa: PLC0415 - few plans ask for it

        change = plan_entry_change(step)
        if change is not None:
            self.steps[f"entry {step.server} {step.entry}"] = change

    def take_copy(self, step: TakeColdCopy) -> None:
        self.copies.append(self._folder(step.path))

    def _folder(self, path: str) -> MachinePath:
        folder = self._machine.real(MachinePath(path))
        if self._machine.look(folder).kind is not EntryKind.FOLDER:
            raise self._unfit(folder, "no folder stands there of which a cold copy could be taken")
        return folder

    def put_file(self, step: PutFile) -> None:
        path = self._machine.real(MachinePath(step.path))
        entry, place = self._entry(step.path)
        if self._machine.folder_of(path) == self._machine.folder_of(entry):
            place = self._machine.place(path)
        else:  # a link to what may be somebody else's: the file takes its place
            path = entry
        state = self._state(path, place)
        if state is not None and state.sha256 == step.sha256 and step.mode in {None, state.mode & 0o777}:
            return  # somebody has done it meanwhile
        self._require(path, state, step.expects)
        self.contents[step.sha256], file = self._fetched(step)
        mode, owner = rights_of(self._machine, file)
        # A plan cannot ask for a file to be run as its owner or group; its source can.
        is_theirs = mode is not None and mode & 0o777 == step.mode
        self._set(
            path,
            Change(
                path=path,
                because=step.because or _difference(step, state),
                sha256=step.sha256,
                size=step.size,
                executable=step.executable,
                mode=mode if is_theirs else step.mode,
                owner=owner,
                location=self._location(place),
                keeps_mode=step.mode is None,
            ),
        )

    def _fetched(self, step: PutFile) -> tuple[HostPath, PackageFile]:
        for catalogue in self._means.catalogues:
            for package in catalogue.packages_with([step.name]):
                for file in package.files if package.withdrawn is None and package.unproven is None else ():
                    if file.sha256 == step.sha256 and file.size == step.size:
                        return self._means.fetch(catalogue.source, file), file
        raise UntrustedError(
            what=f"{shown(step.path)} is not put in place",
            why=f"no trusted source has a file {shown(step.name)} with the SHA-256 {step.sha256[:16]}...",
            do="Nothing was changed. Trust the source that the plan was made with, or make the plan anew.",
        )

    def make_link(self, step: MakeLink) -> None:
        path, place = self._entry(step.path)
        state = self._state(path, place)
        if state is not None and state.link and self._leads_alike(path, state.link, step.target):
            return
        self._require(path, state, step.expects)
        because = step.because or (MISSING if state is None else "it leads elsewhere")
        location = self._location(place)
        self._set(path, Change(path=path, because=because, sha256="", size=0, link=step.target, location=location))

    def make_folder(self, step: MakeFolder) -> None:
        path, place = self._entry(step.path)
        if place.is_folder:
            return  # somebody has done it meanwhile
        if place.is_there:
            raise self._unfit(path, "something else than a folder stands there")
        uid, gid = self._number(path, step.owner, USERS), self._number(path, step.group, GROUPS)
        state = FileState(0, "", step.mode, uid, gid, -1, -1)
        because, location = step.because or MISSING, self._location(place)
        self._set(path, SetFolder(path=path, location=location, because=because, state=state, yields=True))

    def _number(self, path: MachinePath, name: str, of: MachinePath) -> int:
        number = number_of(self._machine, name, of) if name else AS_AROUND
        if number is None:
            raise self._unfit(path, f"it is to belong to {shown(name)}, whom {of} does not list")
        return number

    def _leads_alike(self, path: MachinePath, one: str, other: str) -> bool:
        """Whether two targets of a link are the same, or lead to the same file that is there."""
        folder = self._machine.folder_of(path)
        places = [self._machine.real(self._machine.join(folder, target)) for target in (one, other)]
        is_there = self._machine.look(places[0]).kind is not EntryKind.ABSENT
        return one == other or (places[0] == places[1] and is_there)

    def copy_link(self, step: CopyLink) -> None:
        path, place = self._entry(step.path)
        state = self._state(path, place)
        if state is None:
            raise self._unfit(path, "nothing stands there")
        if not state.link:
            return
        leads_to = self._machine.place(self._machine.real(path))
        target = self._state(path, leads_to)
        if target is None:
            raise self._unfit(path, f"its link leads to {shown(state.link)}, where nothing stands")
        with leads_to.reading() as file:
            self.contents[target.sha256] = self._means.keep(file.read())
        change = Change(
            path=path,
            because=step.because or "a link that cannot be followed",
            sha256=target.sha256,
            size=target.size,
            mode=target.mode,
            location=self._location(place),
        )
        self._set(path, change)

    def edit(self, step: SetValue | RemoveValue | SetEntry) -> None:
        path = self._machine.real(MachinePath(step.path))
        form = step.format or format_of(path)
        if form is None:
            raise UsageError(
                what=f"{shown(path)} is not changed",
                why="its name does not tell how it is written, and neither does the plan",
                do=f"Nothing was changed. Give the step a format: {', '.join(Format)}.",
            )
        place = self._machine.folded(path)
        data = self._written.get(place)
        if data is None:
            data = self._machine.content(path, _MOST_SETTINGS)
        name = self._machine.paths.basename(path)
        found = find_value(data, form, step.key, name)
        if isinstance(step, SetValue) and step.expects is not msgspec.UNSET:
            expected = None if step.expects is None else Found(step.expects)
            if found not in (expected, Found(step.value)):
                has = f"is {found.value!r}" if found is not None else "is not there"
                raise self._unfit(path, f"{'.'.join(step.key)} {has}, and {step.expects!r} was expected")
        changed = self._edited(data, form, step, name, found)
        if changed == data:
            return
        self._written[place] = changed
        sha256 = hashlib.sha256(changed).hexdigest()
        self.contents[sha256] = self._means.keep(changed)
        earlier = self.steps.get(place)
        because = step.because or f"{'.'.join(step.key)} is not as it should be"
        details: tuple[str, ...] = (_in_words(step.key, found, find_value(changed, form, step.key, name)),)
        if isinstance(earlier, Change):
            because = earlier.because if because in earlier.because else f"{earlier.because}; {because}"
            details = (*earlier.details, *details)
        self._set(path, Change(path=path, because=because, sha256=sha256, size=len(changed), details=details))

    def _edited(
        self, data: bytes, form: Format, step: SetValue | RemoveValue | SetEntry, name: str, found: Found | None
    ) -> bytes:
        match step:
            case SetValue():
                return with_value(data, form, step.key, step.value, name)
            case RemoveValue():
                return without_value(data, form, step.key, name)
            case SetEntry():
                held = str(found.value) if found is not None and found.value else ""
                return with_value(data, form, step.key, list_with(self._machine, step, held, step.separator), name)

    def edit_registry(self, step: RegistryStep) -> None:
        place = place_of_key(self._machine, step.path)
        earlier = self.steps.get(place.location)
        data = self._written.get(place.location)
        edit = edited_hive(
            self._machine,
            step,
            place,
            read_hive(self._machine, place.location) if data is None else data,
            earlier if isinstance(earlier, Change) else None,
            self._means.now_seconds,
        )
        if edit is not None:
            change, self._written[place.location] = edit
            self.contents[change.sha256] = self._means.keep(self._written[place.location])
            self.steps[place.location] = change

    def import_root(self, step: ImportRoot) -> None:
        root = read_certificate(step.certificate)
        if root.sha256 != step.sha256:
            raise UntrustedError(
                what=f"The root {root.subject.shown} is not imported",
                why=f"its SHA-256 fingerprint is {grouped(root.sha256)}, not the one in the plan",
                do="Nothing was changed. Ask whoever made the plan.",
            )
        program = MachinePath(self._plan.program)
        work = plan_root_import(self._machine, program, root, self._means.keep, self._means.now_seconds)
        for each in work.steps:
            location = each.location if isinstance(each, Change) else ""
            if location in self._written:
                raise self._unfit(each.path, "a root is to go into a registry that the plan has changed already")
            self.steps[location or self._machine.folded(each.path)] = each
            if location and isinstance(each, Change):
                with open(work.contents[each.sha256], "rb") as file:
                    self._written[location] = file.read()
        self.contents |= work.contents

    def set_aside(self, step: SetAside) -> None:
        path, place = self._entry(step.path)
        if not place.is_there:
            raise self._unfit(path, "nothing stands there")
        aside = free_aside(self._machine, path)
        because = step.because or "set aside"
        if not step.keeps:
            self._set(path, Move(path=path, because=because, aside=aside))
            return
        kept = {self._machine.folded(name) for name in step.keeps}
        for name in self._machine.names(path):
            if self._machine.folded(name) not in kept:
                inner = self._machine.join(path, name)
                self._set(inner, Move(path=inner, because=because, aside=self._machine.join(aside, name)))

    def _entry(self, path: str) -> tuple[MachinePath, Place]:
        """A place whose last part is not followed where it is a link, as the machine spells it."""
        folder = self._machine.real(self._machine.folder_of(MachinePath(path)))
        name = self._machine.paths.basename(path)
        known = {self._machine.folded(each): each for each in self._machine.names(folder)}
        name = known.get(self._machine.folded(name), name)
        entry = self._machine.join(folder, name)
        for link in self._links:
            if self._machine.folded(entry).startswith(self._machine.folded(link) + self._machine.paths.sep):
                raise self._unfit(entry, f"it lies below {shown(link)}, which the plan makes a link")
        return entry, self._machine.place(folder).below(name)

    def _location(self, place: Place) -> str:
        return self._machine.ground.location(place)

    def _state(self, path: MachinePath, place: Place) -> FileState | None:
        try:
            return read_state(place)
        except OSError as error:
            raise self._unfit(path, error.strerror or str(error)) from error

    def _require(self, path: MachinePath, state: FileState | None, expected: Expected | None) -> None:
        """Compare what stands at a place with what a step expects there."""
        found = Expected(state.sha256, state.link) if state is not None else Expected()
        if expected is not None and found != expected:
            wanted = "nothing" if expected == Expected() else "something else"
            raise self._unfit(path, f"{wanted} was expected there, and that is not so any more")

    @property
    def _links(self) -> list[MachinePath]:
        """Where the steps so far make links."""
        return [step.path for step in self.steps.values() if isinstance(step, Change) and step.link]

    def _set(self, path: MachinePath, step: Step) -> None:
        self.steps[self._machine.folded(path)] = step

    def _unfit(self, path: str, why: str) -> RestorationError:
        return unfit(path, why)


def _difference(step: PutFile, state: FileState | None) -> str:
    if state is None:
        return MISSING
    return "other bytes" if state.sha256 != step.sha256 else f"mode {state.mode:o}, not {step.mode or 0:o}"


def _in_words(key: Key, before: Found | None, after: Found | None) -> str:
    old, new = (f"{each.value}" if each is not None else "nothing" for each in (before, after))
    return f"{'.'.join(key)}: from {old} to {new}"


# Each kind of step in a plan, with what adds it to what the plan comes to.
_ADDING: Mapping[type, Callable[[_Resolving, Any], None]] = {
    PutFile: _Resolving.put_file,
    MakeLink: _Resolving.make_link,
    MakeFolder: _Resolving.make_folder,
    CopyLink: _Resolving.copy_link,
    SetAside: _Resolving.set_aside,
    SetValue: _Resolving.edit,
    RemoveValue: _Resolving.edit,
    SetEntry: _Resolving.edit,
    SetRegistryValue: _Resolving.edit_registry,
    RemoveRegistryValue: _Resolving.edit_registry,
    SetRegistryEntry: _Resolving.edit_registry,
    ImportRoot: _Resolving.import_root,
    EnableService: _Resolving.enable_service,
    RunService: _Resolving.run_service,
    TakeColdCopy: _Resolving.take_copy,
    Install: _Resolving.install,
    UseInstaller: _Resolving.use_installer,
    SetLimit: _Resolving.set_limit,
    SetDirectoryEntry: _Resolving.change_entry,
}

"""Place a file or link: keep the original, place the new entry, undo."""

import os
import stat
from collections.abc import Mapping, Sequence
from typing import Annotated

import msgspec

from fundamen.changes.around import make_folders, owner_in, times_of
from fundamen.changes.base import (
    LOCATIONS,
    MISSING,
    Around,
    Brought,
    EntryOwner,
    FolderRecord,
    Keeping,
    Site,
    Step,
    Tell,
    give_back_times,
)
from fundamen.changes.form import Expected, Form, Part, Path, PlanResolution, Text, unfit
from fundamen.changes.insertions import Insertion, InsertionKind, without
from fundamen.changes.side_by_side import side_by_side
from fundamen.machine.accounts import GROUPS, USERS, number_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.overlay import Layer
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UntrustedError
from fundamen.model.package import PackageFile, PackageFolder, Sha256
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.calls import move, name_also
from fundamen.placing.file_state import FileState, digest_of_file, read_state, stands_as
from fundamen.placing.flushing import flush_all
from fundamen.placing.own_files import write_whole
from fundamen.placing.replacing import keep_copy, name_of_ours, put, remove, require_digest, stage, swap

_IN_THEIR_NAME = 0o6000  # bits by which a program runs as its owner or group: chmod(1)
_NEW_FILE, _NEW_PROGRAM, _NEW_LINK = 0o644, 0o755, 0o777  # modes


class EntryRecord(FolderRecord, frozen=True, kw_only=True, tag_field="kind", tag="entry"):
    """A file or link is put in a place."""

    is_file = True

    staged: str  # the location beside the target of what may have been left behind
    kept: str  # where the original's bytes are kept; empty where nothing was there, or a link
    before: FileState | None  # None: nothing was there
    after: FileState
    content: str = ""  # the host path of our copy of the new bytes; empty for a link
    insertion: Insertion | None = None  # what was put into a file that others write to as well
    is_vacated: bool = False  # whether another step sets aside what was there, and that was neither file nor link
    keeps_inode: bool = False  # whether ``kept`` is the location of the original itself under another name: it has more

    @property
    def undone(self) -> str:
        """Result of the undo, for people."""
        return "removed" if self.before is None else "restored"

    @property
    def is_insertion(self) -> bool:
        """Whether it puts something into a file that others write to as well."""
        return self.insertion is not None

    @property
    def batch_size(self) -> int | None:
        """How many bytes it writes."""
        return self.after.size

    @classmethod
    def settle_kept(cls, records: Sequence["EntryRecord"], site: Site) -> None:
        """Have the kept originals on the disk, and see that they are such."""
        _settle(
            [
                (site.kept_path(r.kept), r.before)
                for r in records
                if r.kept and not r.keeps_inode and r.before is not None
            ]
        )

    @classmethod
    def prepare(cls, records: Sequence["EntryRecord"], site: Site) -> None:
        """Write the new entries beside their places, and have them on the disk: one flush then takes others along."""
        make_folders(site, dict.fromkeys(folder for record in records for folder in record.new_folders))
        side_by_side(lambda record: record.stage(site), records, lambda record: record.after.size)
        _settle([(site.place(record.staged), record.after) for record in records if not record.after.link])

    def stage(self, site: Site) -> None:
        """Write the new entry beside its place."""
        if self.keeps_inode and not (kept := site.place(self.kept)).is_there:
            name_also(site.place(self.target), kept)
            kept.folder.flush()  # a power cut must not leave the swap without it
        stage(HostPath(self.content), site.place(self.staged), self.after)

    def make(self, site: Site, _tell: Tell) -> None:
        """Swap the new entry in; the folder is not flushed yet. Raises: OSError, also if an entry has appeared."""
        target = site.place(self.target)
        if self.before is None and target.is_there:
            raise FileExistsError(17, say("changes.something-is-in-this-place-now"), target.host)
        swap(site.place(self.staged), target)

    def is_made(self, site: Site) -> bool:
        """Whether the new entry is in its place, with its mode."""
        target = site.place(self.target)
        if not stands_as(target, self.after):
            return False
        return bool(self.after.link) or stat.S_IMODE(target.status().st_mode) == self.after.mode

    def obstacle(self, site: Site) -> Message:
        """Reason why it can be neither made nor undone; empty if it can."""
        if not self._is_kept(site):
            return say("changes.the-original-that-was-kept-of")
        return say("changes.it-is-neither-as-before-nor") if self._is_changed(site) else UNSAID

    def has_original(self, site: Site) -> bool:
        """Whether the original is kept."""
        if not self.kept or self.keeps_inode:  # a second name is given to it as it is staged
            return True
        return os.path.isfile(site.kept_path(self.kept))

    def take_back(self, site: Site) -> None:
        """Make the place as it was before."""
        target, staged = site.place(self.target), site.place(self.staged)
        remove(staged)
        if self._is_yet_to_be_vacated(site):
            return
        if self.before is None:
            remove(target)
        elif self.before == read_state(target):
            remove(site.place(self.kept) if self.keeps_inode else staged)  # it was never touched
        elif self.keeps_inode:
            _bring_back_inode(site.place(self.kept), target)
        elif self.insertion is not None and not (self.is_made(site) or stands_as(target, self.before)):
            self._take_out(self.insertion, site)
        else:
            put(site.kept_path(self.kept), target, staged, self.before)

    def kept_at(self, site: Site) -> str:
        """Where the original's bytes lie; empty where it is kept beside its place."""
        return "" if self.keeps_inode or not self.kept else site.kept_path(self.kept)

    def kept_beside(self) -> int:
        """The size of an original that is kept beside its place."""
        return self.before.size if self.keeps_inode and self.before is not None else 0

    def give_up(self, site: Site) -> None:
        """Take the second name of an original away, with no trace in its folder's time."""
        if self.keeps_inode and (kept := site.place(self.kept)).is_there:
            folder = times_of(site, kept.folder)
            remove(kept)
            give_back_times(site, [folder])

    def _is_changed(self, site: Site) -> bool:
        """Whether the current entry is neither the original nor the placed one."""
        target = site.place(self.target)
        if self._is_yet_to_be_vacated(site):
            return False
        if self.insertion is not None and target.is_file:
            return False  # others write to it too: the undo removes only the insertion
        return target.is_there and not stands_as(target, self.after) and not stands_as(target, self.before)

    def _is_yet_to_be_vacated(self, site: Site) -> bool:
        """Whether the entry that another step sets aside is in the place, before that or after it was moved back."""
        status = site.place(self.target).status_or_none() if self.is_vacated else None
        return status is not None and not stat.S_ISREG(status.st_mode) and not stat.S_ISLNK(status.st_mode)

    def _is_kept(self, site: Site) -> bool:
        """Whether the kept original is still what it was."""
        if not self.kept or self.before is None or stands_as(site.place(self.target), self.before):
            return True
        if self.keeps_inode:
            return stands_as(site.place(self.kept), self.before)
        kept = site.kept_path(self.kept)
        return os.path.isfile(kept) and digest_of_file(kept) == self.before.sha256

    def _take_out(self, insertion: Insertion, site: Site) -> None:
        """Take what was put into a file out of it again; everything else that was written there since stays."""
        target = site.place(self.target)
        with target.open_to_read() as file:
            data = file.read()
        left = without(data, insertion)
        state = read_state(target)
        if left == data or state is None:
            return
        ours = HostPath(f"{site.kept_path(self.kept)}-taken-out")
        write_whole(ours, left)
        state = msgspec.structs.replace(state, size=len(left), sha256=digest_of_file(ours), modified_ns=-1)
        put(ours, target, site.place(self.staged), state)


class Change(Step, frozen=True, kw_only=True):
    """One step: a file gets other content, and what was there is kept."""

    writes_file = True

    sha256: str  # of the new content
    size: int  # bytes
    executable: bool = False
    mode: int | None = None  # permission bits of a new file, where the publisher says
    owner: EntryOwner = EntryOwner()  # to whom a new file belongs
    keeps_mode: bool = True  # whether a file that is replaced keeps mode and owner that it has
    link: str = ""  # where a symbolic link is made instead: its target, as it stands in the link
    location: str = ""  # if it differs from the path (``machine.places.Ground``)
    insertion: Insertion | None = None  # where the new content is the old one with something put in
    details: tuple[str, ...] = ()  # what of the content changes, for people
    state: FileState | None = None  # complete target state, if known: owner, times, attributes

    @property
    def verb(self) -> str:
        """Action in a preview."""
        return "link" if self.link else "change" if self.replaces else "place"

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return (say("changes.to", link=self.link),) if self.link else self.details

    @property
    def replaces(self) -> bool:
        """Whether it replaces an existing entry."""
        return self.because != MISSING

    @property
    def makes_link(self) -> bool:
        """Whether a symbolic link is put in its place."""
        return bool(self.link)

    @property
    def brought(self) -> Brought:
        """Data that is put in its place."""
        return Brought(self.size, self.sha256)

    @property
    def is_setting(self) -> bool:
        """Whether it changes what a program reads as it starts."""
        return bool(self.details)

    @property
    def enables_service(self) -> str:
        """The service that comes up with the machine's next start for it; empty where there is none."""
        insertion = self.insertion
        while insertion is not None:
            if insertion.kind is InsertionKind.REGISTRY_VALUE and "\\services\\" in insertion.name.lower():
                return insertion.name.rpartition("\\")[2]
            insertion = insertion.earlier
        return ""

    def in_use(self, machine: Machine) -> HostPath | None:
        """The file that is replaced, which running programs may have open; None where there is none."""
        if not self.replaces:
            return None
        return machine.ground.place(self.location).host if self.location else machine.host_path(self.path)

    def lay_over(self, layer: Layer, contents: Mapping[str, HostPath]) -> None:
        """Lay it over a machine."""
        machine = layer.base
        if self.link:
            layer.links[self.path] = machine.real(machine.join(machine.folder_of(self.path), self.link))
            return
        layer.placed[self.path] = contents[self.sha256]
        before = machine.rights(self.path) if self.replaces else None
        if before is not None:  # what is replaced keeps its owner, and its mode where no other one is asked for
            keeps = self.keeps_mode or self.mode is None
            layer.rights[self.path] = before if keeps else msgspec.structs.replace(before, mode=self.mode)

    def place(self, machine: Machine) -> Place:
        """Where it stands; a link replaces what is in its place, and not what that leads to. Raises: as ``place``."""
        if self.location:
            return machine.ground.place(self.location)
        return machine.entry_place(self.path) if self.link else machine.place(self.path)

    def room(self, place: Place) -> tuple[int, int]:
        """The new bytes beside its place, and those that are kept. Raises: OSError."""
        status = place.status_or_none()
        return self.size, status.st_size if status is not None and stat.S_ISREG(status.st_mode) else 0

    def keep(self, keeping: Keeping) -> EntryRecord:
        """Keep the current entry and record the new one. The copy is not flushed yet.

        Raises:
            OSError: the current entry cannot be kept, or is neither a file nor a link.
        """
        site, target, place = keeping.site, keeping.target, keeping.look(keeping.target.folder)
        is_vacated = site.location(target) in keeping.vacated
        before = None if is_vacated else read_state(target)
        kept, keeps_inode = "", False
        if before is not None and not before.link:
            keeps_inode = target.status().st_nlink > 1
            kept = site.location(target.beside(name_of_ours("kept-"))) if keeps_inode else site.as_kept(keeping.kept)
            if not keeps_inode:
                keep_copy(target, keeping.kept)
        return EntryRecord(
            path=self.path,
            target=site.location(target),
            staged=site.location(target.beside(name_of_ours())),
            kept=kept,
            before=before,
            after=_state_after(self, before, place),
            content="" if self.link else keeping.contents.get(self.sha256, ""),
            insertion=self.insertion,
            is_vacated=is_vacated,
            keeps_inode=keeps_inode,
            new_folders=place.missing,
            folders=(place.nearest,),
            form=LOCATIONS,
        )


def _settle(files: Sequence[tuple[HostPath | Place, FileState]]) -> None:
    flush_all(path for path, _ in files)
    side_by_side(lambda file: require_digest(file[0], file[1].sha256), files, lambda file: file[1].size)


def _bring_back_inode(kept: Place, target: Place) -> None:
    if kept.is_there:
        move(kept, target)  # does nothing where both are still names of the same file
        target.folder.flush()
        remove(kept)


def _state_after(step: Change, before: FileState | None, folder: Around) -> FileState:
    """Target state: mode, owner and attributes of the original, or those of a new file."""
    if step.state is not None:
        return step.state
    if before is not None and not before.link and not step.link:
        mode = before.mode if step.keeps_mode or step.mode is None else step.mode
        return msgspec.structs.replace(before, size=step.size, sha256=step.sha256, mode=mode, modified_ns=-1)
    mode = step.mode if step.mode is not None else _NEW_PROGRAM if step.executable else _NEW_FILE
    uid, gid = owner_in(folder, step.owner.uid, step.owner.gid)
    if step.owner not in {EntryOwner(), EntryOwner(uid, gid)}:
        mode &= 0o1777  # nothing is run with an account that was not meant
    sha256 = "" if step.link else step.sha256
    return FileState(step.size, sha256, _NEW_LINK if step.link else mode, uid, gid, -1, -1, link=step.link)


class PutFile(Form, frozen=True, kw_only=True, tag="place file"):
    """A file of a trusted source's package is put in its place."""

    sha256: Sha256
    size: Annotated[int, msgspec.Meta(ge=0)]
    name: Part  # of the component, by which sources are asked
    package: Text = ""  # for people
    source: Text = ""  # the name of the one that the plan was made with; any that has the same bytes will do
    executable: bool = False
    mode: Annotated[int, msgspec.Meta(ge=0, le=0o777)] | None = None
    expects: Expected | None = None

    @property
    def title(self) -> str:
        """Title for the history."""
        return self.package or self.name

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path = resolving.machine.real(MachinePath(self.path))
        entry, place = resolving.entry(self.path)
        if resolving.machine.folder_of(path) == resolving.machine.folder_of(entry):
            place = resolving.machine.place(path)
        else:  # a link to what may be someone else's: the file takes its place
            path = entry
        state = resolving.state(path, place)
        if state is not None and state.sha256 == self.sha256 and self.mode in {None, state.mode & 0o777}:
            return  # someone has done it meanwhile
        resolving.require(path, state, self.expects)
        resolving.contents[self.sha256], file = self._fetch_file(resolving)
        mode, owner = rights_of(resolving.machine, file)
        # A plan cannot ask for a file to be run as its owner or group; its source can.
        is_theirs = mode is not None and mode & 0o777 == self.mode
        resolving.set(
            path,
            Change(
                path=path,
                because=self.because or _difference(self, state),
                sha256=self.sha256,
                size=self.size,
                executable=self.executable,
                mode=mode if is_theirs else self.mode,
                owner=owner,
                location=resolving.location(place),
                keeps_mode=self.mode is None,
            ),
        )

    def _fetch_file(self, resolving: PlanResolution) -> tuple[HostPath, PackageFile]:
        for catalogue in resolving.means.catalogues_with(self.name, MachinePath(self.path)):
            for package in catalogue.packages_with([self.name]):
                for file in package.files if package.withdrawn is None and package.unproven is None else ():
                    if file.sha256 == self.sha256 and file.size == self.size:
                        return resolving.means.fetch(catalogue.source, file), file
        raise UntrustedError(
            what=say("changes.is-not-put-in-place", path=printable(self.path)),
            why=say("changes.no-trusted-source-has-a-file", name=printable(self.name), sha256=self.sha256[:16]),
            do=say("changes.nothing-was-changed-or-make-a", where_it_was=self._where_it_was()),
        )

    def _where_it_was(self) -> Message:
        if not self.source:
            return say("changes.trust-the-source-that-the-plan")
        return say("changes.the-plan-was-made-with-trust", source=printable(self.source))


class MakeLink(Form, frozen=True, kw_only=True, tag="make link"):
    """Create or change a symbolic link."""

    target: Path  # as it is to stand in the link
    expects: Expected | None = None

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path, place = resolving.entry(self.path)
        state = resolving.state(path, place)
        if state is not None and state.link and _leads_alike(resolving.machine, path, state.link, self.target):
            return
        resolving.require(path, state, self.expects)
        because = self.because or (MISSING if state is None else say("changes.it-leads-elsewhere"))
        location = resolving.location(place)
        resolving.set(path, Change(path=path, because=because, sha256="", size=0, link=self.target, location=location))


class CopyLink(Form, frozen=True, kw_only=True, tag="copy link"):
    """A symbolic link is replaced by a copy of the file to which it leads."""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path, place = resolving.entry(self.path)
        state = resolving.state(path, place)
        if state is None:
            raise unfit(path, say("changes.there-is-no-such-file"))
        if not state.link:
            return
        leads_to = resolving.machine.place(resolving.machine.real(path))
        target = resolving.state(path, leads_to)
        if target is None:
            raise unfit(path, say("changes.its-link-leads-to-which-does", link=printable(state.link)))
        with leads_to.open_to_read() as file:
            resolving.contents[target.sha256] = resolving.means.keep(file.read())
        change = Change(
            path=path,
            because=self.because or say("changes.a-link-that-cannot-be-followed"),
            sha256=target.sha256,
            size=target.size,
            mode=target.mode,
            location=resolving.location(place),
        )
        resolving.set(path, change)


def rights_of(machine: Machine, entry: PackageFile | PackageFolder) -> tuple[int | None, EntryOwner]:
    """Mode and owner of something of a package on a machine; no mode where the publisher does not say.

    Where the machine has not the user or the group, nothing may be run in their name.
    """
    uid, gid = number_of(machine, entry.owner, USERS), number_of(machine, entry.group, GROUPS)
    if uid is not None and gid is not None:
        return entry.mode, EntryOwner(uid, gid)
    is_theirs = entry.mode is not None and bool(entry.owner or entry.group)
    return (entry.mode & ~_IN_THEIR_NAME if is_theirs and entry.mode is not None else entry.mode), EntryOwner()


def _leads_alike(machine: Machine, path: MachinePath, one: str, other: str) -> bool:
    """Whether two targets of a link are the same, or lead to the same file that is there."""
    folder = machine.folder_of(path)
    places = [machine.real(machine.join(folder, target)) for target in (one, other)]
    is_there = machine.look(places[0]).kind is not EntryKind.ABSENT
    return one == other or (places[0] == places[1] and is_there)


def _difference(step: PutFile, state: FileState | None) -> str:
    if state is None:
        return MISSING
    return (
        "other bytes"
        if state.sha256 != step.sha256
        else say("changes.mode-not", mode=state.mode, other_mode=step.mode or 0)
    )

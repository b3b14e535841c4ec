"""The step that sets a file or folder aside: it gets another name, and nothing of it is touched."""

from collections.abc import Mapping

from fundamen.changes.around import around, make_folders, times_of
from fundamen.changes.base import LOCATIONS, FolderRecord, Keeping, Site, Step, Tell
from fundamen.changes.form import Form, Part, PlanResolution, unfit
from fundamen.machine.machine import Machine
from fundamen.machine.overlay import Layer
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.calls import move
from fundamen.placing.file_state import FileState


class MoveRecord(FolderRecord, frozen=True, kw_only=True, tag_field="kind", tag="move"):
    """A file or folder is set aside under another name beside it."""

    undone = "moved back"

    aside: str  # its location
    is_replaced: bool = False  # whether another step puts something in its place

    def make(self, site: Site, _tell: Tell) -> None:
        """Move it; the folders are not flushed yet."""
        make_folders(site, self.new_folders)
        aside = site.place(self.aside)
        if aside.is_there:
            raise FileExistsError(17, say("changes.something-is-in-this-place-now"), aside.host)
        move(site.place(self.target), aside)
        aside.folder.flush()

    def is_made(self, site: Site) -> bool:
        """Whether it was set aside."""
        return site.place(self.aside).is_there

    def obstacle(self, site: Site) -> Message:
        """Why it can neither be moved nor be moved back: something else is in its place, or it is gone."""
        is_aside, is_there = site.place(self.aside).is_there, site.place(self.target).is_there
        is_hindered = not (is_aside or is_there) if self.is_replaced else is_aside == is_there
        return say("changes.what-was-set-aside-cannot-go") if is_hindered else UNSAID

    def take_back(self, site: Site) -> None:
        """Move it back."""
        aside, target = site.place(self.aside), site.place(self.target)
        if aside.is_there:
            move(aside, target)
            target.folder.flush()
            aside.folder.flush()


class Move(Step, frozen=True, kw_only=True):
    """One step: a file or folder is set aside, with everything in it."""

    verb = "set aside"
    replaces = True
    vacates = True

    aside: MachinePath  # new path, on the same file system

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return (say("changes.as", aside=self.aside),)

    def place(self, machine: Machine) -> Place:
        """Where it stands. Raises: OSError, UnreadableError."""
        return machine.entry_place(self.path)

    def in_use(self, machine: Machine) -> HostPath:
        """The entry that is set aside, which running programs may have open."""
        return machine.host_path(self.path)

    def lay_over(self, layer: Layer, _contents: Mapping[str, HostPath]) -> None:
        """Lay it over a machine."""
        layer.gone.append(self.path)

    def form(self, _state: FileState | None) -> "SetAside":
        """The step in a plan file."""
        return SetAside(path=self.path, because=self.because)

    def keep(self, keeping: Keeping) -> MoveRecord:
        """Write down what is to be moved; nothing is changed.

        Raises:
            OSError: the entry is missing, the new name is taken, or it is on another file system.
        """
        site, target = keeping.site, keeping.target
        aside = site.machine.entry_place(self.aside)
        status = target.status()
        if aside.is_there:
            raise FileExistsError(17, say("changes.something-is-in-this-place-already"), aside.host)
        beside = around(site, aside.folder)
        own = times_of(site, target.folder)
        # A mount point has another device than its parent folder.
        if {own.device, beside.nearest.device} != {status.st_dev}:
            raise OSError(18, say("changes.it-would-have-to-go-to"), target.host)
        return MoveRecord(
            path=self.path,
            target=site.location(target),
            aside=site.location(aside),
            is_replaced=site.location(target) in keeping.vacated,
            new_folders=beside.missing,
            folders=(own,) if own.path == beside.nearest.path else (own, beside.nearest),
            form=LOCATIONS,
        )


def free_aside(machine: Machine, path: MachinePath) -> MachinePath:
    """A name beside a place under which something can be set aside."""
    folder, name = machine.folder_of(path), machine.paths.basename(path)
    taken = {machine.fold(each) for each in machine.names(folder)}
    number = 1
    while machine.fold(f"{name}.aside-{number}") in taken:
        number += 1
    return machine.join(folder, f"{name}.aside-{number}")


class SetAside(Form, frozen=True, kw_only=True, tag="set aside"):
    """A file, or a folder with all but some names in it, gets another name beside its place."""

    keeps: tuple[Part, ...] = ()

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path, place = resolving.entry(self.path)
        if not place.is_there:
            raise unfit(path, say("changes.there-is-no-such-file-or"))
        aside = free_aside(resolving.machine, path)
        because = self.because or "set aside"
        if not self.keeps:
            resolving.set(path, Move(path=path, because=because, aside=aside))
            return
        kept = {resolving.machine.fold(name) for name in self.keeps}
        for name in resolving.machine.names(path):
            if resolving.machine.fold(name) not in kept:
                inner = resolving.machine.join(path, name)
                resolving.set(inner, Move(path=inner, because=because, aside=resolving.machine.join(aside, name)))

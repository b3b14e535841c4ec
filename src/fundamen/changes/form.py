"""Forms of changes in a plan (docs/formats/plan.md), and how they are resolved on one machine."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Annotated

import msgspec

from fundamen.changes.base import Password, Step
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import RestorationError
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState, read_state
from fundamen.sources.catalogue import Catalogue, Source
from fundamen.sources.os_archive import NewPackages

Path = Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]
Text = Annotated[str, msgspec.Meta(max_length=4096)]
Part = Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]
Fetch = Callable[[Source, PackageFile], HostPath]
Keep = Callable[[bytes], HostPath]
Bring = Callable[[Sequence[str]], NewPackages]
Ask = Callable[[str, MachinePath], Iterable[Catalogue]]  # (name of a file, its path) -> what has packages with it


class Means(msgspec.Struct, frozen=True):
    """Services and data for resolving a plan."""

    catalogues: Sequence[Catalogue]  # of trusted sources, proven
    fetch: Fetch  # brings a file of a source in
    keep: Keep  # keeps bytes of ours until they are placed
    bring: Bring  # what the operating system's archive has
    now_seconds: int  # since 1970, UTC
    environment: Mapping[str, str] = MappingProxyType({})  # of this process: what is run gets some of it
    ask: Ask = lambda _name, _path: ()  # the system's archive, media, references: asked where no catalogue has a file
    take_copy: Callable[[MachinePath], object] = lambda _folder: None  # takes a cold copy
    password: Password | None = None  # of a directory

    def catalogues_with(self, name: str, path: MachinePath) -> Iterator[Catalogue]:
        """All that may have a file; what is far is asked last."""
        yield from self.catalogues
        yield from self.ask(name, path)


class Expected(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Expected entry; all fields empty for none."""

    sha256: str = ""  # of a file
    link: str = ""  # the target of a symbolic link


_AFTER = "\0"  # behind the key of a step that follows one which sets the entry aside


class PlanResolution:
    """A plan on its way to the work on one machine: what its forms have come to so far. Nothing is changed."""

    def __init__(self, machine: Machine, program: MachinePath, means: Means) -> None:
        """Begin."""
        self.machine, self.program, self.means = machine, program, means
        self.steps: dict[str, Step] = {}  # by the folded place
        self.contents: dict[str, HostPath] = {}
        self.copies: list[MachinePath] = []  # folders of which a cold copy is taken first
        self.written: dict[str, bytes] = {}  # settings files as they would be, by the folded place

    def entry(self, path: str) -> tuple[MachinePath, Place]:
        """A place whose last part is not followed where it is a link, as the machine spells it."""
        folder = self.machine.real(self.machine.folder_of(MachinePath(path)))
        name = self.machine.paths.basename(path)
        known = {self.machine.fold(each): each for each in self.machine.names(folder)}
        name = known.get(self.machine.fold(name), name)
        entry = self.machine.join(folder, name)
        for link in self._links:
            if self.machine.fold(entry).startswith(self.machine.fold(link) + self.machine.paths.sep):
                raise unfit(entry, say("changes.it-is-below-where-the-plan", link=printable(link)))
        return entry, self.machine.place(folder).below(name)

    def location(self, place: Place) -> str:
        """How a place is written down."""
        return self.machine.ground.location(place)

    def state(self, path: MachinePath, place: Place) -> FileState | None:
        """Entry at a place as the steps so far leave it. Raises: RestorationError: neither a file nor a link."""
        if self._is_vacated(path):
            return None
        try:
            return read_state(place)
        except OSError as error:
            raise unfit(path, error.strerror or str(error)) from error

    def require(self, path: MachinePath, state: FileState | None, expected: Expected | None) -> None:
        """Compare the current entry with the expected one. Raises: RestorationError."""
        found = Expected(state.sha256, state.link) if state is not None else Expected()
        if expected is not None and found != expected:
            wanted = "nothing" if expected == Expected() else "something else"
            raise unfit(path, say("changes.was-expected-there-and-that-is", wanted=wanted))

    def set(self, path: MachinePath, step: Step) -> None:
        """Have a step done at a place, instead of what was to be done there. Raises: RestorationError: another kind."""
        key = self.machine.fold(path) + (_AFTER if self._is_vacated(path) else "")
        earlier = self.steps.get(key)
        if earlier is not None and type(earlier) is not type(step):
            raise unfit(path, say("changes.the-plan-changes-it-in-two"))
        self.steps[key] = step

    def _is_vacated(self, path: MachinePath) -> bool:
        """Whether a step so far sets aside what is there."""
        earlier = self.steps.get(self.machine.fold(path))
        return earlier is not None and earlier.vacates

    @property
    def _links(self) -> list[MachinePath]:
        """Where the steps so far make links."""
        return [step.path for step in self.steps.values() if step.makes_link]


class Form(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="do"):
    """One step of a plan, in words that can be read and changed by hand."""

    path: Path
    because: Text = ""

    @property
    def kind(self) -> str:
        """The kind of the step, as a plan file names it."""
        return str(self.__struct_config__.tag)

    @property
    def title(self) -> str:
        """Title for the history."""
        return f"{self.kind} {self.path}"

    def resolve(self, resolving: PlanResolution) -> None:
        """Add its steps for the machine's current state; none if nothing needs to change.

        Raises:
            RestorationError: the machine is not as it expects it.
            UsageError: it cannot be done here.
            UntrustedError: no trusted source has a file, or a root is not the one that its fingerprint tells.
            UnreadableError: a file cannot be read.
        """
        raise NotImplementedError


def unfit(path: str, why: str) -> RestorationError:
    """The word for a machine that is not as a plan expects it."""
    return RestorationError(
        what=say("changes.the-plan-no-longer-fits-the-machine"),
        why=f"{printable(path)}: {why}",
        do=say("changes.nothing-was-changed-make-a-new-plan"),
    )

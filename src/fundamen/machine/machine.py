"""Define the questions that a check may ask of a machine, however it is reached."""

import os
import posixpath
from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Iterable, Mapping
from contextlib import AbstractContextManager
from enum import StrEnum
from types import ModuleType
from typing import TYPE_CHECKING, Any, Concatenate, ParamSpec, TypeVar

import msgspec

from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import ByteSource, digest_of_ranges
from fundamen.machine.places import Ground, Place
from fundamen.machine.registry import NoRegistry, Registry
from fundamen.machine.scanning import HostScanning, Scanning
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Binary
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath

if TYPE_CHECKING:  # it judges by what a machine knows
    from fundamen.machine.access import Runner

ACCESS_LIST = "system.posix_acl_access"  # the extended attribute: linux/xattr.h
ANYWHERE = MachinePath("/")  # to which facts belong that are of no single file

_Fact = TypeVar("_Fact")
_Given = ParamSpec("_Given")


class EntryKind(StrEnum):
    """Kinds of entries once all links are followed."""

    FILE = "file"
    FOLDER = "folder"
    SPECIAL = "special"  # a pipe, device or socket; never opened
    ABSENT = "absent"
    BLOCKED = "blocked"  # cannot be known: no permission, a loop of links, a link that leads out of the machine


class Entry(msgspec.Struct, frozen=True):
    """The entry at one path of a machine."""

    kind: EntryKind
    size: int = 0  # bytes
    why: Message = UNSAID  # for BLOCKED: what stands in the way
    is_executable: bool = True  # whether its mode lets anybody run it
    changes_account: bool = False  # a program that runs as its file's owner or group (set-user-id, set-group-id)


class AccessRights(msgspec.Struct, frozen=True):
    """The mode and the owners of an entry."""

    mode: int  # permission bits
    uid: int
    gid: int


class Machine(ABC):
    """A machine that is examined. Its paths are spelled as it spells them; links never lead out of it.

    Attributes:
        title: how the machine is named in messages.
        platform: which family of loaders its programs meet.
        is_live: whether it is this very host, so that its programs can be run.
        is_prefix: whether it is a prefix, whose programs wine can run.
        was_running: whether what is known of it was found out on it as it ran, so that it tells of its processor too.
        is_captured: whether it is known from a capture, which has what was asked of it then, and nothing else.
        is_at_folder: whether it is read by places below a folder of this host, out of which nothing leads.
        may_be_shared: whether other processes may ask it in this one's stead: no one takes down what is asked.
        run_as: the user for whom programs are judged; None for an ordinary one.
        root: the folder on this host that holds all of it; what a restoration locks.
        paths: ``posixpath`` or ``ntpath``, to take the machine's paths apart.
        environment: the environment that its programs are started with, as far as it is known.
        registry: its registry; empty where the machine has none.
    """

    title: str
    platform: Platform
    is_live: bool
    is_prefix: bool = False
    is_captured: bool = False
    may_be_shared: bool = False
    run_as: "Runner | None" = None
    is_at_folder: bool = False
    root: HostPath
    paths: ModuleType
    environment: Mapping[str, str]
    registry: Registry

    def __init__(self) -> None:
        self.registry = NoRegistry()
        self._binaries: dict[MachinePath, Binary | FundamenError] = {}
        self._facts: dict[MachinePath, dict[Hashable, Any]] = {}

    @abstractmethod
    def look(self, path: MachinePath) -> Entry:
        """Tell what stands at a path."""

    @abstractmethod
    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names in a folder, sorted; empty where there is no such folder.

        Raises:
            UnreadableError: the folder may not be read.
        """

    @abstractmethod
    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed; what cannot be followed or does not exist stays as it is spelled."""

    @abstractmethod
    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file for reading by offset.

        Raises:
            UnreadableError: there is no such file, or it may not be read.
        """

    @abstractmethod
    def host_path(self, path: MachinePath) -> HostPath:
        """Where on this host a path of the machine lies, whether or not something is there.

        Raises:
            UnreadableError: it lies nowhere on this host.
        """

    @property
    def ground(self) -> Ground:
        """Where on this host its files lie, held open so that nothing leads out. Raises: UnreadableError: nowhere."""
        raise UnreadableError(
            what=say("machine.cannot-be-changed-from-here", title=self.title),
            why=say("machine.its-files-lie-nowhere-on-this"),
            do=say("machine.examine-it-here-restore-it-with"),
        )

    def place(self, path: MachinePath) -> Place:
        """The place of a path, all links of the machine followed, whether or not something is there.

        Raises:
            UnreadableError: it lies nowhere on this host.
        """
        return self.ground.place_of(self.host_path(path))

    def entry_place(self, path: MachinePath) -> Place:
        """The place of a path with the links of its folder followed, and not its own. Raises: as ``place``."""
        return self.place(self.folder_of(path)).below(self.paths.basename(path))

    def status(self, path: MachinePath) -> os.stat_result:
        """The result of stat(2) for a path, all links of the machine followed. Raises: OSError, UnreadableError."""
        return self.place(path).status() if self.is_at_folder else os.stat(self.host_path(path))

    def rights(self, path: MachinePath) -> AccessRights | None:  # noqa: ARG002 - for those that have them
        """The rights of the entry at a path, all links followed; None where they are unknown."""
        return None

    def access_list(self, path: MachinePath) -> bytes:
        """The access control list of the entry at a path, as Linux keeps it; empty where it has none."""
        try:
            return dict(self.place(self.real(path)).attributes()).get(ACCESS_LIST, b"")
        except (OSError, UnreadableError):
            return b""

    def scanner(self) -> Scanning:
        """A scanner of its folders, quicker than one look at a time."""
        return HostScanning(self.host_path)

    @abstractmethod
    def afresh(self) -> "Machine":
        """The same machine with nothing remembered of what was read: for looking again after a change."""

    @abstractmethod
    def absolute_path(self, text: str) -> MachinePath:
        """The absolute path of the machine for a typed one."""

    def is_known_absent(self, path: MachinePath) -> bool:  # noqa: ARG002 - for those that list folders
        """Whether it is known without another look that a folder has no such name, not even as a link."""
        return False

    @property
    def was_running(self) -> bool:
        """Whether what is known of it was found out on it as it ran."""
        return self.is_live

    def digest(self, path: MachinePath, algorithm: str) -> str:
        """The digest of a file's content by an algorithm that hashlib names, in lower-case hexadecimal.

        Raises:
            UnreadableError: there is no such file, or it may not be read.
            OSError: it cannot be read to its end.
        """
        with self.open(path) as source:
            return digest_of_ranges(source, algorithm, [(0, source.size)]).hex()

    def walk_record(self, what: str) -> bytes | None:  # noqa: ARG002 - a captured machine looks it up
        """The record of a walk through the machine, if it is only known from a capture."""
        return None

    def keep(self, what: str, data: bytes) -> None:  # noqa: B027 - most machines have no one to hand it on to
        """Hand on what was found out by going through the machine, to the capture that is being made."""

    def content(self, path: MachinePath, limit: int) -> bytes:
        """All bytes of a small file, such as a setting or a list; cut at ``limit`` bytes.

        Raises:
            UnreadableError: there is no such file, or it may not be read.
        """
        with self.open(path) as source:
            return source.read_at(0, min(source.size, limit))

    def join(self, folder: str, *parts: str) -> MachinePath:
        """Put a path together, ``.`` and ``..`` taken out without regard to links."""
        return MachinePath(self.paths.normpath(self.paths.join(folder, *parts)))

    def folder_of(self, path: MachinePath) -> MachinePath:
        """The folder that a path lies in."""
        if self.paths is posixpath:  # as its dirname, without a call
            head = path[: path.rfind("/") + 1]
            return MachinePath(head.rstrip("/") or head)
        return MachinePath(self.paths.dirname(path))

    def folders_of(self, paths: Iterable[MachinePath]) -> list[MachinePath]:
        """The folders that many paths lie in, each once."""
        if self.paths is posixpath:  # what is truncated is the same for many
            heads = {path[: path.rfind("/") + 1]: None for path in paths}
            return list({MachinePath(head.rstrip("/") or head): None for head in heads})
        return list(dict.fromkeys(map(self.folder_of, paths)))

    def own_place(self, path: MachinePath) -> MachinePath:
        """A path with the links of its folder followed, and not its own."""
        folder, name = self.real(self.folder_of(path)), self.paths.basename(path)
        return self.join(folder, name) if name in {"", ".", ".."} else MachinePath(self.paths.join(folder, name))

    def fold(self, name: str) -> str:
        """The form in which two names or paths are equal exactly if they are the same to this machine."""
        return name

    def binary(self, path: MachinePath) -> Binary:
        """Read an executable file; each is read once.

        Raises:
            UnreadableError: it cannot be opened, or is no executable of a known format.
        """
        known = self._binaries.get(path)
        if known is None:
            known = self._binaries[path] = self._read_binary(path)
        if isinstance(known, FundamenError):
            raise known
        return known

    def fact(
        self,
        path: MachinePath,
        find: Callable[Concatenate["Machine", MachinePath, _Given], _Fact],
        *given: _Given.args,
        **named: _Given.kwargs,
    ) -> _Fact:
        """The result of a function for a file, computed once however many programs need it.

        Args:
            path: the file; ``ANYWHERE`` for what hangs on no single one.
            find: a function of a module, no closure. The function and its arguments are the key of the fact. It is
                called with this machine, the path, and the arguments. Its exceptions pass.
            given: further arguments, which can be hashed.
            named: likewise.
        """
        facts = self._facts.setdefault(path, {})
        which = (find, given, *named.items())
        if which not in facts:
            facts[which] = find(self, path, *given, **named)
        known: _Fact = facts[which]
        return known

    def forget(self, path: MachinePath) -> None:
        """Let go of what was read of a file that will not come up again."""
        self._binaries.pop(path, None)
        self._facts.pop(path, None)

    def _read_binary(self, path: MachinePath) -> Binary | FundamenError:
        try:
            with self.open(path) as source:
                return read_binary(source)
        except UnreadableError as error:
            return error


def not_a_file(path: MachinePath, entry: Entry, machine_title: str) -> UnreadableError:
    """Say in plain words why there is no file to be read at a path."""
    name = printable(path)
    match entry.kind:
        case EntryKind.FOLDER:
            why, do = say("machine.it-is-a-folder"), say("machine.name-a-file-in-it")
        case EntryKind.SPECIAL:
            why, do = say("machine.it-is-a-pipe-device-or-socket"), say("machine.name-an-ordinary-file")
        case EntryKind.BLOCKED:
            why, do = as_said(entry.why), say("machine.look-at-the-path-rights-and")
        case _:
            why, do = (
                say("machine.there-is-no-such-file-on", machine_title=machine_title),
                say("machine.check-the-spelling-or-name-another"),
            )
    return UnreadableError(what=say("machine.cannot-be-read", path=name), why=why, do=do)


def why_blocked(error: OSError) -> Message:
    """An operating system's refusal in a technician's words."""
    if isinstance(error, PermissionError):
        return say("machine.this-account-may-not-read-it")
    return as_said(error.strerror or type(error).__name__)

"""Every installed file against the digest that its package recorded; what is known already is not read.

Many files are shared out to processes: in threads, what is done in Python for each of a hundred thousand files would
hold the digests up. A process of its own may map a large file instead of reading it, which saves a copy; where the file
shrinks meanwhile, or its disk fails, the system ends that process, and what it had left is done here, by reading.
"""

import hashlib
import mmap
import os
import stat
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from enum import StrEnum
from functools import partial
from operator import itemgetter
from typing import Self

import msgspec

from fundamen.evidence.dpkg_files import LEFT_OUT, RecordedFile, RecordedPackage, Records
from fundamen.evidence.recorded import RecordedAuthority
from fundamen.machine.file_bytes import open_quietly
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.machine.sharing import Where, Workers, can_fork
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.survey.remembered import Remembered, is_rememberable, is_settled, is_unchanged, key_of

_PIECE = 1 << 18  # bytes
_MAPPED = 1 << 16  # bytes from which on a file is mapped
_WINDOW = 1 << 24  # bytes that are mapped at a time, so that they do not count as memory used
_AT_ONCE = 16 << 10  # KiB of installed files that a worker is given together
_LEAST = 64  # KiB that a package counts for besides: each has its records, and most have many small files
_MUCH = 100 << 10  # KiB from which on further processes pay


class AlterationKind(StrEnum):
    """Faults of an installed file."""

    MISSING = "missing"
    DIFFERS = "differs"
    BARRED = "barred"  # it cannot be read, or is no ordinary file any more


class Altered(msgspec.Struct, frozen=True):
    """An installed file that is not as its package brought it."""

    package: str
    path: MachinePath
    finding: AlterationKind
    is_setting: bool  # people are meant to change it
    detail: Message | None = None


class PackageContents(msgspec.Struct, frozen=True):
    """The result of a comparison of installed files."""

    checked: int
    read: int  # files that were read, and not known from before
    altered: tuple[Altered, ...]  # in the order of the packages
    lists: tuple[MachinePath, ...] = ()  # of the files of each package that a restoration would repair


CountProgress = Callable[[int], None]
Keep = Callable[[Mapping[str, Remembered]], None]


class PackageComparison:
    """Installed files that are being compared with what their packages recorded, while other things can be done.

    Used as a context; what is under way when it is left is dropped.
    """

    def __init__(self, machine: Machine, records: Records, known: Mapping[str, Remembered], now_ns: int) -> None:
        """Begin.

        Args:
            machine: on which they lie.
            records: what is recorded.
            known: digests that were taken before, by path; empty to trust none.
            now_ns: this moment, since the epoch.
        """
        self._records = records
        self._parcels = _parcels(records.packages)
        self.weight = sum(parcel.weight for parcel in self._parcels)  # of all that is to be done, as finish tells it
        apart = self.weight >= _MUCH and can_fork()
        comparing = partial(_Comparing, machine, records, known, now_ns)
        self._compare = comparing(maps=apart).compare
        self._workers = Workers(Where.PROCESSES if apart else Where.THREADS, self._compare)
        self._here = comparing(maps=False)
        self._owned: list[tuple[str, bytes]] = []

    def __enter__(self) -> Self:
        self._workers.__enter__()
        self._begun: Iterator[_Outcome] = iter(())
        with suppress(UnreadableError):  # a process was ended: what is left is done here
            self._begun = self._workers.begin(self._compare, (parcel.places for parcel in self._parcels))
        return self

    def __exit__(self, *how: object) -> None:
        self._workers.__exit__(*how)

    def finish(self, keep: Keep, count_progress: CountProgress = lambda _weight: None) -> PackageContents:
        """Wait for the rest.

        What was read is handed on as it is read, so that a survey that is stopped is resumed from there.

        Args:
            keep: is given what was read again.
            count_progress: called with the weight of what more is done.
        """
        altered: list[tuple[int, Altered]] = []
        checked = read = 0
        for parcel, outcome in zip(self._parcels, self._outcomes(), strict=True):
            altered += outcome.altered
            self._owned += outcome.owned
            checked, read = checked + outcome.checked, read + outcome.read
            keep(_unpacked(outcome.new))
            count_progress(parcel.weight)
        altered.sort(key=itemgetter(0))
        brought = ((place, each) for place, each in altered if not each.is_setting)
        places = dict.fromkeys(place for place, each in brought if not each.path.startswith(LEFT_OUT))
        lists = tuple(self._records.list_of(self._records.packages[place]) for place in places)
        return PackageContents(checked, read, tuple(each for _, each in altered), lists)

    def _outcomes(self) -> Iterator["_Outcome"]:
        done = 0
        with suppress(UnreadableError):  # likewise
            for outcome in self._begun:
                yield outcome
                done += 1
        for parcel in self._parcels[done:]:
            yield self._here.compare(parcel.places)

    def authority(self, contents: PackageContents) -> RecordedAuthority:
        """The authority behind the result of comparing a file."""
        return RecordedAuthority(
            self._owned, {each.path: each.detail or str(each.finding) for each in contents.altered}
        )


class _Parcel(msgspec.Struct, frozen=True):
    places: list[int]  # of its packages in the records
    weight: int


def _parcels(packages: Sequence[RecordedPackage]) -> list[_Parcel]:
    """The packages in parcels, the heaviest first: what is begun last is done soon."""
    heaviest = sorted(range(len(packages)), key=lambda place: -packages[place].kib)
    parcels, places, weight = list[_Parcel](), list[int](), 0
    for place in heaviest:
        places.append(place)
        weight += packages[place].kib + _LEAST
        if weight >= _AT_ONCE:
            parcels.append(_Parcel(places, weight))
            places, weight = [], 0
    return [*parcels, _Parcel(places, weight)] if places else parcels


class _Outcome(msgspec.Struct, gc=False):
    altered: list[tuple[int, Altered]]  # with the place of its package
    owned: list[tuple[str, bytes]]  # packages, each with the paths of its files that have a digest, a line each
    new: bytes = b""  # what is to be remembered, by path, as MessagePack: handed over quicker than objects
    read: int = 0
    checked: int = 0


_unpacked = msgspec.msgpack.Decoder(dict[str, Remembered]).decode


_New = dict[str, tuple[bytes, bytes]]  # key and digest of each file that was read, by path


class _ChangedError(OSError):
    """A file is not the one that was looked at, or not any more."""


class _Comparing:
    def __init__(
        self, machine: Machine, records: Records, known: Mapping[str, Remembered], now_ns: int, *, maps: bool
    ) -> None:
        self._machine = machine
        self._records = records
        self._known = known
        self._now_ns = now_ns
        self._maps = maps
        self._folders: dict[str, str | Place] = {}
        self._of_several_names: dict[bytes, bytes] = {}  # digests by key

    def compare(self, places: Sequence[int]) -> _Outcome:
        """Compare the files of some packages, which are recognised by their places in the records."""
        outcome = _Outcome([], [])
        new: _New = {}
        for place in places:
            package = self._records.packages[place]
            files = list(self._records.files(package))
            outcome.checked += len(files)
            for file in files:
                altered = self._compare_file(file, new)
                if altered is not None:
                    outcome.altered.append((place, altered))
            owned = "\n".join([file.path for file in files if file.md5])
            if owned:
                outcome.owned.append((package.name, owned.encode("utf-8", "surrogateescape")))
        outcome.read = len(new)
        outcome.new = msgspec.msgpack.encode(
            {path: each for path, each in new.items() if path.isascii() or is_rememberable(path)}
        )
        return outcome

    def _compare_file(self, file: RecordedFile, new: _New) -> Altered | None:
        try:
            detail = self._one(file, new)
        except (FileNotFoundError, NotADirectoryError):
            return Altered(file.package, file.path, AlterationKind.MISSING, file.is_setting)
        except (OSError, UnreadableError, ValueError) as error:  # the last of a name that no file can have
            said = getattr(error, "strerror", "") or str(error)
            why = error.why if isinstance(error, UnreadableError) else as_said(said)
            return Altered(file.package, file.path, AlterationKind.BARRED, file.is_setting, why)
        return Altered(file.package, file.path, AlterationKind.DIFFERS, file.is_setting, detail) if detail else None

    def _one(self, file: RecordedFile, new: _New) -> Message:
        """In what a file differs from what was recorded; empty if in nothing. Raises: OSError, UnreadableError."""
        host = self._host(file.path)
        status = _status(host)
        if not file.md5:
            return UNSAID
        if stat.S_ISLNK(status.st_mode):
            real = self._machine.real(file.path)
            host = self._machine.place(real) if self._machine.is_at_folder else self._machine.host_path(real)
            status = _status(host)
        if not stat.S_ISREG(status.st_mode):
            raise OSError(0, say("survey.it-is-no-ordinary-file-any"))
        expected = file.md5
        remembered = self._known.get(file.path)
        if remembered is not None and remembered.key == key_of(status):
            md5 = remembered.md5
        else:
            try:
                md5, status = self._digest(host, status, expected)
            except _ChangedError:  # it may have been replaced by a whole new one
                md5, status = self._digest(host, _status(host), expected)
            if is_settled(status, self._now_ns):
                new[file.path] = (key_of(status), md5)
        return UNSAID if md5.hex() == expected else say("survey.md5-not", md5=md5.hex()[:8], expected=expected[:8])

    def _digest(self, host: str | Place, status: os.stat_result, expected: str) -> tuple[bytes, os.stat_result]:
        """MD5 of a file, and its status; one of several names is read once. Raises: OSError."""
        if status.st_nlink == 1 or not is_settled(status, self._now_ns):
            return _digest(host, status, expected, maps=self._maps)
        key = key_of(status)
        md5 = self._of_several_names.get(key)
        if md5 is None:
            md5, status = _digest(host, status, expected, maps=self._maps)
            self._of_several_names[key_of(status)] = md5
        return md5, status

    def _host(self, path: MachinePath) -> str | Place:
        """Where a file lies on this host; the links of its folder are followed within the machine, each folder once."""
        folder, _, name = path.rpartition("/")
        host = self._folders.get(folder)
        if host is None:
            real = self._machine.real(MachinePath(folder or "/"))
            here = self._machine.is_at_folder
            host = self._machine.place(real) if here else self._machine.host_path(real).rstrip("/")
            self._folders[folder] = host
        return f"{host}/{name}" if isinstance(host, str) else host.below(name)


def _status(host: str | Place) -> os.stat_result:
    return os.lstat(host) if isinstance(host, str) else host.status()


def _digest(host: str | Place, before: os.stat_result, expected: str, *, maps: bool) -> tuple[bytes, os.stat_result]:
    """MD5 of a file, and its status; where it is not as expected, the file must not change while it is read.

    Where it is, the file has the content that is reported, whatever happened: had it changed after the first look, its
    status now would be another, and what is remembered would not count. Raises: OSError.
    """
    file = open_quietly(HostPath(host)) if isinstance(host, str) else host.open_quietly()
    try:
        if maps and before.st_size >= _MAPPED:
            state, left = hashlib.md5(usedforsecurity=False), 0
            for content in _map_parts(file, before.st_size):
                state.update(content)
        else:
            state, left = _read_all(file, before.st_size)
        md5 = state.digest()
        if md5.hex() == expected:
            return md5, before
        after = os.fstat(file)
    finally:
        os.close(file)
    if left or not is_unchanged(before, after):
        raise _ChangedError(0, say("survey.it-was-changed-while-it-was"))
    return md5, after


def _read_all(file: int, left: int) -> "tuple[hashlib._Hash, int]":
    """MD5 of a file of so many bytes, and how many it had less; one more tells that it has grown. Raises: OSError."""
    piece = os.read(file, min(_PIECE, left + 1))
    state = hashlib.md5(piece, usedforsecurity=False)
    left -= len(piece)
    while left > 0 and (piece := os.read(file, min(_PIECE, left + 1))):
        state.update(piece)
        left -= len(piece)
    return state, left


def _map_parts(file: int, size: int) -> Iterator[mmap.mmap]:
    """A file's content, a part after the other. Raises: OSError: it cannot be mapped, or has become smaller."""
    for begin in range(0, size, _WINDOW):
        try:
            content = mmap.mmap(file, min(_WINDOW, size - begin), mmap.MAP_SHARED, mmap.PROT_READ, offset=begin)
        except ValueError as error:
            raise _ChangedError(0, say("survey.it-became-smaller-while-it-was")) from error
        with content:
            content.madvise(mmap.MADV_SEQUENTIAL)
            yield content

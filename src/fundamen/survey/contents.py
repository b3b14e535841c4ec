"""Every installed file against the digest that its package recorded; what is known already is not read.

Many files are shared out to processes, where the system can make one that has all that this one knows: in threads, what
is done in Python for each of a hundred thousand files would hold the digests up.
"""

import hashlib
import os
import signal
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from enum import StrEnum
from itertools import islice
from multiprocessing import get_all_start_methods, get_context

import msgspec

from fundamen.evidence.dpkg_files import RecordedFile
from fundamen.machine.file_bytes import open_quietly
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.survey.remembered import Remembered, is_settled, key_of

_PIECE = 1 << 18  # bytes
_AT_ONCE = 256  # files that a worker is given together
_MANY = 5000  # files from which on further processes pay
_AHEAD = 8  # such parcels for each worker


class Finding(StrEnum):
    """What is the matter with an installed file."""

    MISSING = "missing"
    DIFFERS = "differs"
    BARRED = "barred"  # it cannot be read, or is no ordinary file any more


class Altered(msgspec.Struct, frozen=True):
    """An installed file that is not as its package brought it."""

    package: str
    path: MachinePath
    finding: Finding
    is_setting: bool  # people are meant to change it
    detail: str = ""


class Contents(msgspec.Struct, frozen=True):
    """What came of comparing."""

    checked: int
    read: int  # files that were read, and not known from before
    altered: tuple[Altered, ...]  # in the order of the packages


Told = Callable[[int], None]
Keep = Callable[[Iterable[tuple[str, Remembered]]], None]


def compare_installed(
    machine: Machine,
    files: Iterable[RecordedFile],
    known: Mapping[str, Remembered],
    keep: Keep,
    now_ns: int,
    told: Told = lambda _count: None,
) -> Contents:
    """Compare the content of installed files with what their packages recorded.

    What was read is handed on as it is read, so that a survey that is stopped is gone on with from there.

    Args:
        machine: on which they lie.
        files: what is recorded.
        known: digests that were taken before, by path; empty to trust none.
        keep: is given what was read anew.
        now_ns: this moment, since the epoch.
        told: called with how many more files are done.
    """
    comparing = _Comparing(machine, known, now_ns)
    altered: list[Altered] = []
    checked = read = 0
    listed = files if isinstance(files, Sequence) else list(files)
    with _pool(comparing, len(listed)) as pool:
        compare = _compare_apart if isinstance(pool, ProcessPoolExecutor) else comparing.compare
        for outcome in _in_order(pool, compare, listed):
            altered += outcome.altered
            checked, read = checked + outcome.checked, read + len(outcome.new)
            if outcome.new:
                keep(outcome.new)
            told(outcome.checked)
    return Contents(checked, read, tuple(altered))


class _Outcome(msgspec.Struct, gc=False):
    altered: list[Altered]
    new: list[tuple[str, Remembered]]
    checked: int


_Compare = Callable[[list[RecordedFile]], _Outcome]
_worker: list["_Comparing"] = []  # of a process of its own


def _pool(comparing: "_Comparing", count: int) -> Executor:
    workers = max(1, os.cpu_count() or 1)
    if workers > 1 and count >= _MANY and "fork" in get_all_start_methods():
        return ProcessPoolExecutor(workers, get_context("fork"), initializer=_begin, initargs=(comparing,))
    return ThreadPoolExecutor(workers)


def _begin(comparing: "_Comparing") -> None:
    """Set a worker up: Ctrl-C is for the process that puts together."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _worker.append(comparing)


def _compare_apart(parcel: list[RecordedFile]) -> _Outcome:
    return _worker[0].compare(parcel)


def _in_order(pool: Executor, compare: _Compare, files: Iterable[RecordedFile]) -> Iterator[_Outcome]:
    """The outcomes of parcels of files in their order, a few of them under way at a time."""
    source = iter(files)
    under_way: list[Future[_Outcome]] = []
    ahead = _AHEAD * max(1, os.cpu_count() or 1)
    try:
        while True:
            while len(under_way) < ahead and (parcel := list(islice(source, _AT_ONCE))):
                under_way.append(pool.submit(compare, parcel))
            if not under_way:
                return
            wait(under_way[:1], return_when=FIRST_COMPLETED)
            yield under_way.pop(0).result()
    finally:
        for future in under_way:
            future.cancel()


class _Comparing:
    def __init__(self, machine: Machine, known: Mapping[str, Remembered], now_ns: int) -> None:
        self._machine = machine
        self._known = known
        self._now_ns = now_ns
        self._folders: dict[str, str] = {}

    def compare(self, parcel: list[RecordedFile]) -> _Outcome:
        """Compare some files."""
        outcome = _Outcome([], [], len(parcel))
        for file in parcel:
            try:
                self._one(file, outcome)
            except (FileNotFoundError, NotADirectoryError):
                outcome.altered.append(Altered(file.package, file.path, Finding.MISSING, file.is_setting))
            except (OSError, UnreadableError) as error:
                why = error.why if isinstance(error, UnreadableError) else error.strerror or str(error)
                outcome.altered.append(Altered(file.package, file.path, Finding.BARRED, file.is_setting, why))
        return outcome

    def _one(self, file: RecordedFile, outcome: _Outcome) -> None:
        host = self._host(file.path)
        status = os.lstat(host)
        if not file.md5:
            return
        if stat.S_ISLNK(status.st_mode):
            host = self._machine.host_path(self._machine.real(file.path))
            status = os.lstat(host)
        if not stat.S_ISREG(status.st_mode):
            raise OSError(0, "it is no ordinary file any more")
        expected = file.md5
        remembered = self._known.get(file.path)
        if remembered is not None and remembered.key == key_of(status):
            md5 = remembered.md5
        else:
            md5, status = _digest(host)
            if is_settled(status, self._now_ns):
                outcome.new.append((file.path, Remembered(key_of(status), md5)))
        if md5.hex() != expected:
            detail = f"MD5 {md5.hex()[:8]}..., not {expected[:8]}..."
            outcome.altered.append(Altered(file.package, file.path, Finding.DIFFERS, file.is_setting, detail))

    def _host(self, path: MachinePath) -> str:
        """Where a file lies on this host; the links of its folder are followed within the machine, each folder once."""
        folder, _, name = path.rpartition("/")
        host = self._folders.get(folder)
        if host is None:
            real = self._machine.real(MachinePath(folder or "/"))
            host = self._folders[folder] = self._machine.host_path(real).rstrip("/")
        return f"{host}/{name}"


def _digest(host: str) -> tuple[bytes, os.stat_result]:
    """MD5 of a file, and its status before and after, which must be one and the same. Raises: OSError."""
    file = open_quietly(HostPath(host))
    try:
        before = os.fstat(file)
        if not stat.S_ISREG(before.st_mode):
            raise OSError(0, "it is no ordinary file any more")
        state = hashlib.md5(usedforsecurity=False)
        while piece := os.read(file, _PIECE):
            state.update(piece)
        after = os.fstat(file)
    finally:
        os.close(file)
    if key_of(before) != key_of(after):
        raise OSError(0, "it was changed while it was read")
    return state.digest(), after

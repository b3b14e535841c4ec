"""Every installed file against the digest that its package recorded; what is known already is not read.

Many files are shared out to processes: in threads, what is done in Python for each of a hundred thousand files would
hold the digests up.
"""

import hashlib
import os
import stat
from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum
from typing import Self

import msgspec

from fundamen.evidence.dpkg_files import RecordedFile
from fundamen.machine.file_bytes import open_quietly
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.survey.remembered import Remembered, is_settled, is_unchanged, key_of
from fundamen.survey.sharing import Where, Workers, can_fork

_PIECE = 1 << 18  # bytes
_AT_ONCE = 512  # files that a worker is given together
_MANY = 5000  # files from which on further processes pay


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


class Comparison:
    """Installed files that are being compared with what their packages recorded, while other things can be done.

    Used as a context; what is under way when it is left is given up.
    """

    def __init__(
        self, machine: Machine, files: Sequence[RecordedFile], known: Mapping[str, Remembered], now_ns: int
    ) -> None:
        """Begin.

        Args:
            machine: on which they lie.
            files: what is recorded.
            known: digests that were taken before, by path; empty to trust none.
            now_ns: this moment, since the epoch.
        """
        where = Where.PROCESSES if len(files) >= _MANY and can_fork() else Where.THREADS
        self._count = len(files)
        self._workers = Workers(_Comparing(machine, files, known, now_ns).compare, where)

    def __enter__(self) -> Self:
        self._workers.__enter__()
        self._outcomes = self._workers.begin(range(0, self._count, _AT_ONCE))
        return self

    def __exit__(self, *how: object) -> None:
        self._workers.__exit__(*how)

    def finish(self, keep: Keep, told: Told = lambda _count: None) -> Contents:
        """Wait for the rest.

        What was read is handed on as it is read, so that a survey that is stopped is gone on with from there.

        Args:
            keep: is given what was read anew.
            told: called with how many more files are done.
        """
        altered: list[Altered] = []
        checked = read = 0
        for outcome in self._outcomes:
            altered += outcome.altered
            checked, read = checked + outcome.checked, read + len(outcome.new)
            if outcome.new:
                keep((path, Remembered(key, md5)) for path, key, md5 in outcome.new)
            told(outcome.checked)
        return Contents(checked, read, tuple(altered))


class _Outcome(msgspec.Struct, gc=False):
    altered: list[Altered]
    new: list[tuple[str, bytes, bytes]]  # path, key and digest, which are handed over quicker than a Remembered
    checked: int


class _ChangedError(OSError):
    """A file is not the one that was looked at, or not any more."""


class _Comparing:
    def __init__(
        self, machine: Machine, files: Sequence[RecordedFile], known: Mapping[str, Remembered], now_ns: int
    ) -> None:
        self._machine = machine
        self._files = files
        self._known = known
        self._now_ns = now_ns
        self._folders: dict[str, str] = {}
        self._of_several_names: dict[bytes, bytes] = {}  # digests by key

    def compare(self, begin: int) -> _Outcome:
        """Compare some files, from a place in the list on."""
        parcel = self._files[begin : begin + _AT_ONCE]
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
            try:
                md5, status = self._digest(host, status)
            except _ChangedError:  # it may have been replaced by a whole new one
                md5, status = self._digest(host, os.lstat(host))
            if is_settled(status, self._now_ns):
                outcome.new.append((file.path, key_of(status), md5))
        if md5.hex() != expected:
            detail = f"MD5 {md5.hex()[:8]}..., not {expected[:8]}..."
            outcome.altered.append(Altered(file.package, file.path, Finding.DIFFERS, file.is_setting, detail))

    def _digest(self, host: str, status: os.stat_result) -> tuple[bytes, os.stat_result]:
        """MD5 of a file, and its status; one of several names is read once. Raises: OSError."""
        if status.st_nlink == 1 or not is_settled(status, self._now_ns):
            return _digest(host, status)
        key = key_of(status)
        md5 = self._of_several_names.get(key)
        if md5 is None:
            md5, status = _digest(host, status)
            self._of_several_names[key_of(status)] = md5
        return md5, status

    def _host(self, path: MachinePath) -> str:
        """Where a file lies on this host; the links of its folder are followed within the machine, each folder once."""
        folder, _, name = path.rpartition("/")
        host = self._folders.get(folder)
        if host is None:
            real = self._machine.real(MachinePath(folder or "/"))
            host = self._folders[folder] = self._machine.host_path(real).rstrip("/")
        return f"{host}/{name}"


def _digest(host: str, before: os.stat_result) -> tuple[bytes, os.stat_result]:
    """MD5 of a file, and its status, which must be the same after reading as it was before. Raises: OSError."""
    file = open_quietly(HostPath(host))
    try:
        state = hashlib.md5(usedforsecurity=False)
        left = before.st_size
        while left > 0 and (piece := os.read(file, min(_PIECE, left + 1))):
            state.update(piece)
            left -= len(piece)
        after = os.fstat(file)
    finally:
        os.close(file)
    if left or not is_unchanged(before, after):
        raise _ChangedError(0, "it was changed while it was read")
    return state.digest(), after

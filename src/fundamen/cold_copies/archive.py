"""The archive of a cold copy: a tar in the pax format, packed with Zstandard, which other programs can unpack too.

Source: POSIX.1-2017, pax, "pax Interchange Format"; RFC 8878 (Zstandard). Extended attributes lie in the records
``SCHILY.xattr.NAME``, as other archivers write them.
"""

import contextlib
import hashlib
import io
import os
import tarfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import IO, TYPE_CHECKING, BinaryIO

import msgspec
import zstandard

from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, CopiedKind
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import digest_of_file, state_of
from fundamen.placing.own_files import written_whole

if TYPE_CHECKING:
    from typing_extensions import Buffer  # the standard library has it only from 3.12 on

_LEVEL, _THREADS = 3, 2
_PIECE = 1 << 20  # bytes
_ATTRIBUTE = "SCHILY.xattr."
_BLOCK = 4096  # bytes; as many zeros become a hole in what is brought out
_TYPES = {CopiedKind.FILE: tarfile.REGTYPE, CopiedKind.FOLDER: tarfile.DIRTYPE, CopiedKind.LINK: tarfile.SYMTYPE}

Progress = Callable[[int], object]  # how many more bytes were gone through


def write_archive(
    target: HostPath, folder: Place, entries: Iterable[CopiedEntry], progress: Progress
) -> tuple[list[CopiedEntry], list[str], str, int]:
    """Write an archive and have it on the disk.

    Args:
        target: the file, which must not be there yet.
        folder: what is copied.
        entries: as they were found; the digests of files are found out here.
        progress: is informed of bytes.

    Returns:
        (the entries with their digests, the paths of files that changed meanwhile, the archive's SHA-256, its size).

    Raises:
        OSError: something cannot be read or written, or a file became shorter while it was read.
    """
    copied, unquiet = [], []
    with open(target, "xb") as file:
        hashed = _Hashed(file)
        packer = zstandard.ZstdCompressor(level=_LEVEL, threads=_THREADS, write_checksum=True)
        with (
            packer.stream_writer(hashed, closefd=False) as packed,
            tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
        ):
            for entry in entries:
                if entry.kind is CopiedKind.FILE and not entry.same_as:
                    whole, is_quiet = _add_file(archive, folder, entry, progress)
                    copied.append(whole)
                    unquiet += [] if is_quiet else [entry.path]
                else:
                    archive.addfile(_member(entry))
                    copied.append(entry)
        file.flush()
        os.fsync(file.fileno())
    digests = {entry.path: entry.state for entry in copied}
    return (
        [msgspec.structs.replace(e, state=digests[e.same_as]) if e.same_as else e for e in copied],
        unquiet,
        hashed.digest.hexdigest(),
        hashed.size,
    )


def find_damage(archive: HostPath, copy: ColdCopy, progress: Progress) -> Message:
    """Why an archive is not what the list says; empty where it is, every file's bytes compared.

    Raises:
        OSError: it cannot be read.
    """
    try:
        if os.path.getsize(archive) != copy.archive_size or digest_of_file(archive) != copy.archive_sha256:
            return say("cold_copies.its-archive-has-other-bytes-than")
        with _translate_errors(copy):
            for entry, data in _unpack_entries(archive, copy):
                if data is not None and _digest_of(data, progress) != entry.state.sha256:
                    return say("cold_copies.in-it-has-other-bytes-than", path=printable(entry.path))
    except FileNotFoundError:
        return say("cold_copies.its-archive-is-gone")
    except DamagedFileError as error:
        return error.why
    return UNSAID


def bring_out(archive: HostPath, copy: ColdCopy, wanted: Mapping[str, HostPath]) -> None:
    """Write files of an archive to places of ours.

    Args:
        archive: the archive.
        copy: its list.
        wanted: SHA-256 -> where its bytes go.

    Raises:
        DamagedFileError: the archive is not what the list says; what was written is not to be used.
        OSError: it cannot be read, or a file cannot be written.
    """
    left = dict(wanted)
    with _translate_errors(copy):
        for entry, data in _unpack_entries(archive, copy):
            target = left.pop(entry.state.sha256, None) if data is not None else None
            if data is not None and target is not None and not _is_there(target, entry.state.sha256):
                _bring_out_one(copy, entry, data, target)
            if not left:
                return


def _is_there(target: HostPath, sha256: str) -> bool:
    """Whether a file was brought out before."""
    return os.path.isfile(target) and digest_of_file(target) == sha256


def _bring_out_one(copy: ColdCopy, entry: CopiedEntry, data: IO[bytes], target: HostPath) -> None:
    with written_whole(target) as file:
        if _copy_bytes(data, file) != entry.state.sha256:
            raise _damaged_copy(copy, say("cold_copies.in-it-has-other-bytes-than", path=printable(entry.path)))


def _unpack_entries(archive: HostPath, copy: ColdCopy) -> Iterator[tuple[CopiedEntry, IO[bytes] | None]]:
    """Each entry of the list with its bytes in the archive, which must have exactly these in this order.

    Used within ``_translate_errors``: also what is read of the bytes can show that the archive is damaged.
    """
    expected = iter(copy.entries)
    with (
        open(archive, "rb") as file,
        zstandard.ZstdDecompressor().stream_reader(file) as packed,
        tarfile.open(fileobj=packed, mode="r|") as members,
    ):
        for member in members:
            entry = next(expected, None)
            if entry is None or not _is(member, entry):
                raise _damaged_copy(copy, say("cold_copies.lies-in-it-where-the-list", name=printable(member.name)))
            yield entry, members.extractfile(member) if member.isreg() else None
    if (missing := next(expected, None)) is not None:
        raise _damaged_copy(copy, say("cold_copies.is-not-in-it", path=printable(missing.path)))


@contextlib.contextmanager
def _translate_errors(copy: ColdCopy) -> Iterator[None]:
    """Turn any error of the libraries about a damaged archive into our own."""
    try:
        yield
    except (tarfile.TarError, zstandard.ZstdError, EOFError, ValueError, OverflowError) as error:
        raise _damaged_copy(copy, say("cold_copies.its-archive-cannot-be-unpacked", error=error)) from error


def _is(member: tarfile.TarInfo, entry: CopiedEntry) -> bool:
    if entry.same_as:
        return member.islnk() and (member.name, member.linkname) == (_name(entry.path), _name(entry.same_as))
    same_size = not member.isreg() or member.size == entry.state.size
    return member.type == _TYPES[entry.kind] and member.name == _name(entry.path) and same_size


def _add_file(
    archive: tarfile.TarFile, folder: Place, entry: CopiedEntry, progress: Progress
) -> tuple[CopiedEntry, bool]:
    """Add a file; (its entry as it was read, whether no one changed it meanwhile)."""
    place = folder.below(entry.path)
    with place.open_to_read() as file:
        status = os.fstat(file.fileno())
        whole = msgspec.structs.replace(entry, state=state_of(place, status, ""))
        hashing = _Read(file, progress)
        archive.addfile(_member(whole), hashing)
        after = os.fstat(file.fileno())
    is_quiet = (status.st_size, status.st_mtime_ns) == (after.st_size, after.st_mtime_ns)
    state = msgspec.structs.replace(whole.state, sha256=hashing.digest.hexdigest())
    return msgspec.structs.replace(whole, state=state), is_quiet


def _member(entry: CopiedEntry) -> tarfile.TarInfo:
    member = tarfile.TarInfo(_name(entry.path))
    state = entry.state
    member.type = tarfile.LNKTYPE if entry.same_as else _TYPES[entry.kind]
    member.linkname = _name(entry.same_as) if entry.same_as else state.link
    member.size = state.size if member.type == tarfile.REGTYPE else 0
    member.mode, member.uid, member.gid = state.mode, state.uid, state.gid
    member.mtime = state.modified_ns / 1e9
    member.pax_headers = {
        f"{_ATTRIBUTE}{name}": value.decode("utf-8", "surrogateescape") for name, value in state.attributes
    }
    return member


def _name(path: str) -> str:
    return f"./{path}" if path else "."


def _digest_of(data: IO[bytes], progress: Progress) -> str:
    state = hashlib.sha256()
    while piece := data.read(_PIECE):
        state.update(piece)
        progress(len(piece))
    return state.hexdigest()


def _copy_bytes(data: IO[bytes], target: BinaryIO) -> str:
    """Copy bytes, long runs of zeros as holes, and give their SHA-256."""
    state, nothing, size = hashlib.sha256(), bytes(_BLOCK), 0
    while block := data.read(_BLOCK):
        state.update(block)
        size += len(block)
        if block == nothing:
            target.seek(_BLOCK, os.SEEK_CUR)
        else:
            target.write(block)
    target.truncate(size)
    return state.hexdigest()


def _damaged_copy(copy: ColdCopy, why: str) -> DamagedFileError:
    return DamagedFileError(
        what=say("cold_copies.cold-copy-of-cannot-be-used", number=copy.number, folder=printable(copy.folder)),
        why=why,
        do=say("cold_copies.nothing-was-changed-see-which-others"),
    )


class _Hashed(io.BytesIO):
    """Where the packed bytes go, and what they come to; nothing is held in memory."""

    def __init__(self, file: BinaryIO) -> None:
        super().__init__()
        self._file = file
        self.digest = hashlib.sha256()
        self.size = 0

    def write(self, data: "Buffer") -> int:
        self.digest.update(data)
        count = self._file.write(data)
        self.size += count
        return count

    def flush(self) -> None:
        self._file.flush()


class _Read:
    """A file that is being read, and what was read of it."""

    def __init__(self, file: IO[bytes], progress: Progress) -> None:
        self._file = file
        self._progress = progress
        self.digest = hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        self.digest.update(data)
        self._progress(len(data))
        return data

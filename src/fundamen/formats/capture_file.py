"""Read and write captures: the facts of a machine in one compressed file. docs/formats/capture.md describes it.

A capture is a ZIP archive of three members: manifest.json, facts.json, content.bin. Guarantees: it is read within
bounds, member by member; what was altered since it was made is refused; no path in it is ever opened on the host.
"""

import base64
import hashlib
import json
import tempfile
import zipfile
import zlib
from datetime import datetime
from typing import IO, Annotated, Any, Literal

import msgspec

from fundamen.formats.byte_source import Ranges
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json, to_plain
from fundamen.model.errors import DamagedFileError

SCHEMA = "fundamen.capture/1"
MOST_CONTENT = 4 << 30  # bytes, unpacked
_MOST_FACTS, _MOST_MANIFEST = 1 << 30, 1 << 20
_MEMBERS = ("content.bin", "facts.json", "manifest.json")
_SUMMARY = "summary.json"
_MOST_SUMMARY = 64 << 20  # bytes
_PIECE = 1 << 20
_RAISED = (
    zipfile.BadZipFile,
    OSError,
    EOFError,
    ValueError,
    NotImplementedError,
    RuntimeError,
    MemoryError,
    zlib.error,
)

Size = Annotated[int, msgspec.Meta(ge=0)]


class CaptureManifest(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The manifest of a capture: the type of docs/schemas/capture.json."""

    schema: Literal["fundamen.capture/1"] = "fundamen.capture/1"
    machine: str  # its name, for people
    platform: Platform
    was_running: bool  # whether it was made on the machine as it ran
    made_at: datetime  # UTC
    of: tuple[str, ...]  # what it was made for: commands, in words
    files: Size  # how many files it has bytes of
    bytes: Size  # of them
    left_out: tuple[str, ...]  # what was not taken in, and by which rule
    facts_sha256: str
    content_sha256: str
    summary_sha256: str = ""  # empty where it has no summary


class CapturedFile(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """The bytes of one file that are in a capture."""

    size: int  # of the file
    pieces: tuple[tuple[int, int, int], ...]  # (offset in the file, bytes, offset in the content), none overlapping


class CapturedEntry(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """An entry at a path."""

    kind: str
    size: int
    why: str
    is_executable: bool
    changes_account: bool


class Refusal(msgspec.Struct, frozen=True):
    """Why something could not be read, as it was said then."""

    what: str
    why: str
    do: str


Value = str | int | tuple[str, ...] | dict[str, str]  # bytes stand as {"base64": ...}


class MachineFacts(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """All that was asked of a machine, with the answers."""

    entries: dict[str, CapturedEntry] = {}
    names: dict[str, tuple[str, ...] | Refusal] = {}
    reals: dict[str, str] = {}
    files: dict[str, CapturedFile] = {}
    refused: dict[str, Refusal] = {}
    digests: dict[str, str] = {}  # "md5 /path" -> hexadecimal
    registry: dict[str, dict[str, Value] | None] = {}
    subkeys: dict[str, tuple[str, ...]] = {}
    knows: dict[str, bool] = {}  # of a key, whether the registry could tell
    environment: dict[str, str] = {}
    kept: dict[str, str] = {}  # what was found out by going through the machine, as JSON


def name_of_digest(algorithm: str, ranges: Ranges, zeros: int, size: int) -> str:
    """How the facts name a digest of some ranges of a file; that of all of it by the algorithm alone."""
    if list(ranges) == [(0, size)] and not zeros:
        return algorithm
    document = ",".join(f"{begin}-{end}" for begin, end in ranges)
    return f"{algorithm}:{document}+{zeros}"


class SharedFault(msgspec.Struct, frozen=True):
    """One cause that a survey of the machine has found."""

    name: str
    verdict: str
    programs: Size  # how many it stops


class Summary(msgspec.Struct, frozen=True, kw_only=True):
    """The summary of a capture of a whole machine: for tables over many machines."""

    schema: Literal["fundamen.summary/1"] = "fundamen.summary/1"
    machine: str
    platform: Platform
    made_at: datetime
    programs: Size
    components: dict[str, str]  # installed packages: name -> version
    faults: tuple[SharedFault, ...]


class Capture(msgspec.Struct, frozen=True):
    """A capture that was opened."""

    manifest: CaptureManifest
    facts: MachineFacts
    content: IO[bytes]  # a file of ours, which no one else sees


def write_capture(
    target: IO[bytes],
    manifest: CaptureManifest,
    facts: MachineFacts,
    content: IO[bytes],
    summary: Summary | None = None,
) -> CaptureManifest:
    """Write a capture, and give its manifest with the digests filled in. Raises: OSError."""
    summary_data = json.dumps(to_plain(summary)).encode("ascii") if summary is not None else b""
    facts_data = json.dumps(to_plain(facts)).encode("ascii")
    content.seek(0)
    content_sha256 = hashlib.sha256()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        with archive.open(_member("content.bin"), "w", force_zip64=True) as member:
            while piece := content.read(_PIECE):
                content_sha256.update(piece)
                member.write(piece)
        archive.writestr(_member("facts.json"), facts_data)
        whole = msgspec.structs.replace(
            manifest,
            facts_sha256=hashlib.sha256(facts_data).hexdigest(),
            content_sha256=content_sha256.hexdigest(),
            summary_sha256=hashlib.sha256(summary_data).hexdigest() if summary_data else "",
        )
        if summary_data:
            archive.writestr(_member(_SUMMARY), summary_data)
        archive.writestr(_member("manifest.json"), msgspec.json.format(encode_json(whole), indent=1))
    return whole


def _member(name: str) -> zipfile.ZipInfo:
    """A member whose time tells nothing: the manifest has the time."""
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = zipfile.ZIP_DEFLATED
    return info


def is_capture(head: bytes) -> bool:
    """Whether a file that begins like this may be a capture."""
    return head.startswith(b"PK\x03\x04")


def read_capture(file: IO[bytes], name: str) -> Capture:
    """Read a capture.

    Raises:
        DamagedFileError: it is none, is cut or altered, holds more than any has, or is of a newer form.
    """
    what = say("formats.the-capture", name=printable(name))
    try:
        with zipfile.ZipFile(file) as archive:
            manifest = _read_manifest(archive, what)
            facts_data = _member_bytes(archive, "facts.json", _MOST_FACTS, what)
            if hashlib.sha256(facts_data).hexdigest() != manifest.facts_sha256:
                raise damage_error(what, say("formats.its-facts-are-not-those-that"))
            facts = msgspec.convert(json.loads(facts_data), type=MachineFacts)
            return Capture(manifest, facts, _content(archive, manifest, what))
    except (msgspec.ValidationError, RecursionError, *_RAISED) as error:
        if isinstance(error, DamagedFileError):
            raise
        raise damage_error(what, f"{error or type(error).__name__}") from error


def read_summary(file: IO[bytes], name: str) -> Summary:
    """Read only the summary of a capture; nothing else of it is unpacked.

    Raises:
        DamagedFileError: as of ``read_capture``; or it has no summary, for it is not of a whole machine.
    """
    what = say("formats.the-capture", name=printable(name))
    try:
        with zipfile.ZipFile(file) as archive:
            manifest = _read_manifest(archive, what)
            if not manifest.summary_sha256:
                raise damage_error(what, say("formats.it-is-of-no-whole-machine"))
            data = _member_bytes(archive, _SUMMARY, _MOST_SUMMARY, what)
            if hashlib.sha256(data).hexdigest() != manifest.summary_sha256:
                raise damage_error(what, say("formats.its-summary-is-not-that-which"))
        return msgspec.convert(json.loads(data), type=Summary)
    except (msgspec.ValidationError, RecursionError, KeyError, *_RAISED) as error:
        if isinstance(error, DamagedFileError):
            raise
        raise damage_error(what, f"{error or type(error).__name__}") from error


def _read_manifest(archive: zipfile.ZipFile, what: str) -> CaptureManifest:
    """The manifest, once it was seen that the archive has the members of a capture."""
    if sorted(name for name in archive.namelist() if name != _SUMMARY) != list(_MEMBERS):
        raise damage_error(what, say("formats.it-is-no-archive-of-manifest"))
    return _manifest(_member_bytes(archive, "manifest.json", _MOST_MANIFEST, what), what)


def _manifest(data: bytes, what: str) -> CaptureManifest:
    document: Any = msgspec.json.decode(data)
    schema = document.get("schema") if isinstance(document, dict) else None
    if schema != SCHEMA:
        raise damage_error(
            what, say("formats.it-is-of-the-form-and", schema=printable(str(schema)), other_schema=SCHEMA)
        )
    return msgspec.convert(document, type=CaptureManifest)


def _member_bytes(archive: zipfile.ZipFile, name: str, most: int, what: str) -> bytes:
    with archive.open(name) as member:
        data = member.read(most + 1)
    if len(data) > most:
        raise damage_error(what, say("formats.in-it-unpacks-to-more-than", name=name, most=most))
    return data


def _content(archive: zipfile.ZipFile, manifest: CaptureManifest, what: str) -> IO[bytes]:
    """The bytes of files, unpacked to a file that has no name."""
    if manifest.bytes > MOST_CONTENT:
        raise damage_error(what, say("formats.it-says-that-it-holds-bytes", bytes=manifest.bytes))
    content = tempfile.TemporaryFile()  # noqa: SIM115 - it lives as long as the machine that is read from it
    state, size = hashlib.sha256(), 0
    try:
        with archive.open("content.bin") as member:
            while size <= manifest.bytes and (piece := member.read(_PIECE)):
                size += len(piece)
                state.update(piece)
                content.write(piece)
        content.flush()
    except BaseException:
        content.close()
        raise
    if size != manifest.bytes or state.hexdigest() != manifest.content_sha256:
        content.close()
        raise damage_error(what, say("formats.the-bytes-of-files-in-it"))
    return content


def to_value(value: str | int | bytes | tuple[str, ...]) -> Value:
    """A value of the registry as a capture has it."""
    return {"base64": base64.b64encode(value).decode("ascii")} if isinstance(value, bytes) else value


def from_value(value: Value) -> str | int | bytes | tuple[str, ...]:
    """The same back. Raises: ValueError: it is none."""
    return base64.b64decode(value.get("base64", "")) if isinstance(value, dict) else value

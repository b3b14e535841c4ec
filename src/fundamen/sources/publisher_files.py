"""Look at a file that a packager takes in: what it says of itself, and why it must not be taken in.

Sources for the artefacts: "Binary distribution format" and "Core metadata specifications" (packaging.python.org); npm's
package.json lies in the folder ``package`` of a tarball.
"""

import email.parser
import os
import re
from datetime import UTC, datetime

import msgspec
from packaging.version import InvalidVersion, Version

from fundamen.formats.archives.container import ContainerKind, find_container
from fundamen.formats.archives.packed import PackedFile, Readable
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Binary, Format
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import HostPath
from fundamen.sources.artefacts import Artefact, ArtefactName, normalise

_OF_CODE = re.compile(r"\.(?:dll|exe|sys|ocx|pyd|dylib|so(?:\.\d+)*)$", re.IGNORECASE)
_LINKER_SCRIPT = re.compile(rb"\b(?:GROUP|INPUT|OUTPUT_FORMAT)\b")
_ANY_TIME = datetime(2020, 1, 1, tzinfo=UTC)  # whether someone has changed a file does not depend on when one looks
_SHOWN = 24  # bytes of what is no library
_MOST_READ = 256 << 20  # bytes of one file that is looked into
_PIECE = 1 << 20
_METADATA = re.compile(r"^(?:[^/]+\.dist-info/METADATA|[^/]+/PKG-INFO)$")
_MODULE = re.compile(r"\.(?:so(?:\.\d+)*|pyd)$")
_PLATFORMS = {Format.ELF: Platform.LINUX, Format.MACHO: Platform.MACOS, Format.PE: Platform.WINDOWS}


class LookedAt(msgspec.Struct, frozen=True):
    """The facts of a file that is taken in."""

    why_not: Message = UNSAID  # why it must not be taken in
    is_signed: bool = False  # whether a publisher has signed it, and no one has changed it since
    version: str = ""  # of its product, as it states it


def look_at(path: HostPath, binary: Binary | None) -> LookedAt:
    """Look at a file. Raises: OSError."""
    with FileBytes(path, path) as source:
        if binary is None:
            head = source.read_at(0, 4096)
            if _OF_CODE.search(os.path.basename(path)) and not _LINKER_SCRIPT.search(head):
                begins = printable(head[:_SHOWN].decode("utf-8", "replace"))
                return LookedAt(say("sources.it-has-the-name-of-a", begins=begins))
            return LookedAt()
        if binary.problems:
            return LookedAt(
                say("sources.it-is-damaged", place=binary.problems[0].place, reason=binary.problems[0].reason)
            )
        version = ""
        if isinstance(binary, Pe):
            try:
                info = read_version(source, binary)
            except DamagedFileError:
                info = None
            version = (info.product_version or "") if info is not None else ""
        if not binary.may_be_signed:
            return LookedAt(version=version)
        from fundamen.model.trust_store import TrustStores  # noqa: PLC0415 - it loads the library of cryptography
        from fundamen.trust.chain import Issuers  # noqa: PLC0415
        from fundamen.trust.publisher import SignatureStanding  # noqa: PLC0415
        from fundamen.trust.signed_file import judge_file  # noqa: PLC0415

        publisher = judge_file(source, binary, Issuers(TrustStores()), _ANY_TIME)
        if publisher.verdict is SignatureStanding.TAMPERED:
            return LookedAt(say("sources.its-publisher-signature-is-broken", reason=publisher.reason))
        return LookedAt(is_signed=publisher.verdict is not SignatureStanding.UNSIGNED, version=version)


def why_no_artefact(artefact: Artefact) -> str:
    """Why a wheel, source archive or npm tarball is not what its name says; empty where it is. Raises: OSError."""
    with FileBytes(artefact.path, os.path.basename(artefact.path)) as source:
        container = find_container(source)
        kind = ContainerKind.ZIP if artefact.path.endswith((".whl", ".zip")) else ContainerKind.TAR
        if container is None or container.kind is not kind:
            begins = printable(source.read_at(0, _SHOWN).decode("utf-8", "replace"))
            return say("sources.it-has-the-name-of-an", begins=begins)
        try:
            return next(filter(None, (_contradiction(*each, artefact.name) for each in container.unpack())), "")
        except DamagedFileError as error:
            return say("sources.it-is-damaged-why", why=error.why)


def _contradiction(packed: PackedFile, data: Readable, expected: ArtefactName) -> Message:
    """The contradiction between one file of an artefact and its name; it is read to its end, where its checksum is."""
    wanted = _METADATA.match(packed.path) or packed.path == "package/package.json"
    if (not wanted and not _MODULE.search(packed.path)) or packed.size > _MOST_READ:
        while data.read(_PIECE):
            pass
        return UNSAID
    whole = data.read(packed.size + 1)
    if _MODULE.search(packed.path):
        return _other_build(packed.path, whole, expected)
    name, version = _said_in(packed.path, whole)
    try:
        is_other_version = bool(version) and Version(version) != Version(expected.version)
    except InvalidVersion:
        is_other_version = version != expected.version
    is_other = bool(name) and normalise(name) != normalise(expected.project)
    return (
        say("sources.inside-it-says-that-it-is", name=printable(name), version=printable(version))
        if is_other or is_other_version
        else UNSAID
    )


def _said_in(path: str, data: bytes) -> tuple[str, str]:
    """The name and version in a file of metadata; empty where it says nothing that can be read."""
    if path.endswith(".json"):
        try:
            expected = msgspec.json.decode(data, type=_Npm)
        except (msgspec.DecodeError, RecursionError):
            return "", ""
        return expected.name, expected.version
    message = email.parser.BytesHeaderParser().parsebytes(data)
    return str(message.get("Name", "")), str(message.get("Version", ""))


class _Npm(msgspec.Struct):
    name: str = ""
    version: str = ""


def _other_build(path: str, data: bytes, expected: ArtefactName) -> Message:
    if not expected.tags:
        return UNSAID
    try:
        binary = read_binary(MemoryBytes(data, path))
    except UnreadableError:
        return say("sources.in-it-is-no-library", path=printable(path))
    if binary.problems:
        return say("sources.in-it-is-damaged", path=printable(path), reason=binary.problems[0].reason)
    platform = _PLATFORMS[binary.format]
    of_any = {Platform.ANY: True}.get(expected.platform, platform is expected.platform)
    held = {binary.architecture, *binary.also_for}
    # Python picks one file of a name, so on macOS it must have a part for each processor that the tags name.
    lacks = (
        expected.architectures - held
        if binary.format is Format.MACHO or not expected.architectures & held
        else frozenset()
    )
    only = " only" if lacks and expected.architectures & held else ""
    return (
        say(
            "sources.in-it-is-for", path=printable(path), platform=platform, architecture=binary.architecture, only=only
        )
        if lacks or not of_any
        else UNSAID
    )

"""Read Java class files and archives: which Java they are compiled for, what an archive's manifest names.

Source: The Java Virtual Machine Specification, 4.1 ("The ClassFile Structure"); JAR File Specification, "Main
Attributes", "Class-Path", "Multi-release JAR files". The ZIP archive itself is read by the standard library.
"""

import struct
import zipfile
import zlib
from collections.abc import Iterator

import msgspec

from fundamen.formats.byte_source import ByteSource, MemoryBytes, SourceStream
from fundamen.formats.cursor import Cursor, StructureFindings, damage_error
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format
from fundamen.model.errors import DamagedFileError

CLASS_MAGIC, ARCHIVE_MAGIC = b"\xca\xfe\xba\xbe", b"PK\x03\x04"

_CLASS_HEADER = struct.Struct(">IHHH")  # magic, minor and major version, count of the constant pool
_FIRST_MAJOR = 44  # of Java 1.0.2 is 45: the version is that of Java and this
_MANIFEST = "META-INF/MANIFEST.MF"
_OF_OTHER_RELEASES = "META-INF/versions/"
_MOST_ENTRIES = 500_000
_LARGEST_MANIFEST = 1 << 20  # bytes
_MOST_NATIVES = 64
_NATIVE_HEAD = 1 << 16  # bytes of a native library that are looked at
_NATIVE_ENDINGS = (".so", ".dll", ".dylib", ".jnilib")
_MOST_CLASS_PATH = 1000


# What the standard library raises over a damaged or locked archive.
_ZIP_ERRORS = (
    zipfile.BadZipFile,
    zlib.error,
    NotImplementedError,
    RuntimeError,
    EOFError,
    OSError,
    ValueError,
    struct.error,
)


class Native(msgspec.Struct, frozen=True):
    """A native library inside an archive."""

    name: str
    magic: bytes  # its first 64 bytes, which tell for which system and processor it is


class JavaClasses(Binary, frozen=True, kw_only=True):
    """One class file, or an archive of them."""

    java: int  # the oldest Java that runs all of it; 0 where it holds no class
    newest_class: str  # the name of a class that needs that Java; empty for a class file
    main_class: str | None = None  # an archive's, which makes it a program
    class_path: tuple[str, ...] = ()  # further archives and folders, relative to this one's folder
    natives: tuple[Native, ...] = ()
    is_class_file: bool = False


def read_class(source: ByteSource) -> JavaClasses:
    """Read a class file that begins with CLASS_MAGIC; damage is reported in ``problems``."""
    findings = StructureFindings()
    java = 0
    with findings.of("class file"):
        java = _java_of(Cursor(source))
    return _record(source, findings, java, "", is_class_file=True)


def read_archive(source: ByteSource) -> JavaClasses | None:
    """Read an archive of classes; None for a ZIP archive of other things. Damage is reported in ``problems``."""
    findings = StructureFindings()
    with findings.of("archive"), _open(source) as archive:
        names = archive.namelist()
        if _MANIFEST not in names and not any(name.endswith(".class") for name in names):
            return None
        java, newest = _newest(archive, findings)
        main = _manifest_of(archive) if _MANIFEST in names else {}
        return _record(
            source,
            findings,
            java,
            newest,
            main_class=main.get("main-class"),
            class_path=tuple(main.get("class-path", "").split())[:_MOST_CLASS_PATH],
            natives=tuple(_natives(archive)),
        )
    return _record(source, findings, 0, "")


def _record(source: ByteSource, findings: StructureFindings, java: int, newest: str, **facts: object) -> JavaClasses:
    return JavaClasses(
        format=Format.JAVA,
        kind=BinaryKind.PROGRAM if facts.get("main_class") else BinaryKind.LIBRARY,
        architecture=Architecture.ANY,
        name=None,
        needs=(),
        problems=findings.all_problems(),
        size=source.size,
        java=java,
        newest_class=newest,
        **facts,  # type: ignore[arg-type]  # the archive's own facts, by their names
    )


def _java_of(cursor: Cursor) -> int:
    _, _, major, count = cursor.unpack(_CLASS_HEADER, "header")
    if major <= _FIRST_MAJOR or count == 0:
        raise _damaged_archive(say("formats.it-has-version-and-constants", major=major, count=count))
    return int(major) - _FIRST_MAJOR


def _newest(archive: zipfile.ZipFile, findings: StructureFindings) -> tuple[int, str]:
    """The Java that the most demanding class needs, and its name. What is only for newer releases does not count."""
    java, newest = 0, ""
    for entry in archive.infolist():
        name = entry.filename
        is_counted = name.endswith(".class") and not name.endswith("module-info.class")
        if is_counted and not name.startswith(_OF_OTHER_RELEASES):
            with findings.of(name):
                found = _java_of(Cursor(MemoryBytes(_read_beginning(archive, entry, _CLASS_HEADER.size), name)))
                if found > java:
                    java, newest = found, name.removesuffix(".class").replace("/", ".")
    return java, newest


def _manifest_of(archive: zipfile.ZipFile) -> dict[str, str]:
    """The main section's attributes by their names in lower case; a line that begins with a blank goes on the last."""
    text = _read_beginning(archive, archive.getinfo(_MANIFEST), _LARGEST_MANIFEST).decode("utf-8", "replace")
    section = text.replace("\r\n", "\n").replace("\r", "\n").replace("\n ", "").partition("\n\n")[0]
    pairs = (line.partition(":") for line in section.split("\n") if ":" in line)
    return {name.strip().lower(): value.strip() for name, _, value in pairs}


def _natives(archive: zipfile.ZipFile) -> Iterator[Native]:
    named = [entry for entry in archive.infolist() if entry.filename.endswith(_NATIVE_ENDINGS)]
    for entry in named[:_MOST_NATIVES]:
        yield Native(entry.filename, _read_beginning(archive, entry, _NATIVE_HEAD))


def _read_beginning(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, size: int) -> bytes:
    """The first bytes of an entry; no more is unpacked, whatever it would unpack to."""
    try:
        with archive.open(entry) as stream:
            return stream.read(size)
    except _ZIP_ERRORS as error:
        raise _damaged_archive(say("formats.cannot-be-unpacked", filename=entry.filename, error=error)) from error


def _open(source: ByteSource) -> zipfile.ZipFile:
    try:
        archive = zipfile.ZipFile(SourceStream(source))
    except (*_ZIP_ERRORS, UnicodeDecodeError, OverflowError, IndexError) as error:
        raise _damaged_archive(say("formats.its-directory-cannot-be-read", error=error)) from error
    if len(archive.infolist()) > _MOST_ENTRIES:
        raise _damaged_archive(say("formats.it-claims-entries", count=len(archive.infolist())))
    return archive


def _damaged_archive(why: str) -> DamagedFileError:
    return damage_error("The archive", why)

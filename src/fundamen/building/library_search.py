"""How a linker finds the library that ``-lname`` stands for.

Source: the manual of GNU ld, "-l namespec", "-Bstatic", "-L", and for PE files "ld and WIN32". In each folder in turn a
shared library is tried, and then a static one; what is for another architecture is passed over.
"""

from collections.abc import Iterator, Sequence

import msgspec

from fundamen.building.records import Sort
from fundamen.formats.byte_source import ByteSource, PartOf
from fundamen.formats.unix.ar_archive import MAGIC, THIN_MAGIC, Archive, machine_of_object, read_archive
from fundamen.formats.unix.elf import MAGIC as ELF_MAGIC
from fundamen.formats.unix.elf import read_elf
from fundamen.formats.unix.linker_script import LinkerInput, read_linker_script
from fundamen.loaders.load_map import Candidate, CandidateOutcome
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import MachinePath

_LONGEST_SCRIPT = 1 << 16  # bytes
_SHARED_FORMS, _STATIC_FORMS = ("lib{}.so",), ("lib{}.a",)
_WINDOWS_SHARED, _WINDOWS_STATIC = ("lib{}.dll.a", "{}.dll.a"), ("lib{}.a", "{}.lib")
_WINDOWS_LAST = ("lib{}.dll", "{}.dll")


class LibraryFile(msgspec.Struct, frozen=True):
    """A file, as a linker sees it."""

    sort: Sort
    architecture: Architecture | None  # None for a script, which serves whichever it names
    problem: Message = UNSAID  # why the linker stops at it; empty where it does not
    meant: tuple[LinkerInput, ...] = ()  # of a script: the files that it stands for
    archive: Archive | None = None


class FoundLibrary(msgspec.Struct, frozen=True):
    """The linker's answer for one library."""

    candidates: tuple[Candidate, ...]
    path: MachinePath | None
    file: LibraryFile | None


def file_names(name: str, *, only_static: bool, for_windows: bool) -> tuple[str, ...]:
    """The file names that ``-lname`` stands for, in the linker's order; ``-l:file`` stands for that file alone."""
    if name.startswith(":"):
        return (name[1:],)
    forms: tuple[str, ...] = _STATIC_FORMS if only_static else _SHARED_FORMS + _STATIC_FORMS
    if for_windows:
        forms = _WINDOWS_STATIC if only_static else _WINDOWS_SHARED + _WINDOWS_STATIC + _WINDOWS_LAST
    return tuple(form.format(name) for form in forms)


def name_of(file_name: str) -> str:
    """The name by which ``-l`` finds a file; empty where it does not."""
    for ending in (".so", ".dll.a", ".a"):
        if file_name.startswith("lib") and file_name.endswith(ending):
            return file_name[3 : -len(ending)]
    return file_name.removesuffix(".lib") if file_name.endswith(".lib") else ""


def find_library(
    machine: Machine, names: Sequence[str], folders: Sequence[str], architecture: Architecture
) -> FoundLibrary:
    """Look for a library as the linker does."""
    candidates: list[Candidate] = []
    for folder in folders:
        because = say("building.is-searched", folder=folder)
        for name in names:
            path = machine.join(folder, name)
            if machine.look(path).kind is not EntryKind.FILE:
                candidates.append(Candidate(path, CandidateOutcome.ABSENT, because))
                continue
            file = read_library(machine, path)
            if file.architecture not in {None, architecture, Architecture.UNKNOWN} and not file.problem:
                detail = say("building.is-for", architecture=file.architecture)
                candidates.append(
                    Candidate(path, CandidateOutcome.OTHER_ARCHITECTURE, because, detail, file.architecture)
                )
                continue
            outcome = CandidateOutcome.REFUSED if file.problem else CandidateOutcome.TAKEN
            candidates.append(Candidate(path, outcome, because, file.problem, file.architecture))
            return FoundLibrary(tuple(candidates), path, file)
    return FoundLibrary(tuple(candidates), None, None)


def read_library(machine: Machine, path: MachinePath) -> LibraryFile:
    """Tell what a file is to a linker."""
    try:
        with machine.open(path) as source:
            return _read(source)
    except DamagedFileError as error:
        return LibraryFile(Sort.LIBRARY, None, error.why)
    except UnreadableError as error:
        return LibraryFile(Sort.LIBRARY, None, error.why)


def _read(source: ByteSource) -> LibraryFile:
    head = source.read_at(0, len(MAGIC))
    if head.startswith(ELF_MAGIC):
        elf = read_elf(source)
        sort = Sort.INPUT if elf.kind is BinaryKind.OBJECT else Sort.SHARED
        problem = elf.problems[0].sentence if elf.problems else UNSAID
        return LibraryFile(sort, elf.architecture, problem)
    if head in {MAGIC, THIN_MAGIC}:
        archive = read_archive(source)
        has_no_index = bool(archive.members) and archive.symbols is None
        problem = say("building.its-symbol-index-is-missing-ranlib") if has_no_index else UNSAID
        return LibraryFile(Sort.STATIC, _architecture_in(source, archive), problem, archive=archive)
    if head.startswith(b"MZ"):
        return LibraryFile(Sort.SHARED, None)
    machine_name = machine_of_object(source.read_at(0, 8))
    if machine_name:
        return LibraryFile(Sort.INPUT, Architecture(machine_name))
    text = source.read_at(0, _LONGEST_SCRIPT).decode("utf-8", "replace")
    return LibraryFile(Sort.LIBRARY, None, meant=read_linker_script(text, source.name))


def _architecture_in(source: ByteSource, archive: Archive) -> Architecture | None:
    """The architecture of a static library's first object; None where it has none that says so."""
    for member in archive.members[:16] if not archive.is_thin else ():
        part = PartOf(source, member.offset, member.size)
        head = part.read_at(0, 8)
        if head.startswith(ELF_MAGIC):
            return read_elf(part).architecture
        if name := machine_of_object(head):
            return Architecture(name)
    return None


def names_in(machine: Machine, folders: Sequence[str]) -> Iterator[tuple[str, MachinePath]]:
    """Every name that ``-l`` finds in some folders, with its file."""
    for folder in folders:
        try:
            entries = machine.names(MachinePath(folder))
        except UnreadableError:
            continue
        for entry in entries:
            if name := name_of(entry):
                yield name, machine.join(folder, entry)

"""Find where the components that a text names lie on a machine, and what is spelled much like one that lies nowhere."""

import re
from collections.abc import Collection, Iterable, Iterator, Sequence

import msgspec

from fundamen.building.near_misses import Names
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.evidence.authority import Authority, Says, Subject, weigh
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.nearby import folders_near
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Trace

_SYSTEM_FOLDERS = {
    Platform.LINUX: ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/lib32", "/usr/lib32"),
    Platform.MACOS: ("/usr/lib", "/Library/Frameworks"),
    Platform.WINDOWS: ("C:\\Windows\\System32", "C:\\Windows\\SysWOW64", "C:\\Windows", "C:\\"),
}
_VERSION = re.compile(r"\.\d+")
_MOST_NEAR, _MOST_PLACES, _MOST_ALIKE = 3, 8, 3

Folders = Sequence[tuple[MachinePath, tuple[str, ...]]]  # each with the names in it


class FoundPlace(msgspec.Struct, frozen=True):
    """Where a component that the text names lies on the machine."""

    name: str
    path: MachinePath
    architecture: str  # that it is for; empty where it cannot be read
    detail: Message  # whether it is whole, who vouches for it
    verdict: Verdict  # sound where a trusted source knows it; what no loader was asked about is never missing


def look_up(
    machine: Machine, names: list[str], folders: Folders, authorities: Sequence[Authority]
) -> tuple[tuple[FoundPlace, ...], tuple[str, ...]]:
    """The places of some components in some folders, and those of them that have none."""
    wanted = {machine.fold(name): name for name in names}
    found: dict[MachinePath, str] = {}
    for folder, entries in folders:
        for entry in entries:
            if (name := wanted.get(machine.fold(entry))) is not None and len(found) < _MOST_PLACES * len(wanted):
                path = machine.real(machine.join(folder, entry))
                if machine.look(path).kind is EntryKind.FILE:
                    found.setdefault(path, name)
    places = tuple(_place(machine, name, path, authorities) for path, name in found.items())
    return places, tuple(name for name in names if name not in found.values())


def folders_of_system(
    machine: Machine, reading: Reading, traces: Iterable[Trace]
) -> Iterator[tuple[MachinePath, tuple[str, ...]]]:
    """The system's own folders with those just below them, and those near what the text or a trace names."""
    for root in _SYSTEM_FOLDERS[machine.platform]:
        folder = machine.real(machine.absolute_path(root))
        for each in (folder, *_below(machine, folder)):
            yield each, _names(machine, each)
    near = [machine.folder_of(trace.program) for trace in traces]
    near += [machine.folder_of(machine.absolute_path(m.text)) for m in reading.mentions if m.kind is MentionKind.PATH]
    for folder in list(dict.fromkeys(near))[:_MOST_NEAR] or [
        machine.absolute_path(_SYSTEM_FOLDERS[machine.platform][0])
    ]:
        yield from folders_near(machine, folder)


def _below(machine: Machine, folder: MachinePath) -> list[MachinePath]:
    is_top = machine.folder_of(folder) == folder
    if machine.platform is not Platform.LINUX and not is_top:
        return []
    return [
        path
        for name in _names(machine, folder)
        if machine.look(path := machine.join(folder, name)).kind is EntryKind.FOLDER
    ]


def _names(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    try:
        return machine.names(folder)
    except UnreadableError:
        return ()


def _place(machine: Machine, name: str, path: MachinePath, authorities: Sequence[Authority]) -> FoundPlace:
    try:
        binary = machine.binary(path)
    except FundamenError as error:
        return FoundPlace(name, path, "", error.why, Verdict.BLOCKED)
    if not binary.is_intact:
        return FoundPlace(name, path, str(binary.architecture), binary.problems[0].reason, Verdict.CORRUPT)
    subject = Subject(path, binary.name or machine.paths.basename(path), binary.architecture)
    said = [testimony for each in authorities for testimony in each.testify(machine, [subject]).values()]
    counts = weigh(said)
    if counts is None or counts.says is Says.UNKNOWN:
        return FoundPlace(name, path, str(binary.architecture), say("clues.not-verified"), Verdict.UNVERIFIED)
    verdict_text = say("clues.right-by", speaker=counts.speaker) if counts.says is Says.RIGHT else counts.sentence
    return FoundPlace(name, path, str(binary.architecture), verdict_text, counts.says.verdict)


def names_in(folders: Folders) -> dict[str, MachinePath]:
    """Every name in some folders, with the first that has it."""
    there: dict[str, MachinePath] = {}
    for folder, entries in folders:
        for entry in entries:
            there.setdefault(entry, folder)
    return there


def likely_names(absent: Sequence[str], there: Collection[str]) -> Iterator[tuple[str, str]]:
    """Names on the machine that a person could have read or typed as those of the text."""
    names = Names(there if absent else ())
    for name in absent:
        alike = names.near(name) or names.one_slip_apart(name)
        yield from ((name, other) for other in alike[:_MOST_ALIKE])


def other_versions(name: str, there: Iterable[str]) -> list[str]:
    """Libraries of the same name whose version has another number."""
    shape = _VERSION.sub(".#", name)
    if shape == name:
        return []
    begin = shape.partition("#")[0]
    alike = [other for other in there if other.startswith(begin) and _VERSION.sub(".#", other) == shape]
    return alike[:_MOST_ALIKE]

"""What is behind a message on this machine: the named program traced, the named component looked up."""

from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fundamen.building.near_misses import find_near_misses, is_one_slip_apart
from fundamen.clues.findings import Finding
from fundamen.clues.mentions import Kind, plain_name
from fundamen.clues.reading import Reading
from fundamen.evidence.authority import Authority, Says, Subject
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.nearby import folders_near
from fundamen.machine.programs import find_program
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.hints import with_hints
from fundamen.trace.records import Component, Trace
from fundamen.trace.trace import trace_program

_SYSTEM_FOLDERS = {
    Platform.LINUX: ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/lib32", "/usr/lib32"),
    Platform.MACOS: ("/usr/lib", "/Library/Frameworks"),
    Platform.WINDOWS: ("C:\\Windows\\System32", "C:\\Windows\\SysWOW64", "C:\\Windows"),
}
_MOST_TRACED, _MOST_PLACES, _MOST_ALIKE = 3, 8, 3
_NUMBER_WORDS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine")


class Place(msgspec.Struct, frozen=True):
    """Where a component that the text names lies on the machine."""

    name: str
    path: MachinePath
    detail: str  # for which architecture it is, whether it is whole, who vouches for it
    is_right: bool  # whole, and vouched for


class Behind(msgspec.Struct, frozen=True, kw_only=True):
    """What a machine shows of what a text says."""

    traces: tuple[Trace, ...] = ()
    reason: str = ""  # in one sentence: what the message says, and what is behind it
    places: tuple[Place, ...] = ()
    absent: tuple[str, ...] = ()  # components that the text names and that lie nowhere
    meant: tuple[tuple[str, str], ...] = ()  # (what the text names, a path on the machine that is spelled much like it)


def look_behind(machine: Machine, reading: Reading, authorities: Sequence[Authority]) -> Behind | None:
    """Look up on a machine what a text names; None where it names nothing that could be looked up.

    Args:
        machine: that the text may come from.
        reading: of the text.
        authorities: who may vouch for what is found.
    """
    if reading.decisive is None:
        return None
    traces = tuple(_traced(machine, reading, authorities))
    names = _components(reading)
    places, absent = _looked_up(machine, names, reading, authorities, traces) if names else ((), ())
    meant = tuple(_meant(machine, absent, reading)) if absent and not any(trace.faults for trace in traces) else ()
    if not traces and not names:
        return None
    return Behind(
        traces=traces, reason=_reason(machine, reading.decisive, traces), places=places, absent=absent, meant=meant
    )


def _traced(machine: Machine, reading: Reading, authorities: Sequence[Authority]) -> Iterator[Trace]:
    """The traces of the programs that a text names, as far as they are on the machine; failing ones first."""
    found: list[Trace] = []
    for path in list(dict.fromkeys(_programs(machine, reading)))[:_MOST_TRACED]:
        try:
            found.append(with_hints(machine, trace_program(machine, path, authorities), authorities, path))
        except FundamenError:
            continue  # what is no program after all; its place is told below
    return iter(sorted(found, key=lambda trace: not trace.faults))


def _programs(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    decisive = reading.decisive
    named = [decisive.holes[name] for name in ("program", "component", "path") if decisive and name in decisive.holes]
    named += [mention.text for mention in reading.mentions if mention.kind is Kind.PROGRAM]
    paths = [mention.text for mention in reading.mentions if mention.kind is Kind.PATH]
    for name in named:
        yield from (machine.spelled(path) for path in paths if plain_name(path).lower() == plain_name(name).lower())
        yield find_program(machine, name)
    yield from map(machine.spelled, paths)


def _components(reading: Reading) -> list[str]:
    """The names of the components that the causes are about."""
    causes = [each for each in (reading.decisive, *reading.also) if each is not None]
    names = [plain_name(each.holes["component"]) for each in causes if "component" in each.holes]
    return list(dict.fromkeys(name for name in names if "." in name))


def _looked_up(
    machine: Machine, names: list[str], reading: Reading, authorities: Sequence[Authority], traces: Iterable[Trace]
) -> tuple[tuple[Place, ...], tuple[str, ...]]:
    wanted = {machine.folded(name): name for name in names}
    found: dict[MachinePath, str] = {}
    for folder, entries in _folders(machine, reading, traces):
        for entry in entries:
            if (name := wanted.get(machine.folded(entry))) is not None and len(found) < _MOST_PLACES * len(wanted):
                path = machine.real(machine.join(folder, entry))
                if machine.look(path).kind is EntryKind.FILE:
                    found.setdefault(path, name)
    places = tuple(_place(machine, name, path, authorities) for path, name in found.items())
    return places, tuple(name for name in names if name not in found.values())


def _folders(
    machine: Machine, reading: Reading, traces: Iterable[Trace]
) -> Iterator[tuple[MachinePath, tuple[str, ...]]]:
    """The system's own folders with those just below them, and those near what the text or a trace names."""
    for root in _SYSTEM_FOLDERS[machine.platform]:
        folder = machine.real(machine.spelled(root))
        for each in (folder, *_below(machine, folder)):
            yield each, _names(machine, each)
    near = [machine.folder_of(trace.program) for trace in traces]
    near += [machine.folder_of(machine.spelled(m.text)) for m in reading.mentions if m.kind is Kind.PATH]
    for folder in list(dict.fromkeys(near))[:_MOST_TRACED] or [machine.spelled(_SYSTEM_FOLDERS[machine.platform][0])]:
        yield from folders_near(machine, folder)


def _below(machine: Machine, folder: MachinePath) -> list[MachinePath]:
    if machine.platform is not Platform.LINUX:
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


def _place(machine: Machine, name: str, path: MachinePath, authorities: Sequence[Authority]) -> Place:
    try:
        binary = machine.binary(path)
    except FundamenError as error:
        return Place(name, path, error.why, is_right=False)
    if not binary.is_intact:
        return Place(name, path, f"for {binary.architecture}, damaged: {binary.problems[0].reason}", is_right=False)
    subject = Subject(path, binary.name or machine.paths.basename(path), binary.architecture)
    said = [testimony for each in authorities for testimony in each.testify(machine, [subject]).values()]
    wrong = [testimony for testimony in said if testimony.says is Says.WRONG]
    right = [testimony for testimony in said if testimony.says is Says.RIGHT]
    if wrong or not right:
        told = f"{wrong[0].speaker}: {wrong[0].detail}" if wrong else "nobody here vouches for it"
        return Place(name, path, f"for {binary.architecture}, {told}", is_right=False)
    return Place(name, path, f"for {binary.architecture}, right by {right[0].speaker}", is_right=True)


def _meant(machine: Machine, absent: Iterable[str], reading: Reading) -> Iterator[tuple[str, str]]:
    """Names on the machine that a person could have read or typed as those of the text."""
    there: dict[str, MachinePath] = {}
    for folder, entries in _folders(machine, reading, ()):
        for entry in entries:
            there.setdefault(entry, machine.join(folder, entry))
    for name in absent:
        alike = find_near_misses(name, there) or tuple(each for each in there if is_one_slip_apart(name, each))
        yield from ((name, there[other]) for other in alike[:_MOST_ALIKE])


def _reason(machine: Machine, decisive: Finding, traces: Sequence[Trace]) -> str:
    """What is behind the message, as far as a trace tells."""
    if not traces:
        return ""
    trace = traces[0]
    program = machine.paths.basename(trace.program)
    if not trace.faults:
        return (
            f"Traced now, {program} has all that it needs to start:"
            " the message tells of an earlier state, or of another machine."
        )
    named = plain_name(decisive.holes.get("component", ""))
    cause = _cause_of(machine, trace, named)
    depth = max(len(cause.chain) - 1, 0)
    where = (
        f"{_counted(depth)} below {program} ({' > '.join(map(machine.paths.basename, cause.chain))})" if depth else ""
    )
    name = machine.paths.basename(cause.name)
    if named and machine.folded(name) != machine.folded(named):
        return f"The message names {named}; the reason is {name}, {where or 'which it needs'}: {cause.reason}."
    return f"The trace finds the same: {name}{', ' + where if where else ''}: {cause.reason}."


def _cause_of(machine: Machine, trace: Trace, named: str) -> Component:
    """The fault that a message is about: the one of that name, or the first."""
    same = [
        f for f in trace.faults if named and machine.folded(machine.paths.basename(f.name)) == machine.folded(named)
    ]
    return (same or list(trace.faults))[0]


def _counted(levels: int) -> str:
    word = _NUMBER_WORDS[levels] if levels < len(_NUMBER_WORDS) else str(levels)
    return f"{word} level{'' if levels == 1 else 's'}"

"""Look further where a program that a text names has all that it needs: at what starts it, and at one symbol."""

from collections.abc import Iterator, Sequence
from itertools import islice

from fundamen.evidence.authority import Authority
from fundamen.formats.unix.script import Script
from fundamen.loaders.elf_binding import exports_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Format
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

_MOST_SCRIPTS, _MOST_NAMES = 10, 500
_MOST_BYTES = 1 << 16  # of a script that starts a program


def trace_starters(machine: Machine, program: MachinePath, authorities: Sequence[Authority]) -> Iterator[Trace]:
    """The traces of scripts beside or above a program that name it.

    They may set variables by which the loader finds other files than it does without them.
    """
    if machine.platform is not Platform.LINUX:
        return
    name = machine.paths.basename(program).encode("utf-8", "surrogateescape")
    folder = machine.folder_of(program)
    for path in islice(_scripts(machine, dict.fromkeys((folder, machine.folder_of(folder)))), _MOST_SCRIPTS):
        try:
            if name in machine.content(path, _MOST_BYTES):
                yield trace_program(machine, path, authorities)
        except FundamenError:
            continue


def _scripts(machine: Machine, folders: dict[MachinePath, None]) -> Iterator[MachinePath]:
    for folder in folders:
        try:
            names = machine.names(folder) if folder != "/" else ()
        except UnreadableError:
            continue
        for name in names[:_MOST_NAMES]:
            path = machine.join(folder, name)
            entry = machine.look(path)
            if entry.kind is EntryKind.FILE and entry.is_executable and entry.size <= _MOST_BYTES:
                try:
                    is_script = isinstance(machine.binary(path), Script)
                except FundamenError:
                    continue
                if is_script:
                    yield path


def reason_of_symbol(machine: Machine, trace: Trace, symbol: str, authorities: Sequence[Authority]) -> Message:
    """The likely source of a symbol that a program did not find, in one sentence; empty where nothing tells of it."""
    if trace.format is not Format.ELF or trace.faults:
        return UNSAID
    name = symbol.partition(",")[0].split("@")[0].strip()
    libraries = [c for c in trace.components if c.path is not None and c.kind == "shared-library"]
    defining = [c for c in libraries if c.path is not None and name in machine.fact(c.path, exports_of)]
    program = machine.paths.basename(trace.program)
    for starter in trace_starters(machine, trace.program, authorities) if defining else ():
        for other in starter.components:
            is_another = other.name == defining[0].name and other.path not in {None, defining[0].path}
            if is_another and other.path is not None and name not in machine.fact(other.path, exports_of):
                return say(
                    "clues.has-load-which-does-not-define",
                    program=starter.program,
                    other_program=program,
                    path=other.path,
                    name=name,
                    other_path=defining[0].path,
                )
    if defining:
        return say(
            "clues.defines-and-loads-it-here-where",
            path=defining[0].path,
            name=name,
            program=program,
            other_name=defining[0].name,
        )
    unverified = [c for c in libraries if c.verdict is Verdict.UNVERIFIED]
    if not unverified:
        return say("clues.no-library-that-loads-defines", program=program, name=name)
    one = unverified[0]
    more = say("clues.nor-for-more", count=len(unverified) - 1) if unverified[1:] else UNSAID
    return say("clues.no-library-that-loads-defines-no", program=program, name=name, path=one.path, more=more)

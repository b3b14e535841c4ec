"""The public interface in use; only the type checker reads this file."""

from fundamen import (
    Authority,
    Binary,
    CatalogueAuthority,
    CluesResult,
    Component,
    DpkgAuthority,
    FundamenError,
    Machine,
    RehearsalResult,
    RepairResult,
    Session,
    SurveyResult,
    Trace,
    TraceResult,
    UndoResult,
    Verdict,
    open_machine,
    trace_program,
)


def faults(root: str, program: str) -> list[tuple[str, Verdict]]:
    """Faults of a program of a mounted machine."""
    machine: Machine = open_machine(root, drives={"D": "/mnt/data"}, environment={"PATH": "C:\\Tools"})
    authorities: list[Authority] = [DpkgAuthority(), CatalogueAuthority("it", lambda _names: ())]
    try:
        trace: Trace = trace_program(machine, machine.absolute_path(program), authorities)
    except FundamenError as error:
        return [(f"{error.what}: {error.why}. {error.do}", Verdict.BLOCKED)]
    components: tuple[Component, ...] = trace.faults
    return [(component.name, component.verdict) for component in components]


def needs(machine: Machine, program: str) -> list[str]:
    """The names in a file."""
    binary: Binary = machine.binary(machine.absolute_path(program))
    return [need.name for need in binary.needs]


def repair(root: str, program: str) -> list[str]:
    """Everything that a session does, with plain strings for paths and machines."""
    session = Session("/var/lib/fundamen", note=print)
    traced: TraceResult = session.trace(program, root, proof=False)
    surveyed: SurveyResult = session.survey(root, folders=["/opt"], depth="all")
    explained: CluesResult = session.clues("libtide.so.2: cannot open shared object file", root)
    rehearsal: RehearsalResult = session.rehearse(program, machine=root, install=["libcurl4"])
    rehearsal.save("repair.plan")
    planned: RehearsalResult = session.plan("repair.plan", root)
    done: RepairResult = session.perform(planned)
    undone: UndoResult = session.undo(done.number, root)
    return [each.to_json() for each in (traced, surveyed, explained, rehearsal, done, undone)]

"""The public interface in use; only the type checker reads this file."""

from fundamen import (
    Authority,
    Binary,
    CatalogueAuthority,
    Component,
    DpkgAuthority,
    FundamenError,
    Machine,
    Trace,
    Verdict,
    open_machine,
    trace_program,
)


def faults(root: str, program: str) -> list[tuple[str, Verdict]]:
    """Faults of a program of a mounted machine."""
    machine: Machine = open_machine(root, drives={"D": "/mnt/data"}, environment={"PATH": "C:\\Tools"})
    authorities: list[Authority] = [DpkgAuthority(), CatalogueAuthority("it", lambda _names: ())]
    try:
        trace: Trace = trace_program(machine, machine.spelled(program), authorities)
    except FundamenError as error:
        return [(f"{error.what}: {error.why}. {error.do}", Verdict.BLOCKED)]
    components: tuple[Component, ...] = trace.faults
    return [(component.name, component.verdict) for component in components]


def needs(machine: Machine, program: str) -> list[str]:
    """The names in a file."""
    binary: Binary = machine.binary(machine.spelled(program))
    return [need.name for need in binary.needs]

"""What ``fundamen restore`` does where it is not a program that is put right by packages."""

import msgspec

from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program


class Asked(msgspec.Struct, frozen=True, kw_only=True):
    """What the options of the command say of it."""

    plan_file: str | None
    waiting: str
    reference: str | None
    lock_entry: str | None
    artefacts: tuple[str, ...]
    import_root: bool
    fingerprint: str | None
    issuer: tuple[str, ...]
    only_rehearse: bool
    yes: bool


def restored_otherwise(
    machine: Machine, program: str | None, asked: Asked, journal: Journal, output: Output
) -> Exit | None:
    """Do what the options ask for, and give the exit status; None where they ask for none of these.

    Raises:
        FundamenError: as each of them raises.
    """
    consent = {"only_rehearse": asked.only_rehearse, "yes": asked.yes}
    if asked.plan_file is not None:
        from fundamen.cli.plans import carry_out_plan  # noqa: PLC0415 - seldom asked for

        return carry_out_plan(machine, asked.plan_file, asked.waiting, journal, output, **consent)
    if program is None:
        return None
    if asked.reference is not None:
        from fundamen.cli.reference import restore_from  # noqa: PLC0415 - seldom asked for

        return restore_from(machine, program, asked.reference, journal, output, **consent)
    if asked.lock_entry is not None:
        from fundamen.cli.locks import refresh_entry  # noqa: PLC0415 - seldom asked for

        path = machine.spelled(program)
        return refresh_entry(machine, path, asked.lock_entry, asked.artefacts, journal, output, **consent)
    if asked.import_root:
        from fundamen.cli.root_import import Asked as AskedOfRoot  # noqa: PLC0415 - seldom asked for
        from fundamen.cli.root_import import import_root_of  # noqa: PLC0415

        of_root = AskedOfRoot(asked.fingerprint, asked.issuer, **consent)
        return import_root_of(machine, find_program(machine, program), of_root, journal, output)
    return None

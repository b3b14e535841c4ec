"""What ``fundamen restore`` does where it is not a program that is put right by packages."""

import msgspec

from fundamen.cli.exits import Exit
from fundamen.cli.media import Named
from fundamen.cli.restoring import Desk
from fundamen.machine.programs import find_program


class Asked(msgspec.Struct, frozen=True, kw_only=True):
    """What the options of the command say of it."""

    plan_file: str | None
    waiting: str
    media: Named
    archive: bool
    reference: str | None
    lock_entry: str | None
    artefacts: tuple[str, ...]
    import_root: bool
    fingerprint: str | None
    issuer: tuple[str, ...]


def restored_otherwise(desk: Desk, program: str | None, asked: Asked) -> Exit | None:
    """Do what the options ask for, and give the exit status; None where they ask for none of these.

    Raises:
        FundamenError: as each of them raises.
    """
    if asked.plan_file is not None:
        from fundamen.cli.plans import carry_out_plan  # noqa: PLC0415 - seldom asked for

        return carry_out_plan(desk, asked.plan_file, asked.waiting, asked.media, archive=asked.archive)
    if program is None:
        return None
    if asked.reference is not None:
        from fundamen.cli.reference import restore_from  # noqa: PLC0415 - seldom asked for

        return restore_from(desk, program, asked.reference)
    if asked.lock_entry is not None:
        from fundamen.cli.locks import refresh_entry  # noqa: PLC0415 - seldom asked for

        return refresh_entry(desk, desk.machine.spelled(program), asked.lock_entry, asked.artefacts)
    if asked.import_root:
        from fundamen.cli.root_import import import_root_of  # noqa: PLC0415 - seldom asked for

        return import_root_of(desk, find_program(desk.machine, program), asked.fingerprint, asked.issuer)
    return None

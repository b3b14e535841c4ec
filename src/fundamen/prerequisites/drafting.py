"""Draft a sheet from what a program is found to need: a beginning, to be read and completed by a person."""

import re

import tomlkit
import tomlkit.items

from fundamen.evidence.dpkg import Owner, find_owners
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.sheet import SCHEMA
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

_NOT_IN_ID = re.compile(r"[^a-z0-9._-]+")
_LONGEST_ID = 80
_HINTS = """\
What no file declares is not in this draft: settings, services, ports, limits, space, accounts, licences.
Add each as a [[requirement]]; the kinds are in docs/formats/requirement-sheet.md."""


def draft_sheet(machine: Machine, program: MachinePath) -> str:
    """The text of a sheet that asks for the program itself and the packages that its libraries are from.

    Raises:
        UnreadableError: the program cannot be read.
    """
    trace = trace_program(machine, program)
    sheet = tomlkit.document()
    for line in _HINTS.splitlines():
        sheet.add(tomlkit.comment(line))
    sheet.add("schema", tomlkit.item(SCHEMA))
    sheet.add("name", tomlkit.item(machine.paths.basename(program)))
    sheet.add("program", tomlkit.item(str(program)))
    requirements = tomlkit.aot()
    for owner in _owners(machine, trace):
        because = say("prerequisites.brings", path=owner.path)
        requirements.append(
            _table(
                id=_id_of("package", owner.package, owner.architecture),
                kind="package",
                name=owner.package,
                architecture=owner.architecture,
                version=f">= {owner.version}",
                because=because,
            )
        )
    requirements.append(
        _table(id="program", kind="program", path=str(program), because=say("prerequisites.it-must-find-all-that-it"))
    )
    sheet.add("requirement", requirements)
    return tomlkit.dumps(sheet)


def _owners(machine: Machine, trace: Trace) -> list[Owner]:
    """The packages that have brought what the program depends on, each once."""
    paths = [component.path for component in trace.components if component.path is not None]
    owners = {(owner.package, owner.architecture): owner for owner in find_owners(machine, (), paths)}
    return [owners[key] for key in sorted(owners)]


def _table(**values: str) -> tomlkit.items.Table:
    table = tomlkit.table()
    for key, value in values.items():
        table.add(key, tomlkit.item(value))
    return table


def _id_of(*parts: str) -> str:
    return _NOT_IN_ID.sub("-", "-".join(parts).lower())[:_LONGEST_ID].strip("-.")

"""The plan that puts a toolchain right as one: what is not of its version is replaced, what others left is set aside.

A part whose licence was not accepted is left out: files of it are placed once someone has said yes to the text.
"""

from collections.abc import Iterator
from datetime import datetime

import msgspec

from fundamen.changes.files import MakeLink, PutFile
from fundamen.changes.form import Expected
from fundamen.changes.kinds import PlannedStep
from fundamen.changes.moves import SetAside
from fundamen.changes.registry_edits import SetRegistryEntry, SetRegistryValue
from fundamen.changes.settings import SetEntry, SetValue
from fundamen.formats.settings.editing import find_value
from fundamen.formats.settings.setting import SettingFormat
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath
from fundamen.restore.plan_file import PlanFile
from fundamen.toolchains.catalogue import CataloguePart
from fundamen.toolchains.contents import PartState, ToolchainFile
from fundamen.toolchains.examining import Examination

_AT_LOGIN = MachinePath("/etc/environment")  # pam_env(8): NAME=VALUE lines
_MOST_BYTES = 1 << 20
_REGISTRY = r"HKLM\System\CurrentControlSet\Control\Session Manager\Environment"


class Mending(msgspec.Struct, frozen=True):
    """The part of a toolchain that a plan can repair."""

    plan: PlanFile | None  # None where it can do nothing
    waiting: tuple[str, ...]  # parts that wait for a licence to be accepted
    by_hand: tuple[Message, ...]  # sentences: what it cannot do


def plan_toolchain(machine: Machine, examination: Examination, now: datetime) -> Mending:
    """The plan for a toolchain as it was found."""
    licences = {due.name for due in examination.due if due.kind == "licence"}
    held = {due.name for due in examination.due if due.kind == "part" and licences.intersection(due.after)}
    states = {state.part.name: state for state in examination.contents.parts}
    steps: list[PlannedStep] = []
    for due in examination.due:
        if due.kind == "part" and due.name not in held:
            steps += _of_part(machine, examination, states[due.name])
    if not held:
        steps += _of_leftovers(machine, examination)
    by_hand: list[Message] = []
    for sentence, step in _of_reach(machine, examination):
        if step is None:
            by_hand.append(sentence)
        else:
            steps.append(step)
    program = _program(machine, examination)
    if not steps or program is None:
        return Mending(None, tuple(sorted(held)), tuple(by_hand))
    plan = PlanFile(program=program, machine=machine.title, made_at=now, steps=tuple(steps))
    return Mending(plan, tuple(sorted(held)), tuple(by_hand))


def _of_part(machine: Machine, examination: Examination, state: PartState) -> Iterator[PlannedStep]:
    for file in state.files:
        path = _path(machine, examination, file.place)
        listed = state.part.files[file.place]
        if listed.link:
            yield MakeLink(path=path, target=listed.link, because=file.detail)
            continue
        yield PutFile(
            path=path,
            because=file.detail,
            sha256=listed.sha256,
            size=listed.size,
            name=file.place.rpartition("/")[2],
            package=f"{examination.toolchain.title}, {state.part.name}",
            executable=listed.executable,
            mode=0o755 if listed.executable else None,
            expects=_expected_state(file),
        )


def _expected_state(file: ToolchainFile) -> Expected | None:
    return Expected(sha256=file.sha256) if file.sha256 else None


def _of_leftovers(machine: Machine, examination: Examination) -> Iterator[PlannedStep]:
    for leftover in examination.contents.leftovers:
        because = say("restore.it-is-left-from", version=leftover.version)
        yield SetAside(path=_path(machine, examination, leftover.place), because=because)


def _of_reach(machine: Machine, examination: Examination) -> Iterator[tuple[Message, PlannedStep | None]]:
    """(what is to be done, its step); None where there is no step for it."""
    folders = {state.folder for state in examination.reach.paths}
    if examination.reach.shadowed:
        folders |= {machine.join(examination.folder, place) for place in examination.toolchain.path}
    title = examination.toolchain.title
    for folder in sorted(folders):
        yield say("restore.put-on-path-once-before-any", folder=folder), _on_path(machine, folder, title)
    for variable in examination.reach.variables:
        because = say("restore.needs-it", title=title)
        step: PlannedStep | None = None
        if machine.platform is Platform.WINDOWS:
            step = SetRegistryValue(path=_REGISTRY, name=variable.name, value=variable.needed, because=because)
        elif _value_at_login(machine, variable.name) != variable.needed and _has_login_file(machine):
            step = SetValue(
                path=_AT_LOGIN, key=(variable.name,), value=variable.needed, format=SettingFormat.SHELL, because=because
            )
        yield say("restore.set-to", name=variable.name, needed=variable.needed), step


def _on_path(machine: Machine, folder: MachinePath, title: str) -> PlannedStep | None:
    """The step that leads PATH to a folder, where the machine keeps PATH in a place that is known."""
    because = say("restore.the-commands-of-must-be-found", title=title)
    if machine.platform is Platform.WINDOWS:
        return SetRegistryEntry(path=_REGISTRY, name="Path", entry=folder, because=because)
    value = _value_at_login(machine, "PATH")
    if value is None or (value.split(":")[0] == folder and value.split(":").count(folder) == 1):
        return None  # it is set elsewhere, in a shell's own file that is for a person to edit
    return SetEntry(path=_AT_LOGIN, key=("PATH",), entry=folder, format=SettingFormat.SHELL, because=because)


def _has_login_file(machine: Machine) -> bool:
    return machine.platform is Platform.LINUX and machine.look(_AT_LOGIN).kind is EntryKind.FILE


def _value_at_login(machine: Machine, name: str) -> str | None:
    """A variable as a session gets it at log-in; None where that is not set there, or cannot be known."""
    if not _has_login_file(machine):
        return None
    try:
        found = find_value(machine.content(_AT_LOGIN, _MOST_BYTES), SettingFormat.SHELL, (name,), _AT_LOGIN)
    except FundamenError:
        return None
    return str(found.value) if found is not None else None


def _program(machine: Machine, examination: Examination) -> MachinePath | None:
    """The command with which the plan is rehearsed: the first that belongs on PATH, or the first of all."""
    parts = [state.part for state in examination.contents.parts]
    folders = {"" if place == "." else place for place in examination.toolchain.path}
    on_path = next((place for part in parts for place in _commands(part) if _above(place) in folders), None)
    place = on_path or next((place for part in parts for place in (*_commands(part), *part.files)), None)
    return _path(machine, examination, place) if place is not None else None


def _commands(part: CataloguePart) -> list[str]:
    return [place for place, file in part.files.items() if file.executable]


def _above(place: str) -> str:
    return place.rpartition("/")[0]


def _path(machine: Machine, examination: Examination, place: str) -> MachinePath:
    return machine.join(examination.folder, *place.split("/"))

"""Plan the repair of unmet requirements: the steps of a plan, each for one of them."""

from datetime import datetime
from typing import Literal

import msgspec

from fundamen.changes.files import CopyLink
from fundamen.changes.kinds import PlannedStep
from fundamen.changes.limits import SetLimit
from fundamen.changes.packages import InstallByName
from fundamen.changes.registry_edits import RemoveRegistryValue, SetRegistryValue
from fundamen.changes.services import EnableService
from fundamen.changes.settings import RemoveValue, SetEntry, SetValue
from fundamen.changes.starting import RunService
from fundamen.machine.kernel_settings import running_value
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.prerequisites.checking import CheckOutcome
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.kinds.kernel_setting import KernelSetting
from fundamen.prerequisites.kinds.links import Links, links_below
from fundamen.prerequisites.kinds.package import PackageRequirement
from fundamen.prerequisites.kinds.registry import RegistryValue
from fundamen.prerequisites.kinds.service import Service
from fundamen.prerequisites.kinds.setting import Setting
from fundamen.prerequisites.requirement import Requirement
from fundamen.restore.plan_file import PlanFile

_OWN_SYSCTL = "/etc/sysctl.d/90-fundamen.conf"


class Mendable(msgspec.Struct, frozen=True):
    """The part of a sheet that a plan can repair."""

    plan: PlanFile | None  # None where it can do nothing
    by_hand: tuple[Requirement, ...]  # the unmet ones that it can do nothing for


def plan_for(machine: Machine, program: MachinePath | None, outcome: CheckOutcome, now: datetime) -> Mendable:
    """The plan that repairs what is unmet, as far as there are steps for it.

    Raises:
        UsageError: there is something to be planned, and the sheet names no program for which.
    """
    steps: list[PlannedStep] = []
    by_hand: list[Requirement] = []
    for checked in outcome.of(RequirementStanding.UNMET):
        own = _steps(machine, checked.requirement)
        steps += own
        if not own:
            by_hand.append(checked.requirement)
    if not steps:
        return Mendable(None, tuple(by_hand))
    if program is None:
        raise UsageError(
            what=say("restore.no-plan-can-be-made-of"),
            why=say("restore.it-does-not-say-which-program"),
            do=say("restore.add-a-line-such-as-program"),
        )
    plan = PlanFile(program=program, machine=machine.title, made_at=now, steps=tuple(steps))
    return Mendable(plan, tuple(by_hand))


def _steps(machine: Machine, requirement: Requirement) -> list[PlannedStep]:
    because = requirement.because or requirement.needed
    steps: list[PlannedStep] = []
    match requirement:
        case Setting():
            steps = _for_setting(requirement, because)
        case KernelSetting():
            steps = _for_limit(machine, requirement, because)
        case RegistryValue():
            steps = _for_registry(requirement, because)
        case PackageRequirement() if not requirement.version:  # which version would come is the archive's to say
            name = f"{requirement.name}:{requirement.architecture}" if requirement.architecture else requirement.name
            steps = [InstallByName(path="/var/lib/dpkg", names=(name,), because=because)]
        case Links() if requirement.none:
            links = links_below(machine, MachinePath(requirement.folder), broken=False)
            steps = [CopyLink(path=path, because=because) for path in links if _leads_to_a_file(machine, path)]
        case Service():
            steps = _for_service(machine, requirement, because)
        case _:
            pass
    return steps


def _for_service(machine: Machine, requirement: Service, because: str) -> list[PlannedStep]:
    path, steps = f"/etc/systemd/system/{requirement.name}", list[PlannedStep]()
    if requirement.enabled:
        steps.append(EnableService(path=path, name=requirement.name, because=because))
    if requirement.running and machine.is_live:
        steps.append(RunService(path=path, name=requirement.name, because=because))
    return steps


def _leads_to_a_file(machine: Machine, path: MachinePath) -> bool:
    return machine.look(path).kind is EntryKind.FILE


def _for_setting(requirement: Setting, because: str) -> list[PlannedStep]:
    file, key, form = requirement.file, requirement.key, requirement.format
    if requirement.absent:
        return [RemoveValue(path=file, key=key, format=form, because=because)]
    steps: list[PlannedStep] = []
    if (value := _wanted_value(requirement)) is not msgspec.UNSET:
        steps.append(SetValue(path=file, key=key, format=form, value=value, because=because))
    if len(requirement.separator) == 1:
        steps += [_entry(requirement, entry, "last", because) for entry in requirement.has]
        steps += [_entry(requirement, entry, "nowhere", because) for entry in requirement.lacks]
    return steps


def _entry(requirement: Setting, entry: str, place: Literal["last", "nowhere"], because: str) -> SetEntry:
    return SetEntry(
        path=requirement.file,
        key=requirement.key,
        entry=entry,
        place=place,
        separator=requirement.separator,
        format=requirement.format,
        because=because,
    )


def _for_limit(machine: Machine, requirement: KernelSetting, because: str) -> list[PlannedStep]:
    """It is set now, and a line in a file makes it last, with the other fields as they are now."""
    value = _wanted_value(requirement)
    if value is msgspec.UNSET or isinstance(value, bool | None):
        return []
    steps: list[PlannedStep] = []
    name = requirement.name
    if machine.is_live:
        steps.append(
            SetLimit(
                path=f"/proc/sys/{name.replace('.', '/')}",
                name=name,
                value=str(value),
                field=requirement.field,
                because=because,
            )
        )
    lasting = _with_field(name, requirement.field, str(value)) if requirement.field is not None else str(value)
    if lasting:
        steps.append(SetValue(path=_OWN_SYSCTL, key=(name,), value=lasting, because=because))
    return steps


def _with_field(name: str, field: int, value: str) -> str:
    """The running kernel's setting with one field changed; empty where it has no such field."""
    fields = (running_value(name) or "").split()
    return " ".join([*fields[:field], value, *fields[field + 1 :]]) if field < len(fields) else ""


def _for_registry(requirement: RegistryValue, because: str) -> list[PlannedStep]:
    if requirement.absent:
        return [RemoveRegistryValue(path=requirement.key, name=requirement.name, because=because)]
    value = _wanted_value(requirement)
    if not isinstance(value, str | int) or isinstance(value, bool):
        return []
    return [SetRegistryValue(path=requirement.key, name=requirement.name, value=value, because=because)]


def _wanted_value(requirement: Compared) -> str | int | float | bool | msgspec.UnsetType | None:
    """The one value that is asked for, or the least or first of those that serve; UNSET where none is named."""
    if requirement.equals is not msgspec.UNSET:
        return requirement.equals
    if requirement.one_of:
        return requirement.one_of[0]
    for bound in (requirement.at_least, requirement.at_most):
        if bound is not None:
            return bound
    return msgspec.UNSET

"""Enable a service of systemd: the links that have it started, made as any other link, on a machine up or not.

Source: systemctl(1), "enable"; systemd.unit(5), "Unit File Load Path".
"""

from collections.abc import Iterator
from functools import partial

from fundamen.changes.files import MakeLink
from fundamen.changes.form import PlanResolution
from fundamen.changes.registry_edits import SetRegistryValue
from fundamen.changes.starting import ServiceForm, service_error
from fundamen.formats.unix.unit_file import Install, read_install
from fundamen.machine.installed import SERVICES, ServiceStart
from fundamen.machine.machine import Machine
from fundamen.machine.units import UNIT_FOLDERS, find_unit, is_masked
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.paths import MachinePath

_OWN = UNIT_FOLDERS[0]
_OWN_OR_SHARED = 0x30  # the types of services that run in a process: SERVICE_WIN32
_MOST_UNIT = 1 << 20  # bytes
_MOST_UNITS = 64  # that are enabled together
_refusal = partial(service_error, "enabled")


def links_to_enable(machine: Machine, name: str) -> Iterator[tuple[MachinePath, str]]:
    """(where a link belongs, its target) of all links that enable a unit, and those that it names beside itself.

    Raises:
        UsageError: there is no such unit, it is masked, or says nothing of what should start it.
        UnreadableError: its file cannot be read.
    """
    waiting, seen = [name], set[str]()
    while waiting and len(seen) < _MOST_UNITS:
        unit = waiting.pop(0)
        if unit in seen:
            continue
        seen.add(unit)
        path = _file_of(machine, unit)
        install = _install_of(machine, unit, path)
        waiting += install.also
        instance = install.default_instance
        link_name = unit.replace("@.", f"@{instance}.") if "@." in unit and instance else unit
        folders = {"wants": install.wanted_by, "requires": install.required_by, "upholds": install.upheld_by}
        for kind, others in folders.items():
            for other in others:
                yield machine.join(_OWN, f"{other}.{kind}", link_name), path
        for alias in install.aliases:
            yield machine.join(_OWN, alias), path


def start_by_itself(machine: Machine, step: "EnableService") -> SetRegistryValue:
    r"""The change that has a service of Windows started with the system.

    Source: "Services Registry Key", the value Start of HKLM\System\CurrentControlSet\Services\NAME.

    Raises:
        UsageError: there is no such service, or it is a driver.
    """
    key = f"{SERVICES}\\{step.name}"
    start, type_ = machine.registry.value(key, "Start"), machine.registry.value(key, "Type")
    if "\\" in step.name or not isinstance(start, int):
        raise service_error(
            step.name,
            "enabled",
            say("changes.the-machine-has-no-service-of"),
            say("changes.name-it-as-the-registry-spells"),
        )
    if not isinstance(type_, int) or not type_ & _OWN_OR_SHARED:
        raise _refusal(step.name, say("changes.it-is-a-driver"), say("changes.repair-it-with-its-publisher-installer"))
    because = step.because or say("changes.it-is-not-started-with-the")
    return SetRegistryValue(path=key, name="Start", value=int(ServiceStart.AUTOMATIC), because=because)


def _file_of(machine: Machine, unit: str) -> MachinePath:
    if "/" in unit or "." not in unit.strip("."):
        raise service_error(
            unit, "enabled", say("changes.that-is-no-name-of-a-unit"), say("changes.name-it-with-its-kind-such")
        )
    path = find_unit(machine, unit)
    if path is not None and is_masked(machine, path):
        raise service_error(
            unit, "enabled", say("changes.it-is-masked-by", path=path), say("changes.ask-its-administrator-why-it-is")
        )
    if path is not None:
        return path
    raise service_error(
        unit, "enabled", say("changes.the-machine-has-no-unit-of"), say("changes.see-that-the-package-which-brings")
    )


def _install_of(machine: Machine, unit: str, path: MachinePath) -> Install:
    text = machine.content(path, _MOST_UNIT).decode("utf-8", "replace")
    try:
        install = read_install(text, unit)
    except ValueError as error:
        raise service_error(
            unit, "enabled", str(error), say("changes.enable-it-on-that-machine-systemctl", unit=printable(unit))
        ) from error
    if install.is_empty:
        raise service_error(
            unit, "enabled", say("changes.it-does-not-say-what-should"), say("changes.it-is-started-by-what-needs")
        )
    return install


class EnableService(ServiceForm, frozen=True, kw_only=True, tag="enable service"):
    """Enable a service: of systemd by its links, of Windows by its start type."""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        if resolving.machine.platform is Platform.WINDOWS:
            start_by_itself(resolving.machine, self).resolve(resolving)
            return
        for link, target in links_to_enable(resolving.machine, self.name):
            because = self.because or say("changes.is-not-enabled", name=self.name)
            MakeLink(path=link, target=target, because=because).resolve(resolving)

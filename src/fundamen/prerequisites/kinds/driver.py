"""A driver: loaded, in a version."""

import re
from typing import ClassVar

from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.installed import SERVICES, service_start
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, met_if, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, Text, only_live, read_text

_SYSTEM_ROOT = re.compile(r"^\\?(?:SystemRoot|%SystemRoot%)\\", re.IGNORECASE)


def driver_file(machine: Machine, name: str) -> MachinePath:
    r"""The file of a driver of Windows: what ImagePath of its key names, counted from the system's folder.

    Source: Microsoft's "HKLM\SYSTEM\CurrentControlSet\Services Registry Tree", ImagePath.
    """
    image = machine.registry.text(rf"{SERVICES}\{name}", "ImagePath").removeprefix("\\??\\")
    rest = _SYSTEM_ROOT.sub("", image) if image else rf"System32\drivers\{name}.sys"
    is_whole = rest[1:3] == ":\\"
    return machine.join(rest) if is_whole else machine.join("C:\\Windows", rest)


class Driver(Requirement, frozen=True, kw_only=True, tag="driver"):
    """A kernel module is loaded or built in, perhaps in a version; on Windows a driver is registered.

    Source: sysfs(5), /sys/module; the value Start of a service's key.
    """

    name: Name
    version: Text = ""  # a range

    registry_key: ClassVar[str] = r"HKLM\System"

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"the driver {self.name} {self.version}".rstrip()

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.get-it-from-the-device-maker")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        if "/" in self.name or self.name.startswith("."):
            return say("prerequisites.that-is-no-name-of-a")
        return problem_of_range(self.version)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            return self._of_windows(machine)
        if machine.platform is not Platform.LINUX or not machine.is_live:
            return only_live(machine)
        return self._of_kernel(machine)

    def _of_windows(self, machine: Machine) -> Answer:
        if service_start(machine.registry, self.name) is None:
            return unmet(say("prerequisites.it-is-not-registered"))
        path = driver_file(machine, self.name)
        if machine.look(path).kind is not EntryKind.FILE:
            return unmet(say("prerequisites.it-is-registered-and-its-file", path=path))
        if not self.version:
            return met(say("prerequisites.it-is-registered"))
        from fundamen.machine.stated_version import version_of  # noqa: PLC0415 - few sheets ask for it

        version = version_of(machine, path, machine.binary(path))
        if version is None:
            return unknown(say("prerequisites.does-not-tell-its-version", path=path))
        return met_if(is_in(version, self.version), say("prerequisites.is-version", path=path, version=version))

    def _of_kernel(self, machine: Machine) -> Answer:
        folder = MachinePath("/sys/module/" + self.name.replace("-", "_"))
        if machine.look(folder).kind is not EntryKind.FOLDER:
            return unmet(say("prerequisites.it-is-not-loaded"))
        if not self.version:
            return met(say("prerequisites.it-is-loaded"))
        path = machine.join(folder, "version")
        if machine.look(path).kind is not EntryKind.FILE:
            return unknown(say("prerequisites.it-is-loaded-and-does-not"))
        version = read_text(machine, path).strip()
        return met_if(is_in(version, self.version), say("prerequisites.it-is-loaded-in-version", version=version))

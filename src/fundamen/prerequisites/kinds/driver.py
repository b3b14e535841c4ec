"""A driver: loaded, in a version."""

from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.installed import service_start
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, met_if, unknown, unmet
from fundamen.prerequisites.requirement import Asked, Name, Requirement, Text, only_live, read_text


class Driver(Requirement, frozen=True, kw_only=True, tag="driver"):
    """A kernel module is loaded or built in, perhaps in a version; on Windows a driver is registered.

    Source: sysfs(5), /sys/module; the value Start of a service's key.
    """

    name: Name
    version: Text = ""  # a range

    @property
    def needed(self) -> str:
        """As of every requirement."""
        return f"the driver {self.name} {self.version}".rstrip()

    @property
    def advice(self) -> str:
        """As of every requirement."""
        return "Get it from the device's maker, in the version for this system."

    def problem(self) -> str:
        """As of every requirement."""
        if "/" in self.name or self.name.startswith("."):
            return "that is no name of a driver"
        return problem_of_range(self.version)

    def check(self, asked: Asked) -> Answer:
        """As of every requirement."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            if self.version:
                return unknown("the version of a driver of Windows is not read")
            is_there = service_start(machine.registry, self.name) is not None
            return met_if(is_there, f"it is {'' if is_there else 'not '}registered")
        if machine.platform is not Platform.LINUX or not machine.is_live:
            return only_live(machine)
        return self._of_kernel(machine)

    def _of_kernel(self, machine: Machine) -> Answer:
        folder = MachinePath("/sys/module/" + self.name.replace("-", "_"))
        if machine.look(folder).kind is not EntryKind.FOLDER:
            return unmet("it is not loaded")
        if not self.version:
            return met("it is loaded")
        path = machine.join(folder, "version")
        if machine.look(path).kind is not EntryKind.FILE:
            return unknown("it is loaded, and does not tell its version")
        version = read_text(machine, path).strip()
        return met_if(is_in(version, self.version), f"it is loaded in version {version}")

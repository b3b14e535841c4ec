"""A service: there, started with the machine, running."""

import shutil
import subprocess
from typing import ClassVar

from fundamen.machine.installed import ServiceStart, service_start
from fundamen.machine.machine import Machine
from fundamen.machine.units import UNIT_FOLDERS, find_unit, is_masked
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, RequirementStanding, met, unknown, unmet
from fundamen.prerequisites.requirement import USUAL_SECONDS, CheckContext, Name, Requirement, Seconds

_LINKS = (".wants", ".requires", ".upholds")
_RUNNING = {"active", "reloading"}


class Service(Requirement, frozen=True, kw_only=True, tag="service"):
    """A service is there, and perhaps started with the machine, and running."""

    name: Name  # of systemd with its kind, as tide.service; of Windows as in the registry
    enabled: bool = False
    running: bool = False
    seconds: Seconds = USUAL_SECONDS

    waits: ClassVar[bool] = True

    registry_key: ClassVar[str] = r"HKLM\System"

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        parts = [
            "is there",
            "is started with the machine" if self.enabled else "",
            "is running" if self.running else "",
        ]
        return f"the service {self.name} {' and '.join(filter(None, parts))}"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"Enable and start {self.name}, as its administrator."

    def problem(self) -> str:
        """Find the fault of its fields, beyond their types."""
        return "that is no name of a service" if self.name.startswith("-") or "/" in self.name else ""

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            answer = self._of_windows(machine)
        elif machine.platform is Platform.LINUX:
            answer = self._of_systemd(machine)
        else:
            return unknown(f"services of {machine.platform.in_words} are not known here")
        if answer.standing is not RequirementStanding.MET or not self.running:
            return answer
        return self._runs(machine)

    def _of_windows(self, machine: Machine) -> Answer:
        start = service_start(machine.registry, self.name)
        if start is None:
            return unmet("the registry has no such service")
        if self.enabled and start is not ServiceStart.AUTOMATIC:
            return unmet(f"its start is {start.name.lower().replace('_', ' ')}")
        return met(f"its start is {start.name.lower().replace('_', ' ')}")

    def _of_systemd(self, machine: Machine) -> Answer:
        path = find_unit(machine, self.name)
        if path is None:
            return unmet("the machine has no unit of this name")
        if is_masked(machine, path):
            return unmet(f"it is masked by {path}")
        if self.enabled and not any(self.name in machine.names(folder) for folder in _link_folders(machine)):
            return unmet("nothing has it started with the machine")
        return met(f"its unit is {path}")

    def _runs(self, machine: Machine) -> Answer:
        tool = shutil.which("systemctl") if machine.is_live else None
        if tool is None:
            return unknown("this host has no systemd to ask" if machine.is_live else f"{machine.title} does not run")
        asked = [tool, "is-active", "--", self.name]
        try:
            said = subprocess.run(asked, capture_output=True, text=True, timeout=self.seconds, check=False)
        except subprocess.TimeoutExpired:
            return unknown(f"systemd does not answer within {self.seconds:g} s")
        state = said.stdout.strip()
        if not state:
            return unknown(said.stderr.strip().partition("\n")[0] or "systemd does not answer")
        return met("it is running") if state in _RUNNING else unmet(f"it is {state}")


def _link_folders(machine: Machine) -> list[MachinePath]:
    """The folders whose links have units started. Source: systemd.unit(5), [Install]."""
    return [
        machine.join(folder, name) for folder in UNIT_FOLDERS for name in machine.names(folder) if name.endswith(_LINKS)
    ]

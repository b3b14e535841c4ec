"""A service: there, started with the machine, running."""

import shutil
import subprocess
from typing import ClassVar

from fundamen.machine.installed import ServiceStart, service_start
from fundamen.machine.machine import Machine
from fundamen.machine.units import UNIT_FOLDERS, find_unit, is_masked
from fundamen.messages import UNSAID, Message, as_said, say
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
    def needed(self) -> Message:
        """Name the need in a few words."""
        parts = [
            "is there",
            say("prerequisites.is-started-with-the-machine") if self.enabled else "",
            "is running" if self.running else "",
        ]
        return say("prerequisites.the-service", name=self.name, names=" and ".join(filter(None, parts)))

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.enable-and-start-as-its-administrator", name=self.name)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return (
            say("prerequisites.that-is-no-name-of-a-service")
            if self.name.startswith("-") or "/" in self.name
            else UNSAID
        )

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            answer = self._of_windows(machine)
        elif machine.platform is Platform.LINUX:
            answer = self._of_systemd(machine)
        else:
            return unknown(say("prerequisites.services-of-are-not-known-here", words=machine.platform.in_words))
        if answer.standing is not RequirementStanding.MET or not self.running:
            return answer
        return self._runs(machine)

    def _of_windows(self, machine: Machine) -> Answer:
        start = service_start(machine.registry, self.name)
        if start is None:
            return unmet(say("prerequisites.the-registry-has-no-such-service"))
        if self.enabled and start is not ServiceStart.AUTOMATIC:
            return unmet(say("prerequisites.its-start-is", words=start.name.lower().replace("_", " ")))
        return met(say("prerequisites.its-start-is", words=start.name.lower().replace("_", " ")))

    def _of_systemd(self, machine: Machine) -> Answer:
        path = find_unit(machine, self.name)
        if path is None:
            return unmet(say("prerequisites.the-machine-has-no-unit-of"))
        if is_masked(machine, path):
            return unmet(say("prerequisites.it-is-masked-by", path=path))
        if self.enabled and not any(self.name in machine.names(folder) for folder in _link_folders(machine)):
            return unmet(say("prerequisites.nothing-has-it-started-with-the"))
        return met(say("prerequisites.its-unit-is", path=path))

    def _runs(self, machine: Machine) -> Answer:
        tool = shutil.which("systemctl") if machine.is_live else None
        if tool is None:
            return unknown(
                say("prerequisites.this-host-has-no-systemd-to")
                if machine.is_live
                else say("prerequisites.does-not-run", title=machine.title)
            )
        asked = [tool, "is-active", "--", self.name]
        try:
            said = subprocess.run(asked, capture_output=True, text=True, timeout=self.seconds, check=False)
        except subprocess.TimeoutExpired:
            return unknown(say("prerequisites.systemd-does-not-answer-within-s", seconds=self.seconds))
        state = said.stdout.strip()
        if not state:
            complaint = said.stderr.strip().partition("\n")[0]
            return unknown(as_said(complaint) if complaint else say("prerequisites.systemd-does-not-answer"))
        return (
            met(say("prerequisites.it-is-running"))
            if state in _RUNNING
            else unmet(say("prerequisites.it-is", value=state))
        )


def _link_folders(machine: Machine) -> list[MachinePath]:
    """The folders whose links have units started. Source: systemd.unit(5), [Install]."""
    return [
        machine.join(folder, name) for folder in UNIT_FOLDERS for name in machine.names(folder) if name.endswith(_LINKS)
    ]

"""A package of the operating system, in a version and architecture."""

from typing import ClassVar

from fundamen.evidence.dpkg import all_installed
from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.installed import installed_packages
from fundamen.machine.machine import ANYWHERE, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, Text


class PackageRequirement(Requirement, frozen=True, kw_only=True, tag="package"):
    """A package is installed: by dpkg, or as an installer of Windows registered it."""

    name: Name
    version: Text = ""  # a range
    architecture: Text = ""  # as the package manager calls it: amd64, i386 ...

    registry_key: ClassVar[str] = r"HKLM\Software"

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return " ".join(filter(None, ("the package", self.name, self.version, self.architecture)))

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.have-it-installed-from-the-operating")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return problem_of_range(self.version)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            found = [(p.version, "") for p in installed_packages(machine.registry) if p.name == self.name]
        elif machine.platform is Platform.LINUX:
            found = machine.fact(ANYWHERE, _installed_packages).get(self.name, [])
        else:
            return unknown(say("prerequisites.packages-of-are-not-known-here", words=machine.platform.in_words))
        if not found:
            return unmet(say("prerequisites.it-is-not-installed"))
        listed = ", ".join(f"{version} {architecture}".strip() for version, architecture in found)
        fitting = [version for version, architecture in found if self.architecture in {"", architecture, "all"}]
        if not fitting:
            return unmet(say("prerequisites.it-is-installed-as", listed=listed))
        if self.version and not any(is_in(version, self.version) for version in fitting):
            return unmet(say("prerequisites.it-is-installed-as", listed=listed))
        return met(say("prerequisites.it-is-installed-as", listed=listed))


def _installed_packages(machine: Machine, _path: MachinePath) -> dict[str, list[tuple[str, str]]]:
    return all_installed(machine)

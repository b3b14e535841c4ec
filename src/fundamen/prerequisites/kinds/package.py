"""A package of the operating system, in a version and architecture."""

from collections.abc import Iterator

from fundamen.machine.installed import installed_packages
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import Asked, Name, Requirement, Text, read_text
from fundamen.prerequisites.versions import is_in, read_range

_STATUS = "/var/lib/dpkg/status"
_INSTALLED = ("install ok installed", "hold ok installed")


class Package(Requirement, frozen=True, kw_only=True, tag="package"):
    """A package is installed: by dpkg, or as an installer of Windows registered it."""

    name: Name
    version: Text = ""  # a range
    architecture: Text = ""  # as the package manager calls it: amd64, i386 ...

    @property
    def needed(self) -> str:
        """As of every requirement."""
        return " ".join(filter(None, ("the package", self.name, self.version, self.architecture)))

    @property
    def advice(self) -> str:
        """As of every requirement."""
        return "Have it installed from the operating system's own archive or its publisher's media."

    def problem(self) -> str:
        """As of every requirement."""
        try:
            read_range(self.version or "1")
        except ValueError as error:
            return f"the range {self.version!r}: {error}"
        return ""

    def check(self, asked: Asked) -> Answer:
        """As of every requirement."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            found = [(p.version, "") for p in installed_packages(machine.registry) if p.name == self.name]
        elif machine.platform is Platform.LINUX:
            found = machine.fact("installed packages", MachinePath(_STATUS), lambda: _by_dpkg(machine)).get(
                self.name, []
            )
        else:
            return unknown(f"packages of {machine.platform.in_words} are not known here")
        if not found:
            return unmet("it is not installed")
        listed = ", ".join(f"{version} {architecture}".strip() for version, architecture in found)
        fitting = [version for version, architecture in found if self.architecture in {"", architecture, "all"}]
        if not fitting:
            return unmet(f"it is installed as {listed}")
        if self.version and not any(is_in(version, self.version) for version in fitting):
            return unmet(f"it is installed as {listed}")
        return met(f"it is installed as {listed}")


def _by_dpkg(machine: Machine) -> dict[str, list[tuple[str, str]]]:
    """(version, architecture) of each package that dpkg has wholly installed. Raises: UnreadableError: no database.

    Source: dpkg-query(1), the fields of the status file; deb-version(7).
    """
    packages: dict[str, list[tuple[str, str]]] = {}
    for name, status, version, architecture in _stanzas(read_text(machine, _STATUS)):
        if status in _INSTALLED:
            packages.setdefault(name, []).append((version, architecture))
    return packages


def _stanzas(text: str) -> Iterator[tuple[str, ...]]:
    for stanza in text.split("\n\n"):
        fields = dict(line.split(": ", 1) for line in stanza.split("\n") if ": " in line and line[0] != " ")
        yield tuple(fields.get(field, "") for field in ("Package", "Status", "Version", "Architecture"))

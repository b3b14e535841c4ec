"""A runtime or framework, installed in a version and width."""

from fundamen.formats.versions import is_in, problem_of_range
from fundamen.messages import Message, join_clauses, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, Text

_SOFTWARE = r"HKLM\Software"


class Runtime(Requirement, frozen=True, kw_only=True, tag="runtime"):
    """A runtime or framework that may be installed in several versions and widths side by side."""

    name: Name  # java, python, net framework, visual c++; any other is a shared framework's own name
    version: Text = ""  # a range
    architecture: Architecture | None = None

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        width = say("prerequisites.for-architecture", architecture=self.architecture) if self.architecture else ""
        return " ".join(filter(None, ("the runtime", self.name, self.version, width)))

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.install-it-from-its-publisher-package")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        if any(mark in self.name for mark in "/\\") or self.name in {".", ".."}:
            return say("prerequisites.that-is-no-name-of-a-runtime")
        return problem_of_range(self.version)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        from fundamen.loaders.runtimes import REGISTERED, find_installed  # noqa: PLC0415 - it loads the rules of many loaders

        installed = find_installed(asked.machine, self.name)
        is_known = asked.machine.platform is not Platform.WINDOWS or asked.machine.registry.knows(_SOFTWARE)
        if not installed and self.name.lower() in REGISTERED and not is_known:
            return unknown(say("prerequisites.the-registry-of-is-not-available", title=asked.machine.title))
        if not installed:
            return unmet(say("prerequisites.it-is-not-installed"))
        listed = join_clauses(
            *(
                say(
                    "prerequisites.in",
                    version=each.version,
                    more=say("prerequisites.for", architecture=each.architecture) if each.architecture else "",
                    path=each.path,
                )
                for each in installed
            )
        )
        of_width = [e for e in installed if self.architecture is None or e.architecture is self.architecture]
        fitting = [each for each in of_width if not self.version or is_in(each.version, self.version)]
        return met(listed) if fitting else unmet(say("prerequisites.there-is-only", listed=listed))

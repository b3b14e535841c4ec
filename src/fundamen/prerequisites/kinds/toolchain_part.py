"""A part of a toolchain, of a version, for a host or target, with the content that its catalogue lists."""

from typing import TYPE_CHECKING, ClassVar

from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.machine import Machine
from fundamen.messages import Message, name_some, say
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Path, Requirement, Text

if TYPE_CHECKING:
    from fundamen.toolchains.catalogue import Toolchain
    from fundamen.toolchains.contents import PartState, ToolchainContents

_MOST_NAMED = 3


class ToolchainPartRequirement(Requirement, frozen=True, kw_only=True, tag="toolchain part"):
    """A part is there, every file of it as the toolchain's catalogue lists it."""

    folder: Path  # the toolchain's
    catalogue: Path  # of the machine, as docs/formats/toolchain.md describes it
    name: Name
    version: Text = ""  # a range
    target: Architecture | None = None  # what its output must be for

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        target = say("prerequisites.for-architecture", architecture=self.target) if self.target else ""
        return " ".join(
            filter(
                None,
                (
                    "the part",
                    self.name,
                    self.version,
                    target,
                    say("prerequisites.of-the-toolchain-in", folder=self.folder),
                ),
            )
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.fundamen-toolchain-catalogue", folder=self.folder, catalogue=self.catalogue)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return problem_of_range(self.version)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        folder = MachinePath(self.folder)
        toolchain = machine.fact(MachinePath(self.catalogue), _toolchain)
        contents = machine.fact(folder, _contents, MachinePath(self.catalogue))
        states = [state for state in contents.parts if state.part.name == self.name]
        if not states:
            is_listed = any(part.name == self.name for part in toolchain.parts)
            why = say("prerequisites.has-no-build-of-it-for") if is_listed else say("prerequisites.has-no-such-part")
            return unmet(say("prerequisites.of-a-toolchain", toolchain=toolchain.title, said=why))
        fitting = [state for state in states if self._fits(state)]
        if not fitting:
            return unmet(
                say(
                    "prerequisites.has-it-in-version-for",
                    title=toolchain.title,
                    version=states[0].part.version,
                    targets=_targets(states),
                )
            )
        return _answer_for(fitting[0])

    def _fits(self, state: "PartState") -> bool:
        part = state.part
        is_for = self.target is None or any(each.serves(self.target) for each in part.targets)
        return is_for and (not self.version or is_in(part.version, self.version))


def _toolchain(machine: Machine, catalogue: MachinePath) -> "Toolchain":
    from fundamen.toolchains.catalogue import MOST_BYTES, read_toolchain  # noqa: PLC0415 - few sheets ask for it

    return read_toolchain(machine.content(catalogue, MOST_BYTES), catalogue)


def _contents(machine: Machine, folder: MachinePath, catalogue: MachinePath) -> "ToolchainContents":
    """The content of a toolchain's folder, compared with one catalogue."""
    from fundamen.toolchains.contents import examine_contents  # noqa: PLC0415 - few sheets ask for it

    return examine_contents(machine, folder, machine.fact(catalogue, _toolchain))


def _answer_for(state: "PartState") -> Answer:
    part = state.part
    if state.verdict is Verdict.VERIFIED:
        return met(say("prerequisites.all-files-of-are-right", count=len(part.files), version=part.version))
    if all(file.verdict is Verdict.MISSING for file in state.files) and len(state.files) == len(part.files):
        return unmet(say("prerequisites.none-of-its-files-is-there"))
    return unmet(name_some([f"{file.place}: {file.detail}" for file in state.files], _MOST_NAMED))


def _targets(states: list["PartState"]) -> str:
    return ", ".join(dict.fromkeys(str(target) for state in states for target in state.part.targets)) or "no target"

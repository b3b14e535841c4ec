"""A part of a toolchain, of a version, for a host or target, with the content that its catalogue lists."""

from typing import TYPE_CHECKING, ClassVar

from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.machine import Machine
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
        target = f"for {self.target}" if self.target else ""
        return " ".join(
            filter(None, ("the part", self.name, self.version, target, f"of the toolchain in {self.folder}"))
        )

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"fundamen toolchain {self.folder} --catalogue {self.catalogue}"

    def problem(self) -> str:
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
            why = "has no build of it for this machine" if is_listed else "has no such part"
            return unmet(f"{toolchain.title} {why}")
        fitting = [state for state in states if self._fits(state)]
        if not fitting:
            return unmet(f"{toolchain.title} has it in version {states[0].part.version}, for {_targets(states)}")
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
        return met(f"all {len(part.files)} files of {part.version} are right")
    if all(file.verdict is Verdict.MISSING for file in state.files) and len(state.files) == len(part.files):
        return unmet("none of its files is there")
    named = "; ".join(f"{file.place}: {file.detail}" for file in state.files[:_MOST_NAMED])
    more = f"; and {len(state.files) - _MOST_NAMED} more" if len(state.files) > _MOST_NAMED else ""
    return unmet(named + more)


def _targets(states: list["PartState"]) -> str:
    return ", ".join(dict.fromkeys(str(target) for state in states for target in state.part.targets)) or "no target"

"""A toolchain on a machine, all in one pass: its content, its licences, how it is reached, and what must come first."""

from collections.abc import Callable, Sequence
from enum import StrEnum

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.toolchains.catalogue import Licence, Toolchain, licence_part, ordered_parts
from fundamen.toolchains.contents import ToolchainContents, examine_contents
from fundamen.toolchains.reach import Reach, examine_reach

IsAccepted = Callable[[str], bool]


class Acceptance(StrEnum):
    """How a licence stands."""

    ACCEPTED = "accepted"
    OPEN = "not accepted"
    HIDDEN = "cannot be shown"  # the part that brings its text is not there, or its text is not what it should be


class LicenceState(msgspec.Struct, frozen=True):
    """A licence on this machine."""

    licence: Licence
    acceptance: Acceptance
    brought_by: str  # the part that brings its text
    path: MachinePath


class Due(msgspec.Struct, frozen=True):
    """One thing that is to be done, in its turn."""

    kind: str  # "part" or "licence"
    name: str
    after: tuple[str, ...]  # what is still to be done before it, by name


class Examination(msgspec.Struct, frozen=True):
    """All that was found out about a toolchain."""

    toolchain: Toolchain
    folder: MachinePath
    contents: ToolchainContents
    licences: tuple[LicenceState, ...]
    reach: Reach
    due: tuple[Due, ...]  # in the order in which it must come

    @property
    def is_right(self) -> bool:
        """Whether nothing is at fault."""
        return not self.due and not self.contents.leftovers and self.reach.is_right

    @property
    def faults(self) -> int:
        """How many things are at fault."""
        reach = self.reach
        return (
            len(self.due)
            + bool(self.contents.leftovers)
            + len(reach.paths)
            + len(reach.shadowed)
            + len(reach.variables)
        )


def examine_toolchain(
    machine: Machine,
    folder: MachinePath,
    toolchain: Toolchain,
    known: Sequence[Toolchain],
    is_accepted: IsAccepted,
) -> Examination:
    """Examine a toolchain on a machine.

    Args:
        machine: on which it stands.
        folder: where.
        toolchain: the version that it should be.
        known: catalogues of other versions of it, to name what is of them.
        is_accepted: whether a licence's text of a SHA-256 was accepted.

    Raises:
        UnreadableError: there is no such folder.
        UsageError: it holds more than any toolchain has.
    """
    contents = examine_contents(machine, folder, toolchain, known)
    broken = {state.part.name for state in contents.parts if state.verdict is not Verdict.VERIFIED}
    licences = tuple(_licence(machine, folder, toolchain, each, is_accepted) for each in toolchain.licences)
    return Examination(
        toolchain=toolchain,
        folder=folder,
        contents=contents,
        licences=licences,
        reach=examine_reach(machine, folder, toolchain, contents),
        due=_due(toolchain, contents, broken, licences),
    )


def _licence(
    machine: Machine, folder: MachinePath, toolchain: Toolchain, licence: Licence, is_accepted: IsAccepted
) -> LicenceState:
    path = machine.join(folder, *licence.text.split("/"))
    bringer = licence_part(toolchain, licence)
    listed = {part.files[licence.text].sha256 for part in toolchain.parts if licence.text in part.files}
    acceptance = Acceptance.HIDDEN
    if machine.look(path).kind is EntryKind.FILE:
        try:
            digest = machine.digest(path, "sha256")
        except UnreadableError:
            digest = ""
        if digest in listed:
            acceptance = Acceptance.ACCEPTED if is_accepted(digest) else Acceptance.OPEN
    return LicenceState(licence, acceptance, bringer, path)


def _due(
    toolchain: Toolchain, contents: ToolchainContents, broken: set[str], licences: Sequence[LicenceState]
) -> tuple[Due, ...]:
    """The repairs and acceptances that are due, each after its own needs; a licence before its parts."""
    here = {state.part.name: state.part for state in contents.parts}
    needing = {part.licence for part in here.values()}
    open_ = {
        state.licence.name: state
        for state in licences
        if state.acceptance is not Acceptance.ACCEPTED and state.licence.name in needing
    }
    due: list[Due] = []
    done: set[str] = set()
    for name in (each for each in ordered_parts(toolchain) if each in here):
        part = here[name]
        licence = open_.get(part.licence or "")
        own_text = licence is not None and licence.brought_by == name  # it must be there before it can be read
        if licence is not None and licence.licence.name not in done and not own_text:
            due.append(_due_licence(licence, broken))
            done.add(licence.licence.name)
        if name in broken:
            before = [other for other in part.after if other in broken]
            before += [licence.licence.name] if licence is not None and not own_text else []
            due.append(Due("part", name, tuple(before)))
        if licence is not None and licence.licence.name not in done:
            due.append(_due_licence(licence, broken))
            done.add(licence.licence.name)
    return tuple(due)


def _due_licence(state: LicenceState, broken: set[str]) -> Due:
    return Due("licence", state.licence.name, (state.brought_by,) if state.brought_by in broken else ())

"""Judge each need of a build step."""

from enum import StrEnum

import msgspec

from fundamen.loaders.load_map import Candidate
from fundamen.messages import UNSAID, Message
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict


class Sort(StrEnum):
    """Kinds of needs of a build step. The words are shown and are part of the JSON contract."""

    SHARED = "shared library"
    STATIC = "static library"
    LIBRARY = "library"  # shared or static: whichever is found
    START_FILE = "start file"
    INPUT = "input"
    HEADER = "header"
    SYMBOL = "symbol"
    TOOL = "tool"


class BuildNeed(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that a build step needs."""

    name: str  # as the command or the source spells it: ``-ltide``, ``crt1.o``, ``tide/berth.h``, ``salt_depth``
    sort: Sort
    verdict: Verdict
    reason: Message
    path: MachinePath | None = None  # what the search takes
    asked_by: str = ""  # the source, object or library that needs it
    searched: tuple[Candidate, ...] = ()
    near: tuple[str, ...] = ()  # names that are there and differ by one easily misread character
    elsewhere: tuple[MachinePath, ...] = ()  # copies for the right architecture where no loader looks
    brought_by: tuple[str, ...] = ()  # packages of the operating system's archive that would bring it
    spelled_at: tuple[str, ...] = ()  # ``Makefile:7``: where the name stands, for a near miss
    do: Message = UNSAID  # what would mend it, in words, where that is certain


class BuildStep(msgspec.Struct, frozen=True, kw_only=True):
    """One step of a build."""

    command: tuple[str, ...]  # as it was given; empty where no command is known
    folder: MachinePath  # that it is run in
    architecture: Architecture
    needs: tuple[BuildNeed, ...]
    target: str = ""  # of the makefile, that failed

    @property
    def faults(self) -> tuple[BuildNeed, ...]:
        """Needs that keep the step from succeeding."""
        return tuple(need for need in self.needs if need.verdict.is_fault)

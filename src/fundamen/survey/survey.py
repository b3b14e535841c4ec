"""A survey of a machine: walk, resolve, compare, and what else is amiss; in three depths that say what they cost."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import ExitStack
from datetime import datetime
from enum import StrEnum
from functools import partial
from typing import Protocol

import msgspec

from fundamen.evidence.authority import Authority
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.evidence.dpkg_files import Records
from fundamen.machine.links import dangling_target
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.survey.contents import Altered, Keep, PackageComparison, PackageContents
from fundamen.survey.needs import Needs, Resolving
from fundamen.survey.remembered import Remembered
from fundamen.survey.repair_stores import SpoiltCopy, check_stores
from fundamen.survey.tidiness import (
    DoubledTool,
    EndingCertificate,
    StrayLibrary,
    Unfinished,
    find_doubled_tools,
    find_ending_certificates,
    find_mixed_packages,
    find_stray_libraries,
    find_unfinished,
)
from fundamen.survey.unusable import Unusable, find_unusable
from fundamen.survey.walking import Walk, Walked


class Depth(StrEnum):
    """How deep a survey goes."""

    NEEDS = "needs"  # every need resolved; of each executable only its headers are read
    USED = "used"  # besides, the bytes of everything that something depends on, against all who can speak of them
    ALL = "all"  # besides, the bytes of every installed file


class SurveyListener(Protocol):
    """Receives how far a survey is."""

    def begin(self, what: str, count: int) -> None:
        """A part begins; count is how many things it has, 0 where that is not known."""

    def more(self, count: int) -> None:
        """So many more are done."""


class SurveyMemory(msgspec.Struct, frozen=True):
    """The memory of files from one survey to the next."""

    known: Mapping[str, Remembered]
    keep: Keep


class Survey(msgspec.Struct, frozen=True, kw_only=True):
    """All that was found."""

    folders: tuple[MachinePath, ...]
    depth: Depth
    walked: Walked
    needs: Needs
    contents: PackageContents | None  # None where not every file was compared, or no one has recorded any
    tools: tuple[DoubledTool, ...]
    strays: tuple[StrayLibrary, ...]
    mixed: tuple[tuple[str, tuple[str, ...]], ...]
    certificates: tuple[EndingCertificate, ...]
    unfinished: tuple[Unfinished, ...]
    unusable: tuple[Unusable, ...]
    spoilt: tuple[SpoiltCopy, ...]  # of what repairs are drawn from; not looked for where only needs are asked for
    gaps: tuple[Message, ...] = ()  # what could not be found out, and why
    of_causes: frozenset[MachinePath] = frozenset()  # installed files that are causes, and are reported as such

    @property
    def stopped(self) -> tuple[MachinePath, ...]:
        """Every program that something keeps from starting, each once."""
        return tuple(dict.fromkeys(path for cause in self.needs.causes for path in cause.programs))

    @property
    def to_restore(self) -> tuple[MachinePath, ...]:
        """All that a plan can repair: the same, then every library that is at fault by itself, then packages.

        The list of a package's files stands for the package.
        """
        libraries = (path for cause in self.needs.causes for path in cause.libraries)
        lists = self.contents.lists if self.contents is not None else ()
        unusable = (each.path for each in self.unusable)
        return tuple(dict.fromkeys((*self.stopped, *libraries, *lists, *unusable)))

    @property
    def altered(self) -> tuple[Altered, ...]:
        """The installed files that are not as their packages brought them, but for those that are causes."""
        altered = self.contents.altered if self.contents is not None else ()
        return tuple(each for each in altered if each.path not in self.of_causes)

    @property
    def faults(self) -> int:
        """Faults: causes, files that were altered without leave, unfinished installations, unusable commands."""
        files = sum(1 for each in self.altered if not each.is_setting)
        others = (self.needs.causes, self.strays, self.unfinished, self.unusable, self.spoilt)
        return files + sum(map(len, others))


Authorities = Callable[[], Sequence[Authority]]


def survey_machine(
    machine: Machine,
    folders: Sequence[MachinePath],
    depth: Depth,
    authorities: Authorities,
    memory: SurveyMemory,
    now: datetime,
    telling: SurveyListener,
    own_copies: Callable[[], Iterable[SpoiltCopy]] = tuple,
) -> Survey:
    """Survey a machine.

    Args:
        machine: which.
        folders: in which programs and libraries are looked for.
        depth: how deep.
        authorities: those who can speak of files; asked for only where the depth needs them.
        memory: what is remembered of files, and keeps what is read again.
        now: this moment, UTC.
        telling: is informed how far it is.
        own_copies: those of our own copies of what sources brought that are damaged.

    Raises:
        UnreadableError: a folder is not there, or what is read cannot be remembered.
    """
    gaps: list[Message] = []
    contents, comparison = None, None
    walk = Walk(machine, folders, telling.more)
    resolving = Resolving(machine)
    records = _records(machine, gaps) if depth is Depth.ALL else None
    with ExitStack() as under_way, ExitStack() as comparing:
        if records is not None:  # it goes on while the rest is looked at
            comparison = comparing.enter_context(
                PackageComparison(machine, records, memory.known, int(now.timestamp() * 1e9))
            )
        telling.begin(say("survey.going-through-folders"), 0)
        if depth is Depth.NEEDS:  # likewise
            under_way.enter_context(resolving).begin(walk)
        else:
            list(walk)
        walked = walk.walked
        telling.begin(say("survey.looking-at-what-else-is-there"), 0)
        found = partial(
            Survey,
            folders=tuple(folders),
            depth=depth,
            walked=walked,
            tools=find_doubled_tools(machine),
            strays=find_stray_libraries(machine, walked.executables),
            mixed=find_mixed_packages(machine),
            certificates=find_ending_certificates(machine, now),
            unfinished=find_unfinished(machine),
            unusable=find_unusable(machine),
        )
        spoilt: tuple[SpoiltCopy, ...] = ()
        if depth is not Depth.NEEDS:
            telling.begin(say("survey.checking-what-repairs-are-drawn-from"), 0)
            spoilt = (*own_copies(), *check_stores(machine, gaps, telling.more))
            speaking = list(authorities())
            if comparison is not None:
                telling.begin(say("survey.comparing-installed-files"), comparison.weight)
                contents = comparison.finish(memory.keep, telling.more)
                comparing.close()  # before other processes are made
                # What dpkg's records could say is known already.
                others = (each for each in speaking if not isinstance(each, DpkgAuthority))
                speaking = [comparison.authority(contents), *others]
            resolving = under_way.enter_context(Resolving(machine, speaking))
            resolving.begin(walk)
        telling.begin(say("survey.resolving-what-each-needs"), len(walked.executables) + len(walked.scripts))
        asking = partial(telling.begin, say("survey.checking-the-files-that-they-need"))
        needs = resolving.finish(walked, telling.more, asking)
    of_causes = _altered_causes(machine, needs, contents)
    return found(needs=needs, contents=contents, spoilt=spoilt, gaps=tuple(gaps), of_causes=of_causes)


def _altered_causes(machine: Machine, needs: Needs, contents: PackageContents | None) -> frozenset[MachinePath]:
    """The installed files that are not as they were brought, and for which something does not start."""
    if contents is None:
        return frozenset()
    places: set[MachinePath] = set()
    for cause in needs.causes:
        own = [cause.component.path] if cause.component.path is not None else []
        for path in (*own, *(each.path for each in cause.component.searched)):
            places.add(dangling_target(machine, path) or machine.real(path))
    return frozenset(each.path for each in contents.altered if machine.real(each.path) in places)


def _records(machine: Machine, gaps: list[Message]) -> Records | None:
    """The packages' records of every installed file; None where there are none, which is a gap."""
    if machine.platform is not Platform.LINUX:
        gaps.append(say("survey.keeps-no-record-of-all-installed", words=machine.platform.in_words))
        return None
    try:
        return Records(machine)
    except UnreadableError as error:
        gaps.append(say("survey.which-files-packages-brought-is-not", why=error.why))
        return None

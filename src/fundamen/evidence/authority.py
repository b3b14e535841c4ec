"""Authorities that can say of a file whether its bytes are what they should be."""

import contextlib
import os
import threading
from collections.abc import Iterable, Sequence
from enum import Enum, auto
from typing import Protocol

import msgspec

from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trust.digest import Algorithm


class Subject(msgspec.Struct, frozen=True):
    """A file about which authorities are asked."""

    path: MachinePath
    name: str  # the component's own name: SONAME or DLL name, otherwise its file name
    architecture: Architecture


class Says(Enum):
    """Statements of an authority about a file's bytes."""

    WRONG = auto()
    UNTRUSTED = auto()  # they are what was published, and must not be trusted any more
    RIGHT = auto()
    UNKNOWN = auto()  # it knows the file's name, but not whether these bytes are right

    @property
    def verdict(self) -> Verdict:
        """The verdict that follows for the file."""
        return _VERDICTS[self]


_VERDICTS = {
    Says.WRONG: Verdict.CORRUPT,
    Says.UNTRUSTED: Verdict.UNTRUSTED,
    Says.RIGHT: Verdict.VERIFIED,
    Says.UNKNOWN: Verdict.UNVERIFIED,
}


class Testimony(msgspec.Struct, frozen=True):
    """The statement of one authority about one file."""

    speaker: str
    says: Says
    detail: Message
    is_owner: bool = False  # whether it put the file at its place, and so speaks for it (docs/decisions/0003)
    remark: Message = UNSAID  # what there is to say besides

    @property
    def sentence(self) -> Message:
        """Who says what."""
        return say("common.said-of", subject=self.speaker, said=self.detail)


def weigh(testimonies: Sequence[Testimony]) -> Testimony | None:
    """The one that counts: that of the owner who installed the file; otherwise the gravest. None without any testimony.

    What others say against the owner's word is a remark at most.
    """
    if len(testimonies) <= 1:  # as nearly always
        return testimonies[0] if testimonies else None
    owners = [each for each in testimonies if each.is_owner]
    order = list(Says)
    return min(owners or testimonies, key=lambda each: order.index(each.says))


def remarks_of(testimonies: Sequence[Testimony]) -> tuple[Message, ...]:
    """Remarks on a file besides the statement that counts."""
    if not testimonies:
        return ()
    counts = weigh(testimonies)
    doubts = {Says.WRONG, Says.UNTRUSTED} if counts is not None and counts.is_owner else set()
    candidates = (
        each.remark or (each.sentence if each.says in doubts and not each.is_owner else UNSAID) for each in testimonies
    )
    return tuple(filter(None, candidates))


class Authority(Protocol):
    """Someone who can know what a file's bytes should be."""

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Speak about those files that the authority knows; leave out the others."""


class Hashing:
    """The digests of a machine's files, taken in threads from the start on: hashing lets everything else run.

    Files that cannot be read are left out, and have no testimony.
    """

    def __init__(self, machine: Machine, paths: Iterable[MachinePath], algorithm: Algorithm) -> None:
        """Begin; the largest files first, so that no thread is left with one at the end."""
        self._machine = machine
        self._algorithm = algorithm
        self._waiting = sorted(paths, key=lambda path: machine.look(path).size)
        self._digests: dict[MachinePath, str] = {}
        count = min(len(self._waiting), max(1, (os.cpu_count() or 1) - 1))
        self._threads = [threading.Thread(target=self._work, daemon=True) for _ in range(count)]
        for thread in self._threads:
            thread.start()

    def result(self) -> dict[MachinePath, str]:
        """All digests; what is not done yet is done now."""
        self._work()
        for thread in self._threads:
            thread.join()
        return self._digests

    def _work(self) -> None:
        while self._waiting:
            try:
                path = self._waiting.pop()
            except IndexError:  # another thread was quicker
                return
            with contextlib.suppress(UnreadableError, OSError):
                self._digests[path] = self._machine.digest(path, self._algorithm)

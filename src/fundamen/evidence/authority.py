"""Authorities that can say of a file whether its bytes are what they should be."""

import contextlib
import os
import threading
from collections.abc import Iterable, Sequence
from enum import Enum, auto
from typing import Protocol

import msgspec

from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trust.digest import Algorithm, digest_of


class Subject(msgspec.Struct, frozen=True):
    """A file about which authorities are asked."""

    path: MachinePath
    name: str  # the component's own name: SONAME or DLL name, otherwise its file name
    architecture: Architecture


class Says(Enum):
    """What an authority says of a file's bytes."""

    RIGHT = auto()
    WRONG = auto()
    UNKNOWN = auto()  # it knows the file's name, but not whether these bytes are right


class Testimony(msgspec.Struct, frozen=True):
    """What one authority says of one file."""

    speaker: str
    says: Says
    detail: str


class Authority(Protocol):
    """Somebody who can know what a file's bytes should be."""

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Speak about those files that the authority knows; leave out the others."""


def file_digests(machine: Machine, paths: Iterable[MachinePath], algorithm: Algorithm) -> dict[MachinePath, str]:
    """The digests of a machine's files; files that cannot be read are left out, so that nobody speaks about them.

    Done in threads: hashing lets other threads run.
    """
    waiting = list(paths)
    digests: dict[MachinePath, str] = {}

    def work() -> None:
        while waiting:
            try:
                path = waiting.pop()
            except IndexError:  # another thread was quicker
                return
            with contextlib.suppress(UnreadableError, OSError), machine.open(path) as source:
                digests[path] = digest_of(source, algorithm)

    threads = [threading.Thread(target=work) for _ in range(min(len(waiting), os.cpu_count() or 1) - 1)]
    for thread in threads:
        thread.start()
    work()
    for thread in threads:
        thread.join()
    return digests

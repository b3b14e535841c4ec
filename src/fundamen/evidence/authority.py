"""Authorities that can say of a file whether its bytes are what they should be."""

from collections.abc import Sequence
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


def file_digest(machine: Machine, path: MachinePath, algorithm: Algorithm) -> str | None:
    """The digest of a machine's file; None where it cannot be read, so that nobody can speak about it."""
    try:
        with machine.open(path) as source:
            return digest_of(source, algorithm)
    except (UnreadableError, OSError):
        return None

"""Define the common fields of all requirements, and the questions of a check."""

from collections.abc import Callable
from datetime import datetime
from typing import Annotated, ClassVar

import msgspec

from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, unknown

ID_PATTERN = "^[a-z0-9][a-z0-9._-]{0,79}$"
LINE_PATTERN = r"^[^\x00\n]*$"
DIGEST_PATTERN = "^[0-9a-f]{64}$"

Id = Annotated[str, msgspec.Meta(pattern=ID_PATTERN)]
Text = Annotated[str, msgspec.Meta(max_length=2000)]
Name = Annotated[str, msgspec.Meta(min_length=1, max_length=1000, pattern=LINE_PATTERN)]
Path = Annotated[str, msgspec.Meta(min_length=1, max_length=4096, pattern=LINE_PATTERN)]
Digest = Annotated[str, msgspec.Meta(pattern=DIGEST_PATTERN)]  # SHA-256
Seconds = Annotated[float, msgspec.Meta(gt=0, le=120)]

MOST_BYTES = 16 << 20  # of a file that is read whole
USUAL_SECONDS = 5.0


class Condition(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """When a requirement counts at all: all of what is given must be so."""

    platform: Platform | None = None
    architecture: Architecture | None = None  # one that the machine has programs of
    met: Id | None = None  # another requirement


class CheckContext(msgspec.Struct, frozen=True, kw_only=True):
    """The inputs of a check."""

    machine: Machine
    now: datetime  # UTC
    may_run: bool = False  # whether the technician consented to the commands that were shown
    is_accepted: Callable[[str], bool] = lambda _digest: False  # whether a licence's text of this SHA-256 was accepted


class Requirement(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="kind"
):
    """One thing that must be so. Each kind is a subclass, its fields what a sheet says of it."""

    id: Id
    because: Text = ""  # what it is needed for
    after: tuple[Id, ...] = ()  # its forerunners
    only_if: Condition | None = None
    remedy: Text = ""  # what to do where it is unmet; the kind's own advice where this is empty
    who: Text = ""  # may repair it

    registry_key: ClassVar[str] = ""  # of Windows, by which it is recognised there; empty where no registry tells it
    waits: ClassVar[bool] = False  # whether a check may wait for something, so that it is made beside others

    @property
    def kind(self) -> str:
        """The kind's name, as sheets have it."""
        return str(self.__struct_config__.tag)

    @property
    def needed(self) -> str:
        """The need in a few words: "the setting memory_limit in /etc/php.ini is at least 256M"."""
        raise NotImplementedError

    @property
    def advice(self) -> Message:
        """The advice where it is unmet and the sheet gives none."""
        return say("prerequisites.repair-it-and-check-again")

    def problem(self) -> Message:
        """The fault of the sheet's fields, beyond their types; empty for none."""
        return UNSAID

    def registry_gap(self, machine: Machine) -> Message:
        """Why the registry that would tell how it stands cannot; empty where it can, or no registry tells it."""
        key = self.registry_key
        if machine.platform is not Platform.WINDOWS or not key or machine.registry.knows(key):
            return UNSAID
        why = "; ".join(machine.registry.gaps) or say("prerequisites.the-hive-of-is-not-available", key=key)
        return say("prerequisites.the-registry-of-does-not-tell", title=machine.title, why=why)

    def check(self, asked: CheckContext) -> Answer:
        """How it stands. Raises: FundamenError, OSError: it cannot be found out, which is then the answer."""
        raise NotImplementedError


def read_text(machine: Machine, path: str) -> str:
    """A text file of the machine. Raises: UnreadableError."""
    return machine.content(MachinePath(path), MOST_BYTES).decode("utf-8", "surrogateescape")


def lines_of(machine: Machine, path: str) -> list[str]:
    """The lines of a text file of the machine; none where there is no such file."""
    try:
        return read_text(machine, path).splitlines()
    except UnreadableError:
        return []


def only_live(machine: Machine) -> Answer:
    """The answer where only a machine that runs could tell."""
    return unknown(say("prerequisites.only-the-running-machine-can-tell", title=machine.title))

"""The facts about one executable file that every format has in common."""

from enum import StrEnum

import msgspec

from fundamen.messages import Message, say
from fundamen.model.architecture import Architecture


class Format(StrEnum):
    """A format of executable files."""

    ELF = "elf"
    PE = "pe"
    MACHO = "macho"
    SCRIPT = "script"
    JAVA = "java"
    MSI = "msi"
    CABINET = "cabinet"
    LAUNCHER = "launcher"  # a unit, desktop entry or list of jobs, which starts programs
    INSTALLED = "installed-package"  # no file by itself: what a package has brought


class BinaryKind(StrEnum):
    """Kinds of binaries."""

    PROGRAM = "program"
    LIBRARY = "library"
    OBJECT = "object"
    CORE_DUMP = "core-dump"
    PACKAGE = "package"  # an install package: it is not loaded, but unpacked
    OTHER = "other"


class Necessity(StrEnum):
    """When a need must be met."""

    REQUIRED = "required"  # before the first instruction of the program
    DELAYED = "delayed"  # at the first call
    OPTIONAL = "optional"


class Need(msgspec.Struct, frozen=True):
    """One component that a binary names, spelled as the binary spells it."""

    name: str
    how: Necessity = Necessity.REQUIRED


class Problem(msgspec.Struct, frozen=True):
    """One way in which a file breaks the rules of its format."""

    place: str  # the table or record, in the format's own terms
    reason: Message
    is_cut: bool = False  # the file ends before what it says it holds

    @property
    def sentence(self) -> Message:
        """The place and the reason."""
        return say("common.said-of", subject=self.place, said=self.reason)


class Binary(msgspec.Struct, frozen=True, kw_only=True):
    """The common facts of an executable file. Each format's record adds its own."""

    format: Format
    kind: BinaryKind
    architecture: Architecture
    name: str | None  # SONAME, DLL name in the export table, or install name; None where it gives none
    needs: tuple[Need, ...]  # in the order of the file
    problems: tuple[Problem, ...]  # empty where the structure is intact
    size: int  # bytes
    also_for: tuple[Architecture, ...] = ()  # further architectures that the same file holds code for

    @property
    def is_intact(self) -> bool:
        """Whether no table, segment or count contradicts the file."""
        return not self.problems

    @property
    def may_be_signed(self) -> bool:
        """Whether files of its format can carry a publisher's signature."""
        return self.format in {Format.PE, Format.MSI, Format.CABINET}

"""Find names in a text: components, programs, paths, packages, architectures, versions, hosts."""

import ntpath
import posixpath
import re
from collections.abc import Iterable, Iterator
from enum import StrEnum

import msgspec

from fundamen.model.architecture import Architecture

_MOST = 300  # of one kind


class MentionKind(StrEnum):
    """Kinds of names in a text."""

    COMPONENT = "component"
    PROGRAM = "program"
    PATH = "path"
    PACKAGE = "package"
    ARCHITECTURE = "architecture"
    VERSION = "version"
    CODE = "code"
    TARGET = "target"
    SYMBOL = "symbol"
    HOST = "host"
    SETTING = "setting"
    SERVICE = "service"


class Mention(msgspec.Struct, frozen=True):
    """Something that is named."""

    kind: MentionKind
    text: str
    line: int  # where it is named first, from 1


_HOLES = {kind.value: kind for kind in MentionKind if kind is not MentionKind.CODE}
_ARCHITECTURES: tuple[tuple[str, re.Pattern[str]], ...] = tuple(
    (name, re.compile(rf"(?<![\w/]){pattern}(?!\w)", re.IGNORECASE))
    for name, pattern in (
        (Architecture.X86_64, r"(?:x86[_-]64|x64|amd64|elf64[_-]x86[_-]64|win-?64)"),
        (Architecture.X86, r"(?:i[3-6]86|x86(?![_-]64)|ia[- ]32|elf32[_-]i386|win-?32(?! application))"),
        (Architecture.AARCH64, r"(?:aarch64|arm64)"),
        (Architecture.ARM, r"(?:armv7\w*|armhf|arm)"),
        (Architecture.RISCV64, r"riscv64"),
        (Architecture.PPC64LE, r"ppc64(?:le|el)"),
        (Architecture.S390X, r"s390x"),
        ("32 bits", r"(?:ELFCLASS32|32[- ]bits?)"),
        ("64 bits", r"(?:ELFCLASS64|64[- ]bits?)"),
    )
)
_MACHINE_WORD = re.compile(r"86|64|32|arm|s390", re.IGNORECASE)
_NAME = r"[\w+@~.-]"
_COMPONENT = re.compile(
    rf"(?<![\w./\\-])(?:{_NAME}*\.(?:dll|ocx|cpl|ax|drv|sys|dylib|jar|war|node|pyd|framework)|{_NAME}+\.so(?:\.\d+)*|"
    rf"lib{_NAME}+\.(?:a|lib)|{_NAME}+\.lib)(?![\w-])",
    re.IGNORECASE,
)
_PROGRAM = re.compile(rf"(?<![\w./\\-]){_NAME}+\.(?:exe|com|app|AppImage)(?![\w-])")
_PACKAGE = re.compile(rf"(?<![\w./\\-]){_NAME}+\.(?:msi|msu|msp|cab|deb|rpm|whl|pkg|dmg|iso|tgz|tar\.\w+|zip)(?![\w-])")
_POSIX = re.compile(r"(?<![\w.:/<@-])/(?:[\w.+@~%-]+/)*[\w.+@~%-]*[\w+@~%-]")
_PART = r"[^\\/:*?\"'<>|\n;,()]"  # of a path of Windows, in which spaces may stand
_DRIVE = re.compile(rf"(?<!\w)[A-Za-z]:\\(?:{_PART}+\\)*(?:{_PART}*?\.\w{{1,10}}(?!\w)|[^\s\\/:*?\"'<>|;,()]+)")
_SHARE = re.compile(rf"(?<![\w\\])\\\\[\w.-]+\\(?:{_PART}+\\)*[^\s\\/:*?\"'<>|;,()]+")
_VERSION = re.compile(
    r"\b(?:[A-Z][A-Z0-9]+_\d+(?:\.\d+)+|(?:version|Version=|v)\s?'?(\d+(?:\.\d+)+[\w.+-]*)|(?<![\d.])\d+\.\d+\.\d+(?:\.\d+)?(?![\d.]))"
)
_HOST = re.compile(r"\b(?:https?|ldaps?|ftp|ssh)://(\[[\da-f:]+\](?::\d+)?|[\w.-]+(?::\d+)?)", re.IGNORECASE)
_ADDRESS = re.compile(r"^\d+(?:\.\d+){3}$")


class Mentions:
    """Gathers what is named, each thing once."""

    def __init__(self) -> None:
        self._found: dict[tuple[MentionKind, str], Mention] = {}
        self._counts: dict[MentionKind, int] = {}

    def add(self, kind: MentionKind, text: str, line: int) -> None:
        """Take one thing in."""
        text = text.strip()
        if text and (kind, text) not in self._found and self._counts.get(kind, 0) < _MOST:
            self._found[kind, text] = Mention(kind, text, line)
            self._counts[kind] = self._counts.get(kind, 0) + 1

    def add_holes(self, holes: Iterable[tuple[str, str]], line: int) -> None:
        """Take in what stood in the holes of a sentence."""
        for name, text in holes:
            if name in {"architecture", "wanted"}:
                for architecture in architectures_in(text):
                    self.add(MentionKind.ARCHITECTURE, architecture, line)
            elif (kind := _HOLES.get(name)) in {MentionKind.COMPONENT, MentionKind.PROGRAM, MentionKind.PACKAGE}:
                self.add(kind, plain_name(text), line)
                if text.startswith("/") or text[1:3] == ":\\":
                    self.add(MentionKind.PATH, text, line)
            elif kind is not None:
                self.add(kind, text, line)

    def add_text(self, text: str, line: int) -> None:
        """Take in what a line names by its form."""
        for kind, found in _by_form(text):
            self.add(kind, found, line)

    def all(self) -> tuple[Mention, ...]:
        """Everything, in the order in which it was named."""
        return tuple(self._found.values())


def architectures_in(text: str) -> list[str]:
    """The architectures and widths that a text names, by our names."""
    if not _MACHINE_WORD.search(text):
        return []
    return [str(name) for name, pattern in _ARCHITECTURES if pattern.search(text)]


def plain_name(path: str) -> str:
    """The last part of a path of any platform."""
    return posixpath.basename(ntpath.basename(path)) or path


def _by_form(text: str) -> Iterator[tuple[MentionKind, str]]:
    for pattern in (_DRIVE, _SHARE, _POSIX):
        for found in pattern.finditer(text):
            if found.group().replace("\\", "/").count("/") > 1 or pattern is _DRIVE:
                yield MentionKind.PATH, found.group()
                yield from ((kind, name) for kind, name in _names_in(plain_name(found.group())))
    yield from _names_in(text)
    for architecture in architectures_in(text):
        yield MentionKind.ARCHITECTURE, architecture
    for found in _VERSION.finditer(text):
        version = found[1] or found.group()
        if not _ADDRESS.match(version):
            yield MentionKind.VERSION, version
    for found in _HOST.finditer(text):
        yield MentionKind.HOST, found[1]


def _names_in(text: str) -> Iterator[tuple[MentionKind, str]]:
    for kind, pattern in (
        (MentionKind.COMPONENT, _COMPONENT),
        (MentionKind.PROGRAM, _PROGRAM),
        (MentionKind.PACKAGE, _PACKAGE),
    ):
        for found in pattern.finditer(text):
            yield kind, found.group()

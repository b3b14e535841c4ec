"""Which packages of Debian's archive would bring a file, from the contents lists that apt has fetched.

Source: Debian's repository format, "Contents indices"; apt.conf(5), "Acquire::IndexTargets". Lists that apt keeps in a
form that Python cannot unpack are unpacked by apt's own helper (apt-helper, "cat-file").
"""

import gzip
import lzma
import os
import re
import subprocess
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import IO

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

LISTS = MachinePath("/var/lib/apt/lists")
_HELPER = "/usr/lib/apt/apt-helper"
_AT_ONCE = 4 << 20  # bytes
_MOST_UNPACKED = 4 << 30  # bytes of one list; a hostile one could unpack to anything
_MOST_BRINGERS = 2000  # of one name; cross compilers bring a whole set each
_LONGEST_PATH = 4096  # bytes
_OF_ONE_PROCESSOR = re.compile(r"\.(?:so|a|o)(?:\.|$)")

# Source: Debian's architecture table (dpkg-architecture -L).
DEBIAN_NAMES: Mapping[Architecture, str] = {
    Architecture.X86: "i386",
    Architecture.X86_64: "amd64",
    Architecture.ARM: "armhf",
    Architecture.AARCH64: "arm64",
    Architecture.RISCV64: "riscv64",
    Architecture.PPC64LE: "ppc64el",
    Architecture.S390X: "s390x",
}


class Bringer(msgspec.Struct, frozen=True):
    """A package that would bring a file."""

    package: str
    path: MachinePath  # where it would put the file


def find_bringers(
    machine: Machine, names: Iterable[str], architectures: Sequence[Architecture], folders: Sequence[str] = ()
) -> dict[str, tuple[Bringer, ...]]:
    """The packages that would bring files of some names, each name's in the order of the lists.

    Args:
        machine: whose lists are read.
        names: file names, or the last parts of paths ("sys/capability.h").
        architectures: whose lists are looked through; what is in none of these, in the list for all.
        folders: where a file must lie to be of use, each with all below it; anywhere where there are none.
    """
    wanted = {name: b"/" + name.encode("utf-8", "surrogateescape") for name in names if name and "\n" not in name}
    found: dict[str, dict[Bringer, None]] = {name: {} for name in wanted}
    for list_path in contents_lists(machine, architectures):
        if list_path.partition("_Contents-all")[1]:
            # What is made for one processor is in no package for all, save in those for compiling for another.
            wanted = {n: ending for n, ending in wanted.items() if not (found[n] or _OF_ONE_PROCESSOR.search(n))}
        if not wanted:
            break
        with open_unpacked(machine.host_path(list_path)) as stream:
            for text in pieces(stream):
                for name, ending in wanted.items():
                    for bringer in _lines_with(text, ending):
                        if len(found[name]) < _MOST_BRINGERS and _is_below(bringer.path, folders):
                            found[name][bringer] = None
    return {name: tuple(bringers) for name, bringers in found.items() if bringers}


def contents_lists(machine: Machine, architectures: Sequence[Architecture]) -> list[MachinePath]:
    """The contents lists for some architectures that are there and can be unpacked here; those for all come last."""
    debian = [DEBIAN_NAMES.get(architecture, "") for architecture in architectures]
    try:
        names = machine.names(LISTS)
    except UnreadableError:
        return []
    stems = {name: name.partition("_Contents-")[2].partition(".")[0] for name in names}
    chosen = [name for stem in (*filter(None, debian), "all") for name in names if stems[name] == stem]
    paths = [machine.join(LISTS, name) for name in chosen]
    return [path for path in paths if machine.look(path).kind is EntryKind.FILE and can_unpack(path)]


def can_unpack(path: MachinePath) -> bool:
    """Whether a list can be unpacked here."""
    ending = path.rpartition(".")[2]
    return ending in {"gz", "xz"} or _is_plain(ending) or os.path.exists(_HELPER)


def _is_plain(ending: str) -> bool:
    """Whether the name of a list has no ending for a way of packing, but ends with what it lists."""
    return "_" in ending


@contextmanager
def open_unpacked(path: HostPath) -> Iterator[IO[bytes]]:
    """Open a list of apt, whatever it is packed with."""
    ending = path.rpartition(".")[2]
    if ending == "gz":
        with gzip.open(path) as unzipped:
            yield unzipped  # type: ignore[misc]  # a binary stream by another name
    elif ending == "xz":
        with lzma.open(path) as unzipped:
            yield unzipped
    elif _is_plain(ending):
        with open(path, "rb") as stream:
            yield stream
    else:
        with subprocess.Popen(
            [_HELPER, "cat-file", path], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL
        ) as helper:
            assert helper.stdout is not None  # noqa: S101 - it was asked for
            try:
                yield helper.stdout
            finally:
                helper.kill()


def pieces(stream: IO[bytes]) -> Iterator[bytes]:
    """The text of a list in pieces of whole lines."""
    rest, size = b"", 0
    try:
        while data := stream.read(_AT_ONCE):
            size += len(data)
            whole, newline, tail = (rest + data).rpartition(b"\n")
            yield whole + newline
            rest = tail[:_LONGEST_PATH]
            if size > _MOST_UNPACKED:
                return
    except (OSError, EOFError, lzma.LZMAError):  # a damaged list says no more
        return
    yield rest


def _lines_with(text: bytes, ending: bytes) -> Iterator[Bringer]:
    """The lines whose path ends so. A line is a path, blanks, and sections with packages, separated by commas."""
    at = text.find(ending)
    while at >= 0:
        after = at + len(ending)
        if text[after : after + 1] in {b" ", b"\t"}:
            begin, end = text.rfind(b"\n", 0, at) + 1, text.find(b"\n", after)
            line = text[begin : end if end >= 0 else len(text)].decode("utf-8", "surrogateescape")
            path, *packages = line.rsplit(maxsplit=1)
            for package in packages[0].split(",") if packages else ():
                yield Bringer(package.rpartition("/")[2], MachinePath("/" + path))
        at = text.find(ending, after)


def _is_below(path: MachinePath, folders: Sequence[str]) -> bool:
    """Whether a path lies in one of the folders, however /usr is merged."""
    spellings = (path, "/usr" + path)
    return not folders or any(s.startswith(folder.rstrip("/") + "/") for s in spellings for folder in folders)

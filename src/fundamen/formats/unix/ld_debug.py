"""Read what the GNU loader writes of its own work while a program runs (LD_DEBUG=files,libs).

Each line: the process's number, ``:``, a tab, the message. Source: ld.so(8), LD_DEBUG, and glibc's elf/dl-load.c and
elf/dl-init.c for the messages.
"""

import re

import msgspec

_LINE = re.compile(rb"^\s*\d+:\t(.*)$", re.MULTILINE)
_ASKED = re.compile(rb"file=(.+) \[\d+\];  dynamically loaded by (.*) \[\d+\]")
_MAPPED = re.compile(rb"file=(.+) \[\d+\];  generating link map")
_INITIALISED = re.compile(rb"calling init: (.+)")
_MOST = 50_000


class SearchedLibrary(msgspec.Struct, frozen=True):
    """A library that was asked for as the program ran."""

    name: str
    by: str  # whose code asked, as the loader spells it


class LdDebug(msgspec.Struct, frozen=True):
    """The libraries that one process was seen to load."""

    loaded: tuple[str, ...]  # paths, in the order in which they were initialised
    in_vain: tuple[SearchedLibrary, ...]
    asked: tuple[SearchedLibrary, ...] = ()  # all that was asked for by code and not by needs, found or not


def read_ld_debug(data: bytes) -> LdDebug:
    """Read what the loader wrote for one process, as far as it was written."""
    loaded: dict[str, None] = {}
    asked: dict[str, SearchedLibrary] = {}
    in_vain: dict[str, SearchedLibrary] = {}
    for count, line in enumerate(_LINE.finditer(data)):
        message = line[1]
        if count > _MOST * 100 or len(loaded) + len(asked) > _MOST:
            break
        if found := _ASKED.fullmatch(message):
            each = SearchedLibrary(_text(found[1]), _text(found[2]))
            asked.setdefault(each.name, each)
            in_vain.setdefault(each.name, each)
        elif found := _MAPPED.fullmatch(message):
            in_vain.pop(_text(found[1]), None)
        elif found := _INITIALISED.fullmatch(message):
            loaded.setdefault(_text(found[1]))
    return LdDebug(tuple(loaded), tuple(in_vain.values()), tuple(asked.values()))


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")

"""Describe a clean toolchain's folder as a catalogue: what the packager would otherwise write by hand."""

import os
from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase

import msgspec

from fundamen.formats.binary import read_binary
from fundamen.formats.unix.elf import Elf
from fundamen.formats.windows.pe import Pe
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, BinaryKind
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.sources.reference import Recorded, read_tree
from fundamen.toolchains.catalogue import CataloguePart, Host, PartFile, Toolchain, is_plain

_ANYBODY_RUNS = 0o111  # bits of a mode
REST = "toolchain"  # the name of the part that has all that no other was given


class _Described(msgspec.Struct, frozen=True):
    file: PartFile
    host: Host | None  # of a program: what it runs on


def describe_toolchain(
    folder: HostPath,
    name: str,
    version: str,
    patterns: Mapping[str, Sequence[str]],
    path: Sequence[str] = (),
    publisher: str = "",
) -> Toolchain:
    """The catalogue of a folder as it is.

    A part's host is what its programs run on, where all run on the same; libraries say nothing of it, for they may be
    for a target. What a part comes after, its targets and its licence are for the packager to write in.

    Args:
        folder: the clean toolchain.
        name: of the toolchain.
        version: of the toolchain, and of each part.
        patterns: of each part the patterns of its paths; a file goes to the first part that has one that fits it.
        path: folders that belong on PATH.
        publisher: whose it is.

    Raises:
        UsageError: a pattern fits nothing, or the folder is none of a toolchain.
        UnreadableError: a file cannot be read.
    """
    described = {place: _describe_entry(folder, place, entry) for place, entry in _read(folder).items()}
    parts: dict[str, dict[str, _Described]] = {part: {} for part in patterns}
    for place, each in described.items():
        parts.setdefault(_part_of(place, patterns), {})[place] = each
    for part, files in parts.items():
        if not files:
            raise UsageError(
                what=say("toolchains.the-part-cannot-be-described", part=printable(part)),
                why=say("toolchains.no-file-below-fits", folder=printable(folder), patterns=", ".join(patterns[part])),
                do=say("toolchains.write-patterns-of-paths-below-the"),
            )
    for place in path:
        if place != "." and (not is_plain(place) or not os.path.isdir(os.path.join(folder, *place.split("/")))):
            raise UsageError(
                say("toolchains.cannot-be-on-path", place=printable(place)),
                say("toolchains.the-toolchain-has-no-such-folder"),
                say("toolchains.name-one-of-its-folders"),
            )
    return Toolchain(
        name=name,
        version=version,
        publisher=publisher,
        path=tuple(path),
        parts=tuple(
            CataloguePart(
                name=part, version=version, host=_host(files), files={p: each.file for p, each in files.items()}
            )
            for part, files in parts.items()
        ),
    )


def _read(folder: HostPath) -> dict[str, Recorded]:
    """All files and links of a folder. Raises: UsageError, UnreadableError."""
    found = read_tree(folder)
    stray = next((place for place in found if not is_plain(place)), None)
    if not found or stray is not None:
        named = printable(stray) if stray is not None else ""
        raise UsageError(
            what=say("toolchains.cannot-be-described", folder=printable(folder)),
            why=say("toolchains.the-name-of-does-not-work", named=named)
            if named
            else say("toolchains.it-is-empty-or-not-there"),
            do=say("toolchains.name-the-folder-of-a-clean"),
        )
    barred = next((place for place, entry in found.items() if entry is None), None)
    if barred is not None:
        raise UnreadableError(
            what=say("toolchains.cannot-be-described", folder=printable(folder)),
            why=say("toolchains.cannot-be-read-as-a-file", barred=printable(barred)),
            do=say("toolchains.name-a-clean-toolchain-of-which"),
        )
    return {place: entry for place, entry in found.items() if entry is not None}


def _describe_entry(folder: HostPath, place: str, entry: Recorded) -> _Described:
    if entry.link:
        return _Described(PartFile(link=entry.link), None)
    try:
        with FileBytes(HostPath(os.path.join(folder, *place.split("/"))), place) as source:
            binary = _binary(source)
    except OSError:  # it was read a moment ago; what it runs on is then not known
        binary = None
    is_program = binary is not None and binary.kind is BinaryKind.PROGRAM
    executable = bool(entry.mode & _ANYBODY_RUNS) or (isinstance(binary, Pe) and is_program)
    file = PartFile(sha256=entry.sha256, size=entry.size, executable=executable)
    return _Described(file, _host_of(binary) if is_program and binary is not None else None)


def _binary(source: FileBytes) -> Binary | None:
    try:
        return read_binary(source)
    except UnreadableError:
        return None


def _host_of(binary: Binary) -> Host:
    platform = (
        Platform.LINUX if isinstance(binary, Elf) else Platform.WINDOWS if isinstance(binary, Pe) else Platform.MACOS
    )
    return Host(platform=platform, architecture=binary.architecture)


def _host(files: Mapping[str, _Described]) -> Host:
    """The common host of all programs of a part; any host where it has none, or they differ."""
    hosts = {each.host for each in files.values() if each.host is not None}
    if len(hosts) == 1:
        return hosts.pop()
    platforms = {host.platform for host in hosts}
    return Host(platform=platforms.pop(), architecture=Architecture.ANY) if len(platforms) == 1 else Host()


def _part_of(place: str, patterns: Mapping[str, Sequence[str]]) -> str:
    for part, own in patterns.items():
        if any(fnmatchcase(place, pattern) for pattern in own):
            return part
    return REST

"""All files of all installed Debian packages, each with the MD5 digest that its package recorded.

Source: dpkg(1), "FILES" and "--verify"; deb-md5sums(5); dpkg-divert(1). A settings file's digest stands in the status
file.
"""

from collections.abc import Iterator

import msgspec

from fundamen.evidence.dpkg import all_stanzas, diversions_of, fields_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_INFO = "/var/lib/dpkg/info"
_MOST_BYTES = 64 << 20
_DIGEST_SIZE = 32  # hexadecimal digits; two blanks follow, then the path without its first slash
_MOST_DIGITS = 13  # of a size in KiB that is believed
_ROOT = {"", "/", "/."}
# Documentation and translations: what dpkg.cfg(5), "path-exclude", is mostly used to leave out.
LEFT_OUT = tuple(f"/usr/share/{folder}/" for folder in ("doc", "man", "info", "locale", "lintian"))
_OF_NONE = {"newconffile", "obsolete"}  # in place of a settings file's digest, or behind it


class RecordedFile(msgspec.Struct, frozen=True, gc=False):
    """One file, folder or link of an installed package."""

    package: str
    path: MachinePath  # where it lies, diverted or not
    md5: str  # empty for a folder, a link, or a file without a recorded digest: it must only be there
    is_setting: bool = False  # people are meant to change it


class RecordedPackage(msgspec.Struct, frozen=True, gc=False):
    """An installed package, as far as its files go."""

    name: str
    version: str
    architecture: str  # as Debian calls it
    kib: int  # that its files take, as it says itself; 0 where it does not
    settings: tuple[tuple[str, str], ...]  # path and digest of each file that people are meant to change


class Records:
    """Packages and their files: the packages are read at once, the files of each when they are asked for."""

    def __init__(self, machine: Machine) -> None:
        """Read which packages are installed.

        Raises:
            UnreadableError: there is no database, or it may not be read.
        """
        self._machine = machine
        self._diverted = {original: (to, by) for original, to, by in diversions_of(machine)}
        self.packages = [package for stanza in all_stanzas(machine) for package in _installed_package(stanza)]

    def list_of(self, package: RecordedPackage) -> MachinePath:
        """Where the package's list of files lies; it stands for the package."""
        own, other = (MachinePath(f"{_INFO}/{name}.list") for name in _names(package))
        return own if self._machine.look(own).kind is EntryKind.FILE else other

    def package_of(self, path: MachinePath) -> RecordedPackage | None:
        """The package for which a list of files stands."""
        name = listed_package(path)
        return next((package for package in self.packages if name in _names(package)), None)

    def files(self, package: RecordedPackage) -> Iterator[RecordedFile]:
        """All that a package has brought, in the order of its list."""
        names = _names(package)
        settings, diverted = dict(package.settings), self._diverted
        digests = {
            line[_DIGEST_SIZE + 2 :].lstrip("/"): line[:_DIGEST_SIZE]
            for line in _lines(self._machine, names, "md5sums")
            if len(line) > _DIGEST_SIZE + 2
        }
        for path in _lines(self._machine, names, "list"):
            place = _place_of(path, package.name, diverted) if path in diverted else MachinePath(path)
            if path in settings:
                yield RecordedFile(package.name, place, settings[path], is_setting=True)
            elif path not in _ROOT:
                yield RecordedFile(package.name, place, digests.get(path[1:], ""))


def listed_paths(machine: Machine, name: str, architecture: str) -> frozenset[str]:
    """Paths of an installed package; another package may have taken some over. Empty: it has no list.

    Source: deb-control(5), "Replaces"; dpkg(1), "--force-overwrite".
    """
    return frozenset(_lines(machine, (name, f"{name}:{architecture}"), "list"))


def unrecorded_paths(machine: Machine, name: str, architecture: str) -> frozenset[str]:
    """Paths of an installed package whose content no digest records, where it records others.

    They are made or changed as it is installed, such as a dictionary of which the package brings an empty file.
    Source: deb-md5sums(5).
    """
    names = name, f"{name}:{architecture}"
    recorded = {f"/{line[_DIGEST_SIZE + 2 :].lstrip('/')}" for line in _lines(machine, names, "md5sums") if line}
    return listed_paths(machine, name, architecture) - recorded if recorded else frozenset()


def list_path(package: str) -> MachinePath:
    """The list of files of a package, by the name that the list has."""
    return MachinePath(f"{_INFO}/{package}.list")


def listed_package(path: MachinePath) -> str:
    """The package whose list of files a path is, as the list is named; empty where it is none."""
    folder, _, name = path.rpartition("/")
    return name.removesuffix(".list") if folder == _INFO and name.endswith(".list") else ""


def _names(package: RecordedPackage) -> tuple[str, str]:
    """How the files of the database may be named that tell of a package. Source: dpkg(1), "FILES"."""
    return package.name, f"{package.name}:{package.architecture}"


def _installed_package(stanza: str) -> Iterator[RecordedPackage]:
    """The package that a stanza tells of, if it is wholly installed."""
    fields = fields_of(stanza)
    if fields.get("Status", "").endswith(" ok installed"):
        size = fields.get("Installed-Size", "")
        kib = int(size) if size.isascii() and size.isdigit() and len(size) < _MOST_DIGITS else 0
        name, version, architecture = (fields.get(field, "") for field in ("Package", "Version", "Architecture"))
        yield RecordedPackage(name, version, architecture, kib, tuple(_settings(stanza)))


def _settings(stanza: str) -> Iterator[tuple[str, str]]:
    """(path, digest) of a package's settings files that are still its own."""
    _, has_some, rest = stanza.partition("\nConffiles:\n")
    for line in rest.split("\n") if has_some else ():
        if not line.startswith(" "):
            return
        words = line.split()
        if len(words) == 2 and words[1] not in _OF_NONE:  # noqa: PLR2004 - path and digest; a third word says otherwise
            yield words[0], words[1]


def _lines(machine: Machine, names: tuple[str, str], kind: str) -> list[str]:
    """The lines of one of a package's files, which is named with its architecture or without."""
    for name in names:
        try:
            data = machine.content(MachinePath(f"{_INFO}/{name}.{kind}"), _MOST_BYTES)
        except UnreadableError:
            continue
        return data.decode("utf-8", "surrogateescape").split("\n")
    return []


def _place_of(path: str, package: str, diverted: dict[str, tuple[str, str]]) -> MachinePath:
    """Where a package's file lies: a diversion moves those of all packages but the one that asked for it."""
    to, by = diverted[path]
    return MachinePath(path if by == package else to)

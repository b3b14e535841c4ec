"""All files of all installed Debian packages, each with the MD5 digest that its package recorded.

Source: dpkg(1), "FILES" and "--verify"; deb-md5sums(5); dpkg-divert(1). A settings file's digest stands in the status
file.
"""

from collections.abc import Iterator

import msgspec

from fundamen.evidence.dpkg import all_stanzas, diversions_of, fields_of
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_INFO = "/var/lib/dpkg/info"
_MOST_BYTES = 64 << 20
_DIGEST_SIZE = 32  # hexadecimal digits; two blanks follow, then the path without its first slash
_ROOT = {"", "/", "/."}
_OF_NONE = {"newconffile", "obsolete"}  # in place of a settings file's digest, or behind it


class RecordedFile(msgspec.Struct, frozen=True, gc=False):
    """One file, folder or link of an installed package."""

    package: str
    path: MachinePath  # where it lies, diverted or not
    md5: str  # empty for a folder, a link, or a file without a recorded digest: it must only be there
    is_setting: bool = False  # people are meant to change it


def recorded_files(machine: Machine) -> Iterator[RecordedFile]:
    """All that packages have brought; the packages in the order of the status file.

    Raises:
        UnreadableError: there is no database, or it may not be read.
    """
    diverted = {original: (to, by) for original, to, by in diversions_of(machine)}
    for stanza in all_stanzas(machine):
        fields = fields_of(stanza)
        if not fields.get("Status", "").endswith(" ok installed"):
            continue
        package, architecture = fields.get("Package", ""), fields.get("Architecture", "")
        names = (package, f"{package}:{architecture}")
        settings = dict(_settings(stanza))
        digests = {
            line[_DIGEST_SIZE + 2 :].lstrip("/"): line[:_DIGEST_SIZE]
            for line in _lines(machine, names, "md5sums")
            if len(line) > _DIGEST_SIZE + 2
        }
        for path in _lines(machine, names, "list"):
            place = _placed(path, package, diverted) if path in diverted else MachinePath(path)
            if path in settings:
                yield RecordedFile(package, place, settings[path], is_setting=True)
            elif path not in _ROOT:
                yield RecordedFile(package, place, digests.get(path[1:], ""))


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


def _placed(path: str, package: str, diverted: dict[str, tuple[str, str]]) -> MachinePath:
    """Where a package's file lies: a diversion moves those of all packages but the one that asked for it."""
    to, by = diverted[path]
    return MachinePath(path if by == package else to)

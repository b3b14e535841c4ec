"""Find what is gone or emptied in the packages around a program that fails, where nothing that its text names is.

A program loads more than it is linked with: plug-ins, tables, data. Its packages, those of the libraries that it loads
and those that they depend on have lists of their files, and on a healthy machine all of them are there. What is not is
reported: of the nearest packages first, then of all others what is named much like a word of the text. Where the text
names nothing of all this, what few other packages have lost is at least what is wrong with the machine.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from itertools import compress

import msgspec

from fundamen.clues.implied import implied_plug_ins
from fundamen.clues.lost_files import FileDamage, LostFile, is_command
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.evidence.dpkg import find_listed
from fundamen.evidence.dpkg_files import LEFT_OUT, RecordedFile, RecordedPackage, Records
from fundamen.knowledge.entries import KnownMessage
from fundamen.machine.links import is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import find_program
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

_MOST_LOST, _MOST_PROGRAMS, _MOST_PACKAGES = 5, 4, 3
_MOST_BYTES = 1 << 30  # that are read to compare them
_SPEAKER = re.compile(r"(?:\S+ +\S+ +\S+ \S+ )?([\w.+/-]{2,200}?)(?:\[\d+\])?: ")  # perhaps behind the head of syslog
_WORD = re.compile(r"[A-Za-z0-9_][\w.+/-]*\w")
_LEAST_WORD = 3  # letters
_PYTHON = "Traceback (most recent call last)"
_EMPTY = "d41d8cd98f00b204e9800998ecf8427e"  # the MD5 digest of no bytes at all
# Parts of words that many texts and names of files have.
_COMMON = {
    "all", "and", "any", "bin", "can", "cannot", "conf", "config", "could", "data", "default", "directory", "error",
    "failed", "file", "files", "for", "from", "has", "init", "install", "line", "linux", "list", "load", "local",
    "main", "module", "modules", "more", "most", "name", "not", "open", "path", "plugin", "program", "root", "run",
    "share", "shared", "system", "test", "text", "the", "this", "tmp", "usr", "version", "was", "with",
}  # fmt: skip
_OF_CRASHES = {"failed", "ended", "corrupt"}
# What a text is about that no file of a package would change.
_OF_ELSEWHERE = {"unreachable", "denied", "full", "in use", "expired", "untrusted"}


def find_lost_around(machine: Machine, reading: Reading, traces: Sequence[Trace]) -> tuple[LostFile, ...]:
    """The files that are gone or emptied, the likeliest first; at most five.

    Args:
        machine: on which the text was written.
        reading: of the text.
        traces: of the programs that it names.
    """
    decisive = reading.decisive
    if machine.platform is not Platform.LINUX or decisive is None:
        return ()
    try:
        return _Around(machine, reading, traces).find()
    except UnreadableError:  # there is no database of packages
        return ()


def speakers_of(reading: Reading) -> Iterator[str]:
    """The names of the programs that a text comes from, or that it names."""
    yield from (mention.text for mention in reading.mentions if mention.kind is MentionKind.PROGRAM)
    for finding in (reading.decisive, *reading.also, *reading.follows):
        if finding is not None:
            found = _SPEAKER.match(finding.text)
            yield from [found[1]] if found is not None else []
            yield from ["python3"] if _PYTHON in finding.text else []
            yield from finding.entry.said_by if isinstance(finding.entry, KnownMessage) else ()


class _Around:
    def __init__(self, machine: Machine, reading: Reading, traces: Sequence[Trace]) -> None:
        self._machine, self._reading = machine, reading
        self._records = Records(machine)
        self._by_name = {package.name: package for package in self._records.packages}
        self._words = {_plain(word) for word in _words_of(reading)}
        self._parts = {part for word in _words_of(reading) for part in _parts_of(word)}
        decisive = reading.decisive
        self._implied = [f"*/{end}" for end in implied_plug_ins(decisive)] if decisive is not None else []
        self._programs = tuple(dict.fromkeys((*(trace.program for trace in traces), *self._speakers())))

    def find(self) -> tuple[LostFile, ...]:
        near = self._near()
        decisive = self._reading.decisive
        entry = decisive.entry if decisive is not None and not decisive.is_guess else None
        is_of_elsewhere = entry is not None and entry.about in _OF_ELSEWHERE
        found = [] if is_of_elsewhere else list(self._lost_of(near))
        if not found:
            found = self._lost_anywhere(near)
            is_named = [self._is_alike(each.path) or self._has_like_part(each.path) for each in found]
            if any(is_named):
                found = list(compress(found, is_named))
            elif is_of_elsewhere or len({each.package for each in found}) > _MOST_PACKAGES:
                found = []
            elif entry is not None:  # what is understood is not about any file that is gone
                found = list(self._altered_of(near)) if not found and entry.about in _OF_CRASHES else []
            else:
                loose = [msgspec.structs.replace(each, is_named=False) for each in found]
                found = loose or list(self._altered_of(near))
        found.sort(key=lambda each: (not self._is_alike(each.path), not self._has_like_part(each.path)))
        return tuple(found[:_MOST_LOST])

    def _speakers(self) -> Iterator[MachinePath]:
        """The programs that the text comes from, or that it names."""
        for name in dict.fromkeys(speakers_of(self._reading)):
            if is_command(name) or name.startswith("/"):
                path = find_program(self._machine, name)
                if self._machine.look(path).kind is EntryKind.FILE:
                    yield self._machine.real(path)

    def _near(self) -> list[RecordedPackage]:
        """The packages of the programs, of the files that they load, and of files that the text names."""
        paths = dict.fromkeys(self._programs[:_MOST_PROGRAMS])
        for program in tuple(paths):
            try:
                paths.update((c.path, None) for c in trace_program(self._machine, program).components if c.path)
            except FundamenError:
                continue
        for mention in self._reading.mentions:
            if mention.kind is MentionKind.PATH and mention.text.startswith("/"):
                path = self._machine.real(MachinePath(mention.text))
                if self._machine.look(path).kind is EntryKind.FILE:
                    paths[path] = None
        names = dict.fromkeys(name.partition(":")[0] for name, _ in find_listed(self._machine, paths, ()))
        return [self._by_name[name] for name in names if name in self._by_name]

    def _lost_of(self, packages: Iterable[RecordedPackage]) -> Iterator[LostFile]:
        for package in packages:
            for file in self._records.files(package):
                if (not file.is_setting or self._is_alike(file.path)) and (damage := self._damage_of(file)) is not None:
                    yield self._lost_file(package, file, damage)

    def _lost_anywhere(self, but: Sequence[RecordedPackage]) -> list[LostFile]:
        """All that is gone of any other package; and what is empty, where the text has a word that is like its name."""
        found = []
        for package in (each for each in self._records.packages if each not in but):
            for file in self._records.files(package):
                is_alike = self._is_alike(file.path)
                if file.path.startswith(LEFT_OUT) or (file.is_setting and not is_alike):
                    continue
                entry = self._machine.look(file.path)
                if entry.kind is EntryKind.ABSENT or (is_alike and not entry.size):
                    damage = self._damage_of(file)
                    found += [self._lost_file(package, file, damage)] if damage is not None else []
        return found

    def _altered_of(self, packages: Iterable[RecordedPackage]) -> Iterator[LostFile]:
        """The files whose bytes are not those that their package has recorded, within a bound of bytes read."""
        left = _MOST_BYTES
        for package in packages:
            for file in self._records.files(package):
                entry = self._machine.look(file.path)
                if file.md5 and not file.is_setting and entry.kind is EntryKind.FILE and 0 < entry.size <= left:
                    left -= entry.size
                    if self._machine.digest(file.path, "md5") != file.md5:
                        yield self._lost_file(package, file, FileDamage.ALTERED)

    def _lost_file(self, package: RecordedPackage, file: RecordedFile, damage: FileDamage) -> LostFile:
        by = file.path if file.is_setting else self._records.list_of(package)
        return LostFile(file.path, package.name, by, damage)

    def _damage_of(self, file: RecordedFile) -> FileDamage | None:
        """Whether a file is gone, or has lost all its bytes; None where it has some."""
        if file.path.startswith(LEFT_OUT):
            return None
        entry = self._machine.look(file.path)
        if entry.kind is EntryKind.ABSENT:
            return FileDamage.GONE if is_gone(self._machine, file.path) else None
        is_empty = entry.kind is EntryKind.FILE and not entry.size and file.md5 not in {"", _EMPTY}
        return FileDamage.EMPTY if is_empty else None

    def _is_alike(self, path: MachinePath) -> bool:
        """Whether the text implies a file, or has a word that is much like its name or that of its folder."""
        parts = path.split("/")
        name = parts[-1]
        spelled = {name, name.partition(".")[0], name.rpartition(".")[0], "/".join(parts[-2:]), parts[-2]}
        is_spelled = not self._words.isdisjoint(_plain(each) for each in spelled if len(each) >= _LEAST_WORD)
        return is_spelled or any(fnmatchcase(path, pattern) for pattern in self._implied)

    def _has_like_part(self, path: MachinePath) -> bool:
        """Whether the text has a part of a word that is also one of a file's name."""
        return not self._parts.isdisjoint(_parts_of(path.rpartition("/")[2]))


def _words_of(reading: Reading) -> Iterator[str]:
    for finding in (reading.decisive, *reading.also, *reading.follows):
        for word in _WORD.findall(finding.text) if finding is not None else ():
            if len(word) >= _LEAST_WORD:
                yield word
                yield word.rpartition("/")[2].rpartition(".")[0]


def _plain(word: str) -> str:
    """A word without what differs from one spelling to another: C.UTF-8 and C.utf8."""
    return re.sub(r"[.-]", "", word).lower()


def _parts_of(name: str) -> Iterator[str]:
    """The parts of a word or a file's name that may tell which it is: of libgst-vorbis.so.0, gst and vorbis."""
    for part in re.split(r"[^A-Za-z]+", name):
        plain = part.lower().removeprefix("lib")
        if len(plain) >= _LEAST_WORD and plain not in _COMMON:
            yield plain

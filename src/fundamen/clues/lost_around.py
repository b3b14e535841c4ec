"""Find what is gone or emptied in the packages around a program that fails, where nothing that its text names is.

A program loads more than it is linked with: plug-ins, tables, data. Its packages, those of the libraries that it loads
and those that they depend on have lists of their files, and on a healthy machine all of them are there. What is not is
reported: for the nearest packages always, for the others if the text has a word that is much like the file's name.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice

from fundamen.clues.lost_files import LostFile, is_command
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.evidence.debian_dependencies import dependencies_of
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

_MOST_LOST, _MOST_PROGRAMS, _MOST_FAR = 5, 4, 80
_SPEAKER = re.compile(r"(?:\S+ +\S+ +\S+ \S+ )?([\w.+/-]{2,200}?)(?:\[\d+\])?: ")  # perhaps behind the head of syslog
_WORD = re.compile(r"[A-Za-z0-9_][\w.+/-]*\w")
_LEAST_WORD = 3  # letters
_PYTHON = "Traceback (most recent call last)"
_EMPTY = "d41d8cd98f00b204e9800998ecf8427e"  # the MD5 digest of no bytes at all
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
        self._programs = tuple(dict.fromkeys((*(trace.program for trace in traces), *self._speakers())))

    def find(self) -> tuple[LostFile, ...]:
        near = self._near()
        about = self._reading.decisive.entry.about if self._reading.decisive and self._reading.decisive.entry else ""
        found = [] if about in _OF_ELSEWHERE else list(self._lost_of(near))
        far = [] if found else self._depended_on(near)
        found += self._lost_of(islice(far, _MOST_FAR), only_alike=True)
        found.sort(key=lambda each: not self._is_alike(each.path))
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
        return self._packages(package for package, _ in find_listed(self._machine, paths, ()))

    def _packages(self, names: Iterable[str]) -> list[RecordedPackage]:
        plain = dict.fromkeys(name.partition(":")[0] for name in names)
        return [self._by_name[name] for name in plain if name in self._by_name]

    def _depended_on(self, near: Sequence[RecordedPackage]) -> Iterator[RecordedPackage]:
        """The packages on which others depend, the nearest first; those that the text calls by name before them."""
        seen = {package.name for package in near}
        yield from (p for p in self._records.packages if _plain(p.name) in self._words and p.name not in seen)
        ring = [package.name for package in near]
        wanted = dependencies_of(self._machine)
        while ring:
            further = dict.fromkeys(name for package in ring for name in wanted.get(package, ()) if name not in seen)
            seen.update(further)
            yield from self._packages(further)
            ring = list(further)

    def _lost_of(self, packages: Iterable[RecordedPackage], *, only_alike: bool = False) -> Iterator[LostFile]:
        for package in packages:
            for file in self._records.files(package):
                is_alike = self._is_alike(file.path)
                if (is_alike or not only_alike) and (is_alike or not file.is_setting) and self._is_lost(file):
                    is_empty = self._machine.look(file.path).kind is EntryKind.FILE
                    by = file.path if file.is_setting else self._records.list_of(package)
                    yield LostFile(file.path, package.name, by, is_empty)

    def _is_lost(self, file: RecordedFile) -> bool:
        """Whether a file is gone, or has lost all its bytes."""
        if file.path.startswith(LEFT_OUT):
            return False
        entry = self._machine.look(file.path)
        if entry.kind is EntryKind.ABSENT:
            return is_gone(self._machine, file.path)
        return entry.kind is EntryKind.FILE and not entry.size and file.md5 not in {"", _EMPTY}

    def _is_alike(self, path: MachinePath) -> bool:
        """Whether the text has a word that is much like a file's name, or like that of the folder it is in."""
        parts = path.split("/")
        name = parts[-1]
        spelled = {name, name.partition(".")[0], name.rpartition(".")[0], "/".join(parts[-2:]), parts[-2]}
        return not self._words.isdisjoint(_plain(each) for each in spelled if len(each) >= _LEAST_WORD)


def _words_of(reading: Reading) -> Iterator[str]:
    for finding in (reading.decisive, *reading.also, *reading.follows):
        for word in _WORD.findall(finding.text) if finding is not None else ():
            if len(word) >= _LEAST_WORD:
                yield word
                yield word.rpartition("/")[2].rpartition(".")[0]


def _plain(word: str) -> str:
    """A word without what differs from one spelling to another: C.UTF-8 and C.utf8."""
    return re.sub(r"[.-]", "", word).lower()

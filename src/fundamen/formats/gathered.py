"""Read what ``gather.sh`` or ``gather.ps1`` has gathered of a machine. docs/formats/gathered.md describes the form.

The lines of the listing are those of ``ls -ldn`` in the POSIX locale. Source: POSIX.1-2017, XCU, "ls", STDOUT.
Guarantees: lines, counts and sizes are bounded; nothing that is named is opened on this host.
"""

import base64
import gzip
import re
import stat
import tempfile
import zlib
from datetime import UTC, datetime
from typing import IO, cast

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.text_hive import Value
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

MAGIC = b"fundamen-gathered "
_VERSION = b"1"
_MOST_CONTENT = 17 << 30  # bytes; the scripts stop at 16
_ANYWAY = 64 << 20  # bytes that may be unpacked of however few
_MOST_PACKED = 100  # times: programs pack to a third, zeros to a thousandth
_MOST_DIGITS = 15
_MOST_LINE = 1 << 20  # bytes; a value of the registry is one line
_MOST_LINES = 4_000_000
_PIECE = 1 << 20
_GZIP = b"\x1f\x8b"
_LISTED = re.compile(
    rb"(?P<kind>[-dlcbpsD])(?P<mode>[-rwxsStTlL]{9})[.+@]?\s+\d+\s+\d+\s+\d+\s+(?:(?P<size>\d+)|\d+,\s*\d+)\s+"
    rb"[A-Z][a-z]{2}\s+\d+\s+[\d:]+ (?P<name>/.*)",
    re.DOTALL,
)
_RIGHTS = (0o400, 0o200, 0o100, 0o040, 0o020, 0o010, 0o004, 0o002, 0o001)
_REFUSED = {
    b"refused": "the account that gathered may not read it",
    b"large": "with its bytes, more would have been gathered than is read",
    b"secret": "it holds a private key, and was left out by rule",
}
_KINDS = {b"-": stat.S_IFREG, b"d": stat.S_IFDIR, b"l": stat.S_IFLNK}
_KINDS_IN_FOLDER = {b"f": stat.S_IFREG, b"d": stat.S_IFDIR, b"l": stat.S_IFLNK}
_ANYBODYS = 0o777  # Windows tells no modes
_PLATFORMS = {b"windows": Platform.WINDOWS}
_DRIVE = re.compile(rb"[A-Za-z]:\\")


class Listed(msgspec.Struct, frozen=True, gc=False):
    """A listed path."""

    mode: int  # as stat(2) has it; of what is neither file, folder nor link only the rights
    size: int
    target: str  # of a link


class Gathered(msgspec.Struct, frozen=True, kw_only=True):
    """All that was gathered."""

    host: str
    made_at: datetime  # UTC
    programs: tuple[str, ...]  # that it was gathered of
    is_whole: bool = False  # it was gathered of the whole machine
    environment: dict[str, str]
    whole: frozenset[str]  # folders of which everything below is listed, as far as they are no links
    barred: frozenset[str]  # folders that could not be read
    listed: dict[str, Listed]
    platform: Platform = Platform.LINUX
    named_folders: frozenset[str] = frozenset()  # folders of which what is right in them is listed; of Windows
    trees: frozenset[str] = frozenset()  # registry keys, with all below them
    registry: dict[str, dict[str, Value]] = {}
    files: dict[str, tuple[int, int]]  # path -> where its bytes stand in the content, how many
    refused: dict[str, str]  # path -> why its bytes are not there
    content: IO[bytes]  # a file of ours


def read_gathered(file: IO[bytes], name: str) -> Gathered:
    """Read what was gathered, packed by gzip or not.

    Raises:
        DamagedFileError: it is nothing of the kind, is cut, or holds more than any machine's.
    """
    what = say("formats.the-gathered-facts-in", name=printable(name))
    packed = file.read(len(_GZIP)) == _GZIP
    file.seek(0)
    content: IO[bytes] = tempfile.TemporaryFile()  # noqa: SIM115 - it lives as long as what was gathered
    try:
        stream = cast("IO[bytes]", gzip.GzipFile(fileobj=file)) if packed else file
        return _Reading(stream, what, content, file).read()
    except DamagedFileError:
        content.close()
        raise
    except (OSError, EOFError, zlib.error) as error:
        content.close()
        raise damage_error(what, say("formats.it-cannot-be-unpacked", error=error)) from error


class _Reading:
    def __init__(self, stream: IO[bytes], what: str, content: IO[bytes], file: IO[bytes]) -> None:
        self._stream, self._what, self._content = stream, what, content
        self._given = file  # as it lies there, packed or not
        self._lines = 0
        self._host, self._made_at = "", datetime.fromtimestamp(0, UTC)
        self._programs: list[str] = []
        self._is_whole = False
        self._environment: dict[str, str] = {}
        self._whole: set[str] = set()
        self._barred: set[str] = set()
        self._listed: dict[str, Listed] = {}
        self._files: dict[str, tuple[int, int]] = {}
        self._refused: dict[str, str] = {}
        self._platform = Platform.LINUX
        self._named_folders: set[str] = set()
        self._trees: set[str] = set()
        self._registry: dict[str, dict[str, Value]] = {}
        self._key: dict[str, Value] = {}

    def read(self) -> Gathered:
        head, _, version = self._line().partition(b" ")
        if head + b" " != MAGIC:
            raise damage_error(self._what, say("formats.it-does-not-begin-as-what"))
        if version != _VERSION:
            raise damage_error(self._what, say("formats.it-is-of-form-and-this", version=version[:20]))
        while (line := self._line()) != b"end":
            word, _, rest = line.partition(b" ")
            self._take(word, rest)
        return Gathered(
            host=self._host,
            made_at=self._made_at,
            programs=tuple(self._programs),
            is_whole=self._is_whole,
            environment=self._environment,
            whole=frozenset(self._whole),
            barred=frozenset(self._barred),
            listed=self._listed,
            platform=self._platform,
            named_folders=frozenset(self._named_folders),
            trees=frozenset(self._trees),
            registry=self._registry,
            files=self._files,
            refused=self._refused,
            content=self._content,
        )

    def _take(self, word: bytes, rest: bytes) -> None:
        text = rest.decode("utf-8", "surrogateescape")
        named_folders = {
            b"program": self._programs.append,
            b"all": self._all,
            b"whole": self._whole.add,
            b"barred": self._barred.add,
            b"tree": self._trees.add,
            b"names": self._names,
            b"environment": self._variable,
        }
        if word in named_folders:
            named_folders[word](text)
            return
        match word:
            case b"host":
                self._host = text
            case b"time":
                self._made_at = self._time(text)
            case b"platform":
                self._platform = self._platform_of(rest)
            case b"listing":
                self._read_listing()
            case b"file":
                self._file(rest)
            case b"key":
                self._key = self._registry.setdefault(text, {})
            case b"value":
                self._value(rest)
            case _:
                why = _REFUSED.get(word)
                if why is None:
                    raise damage_error(self._what, say("formats.it-has-a-line-that-begins", word=word[:20]))
                self._refused[text] = why

    def _all(self, _nothing: str) -> None:
        self._is_whole = True

    def _variable(self, text: str) -> None:
        name, _, value = text.partition("=")
        self._environment[name] = value

    def _platform_of(self, name: bytes) -> Platform:
        if name not in _PLATFORMS:
            raise damage_error(self._what, say("formats.it-is-of-a-platform-that", name=name[:20]))
        return _PLATFORMS[name]

    def _names(self, folder: str) -> None:
        """The rights to a folder of Windows."""
        if not _DRIVE.match(folder.encode("utf-8", "surrogateescape")):
            raise damage_error(self._what, say("formats.a-folder-of-it-has-no"))
        self._named_folders.add(folder)
        begin = folder.rstrip("\\") + "\\"
        while (line := self._line()) != b".":
            kind, _, rest = line.partition(b" ")
            size, _, name = rest.partition(b" ")
            if kind not in _KINDS_IN_FOLDER or not size.isdigit() or len(size) > _MOST_DIGITS or not name:
                raise damage_error(self._what, say("formats.what-is-in-a-folder-has", line=line[:60]))
            name, _, target = name.partition(b" -> ") if kind == b"l" else (name, b"", b"")
            entry = Listed(_KINDS_IN_FOLDER[kind] | _ANYBODYS, int(size), target.decode("utf-8", "surrogateescape"))
            self._listed[begin + name.decode("utf-8", "surrogateescape")] = entry

    def _value(self, rest: bytes) -> None:
        """A value of the key that was named last."""
        kind, _, rest = rest.partition(b" ")
        data, _, name = rest.partition(b" ")
        try:
            value = _value_of(kind, b"" if data == b"-" else data)
        except ValueError as error:
            raise damage_error(self._what, say("formats.it-has-a-value-of-the", rest=rest[:40])) from error
        self._key[name.decode("utf-8", "surrogateescape")] = value

    def _time(self, text: str) -> datetime:
        try:
            return datetime.strptime(text, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC)
        except ValueError as error:
            raise damage_error(self._what, say("formats.its-time-is-none")) from error

    def _read_listing(self) -> None:
        while (line := self._line()) != b".":
            found = _LISTED.fullmatch(line)
            if found is None:
                raise damage_error(self._what, say("formats.its-listing-has-a-line-that", line=line[:60]))
            path, _, target = found["name"].partition(b" -> ") if found["kind"] == b"l" else (found["name"], b"", b"")
            mode = _KINDS.get(found["kind"], 0) | _rights(found["mode"])
            entry = Listed(mode, int(found["size"] or 0), target.decode("utf-8", "surrogateescape"))
            self._listed[path.decode("utf-8", "surrogateescape")] = entry

    def _file(self, rest: bytes) -> None:
        size_text, _, path = rest.partition(b" ")
        is_path = path.startswith(b"/") if self._platform is Platform.LINUX else _DRIVE.match(path)
        if not size_text.isdigit() or len(size_text) > _MOST_DIGITS or not is_path:
            raise damage_error(self._what, say("formats.the-size-of-a-file-is"))
        size, at = int(size_text), self._content.tell()
        if at + size > _MOST_CONTENT:
            raise damage_error(self._what, say("formats.it-holds-more-than-gib", most_content=_MOST_CONTENT >> 30))
        left = size
        while left:
            piece = self._stream.read(min(left, _PIECE))
            if not piece:
                raise damage_error(self._what, say("formats.it-ends-in-the-middle-of"))
            self._content.write(piece)
            left -= len(piece)
            if self._content.tell() > _ANYWAY + _MOST_PACKED * self._given.tell():
                raise damage_error(self._what, say("formats.it-unpacks-to-more-than-times", most_packed=_MOST_PACKED))
        self._files[path.decode("utf-8", "surrogateescape")] = (at, size)

    def _line(self) -> bytes:
        line = self._stream.readline(_MOST_LINE)
        self._lines += 1
        if not line.endswith(b"\n"):
            raise damage_error(
                self._what,
                say("formats.it-is-truncated") if len(line) < _MOST_LINE else say("formats.it-has-a-line-without-an"),
            )
        if self._lines > _MOST_LINES:
            raise damage_error(self._what, say("formats.it-has-more-than-lines", most_lines=_MOST_LINES))
        return line[:-1]


def _value_of(kind: bytes, data: bytes) -> Value:
    """A value of the registry. Raises: ValueError."""
    if kind == b"number":
        return int(data[: _MOST_DIGITS + 5])
    plain = base64.b64decode(data, validate=True)
    match kind:
        case b"bytes":
            return plain
        case b"text":
            return plain.decode("utf-8", "surrogateescape")
        case b"texts":
            return tuple(part for part in plain.decode("utf-8", "surrogateescape").split("\0") if part)
    raise ValueError(kind)


def _rights(text: bytes) -> int:
    """The rights that nine letters tell."""
    letters = text.decode("ascii")
    mode = sum(bit for bit, letter in zip(_RIGHTS, letters, strict=True) if letter not in "-STlL")
    return mode | (stat.S_ISUID if letters[2] in "sS" else 0) | (stat.S_ISGID if letters[5] in "sSlL" else 0)

"""A machine whose answers are written down as it is examined: that is how a capture is made.

Whatever is asked of it is asked of the machine behind it, and kept with the answer; of files only those bytes that were
read. So the same question to a capture gets the same answer. Secrets are left out by rule: files that hold keys or
passwords by their place, and any file in which a private key begins, are reported as not readable; of the environment
only variables are kept that were asked for and whose names do not tell of a secret.
"""

import contextlib
import json
import re
import tempfile
import threading
from bisect import bisect_right, insort
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager
from fnmatch import fnmatchcase
from functools import partial
from itertools import islice
from operator import itemgetter
from typing import IO

from fundamen.formats.byte_source import ByteSource, Digesting, Ranges, digest_of_ranges
from fundamen.formats.capture_file import CapturedEntry, CapturedFile, MachineFacts, Refusal, name_of_digest, to_value
from fundamen.formats.windows.text_hive import Value
from fundamen.machine.machine import AccessRights, Entry, Machine
from fundamen.machine.places import Ground, Place
from fundamen.machine.registry import Registry
from fundamen.machine.scanning import Scanning
from fundamen.messages import say
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.secrets import find_secrets

_SECRET_PLACES = (
    "*/etc/shadow*", "*/etc/gshadow*", "*/.ssh/*", "*/.gnupg/*", "*/ssl/private/*", "*.key", "*.pfx", "*.p12", "*.jks",
    "*/id_rsa*", "*/id_ed25519*", "*/.netrc", "*/.pgpass", "*/sam", "*/security", "*/krb5.keytab",
)  # fmt: skip
_SECRET_NAME = re.compile("PASS|SECRET|TOKEN|KEY|CREDENTIAL|AUTH|COOKIE", re.IGNORECASE)
_SECRET_SETTING = re.compile(
    rb"(?im)^([^\n#;]*?(?:passw|secret|(?<!publickey)token|api[_-]?key|credential)[\w.\-\"' ]*[=:][ \t]*)([^\s][^\n]*)"
)
_MOST_TEXT = 4 << 20  # bytes of a text that is looked through for secrets: settings are smaller
_PRIVATE_KEY = b"PRIVATE KEY-----"
_REQUIREMENT = "requirement "  # how what is kept of a check begins


class RecordingMachine(Machine):
    """A machine that is examined through here."""

    def __init__(self, base: Machine, most_bytes: int) -> None:
        """Begin.

        Args:
            base: the machine.
            most_bytes: how many bytes of files are taken in at most.
        """
        super().__init__()
        self.base = base
        self.title, self.platform, self.root, self.paths = base.title, base.platform, base.root, base.paths
        self.is_live, self.is_prefix, self.is_at_folder = base.is_live, base.is_prefix, base.is_at_folder
        self.facts = MachineFacts()
        self.left_out: dict[str, None] = {}
        self.taken: IO[bytes] = tempfile.TemporaryFile()  # noqa: SIM115 - it is written to a capture later
        self._most_bytes = most_bytes
        self._is_too_large = False
        self._lock = threading.Lock()  # some checks are made side by side
        self._pieces: dict[MachinePath, _Pieces] = {}
        self.environment = _RecordedEnvironment(base.environment, self.facts.environment, self.left_out)
        self.registry = _RecordingRegistry(base.registry, self.facts)

    def look(self, path: MachinePath) -> Entry:
        """Look at a path, and record the entry."""
        entry = self.base.look(path)
        self.facts.entries[path] = CapturedEntry(
            str(entry.kind), entry.size, entry.why, entry.is_executable, entry.changes_account
        )
        return entry

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """List a folder, and record the names."""
        try:
            names = self.base.names(folder)
        except UnreadableError as error:
            self.facts.names[folder] = Refusal(error.what, error.why, error.do)
            raise
        self.facts.names[folder] = names
        return names

    def real(self, path: MachinePath) -> MachinePath:
        """Follow the links of a path, and record the result."""
        real = self.base.real(path)
        self.facts.reals[path] = real
        return real

    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file, and record the bytes that are read."""
        return self._open_recorded(path)

    def digest(self, path: MachinePath, algorithm: str) -> str:
        """Compute a digest, and record it without the bytes."""
        known = self.facts.digests.get(f"{algorithm} {path}")
        if known is not None:  # a capture is of one moment
            return known
        digest = self.base.digest(path, algorithm)
        for name in (path, self.base.real(path)):  # it may be asked for by another name
            self.facts.digests[f"{algorithm} {name}"] = digest
        return digest

    def keep(self, what: str, data: bytes) -> None:
        """Write down what was found out by going through the machine, or by a check that reads no secret."""
        if what.startswith(_REQUIREMENT) and (named := _secret_in(what.removeprefix(_REQUIREMENT))):
            self.left_out[f"the requirement of {named}: its name tells of a secret"] = None
        else:
            self.facts.kept[what] = data.decode("utf-8")

    def rights(self, path: MachinePath) -> AccessRights | None:  # noqa: ARG002 - a capture does not have them
        """None: what is judged here must be judged alike from the capture."""
        return None

    def host_path(self, path: MachinePath) -> HostPath:
        """The host path; work with it is not recorded."""
        return self.base.host_path(path)

    @property
    def ground(self) -> Ground:
        """The ground of the recorded machine."""
        return self.base.ground

    def place(self, path: MachinePath) -> Place:
        """The place of the recorded machine."""
        return self.base.place(path)

    def scanner(self) -> Scanning:
        """A scanner of the recorded machine."""
        return self.base.scanner()

    def afresh(self) -> "RecordingMachine":
        """The same; a capture is of one moment."""
        return self

    def absolute_path(self, text: str) -> MachinePath:
        """The path of the recorded machine for a typed one."""
        return self.base.absolute_path(text)

    def fold(self, name: str) -> str:
        """The folded name of the recorded machine."""
        return self.base.fold(name)

    @property
    def size(self) -> int:
        """How many bytes of files were taken in."""
        return self.taken.tell()

    def finish(self) -> MachineFacts:
        """All that was written down. Raises: UsageError: more would have been taken in than was allowed."""
        if self._is_too_large:  # the caller may have continued
            raise self._too_large()
        for path, pieces in self._pieces.items():
            self.facts.files[path] = CapturedFile(pieces.size, tuple(pieces.held))
        for path in self._pieces:  # it may be asked for by another name
            self.facts.files.setdefault(self.base.real(path), self.facts.files[path])
        return self.facts

    def _too_large(self) -> UsageError:
        return UsageError(
            what=say("machine.the-capture-is-not-made"),
            why=say("machine.more-than-mib-of-files-would", most_bytes=self._most_bytes >> 20),
            do=say("machine.name-single-programs-or-allow-more"),
        )

    @contextlib.contextmanager
    def _open_recorded(self, path: MachinePath) -> Iterator[ByteSource]:
        if any(fnmatchcase(path.replace("\\", "/").lower(), pattern) for pattern in _SECRET_PLACES):
            self._leave_out(path, say("machine.its-place-tells-of-keys-or"))
        try:
            manager = self.base.open(path)
            source = manager.__enter__()
        except UnreadableError as error:
            self.facts.refused[path] = Refusal(error.what, error.why, error.do)
            raise
        try:
            if _PRIVATE_KEY in source.read_at(0, 4096):
                self._leave_out(path, say("machine.a-private-key-begins-in-it"))
            pieces = self._pieces.setdefault(path, _Pieces(source.size))
            yield _RecordedBytes(source, pieces, partial(self._add, path), partial(self._digest_part, path))
        finally:
            manager.__exit__(None, None, None)

    def _digest_part(self, path: MachinePath, which: str, digest: Callable[[], bytes]) -> bytes:
        """A digest of part of a file: it is written down, and not the bytes."""
        known = self.facts.digests.get(f"{which} {path}")
        if known is not None:
            return bytes.fromhex(known)
        found = digest()
        for name in (path, self.base.real(path)):
            self.facts.digests[f"{which} {name}"] = found.hex()
        return found

    def _leave_out(self, path: MachinePath, why: str) -> None:
        error = UnreadableError(
            what=say("machine.is-not-in-the-capture", path=path),
            why=say("machine.it-was-left-out-by-rule", why=why),
            do=say("machine.look-at-it-on-the-machine"),
        )
        self.left_out[f"{path}: {why}"] = None
        self.facts.refused[path] = Refusal(error.what, error.why, error.do)
        raise error

    def _add(self, path: MachinePath, data: bytes) -> int:
        """Take bytes in, and give where they stand; values of settings that tell of secrets are covered by stars."""
        data, count = _cover_secrets(data)
        if count:
            values = "1 value" if count == 1 else say("machine.values", count=count)
            self.left_out[f"{values} in {path}: they look like secrets"] = None
        with self._lock:
            at = self.taken.tell()
            if at + len(data) > self._most_bytes:
                self._is_too_large = True
                raise self._too_large()
            self.taken.write(data)
        return at


def _cover_secrets(data: bytes) -> tuple[bytes, int]:
    """A text with secrets covered by as many stars, and how many they were; what is no text as it is."""
    if b"\0" in data or len(data) > _MOST_TEXT or not (b"=" in data or b":" in data):
        return data, 0
    # A setting's value goes on to the end of its line, blanks and all.
    covered, count = _SECRET_SETTING.subn(lambda found: found[1] + b"*" * len(found[2]), data)
    text, parts, end = covered.decode("utf-8", "surrogateescape"), list[str](), 0
    for secret in find_secrets(text):
        if set(text[secret.begin : secret.end]) - {"*"}:
            count += 1
            stars = "*" * len(text[secret.begin : secret.end].encode("utf-8", "surrogateescape"))
            parts += [text[end : secret.begin], stars]
            end = secret.end
    return "".join([*parts, text[end:]]).encode("utf-8", "surrogateescape"), count


def _secret_in(requirement: str) -> str:
    """The value that a requirement reads and whose name means a secret; empty for none."""
    question = json.loads(requirement)
    named = [question.get("name", ""), *(question.get("key", []) if isinstance(question.get("key"), list) else [])]
    return next((name for name in map(str, named) if _SECRET_NAME.search(name)), "")


class _Pieces:
    """The bytes of one file that were taken in."""

    def __init__(self, size: int) -> None:
        self.size = size
        self.held: list[tuple[int, int, int]] = []  # in their order: offset, bytes, where they stand

    def hold(self, piece: tuple[int, int, int]) -> None:
        """Add a piece that overlaps with none that is held."""
        insort(self.held, piece)

    def missing_parts(self, begin: int, end: int) -> Iterator[tuple[int, int]]:
        """The parts of a range that are not held yet."""
        first = max(bisect_right(self.held, begin, key=itemgetter(0)) - 1, 0)
        for offset, size, _ in islice(self.held, first, None):
            if offset >= end:
                break
            if begin < offset:
                yield begin, offset
            begin = max(begin, offset + size)
        if begin < end:
            yield begin, end


class _RecordedBytes(Digesting):
    """A file whose bytes are taken in as they are read."""

    def __init__(
        self,
        base: ByteSource,
        pieces: _Pieces,
        add: Callable[[bytes], int],
        digested: Callable[[str, Callable[[], bytes]], bytes],
    ) -> None:
        super().__init__(base.name, base.size)
        self._base, self._pieces, self._add, self._digest_part = base, pieces, add, digested

    def digest_of(self, algorithm: str, ranges: Ranges, zeros: int) -> bytes:
        """A digest of its bytes, which are not taken in for it."""
        which = name_of_digest(algorithm, ranges, zeros, self.size)
        return self._digest_part(which, lambda: digest_of_ranges(self._base, algorithm, ranges, zeros))

    def _read(self, offset: int, size: int) -> bytes:
        data = self._base.read_at(offset, size)
        for begin, end in list(self._pieces.missing_parts(offset, offset + len(data))):
            at = self._add(data[begin - offset : end - offset])
            self._pieces.hold((begin, end - begin, at))
        return data


class _RecordedEnvironment(Mapping[str, str]):
    """An environment of which is kept what is asked for."""

    def __init__(self, base: Mapping[str, str], kept: dict[str, str], left_out: dict[str, None]) -> None:
        self._base, self._kept, self._left_out = base, kept, left_out

    def __getitem__(self, name: str) -> str:
        value = self._base[name]
        if _SECRET_NAME.search(name):
            self._left_out[f"the variable {name}: its name tells of a secret"] = None
        else:
            self._kept[name] = value
        return value

    def __iter__(self) -> Iterator[str]:
        return iter(self._base)

    def __len__(self) -> int:
        return len(self._base)


class _RecordingRegistry(Registry):
    """A registry whose answers are written down."""

    def __init__(self, base: Registry, facts: MachineFacts) -> None:
        self._base, self._facts = base, facts

    @property
    def gaps(self) -> tuple[str, ...]:  # type: ignore[override]
        """Which hives could not be read, and why."""
        return self._base.gaps

    def knows(self, key: str) -> bool:
        """Ask for a key, and record the answer."""
        known = self._facts.knows[key] = self._base.knows(key)
        return known

    def values(self, key: str) -> dict[str, Value] | None:
        """Read the values of a key, and record them."""
        values = self._base.values(key)
        kept = None if values is None else {name: to_value(value) for name, value in values.items()}
        self._facts.registry[key] = kept
        return values

    def subkeys(self, key: str) -> tuple[str, ...]:
        """List the subkeys of a key, and record them."""
        names = self._facts.subkeys[key] = self._base.subkeys(key)
        return names

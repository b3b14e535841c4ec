"""A machine that is known from a capture: it answers what was asked when the capture was made, and nothing else.

A question that the capture has no answer to is reported as such, and never as "nothing is there".
"""

import ntpath
import posixpath
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial

from fundamen.formats.byte_source import ByteSource, Digesting, Ranges, SharedFile, computed_digest
from fundamen.formats.capture_file import Capture, CapturedFile, MachineFacts, Refusal, from_value, name_of_digest
from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.text_hive import Value
from fundamen.machine.machine import Entry, EntryKind, Machine
from fundamen.machine.registry import Registry
from fundamen.messages import as_said, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

_DO = "machine.have-a-capture-made-for-this-too"


class CapturedMachine(Machine):
    """The machine of a capture."""

    is_live = False
    is_captured = True

    def __init__(self, capture: Capture, root: HostPath, environment: Mapping[str, str]) -> None:
        """Make it.

        Args:
            capture: what is known of it.
            root: where the capture lies.
            environment: what was given besides, which goes before what the capture has.
        """
        super().__init__()
        self._recorded = capture.facts
        self._content = SharedFile(capture.content, "the capture")
        self._was_running = capture.manifest.was_running
        self.platform = capture.manifest.platform
        self.paths = ntpath if self.platform is Platform.WINDOWS else posixpath
        self.root = root
        self.title = say(
            "machine.the-capture-of-made-utc",
            machine=printable(capture.manifest.machine),
            made_at=capture.manifest.made_at,
        )
        self.environment = {**capture.facts.environment, **environment}
        self.registry = _CapturedRegistry(capture.facts)
        self._capture = capture
        self._given = environment

    @property
    def was_running(self) -> bool:
        """Whether the capture was made on the machine as it ran."""
        return self._was_running

    def look(self, path: MachinePath) -> Entry:
        """The recorded entry; blocked, where the capture does not have it."""
        found = self._recorded.entries.get(path)
        if found is None:
            return Entry(EntryKind.BLOCKED, why=say("machine.the-capture-lacks-this-fact"))
        kind = EntryKind(found.kind) if found.kind in set(EntryKind) else EntryKind.BLOCKED
        return Entry(kind, found.size, as_said(found.why), found.is_executable, found.changes_account)

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names that were in a folder."""
        found = self._recorded.names.get(folder)
        if found is None:
            raise self._lacks(folder, say("machine.which-names-were-in-it"))
        if isinstance(found, Refusal):
            raise UnreadableError(found.what, found.why, found.do)
        return found

    def real(self, path: MachinePath) -> MachinePath:
        """Where the links of a path led; what was not asked stays as it is spelled."""
        return MachinePath(self._recorded.reals.get(path, path))

    @contextmanager
    def open(self, path: MachinePath) -> Iterator[ByteSource]:
        """The bytes of a file that were taken in."""
        real = self.real(path)  # a file that was read may have been reached by another name
        refusal = self._recorded.refused.get(path) or self._recorded.refused.get(real)
        if refusal is not None:
            raise UnreadableError(refusal.what, refusal.why, refusal.do)
        file = self._recorded.files.get(path) or self._recorded.files.get(real)
        if file is None:
            raise self._lacks(path, "its bytes")
        yield _CapturedBytes(str(path), file, self._content, partial(self._digest, path))

    def digest(self, path: MachinePath, algorithm: str) -> str:
        """The digest that was taken then."""
        found = self._digest(path, algorithm)
        if found is None:
            raise self._lacks(path, say("machine.its-digest-by", algorithm=algorithm))
        return found

    def _digest(self, path: MachinePath, which: str) -> str | None:
        candidates = (self._recorded.digests.get(f"{which} {name}") for name in (path, self.real(path)))
        return next(filter(None, candidates), None)

    def walk_record(self, what: str) -> bytes | None:
        """Records of walks through the machine."""
        found = self._recorded.kept.get(what)
        return found.encode("utf-8") if found is not None else None

    def host_path(self, path: MachinePath) -> HostPath:
        """Refused for every path: what a capture tells of lies nowhere on this host."""
        raise UnreadableError(
            what=say("machine.has-no-place-on-this-host", path=printable(path)),
            why=say("machine.it-is-only-known-from", title=self.title),
            do=say("machine.run-the-same-command-on-the"),
        )

    def afresh(self) -> "CapturedMachine":
        """The same facts with nothing remembered."""
        return CapturedMachine(self._capture, self.root, self._given)

    def absolute_path(self, text: str) -> MachinePath:
        """The absolute path of the machine for a typed one."""
        if self.platform is Platform.WINDOWS:
            return MachinePath(ntpath.normpath(text if text[1:2] == ":" else ntpath.join("C:\\", text)))
        return MachinePath(posixpath.normpath(posixpath.join("/", text)))

    def fold(self, name: str) -> str:
        """The form in which names are compared."""
        return name.lower() if self.platform is Platform.WINDOWS else name

    def _lacks(self, path: str, what: str) -> UnreadableError:
        return UnreadableError(
            what=say("machine.cannot-be-read", path=printable(path)),
            why=say("machine.the-capture-lacks", what=what),
            do=say(_DO),
        )


class _CapturedBytes(Digesting):
    """A file of which some bytes are known."""

    def __init__(self, name: str, file: CapturedFile, content: SharedFile, digest: Callable[[str], str | None]) -> None:
        super().__init__(name, file.size)
        self._pieces, self._content, self._digest = file.pieces, content, digest

    def digest_of(self, algorithm: str, ranges: Ranges, zeros: int) -> bytes:
        """A digest of its bytes that was taken then; of the bytes, where all of them are known."""
        known = self._digest(name_of_digest(algorithm, ranges, zeros, self.size))
        if known is None:
            return computed_digest(self, algorithm, ranges, zeros)
        try:
            return bytes.fromhex(known)
        except ValueError as error:
            raise damage_error(printable(self.name), say("machine.the-capture-has-a-digest-of")) from error

    def _read(self, offset: int, size: int) -> bytes:
        end = offset + size
        data, at = bytearray(), offset
        for begin, length, place in self._pieces:
            if begin <= at < begin + length and at < end:
                wanted = min(end, begin + length) - at
                piece = self._content.read_at(place + at - begin, wanted)
                if len(piece) < wanted:
                    raise damage_error(printable(self.name), say("machine.the-capture-names-bytes-of-it"))
                data += piece
                at += wanted
        if at < min(end, self.size):
            raise UnreadableError(
                what=say("machine.cannot-be-read", path=printable(self.name)),
                why=say("machine.the-capture-lacks-its-bytes-from", at=at),
                do=say(_DO),
            )
        return bytes(data)


class _CapturedRegistry(Registry):
    """The recorded answers of a registry."""

    def __init__(self, facts: MachineFacts) -> None:
        self._facts = facts

    def knows(self, key: str) -> bool:
        """Whether the registry could tell, or the capture has the key."""
        return self._facts.knows.get(key, key in self._facts.registry)

    def values(self, key: str) -> dict[str, Value] | None:
        """The values that a key had; None where it was not there, or no one asked."""
        found = self._facts.registry.get(key)
        return None if found is None else {name: from_value(value) for name, value in found.items()}

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The keys that were right below a key."""
        return self._facts.subkeys.get(key, ())

"""A folder whose files are as a manifest says."""

import re
from concurrent.futures import ThreadPoolExecutor
from typing import ClassVar

from fundamen.machine.machine import EntryKind
from fundamen.messages import UNSAID, Message, name_some, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.kinds.file import digest_of
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement, read_text

# Source: the output of the checksum tools of POSIX systems: digest, space, space or *, name.
_LINE = re.compile(r"([0-9a-fA-F]{64}) [ *](.+)")
_MOST_NAMED = 5


class Tree(Requirement, frozen=True, kw_only=True, tag="tree"):
    """Each file that a manifest of SHA-256 digests lists has the content that it lists."""

    folder: Path
    manifest: Path  # its names are relative to the folder

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.all-files-of-are-as-lists", folder=self.folder, manifest=self.manifest)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.have-what-differs-restored-from-its")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        listed: dict[MachinePath, str] = {}
        for number, line in enumerate(read_text(machine, self.manifest).splitlines(), 1):
            found = _LINE.fullmatch(line)
            if found is None and line.strip() and not line.startswith("#"):
                return unknown(say("prerequisites.line-of-is-no-digest-with", number=number, manifest=self.manifest))
            if found is not None:
                path = machine.join(self.folder, found[2])
                if not path.startswith(machine.join(self.folder, "x")[:-1]):
                    return unknown(
                        say("prerequisites.line-of-names-a-file-outside", number=number, manifest=self.manifest)
                    )
                listed[path] = found[1].lower()
        with ThreadPoolExecutor() as pool:
            wrong = [name for name in pool.map(lambda item: _wrong(asked, *item), listed.items()) if name]
        if wrong:
            return unmet(name_some(wrong, _MOST_NAMED))
        return met(say("prerequisites.all-files-are-right", count=len(listed)))


def _wrong(asked: CheckContext, path: MachinePath, digest: str) -> Message:
    """The file with what is wrong with it; empty where it is right."""
    kind = asked.machine.look(path).kind
    if kind is not EntryKind.FILE:
        return say("prerequisites.is-path-more", path=path, more="missing" if kind is EntryKind.ABSENT else f"a {kind}")
    return UNSAID if digest_of(asked.machine, path) == digest else say("prerequisites.has-other-content", path=path)

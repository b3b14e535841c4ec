"""A folder whose files are as a manifest says."""

import re
from concurrent.futures import ThreadPoolExecutor
from typing import ClassVar

from fundamen.machine.machine import EntryKind
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
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"all files of {self.folder} are as {self.manifest} lists them"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return "Have what differs restored from its publisher's package: fundamen sources --help"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        listed: dict[MachinePath, str] = {}
        for number, line in enumerate(read_text(machine, self.manifest).splitlines(), 1):
            found = _LINE.fullmatch(line)
            if found is None and line.strip() and not line.startswith("#"):
                return unknown(f"line {number} of {self.manifest} is no digest with a name")
            if found is not None:
                path = machine.join(self.folder, found[2])
                if not path.startswith(machine.join(self.folder, "x")[:-1]):
                    return unknown(f"line {number} of {self.manifest} names a file outside of the folder")
                listed[path] = found[1].lower()
        with ThreadPoolExecutor() as pool:
            wrong = [name for name in pool.map(lambda item: _wrong(asked, *item), listed.items()) if name]
        if wrong:
            more = f" and {len(wrong) - _MOST_NAMED} more" if len(wrong) > _MOST_NAMED else ""
            return unmet(", ".join(wrong[:_MOST_NAMED]) + more)
        return met(f"all {len(listed)} files are right")


def _wrong(asked: CheckContext, path: MachinePath, digest: str) -> str:
    """The file with what is wrong with it; empty where it is right."""
    kind = asked.machine.look(path).kind
    if kind is not EntryKind.FILE:
        return f"{path} is {'missing' if kind is EntryKind.ABSENT else f'a {kind}'}"
    return "" if digest_of(asked.machine, path) == digest else f"{path} has other content"

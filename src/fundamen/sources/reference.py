"""A reference: a clean folder whose baseline was recorded, to compare a tree with and to bring back what differs.

The baseline is what counts: what the clean folder holds today is believed only where it is what was recorded. So a
comparison can tell whether the tree is at fault, or the folder that it is compared with.
"""

import hashlib
import json
import os
import stat
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from enum import StrEnum
from fnmatch import fnmatchcase

import msgspec

from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.encoding import to_plain
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole

_PIECE = 1 << 20  # bytes
_MOST_ENTRIES = 2_000_000


class Recorded(msgspec.Struct, frozen=True):
    """One file or link of a baseline."""

    mode: int  # permission bits
    size: int  # bytes
    sha256: str  # empty for a link
    link: str = ""  # the target, of a symbolic link


class Baseline(msgspec.Struct, frozen=True):
    """The content of a clean folder when it was recorded."""

    name: str
    location: str
    recorded_at: datetime
    left_out: tuple[str, ...]  # patterns of paths that are not looked at
    entries: dict[str, Recorded]  # by the path below the folder, parts separated by "/"
    platform: Platform | None = None  # where the folder is the root of a machine, which it runs


class DifferenceKind(StrEnum):
    """How an entry of a tree differs from the baseline."""

    VANISHED = "vanished"
    DIFFERS = "differs"
    EXTRA = "extra"  # the baseline has no such entry; it may well be meant to be there
    BARRED = "barred"  # it cannot be read


class ReferenceDifference(msgspec.Struct, frozen=True):
    """One entry that differs."""

    path: str
    finding: DifferenceKind
    detail: Message
    origin: Message | None = None  # why the reference itself cannot give it back; empty where it can


class ReferenceComparison(msgspec.Struct, frozen=True):
    """A tree against a baseline."""

    baseline: Baseline
    tree: str
    differences: tuple[ReferenceDifference, ...]

    @property
    def at_fault(self) -> tuple[ReferenceDifference, ...]:
        """Entries that have vanished, differ or cannot be read."""
        return tuple(each for each in self.differences if each.finding is not DifferenceKind.EXTRA)

    @property
    def fault_count(self) -> int:
        """How many these are."""
        return len(self.at_fault)

    @property
    def restorable(self) -> tuple[ReferenceDifference, ...]:
        """Entries that the reference can give back."""
        return tuple(each for each in self.at_fault if each.finding is not DifferenceKind.BARRED and not each.origin)


class References:
    """The baselines that were recorded on this host."""

    def __init__(self, home: HostPath) -> None:
        """Open them. Args: home: the folder of our own state."""
        self._folder = os.path.join(home, "references")

    def all(self) -> tuple[Baseline, ...]:
        """All baselines, by their names. Raises: UnreadableError: one is damaged."""
        try:
            names = sorted(os.listdir(self._folder))
        except FileNotFoundError:
            return ()
        return tuple(self.find(name.removesuffix(".json")) for name in names if name.endswith(".json"))

    def record(
        self,
        name: str,
        folder: HostPath,
        left_out: Sequence[str],
        now: datetime,
        platform: Platform | None = None,
    ) -> Baseline:
        """Record what a folder holds; with a platform where it is the root of a machine.

        Raises:
            UsageError: the name is taken, or is none.
            UnreadableError: the folder cannot be read as a whole.
        """
        path = self._path(name)
        if os.path.exists(path):
            raise UsageError(
                what=say("sources.the-reference-is-not-recorded", name=printable(name)),
                why=say("sources.there-is-one-of-this-name"),
                do=say("sources.choose-another-name"),
            )
        entries = read_tree(folder, left_out)
        barred = next((path for path, entry in entries.items() if entry is None), None)
        if barred is not None or not entries:
            raise UnreadableError(
                what=say("sources.the-folder-cannot-be-recorded", folder=printable(folder)),
                why=say("sources.cannot-be-read", barred=printable(barred))
                if barred is not None
                else say("sources.it-is-empty-or-not-there"),
                do=say("sources.name-a-clean-folder-of-which"),
            )
        whole = {path: entry for path, entry in entries.items() if entry is not None}
        baseline = Baseline(name, folder, now, tuple(left_out), whole, platform)
        # As the journal's records: undecodable bytes of a path stand as escapes that plain JSON cannot hold.
        write_whole(path, json.dumps(to_plain(baseline)).encode())
        return baseline

    def find(self, name: str) -> Baseline:
        """A baseline.

        Raises:
            UsageError: there is none of this name.
            UnreadableError: it is damaged.
        """
        try:
            with open(self._path(name), "rb") as file:
                return msgspec.convert(json.loads(file.read()), type=Baseline)
        except FileNotFoundError as error:
            raise UsageError(
                what=say("sources.the-reference-is-not-known", name=printable(name)),
                why=say("sources.no-baseline-of-this-name-was"),
                do=say("sources.record-one-fundamen-references-record-name"),
            ) from error
        except (OSError, ValueError, msgspec.ValidationError) as error:
            raise UnreadableError(
                what=say("sources.the-reference-cannot-be-read", name=printable(name)),
                why=str(error),
                do=say("sources.record-it-again-from-a-clean"),
            ) from error

    def _path(self, name: str) -> str:
        if not name.replace("-", "").replace("_", "").replace(".", "").isalnum() or name.startswith("."):
            raise UsageError(
                what=say("sources.the-reference-cannot-be-named", name=printable(name)),
                why=say("sources.a-name-has-letters-digits-only"),
                do=say("sources.choose-another-name"),
            )
        return os.path.join(self._folder, f"{name}.json")


def compare_with(baseline: Baseline, tree: HostPath) -> ReferenceComparison:
    """Compare a tree with a baseline, and look whether the reference can give back what differs.

    Raises:
        UnreadableError: the tree is not there.
    """
    if not os.path.isdir(tree):
        raise UnreadableError(
            what=say("sources.cannot-be-compared", tree=printable(tree)),
            why=say("sources.it-is-no-folder"),
            do=say("sources.name-the-folder-of-the-tree"),
        )
    found = read_tree(tree, baseline.left_out)
    differences = list(_differences(baseline, found))
    wanted = [each.path for each in differences if each.finding in {DifferenceKind.VANISHED, DifferenceKind.DIFFERS}]
    origins = read_entries(HostPath(baseline.location), wanted)
    judged = [
        msgspec.structs.replace(each, origin=_origin(baseline, each.path, origins)) if each.path in origins else each
        for each in differences
    ]
    return ReferenceComparison(baseline, tree, tuple(judged))


def read_tree(folder: HostPath, left_out: Sequence[str] = ()) -> dict[str, Recorded | None]:
    """All files and links below a folder, in order; None for what cannot be read. Links are not followed.

    Raises:
        UnreadableError: there are more than any tree has.
    """
    paths: list[str] = []
    for parent, folders, names in os.walk(folder):
        folders.sort()
        links = [name for name in folders if os.path.islink(os.path.join(parent, name))]
        for name in sorted((*names, *links)):
            relative = os.path.relpath(os.path.join(parent, name), folder).replace(os.sep, "/")
            if not any(fnmatchcase(relative, pattern) for pattern in left_out):
                paths.append(relative)
        if len(paths) > _MOST_ENTRIES:
            raise UnreadableError(
                what=say("sources.the-folder-cannot-be-read-through", folder=printable(folder)),
                why=say("sources.it-holds-more-than-files", most_entries=_MOST_ENTRIES),
                do=say("sources.name-a-smaller-part-of-it"),
            )
    return read_entries(folder, paths)


def read_entries(folder: HostPath, paths: Sequence[str]) -> dict[str, Recorded | None]:
    """The entries at some paths below a folder; None for a missing or unreadable one."""

    def read(relative: str) -> Recorded | None:
        path = os.path.join(folder, *relative.split("/"))
        try:
            status = os.lstat(path)
            if stat.S_ISLNK(status.st_mode):
                return Recorded(0o777, 0, "", os.readlink(path))
            if not stat.S_ISREG(status.st_mode):
                return None
            with open(path, "rb") as file:
                return Recorded(
                    stat.S_IMODE(status.st_mode), status.st_size, hashlib.file_digest(file, "sha256").hexdigest()
                )
        except OSError:
            return None

    with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as threads:
        return dict(zip(paths, threads.map(read, paths), strict=True))


def _differences(baseline: Baseline, found: dict[str, Recorded | None]) -> Iterator[ReferenceDifference]:
    for path, recorded in baseline.entries.items():
        if path not in found:
            yield ReferenceDifference(path, DifferenceKind.VANISHED, say("sources.it-was-there-when-the-baseline"))
            continue
        entry = found[path]
        if entry is None:
            yield ReferenceDifference(path, DifferenceKind.BARRED, say("sources.it-is-there-and-cannot-be"))
        elif detail := _how(recorded, entry):
            yield ReferenceDifference(path, DifferenceKind.DIFFERS, detail)
    for path in found:
        if path not in baseline.entries:
            yield ReferenceDifference(path, DifferenceKind.EXTRA, say("sources.the-baseline-has-no-such-file"))


def _how(recorded: Recorded, entry: Recorded) -> Message:
    """How an entry differs; empty where it does not."""
    if recorded.link != entry.link:
        return say(
            "sources.it-leads-to-not-to",
            link=entry.link or say("sources.nothing-it-is-no-link"),
            other_link=recorded.link or say("sources.a-file-of-its-own"),
        )
    if recorded.size != entry.size:
        return say("sources.it-has-bytes-not", size=entry.size, other_size=recorded.size)
    if recorded.sha256 != entry.sha256:
        return say("sources.it-has-other-bytes")
    if recorded.mode != entry.mode:
        return say("sources.its-mode-is-not", mode=entry.mode, other_mode=recorded.mode)
    return UNSAID


def _origin(baseline: Baseline, path: str, origins: dict[str, Recorded | None]) -> Message:
    """Why the reference cannot give an entry back: it has itself changed since; empty where it can."""
    entry = origins[path]
    if entry is None:
        return say("sources.the-reference-has-lost-it-too")
    detail = _how(baseline.entries[path], entry)
    return say("sources.the-reference-has-changed-since-it", detail=detail) if detail else UNSAID

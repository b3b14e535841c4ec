"""Bring back what a cold copy holds, whole or in part, where the machine's folder differs from it now."""

import os
import stat
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fundamen.changes.base import MISSING, Step, Work
from fundamen.changes.files import Change
from fundamen.changes.folders import SetFolder
from fundamen.changes.moves import Move, free_aside
from fundamen.cold_copies.archive import bring_out
from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, CopiedKind
from fundamen.cold_copies.store import CopyStore
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState, read_state
from fundamen.placing.replacing import OURS
from fundamen.restore.restoration import Prepared


class Differing(msgspec.Struct, frozen=True):
    """The entries that differ from a copy."""

    paths: tuple[MachinePath, ...]

    @property
    def fault_count(self) -> int:
        """How many they are."""
        return len(self.paths)


class CopyPlan(msgspec.Struct, frozen=True):
    """The entries that would be brought back."""

    copy: ColdCopy
    prepared: Prepared[Differing]
    extra: tuple[MachinePath, ...]  # what was not there when the copy was taken


def prepare_copy(
    machine: Machine, store: CopyStore, copy: ColdCopy, parts: Sequence[str], contents: HostPath, *, exactly: bool
) -> CopyPlan:
    """Plan the steps after which a folder is as in the copy; nothing is changed.

    Where the copy turns out not to be whole, nothing is begun.

    Args:
        machine: whose folder it is.
        store: where the copy lies.
        copy: the cold copy.
        parts: paths in it, with slashes, from the folder on; none for all of it.
        contents: the folder of ours where the bytes of files will lie by their SHA-256.
        exactly: whether what was not there then is set aside.

    Raises:
        UsageError: the copy has no such part, or something of another kind stands in a place.
        UnreadableError: what is there cannot be read.
    """
    above, wanted = _choose_entries(copy, [part.strip("/") for part in parts])
    planning = _Planning(machine, copy)
    steps = [step for entry in above for step in planning.steps_for(entry) if step.because == MISSING]
    steps += [step for entry in wanted for step in planning.steps_for(entry)]
    extra = tuple(planning.not_in_copy(wanted))
    if exactly:
        steps += [
            Move(path=path, because=say("restore.not-in-the-copy"), aside=free_aside(machine, path)) for path in extra
        ]
    touched = {place for step in steps for place in (step.path, machine.folder_of(step.path))}
    by_depth = sorted(wanted, key=lambda entry: entry.path.count("/") + bool(entry.path), reverse=True)
    late = [planning.times_of(entry) for entry in by_depth if entry.kind is CopiedKind.FOLDER]
    steps += [step for step in late if step.path in touched]
    kept = {digest: HostPath(os.path.join(contents, digest)) for step in steps if (digest := step.brought.sha256)}
    work = Work(copy.folder, (say("restore.cold-copy-of", number=copy.number, folder=copy.folder),), tuple(steps), kept)
    places = {step.path for step in steps if step.writes_file}
    placed = [entry for entry in copy.entries if planning.place_of(entry) in places]
    prepared = Prepared(
        work=work,
        before=Differing(tuple(step.path for step in steps)),
        rehearsed=Differing(()),
        prove=lambda machine: Differing(tuple(_Planning(machine, copy).changed_places(placed))),
        make_ready=lambda: bring_out(store.archive_of(copy.number), copy, work.contents),
    )
    return CopyPlan(copy, prepared, extra)


class _Planning:
    def __init__(self, machine: Machine, copy: ColdCopy) -> None:
        self._machine, self._copy = machine, copy
        self._top = machine.place(copy.folder)

    def place_of(self, entry: CopiedEntry) -> MachinePath:
        """Where an entry belongs, as the machine spells it."""
        return self._machine.join(self._copy.folder, *entry.path.split("/")) if entry.path else self._copy.folder

    def changed_places(self, entries: Iterable[CopiedEntry]) -> Iterator[MachinePath]:
        """The places of entries that are not as they were."""
        return (self.place_of(entry) for entry in entries if any(True for _ in self.steps_for(entry)))

    def steps_for(self, entry: CopiedEntry) -> Iterator[Step]:
        """The step that makes a place as it was; none where it is."""
        path, host = self.place_of(entry), self._top.below(entry.path)
        if entry.kind is CopiedKind.FOLDER:
            yield from self._steps_for_folder(entry, path, host)
            return
        try:
            now = read_state(host)
        except OSError as error:
            raise self._refusal(path, error.strerror or str(error)) from error
        if now is None or _differ(now, entry.state):
            yield Change(
                path=path,
                location=self._machine.ground.location(host),
                because=_difference(now, entry.state),
                sha256=entry.state.sha256,
                size=entry.state.size,
                link=entry.state.link,
                state=entry.state,
            )

    def _steps_for_folder(self, entry: CopiedEntry, path: MachinePath, host: Place) -> Iterator[Step]:
        status = host.status_or_none()
        if status is not None and not stat.S_ISDIR(status.st_mode):
            raise self._refusal(path, say("restore.it-is-a-link-or-a"))
        state, location = entry.state, self._machine.ground.location(host)
        if status is None:
            yield SetFolder(path=path, location=location, because=MISSING, state=state)
            return
        if (status.st_mode & 0o7777, status.st_uid, status.st_gid) != (state.mode, state.uid, state.gid):
            yield SetFolder(
                path=path, location=location, because=say("restore.other-rights-or-another-owner"), state=state
            )

    def times_of(self, entry: CopiedEntry) -> SetFolder:
        """The step that gives a folder its times, once all in it is done."""
        location = self._machine.ground.location(self._top.below(entry.path))
        path, because = self.place_of(entry), "its times"
        return SetFolder(path=path, location=location, because=because, state=entry.state, gives_times=True)

    def not_in_copy(self, wanted: Sequence[CopiedEntry]) -> Iterator[MachinePath]:
        """Entries in the folders of a part that are not in the copy."""
        known = {e.path for e in self._copy.entries} | {left.path for left in self._copy.left_out}
        for entry in wanted:
            host = self._top.below(entry.path)
            if entry.kind is CopiedKind.FOLDER and host.is_folder:
                for name in sorted(host.names()):
                    if not name.startswith(OURS) and (path := f"{_below(entry.path)}{name}") not in known:
                        yield self._machine.join(self._copy.folder, *path.split("/"))

    def _refusal(self, path: MachinePath, why: str) -> UsageError:
        return UsageError(
            what=say("restore.cannot-be-brought-back", path=printable(path)),
            why=why,
            do=say("restore.nothing-was-changed-set-it-aside"),
        )


def _choose_entries(copy: ColdCopy, parts: Sequence[str]) -> tuple[list[CopiedEntry], list[CopiedEntry]]:
    """(the folders above some parts, the entries of these parts)."""
    known = {entry.path for entry in copy.entries}
    for part in parts:
        if part not in known:
            raise UsageError(
                what=say("restore.cannot-be-brought-back", path=printable(part)),
                why=say("restore.cold-copy-has-nothing-of-that", number=copy.number),
                do=say("restore.name-it-as-it-lies-in", folder=printable(copy.folder)),
            )
    chosen = parts or [""]
    wanted = [e for e in copy.entries if any(e.path == part or e.path.startswith(_below(part)) for part in chosen)]
    inner = {entry.path for entry in wanted}
    return [
        e for e in copy.entries if e.path not in inner and any(part.startswith(_below(e.path)) for part in chosen)
    ], wanted


def _below(path: str) -> str:
    return f"{path}/" if path else ""


def _differ(now: FileState, then: FileState) -> bool:
    """Whether a file or link is not what it was; when it was last read does not count, nor the times of a link."""
    times = {"accessed_ns": 0, "modified_ns": 0} if then.link else {"accessed_ns": 0}
    return msgspec.structs.replace(now, **times) != msgspec.structs.replace(then, **times)


def _difference(now: FileState | None, then: FileState) -> str:
    if now is None:
        return MISSING
    if (now.sha256, now.link) != (then.sha256, then.link):
        return "other content"
    return say("restore.other-rights-owner-times-or-attributes")

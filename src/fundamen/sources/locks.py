"""Check what a lock file pins against the files that lie there: what fits, and of what differs, who is at fault.

A recorded digest that does not fit has one of two causes. Either the lock file is *aged*: its publisher has put another
file in the place of the one that was locked, and a trusted source knows the new one. Or the
file was *altered*: someone vouches for the locked digest and not for the bytes that lie there. Where no one vouches
for either, that is said, and nothing is refreshed.
"""

import hashlib
import os
from collections.abc import Sequence
from enum import StrEnum
from typing import Protocol

import msgspec
from packaging.version import InvalidVersion, Version

from fundamen.formats.lock_file import LockedFile, LockEntry, LockFile, spelled_digest
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.display import printable
from fundamen.model.errors import UntrustedError, UsageError
from fundamen.model.paths import HostPath
from fundamen.sources.artefacts import Artefact, ArtefactName, normalise

_NO_BUILD = ("none",)


class Vouching(Protocol):
    """A judge of files that also lists the files of a project."""

    def vouch(self, name: str, algorithm: str, digest: str, /) -> str:
        """The sources that know a file of some name with a digest; empty for none."""

    def all_offered(self, project: str, /) -> Sequence[ArtefactName]:
        """All files of a project that can be had from someone who is trusted."""


class PinState(StrEnum):
    """How an entry of a lock file stands."""

    FITS = "fits"
    AGED = "aged"  # the file is vouched for, the lock file has an older digest
    ALTERED = "altered"  # the locked digest is vouched for, the file is another one
    UNKNOWN = "unknown"  # they differ, and no trusted source knows either
    ABSENT = "absent"  # no such file lies there
    NOT_LOCKED = "not locked"  # the lock file records no digest


class CheckedPin(msgspec.Struct, frozen=True):
    """One entry of a lock file, checked."""

    entry: LockEntry
    state: PinState
    detail: Message
    artefact: Artefact | None = None
    locked: LockedFile | None = None  # the recorded digest that the artefact does not fit
    builds: tuple[str, ...] = ()  # where the pinned version has no build for the processor: the versions that have one

    @property
    def is_at_fault(self) -> bool:
        """Whether an installer would refuse it, or there is no build for the processor."""
        return self.state in {PinState.AGED, PinState.ALTERED, PinState.UNKNOWN} or bool(self.builds)


def check_lock(
    lock: LockFile, artefacts: Sequence[Artefact], vouching: Vouching, architecture: Architecture
) -> tuple[CheckedPin, ...]:
    """Check every entry of a lock file.

    Args:
        lock: what is pinned.
        artefacts: the files that lie there.
        vouching: says who vouches for bytes.
        architecture: for which processor builds are wanted.
    """
    return tuple(_check_pin(entry, artefacts, vouching, architecture) for entry in lock.entries)


def refresh_entry(text: str, checked: CheckedPin) -> str:
    """A lock file's text with the digest of one aged entry replaced; everything else stays as it is, to the character.

    Raises:
        UntrustedError: the entry is not aged: no trusted source knows the file there.
        UsageError: it cannot be known which of several digests is meant.
    """
    if checked.state is not PinState.AGED or checked.artefact is None:
        raise UntrustedError(
            what=say("sources.the-entry-is-not-refreshed", name=printable(checked.entry.name)),
            why=checked.detail,
            do=say("sources.get-the-file-from-a-source"),
        )
    locked = checked.locked
    if locked is None or text.count(locked.spelled) != 1:
        raise UsageError(
            what=say("sources.the-entry-cannot-be-refreshed", name=printable(checked.entry.name)),
            why=say("sources.it-records-several-digests-without-naming"),
            do=say("sources.lock-it-again-with-the-tool"),
        )
    return text.replace(locked.spelled, spelled_digest(locked, _digest(checked.artefact.path, locked.algorithm)))


def nearest(checked: CheckedPin) -> str | None:
    """Of the versions with a build the one after the pinned version, otherwise the one before; None without any."""
    if checked.builds == _NO_BUILD:
        return None
    later = [each for each in checked.builds if _version_of(each) > _version_of(checked.entry.version)]
    return later[-1] if later else next(iter(checked.builds), None)


def _check_pin(
    entry: LockEntry, artefacts: Sequence[Artefact], vouching: Vouching, architecture: Architecture
) -> CheckedPin:
    own = [each for each in artefacts if each.name.project == normalise(entry.name)]
    pinned = [each for each in own if _same_version(each.name.version, entry.version)]
    builds = _other_builds(entry, [each.name for each in own], vouching, architecture)
    if not entry.files:
        return CheckedPin(entry, PinState.NOT_LOCKED, say("sources.no-digest-is-recorded"), builds=builds)
    named = {each.name for each in entry.files if each.name}
    at_hand = [each for each in pinned if not named or os.path.basename(each.path) in named]
    if not at_hand:
        return CheckedPin(entry, PinState.ABSENT, _where_else(entry, vouching), builds=builds)
    for artefact in at_hand:
        name = os.path.basename(artefact.path)
        locked = [each for each in entry.files if each.name in {"", name}]
        if any(_digest(artefact.path, each.algorithm).hex() == each.digest for each in locked):
            continue
        state, detail = _cause(name, artefact, locked, vouching)
        return CheckedPin(entry, state, detail, artefact, locked[0] if len(locked) == 1 else None, builds)
    return CheckedPin(entry, PinState.FITS, UNSAID, at_hand[0], builds=builds)


def _where_else(entry: LockEntry, vouching: Vouching) -> Message:
    """Who has what was locked and does not lie there; empty where no one has."""
    whos = (vouching.vouch(each.name, each.algorithm, each.digest) for each in entry.files if each.name)
    who = next(filter(None, whos), "")
    return say("sources.has-the-file-that-was-locked", who=who) if who else UNSAID


def _cause(name: str, artefact: Artefact, locked: Sequence[LockedFile], vouching: Vouching) -> tuple[PinState, Message]:
    if who := vouching.vouch(name, "sha256", _digest(artefact.path, "sha256").hex()):
        return PinState.AGED, say("sources.is-not-the-file-that-was", name=name, who=who)
    for each in locked:
        if who := vouching.vouch(name, each.algorithm, each.digest):
            return PinState.ALTERED, say("sources.knows-the-file-that-was-locked", who=who, name=name)
    return PinState.UNKNOWN, say("sources.is-not-the-file-that-was-locked", name=name)


def _other_builds(
    entry: LockEntry, own: Sequence[ArtefactName], vouching: Vouching, architecture: Architecture
) -> tuple[str, ...]:
    """Where the pinned version is known and has no build for a processor: the versions that have one."""
    known = [*own, *vouching.all_offered(entry.name)]
    serving = [each for each in known if each.serves(architecture)]
    if not known or any(_same_version(each.version, entry.version) for each in serving):
        return ()
    return tuple(sorted({each.version for each in serving}, key=_version_of, reverse=True)) or _NO_BUILD


def _version_of(text: str) -> Version:
    try:
        return Version(text)
    except InvalidVersion:
        return Version("0")


def _same_version(one: str, other: str) -> bool:
    return one == other or (_version_of(one) == _version_of(other) != Version("0"))


def _digest(path: HostPath, algorithm: str) -> bytes:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, algorithm).digest()

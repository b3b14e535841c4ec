"""Fetch a package's file by its digest: from where it was truncated, from one place after the other.

Guarantees: what stands under a digest has that digest; no more than the signed size is ever written.
"""

import hashlib
import os
import queue
import threading
from collections.abc import Callable, Sequence
from types import TracebackType
from typing import BinaryIO, Self

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UntrustedError
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath
from fundamen.sources.place import SourcePlace

_PIECE = 1 << 18  # bytes
_MOST_WAITING = 32  # pieces that are received and not written yet

Received = Callable[[int], None]  # called with the number of bytes of each piece


def fetch_file(
    name: str, places: Sequence[tuple[SourcePlace, str]], file: PackageFile, target: HostPath, received: Received
) -> None:
    """Bring a file in and put it at a target under its digest.

    Args:
        name: the source's name, for messages.
        places: where the file may be had, with its path there, the nearest first.
        file: what it must be.
        target: where it is put; a part that was fetched earlier lies beside it.
        received: called as pieces arrive.

    Raises:
        UntrustedError: no place gives the signed bytes.
        UnreadableError: no place has it, or can be reached.
        OSError: the target cannot be written.
    """
    failures: list[UnreadableError | UntrustedError] = []
    for place, relative in places:
        try:
            _fetch_from(name, place, relative, file, target, received)
        except (UnreadableError, UntrustedError) as error:
            failures.append(error)
        else:
            return
    raise next((error for error in failures if isinstance(error, UntrustedError)), failures[0])


def _fetch_from(
    name: str, place: SourcePlace, relative: str, file: PackageFile, target: HostPath, received: Received
) -> None:
    part = f"{target}.part"
    os.makedirs(os.path.dirname(part), exist_ok=True)
    at_hand = os.path.getsize(part) if os.path.exists(part) else 0
    if at_hand > file.size:
        at_hand = 0
    digest = _append(place, relative, part, at_hand, file.size, received)
    if digest != file.sha256 and at_hand:  # what lay there from earlier may be to blame: once more, from the beginning
        digest = _append(place, relative, part, 0, file.size, received)
    if digest == file.sha256:
        os.replace(part, target)
        return
    os.unlink(part)
    raise UntrustedError(
        what=say("sources.from-the-source-is-refused", name=printable(file.name), other_name=printable(name)),
        why=say("sources.its-bytes-have-the-sha-256", digest=digest[:16], sha256=file.sha256[:16]),
        do=say("sources.do-not-use-this-copy-of"),
    )


def _append(place: SourcePlace, relative: str, part: str, at_hand: int, size: int, received: Received) -> str:
    """Add what a place gives to the part that is available, flush it, and give the SHA-256 of the whole."""
    is_whole = 0 < size == at_hand
    pieces = None if is_whole else place.open(relative, at_hand)
    begins_at = pieces.offset if pieces is not None else at_hand
    state = hashlib.sha256()
    with open(part, "r+b" if begins_at else "wb") as file:
        while file.tell() < begins_at and (piece := file.read(min(_PIECE, begins_at - file.tell()))):
            state.update(piece)
        file.truncate()
        received(begins_at)
        left = size + 1 - begins_at  # one byte more than signed: what was appended shows
        with _Writing(file, state) as writing:
            for piece in pieces or ():
                writing.add(piece[:left])
                received(min(len(piece), left))
                left -= len(piece)
                if left <= 0:
                    break
        file.flush()
        os.fsync(file.fileno())
    return state.hexdigest()


class _Writing:
    """Takes the digest of pieces and writes them in a thread of its own, while the next ones are received.

    Leaving the block waits for it; what could not be written is raised then, or by the next piece.
    """

    def __init__(self, file: BinaryIO, state: "hashlib._Hash") -> None:
        self._file = file
        self._state = state
        self._waiting: queue.Queue[bytes | None] = queue.Queue(_MOST_WAITING)
        self._error: OSError | None = None
        self._thread = threading.Thread(target=self._work, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self._waiting.put(None)
        self._thread.join()
        if self._error is not None and _type is None:
            raise self._error

    def add(self, piece: bytes) -> None:
        """Hand a piece over. Raises: OSError: an earlier one could not be written."""
        if self._error is not None:
            raise self._error
        self._waiting.put(piece)

    def _work(self) -> None:
        gathered: list[bytes] = []
        size = 0
        while (piece := self._waiting.get()) is not None:
            gathered.append(piece)
            size += len(piece)
            if size >= _PIECE:
                self._write(b"".join(gathered))
                gathered, size = [], 0
        self._write(b"".join(gathered))

    def _write(self, data: bytes) -> None:
        if self._error is not None:
            return  # what comes now is only taken away, so that no one waits for room
        try:
            self._state.update(data)
            self._file.write(data)
        except OSError as error:
            self._error = error

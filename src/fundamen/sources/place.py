"""Where a source lies: a folder, or the same tree served over HTTPS. What comes from there is not believed yet."""

import os
from collections.abc import Iterator
from typing import Protocol

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError

_PIECE = 1 << 18  # bytes


class NotThereError(UnreadableError):
    """The place is available, but has no such file."""


class UnreachableError(UnreadableError):
    """The place is not available, or does not give what it has; another one may."""


class SlowError(UnreachableError):
    """The place gives what it has more slowly than anybody should wait for (slow retrieval)."""


class Pieces(Protocol):
    """The bytes of one file of a source."""

    @property
    def offset(self) -> int:
        """With which byte they begin; 0 where the place cannot begin elsewhere."""

    def __iter__(self) -> Iterator[bytes]:
        """Give them, bounded by nothing: the caller counts. Raises: UnreachableError: they break off."""


class SourcePlace(Protocol):
    """One place where a source lies."""

    @property
    def title(self) -> str:
        """How it is named in messages."""

    def open(self, relative: str, offset: int = 0) -> Pieces:
        """Open a file of the source, its path written with ``/``.

        Args:
            relative: the path below the source.
            offset: how many bytes of it are available already; the place may ignore that.

        Raises:
            NotThereError: there is no such file.
            UnreachableError: the place cannot be reached.
        """


class FolderPlace:
    """A source on a disk, a share or a USB stick."""

    def __init__(self, folder: str) -> None:
        self.title = printable(folder)
        self._folder = folder

    def open(self, relative: str, offset: int = 0) -> "_FilePieces":
        """Open a file of the source. Raises: NotThereError, UnreachableError."""
        path = os.path.join(self._folder, *relative.split("/"))
        if os.path.isfile(path):
            return _FilePieces(path, offset)
        raise NotThereError(
            what=say("sources.cannot-be-brought-in", relative=printable(relative)),
            why=say("sources.has-no-such-file", title=self.title),
            do=say("sources.copy-the-source-from-the-packager"),
        )


class _FilePieces:
    def __init__(self, path: str, offset: int) -> None:
        self.offset = offset
        self._path = path

    def __iter__(self) -> Iterator[bytes]:
        try:
            with open(self._path, "rb") as file:
                file.seek(self.offset)
                while piece := file.read(_PIECE):
                    yield piece
        except OSError as error:
            raise UnreachableError(
                what=say("sources.cannot-be-brought-in", relative=printable(self._path)),
                why=error.strerror or str(error),
                do=say("sources.copy-the-source-from-the-packager"),
            ) from error


def read_small(place: SourcePlace, relative: str, most: int) -> bytes:
    """All bytes of a small file of a source.

    Raises:
        UnreadableError: it is not there, cannot be reached, or has more than ``most`` bytes.
    """
    data = bytearray()
    for piece in place.open(relative):
        data += piece
        if len(data) > most:
            raise UnreachableError(
                what=say("sources.cannot-be-brought-in", relative=printable(relative)),
                why=say("sources.gives-more-than-the-bytes-that", title=place.title, most=most),
                do=say("sources.do-not-use-this-copy-of"),
            )
    return bytes(data)

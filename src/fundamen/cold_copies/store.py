"""Where the cold copies of a machine lie: each an archive and its list; it is there once the list is."""

import contextlib
import os
import re

from fundamen.cold_copies.manifest import ColdCopy, manifest_bytes, read_manifest
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.placing.flushing import flush_folder
from fundamen.placing.own_files import write_whole

_LIST = re.compile(r"^(\d{1,9})\.json$")
_MOST_LIST = 1 << 30  # bytes


class CopyStore:
    """The cold copies in a folder of ours."""

    def __init__(self, folder: HostPath) -> None:
        self.folder = folder

    def archive_of(self, number: int) -> HostPath:
        """Where the archive of a copy lies."""
        return HostPath(os.path.join(self.folder, f"{number}.tar.zst"))

    def numbers(self) -> tuple[int, ...]:
        """The numbers of the copies, the oldest first; also of those whose list is damaged. Raises: OSError."""
        try:
            names = os.listdir(self.folder)
        except FileNotFoundError:
            return ()
        return tuple(sorted(int(found[1]) for name in names if (found := _LIST.match(name))))

    def next_number(self) -> int:
        """A number that no copy has had. Raises: OSError."""
        return max(self.numbers(), default=0) + 1

    def find(self, number: int) -> ColdCopy:
        """A copy by its number.

        Raises:
            UsageError: there is none.
            DamagedFileError: its list is damaged.
        """
        path = self._list_of(number)
        try:
            with open(path, "rb") as file:
                copy = read_manifest(file.read(_MOST_LIST), path)
        except FileNotFoundError as error:
            raise UsageError(
                what=say("cold_copies.there-is-no-cold-copy", number=number),
                why=say("cold_copies.this-machine-has-none-of-that"),
                do=say("cold_copies.see-which-there-are-fundamen-cold"),
            ) from error
        if copy.number != number:
            raise UnreadableError(
                what=say("cold_copies.cold-copy-cannot-be-used", number=number),
                why=say("cold_copies.its-list-is-that-of-number", path=printable(path), number=copy.number),
                do=say("cold_copies.see-which-others-are-whole-fundamen"),
            )
        return copy

    def copies(self) -> tuple[tuple[ColdCopy, ...], tuple[FundamenError, ...]]:
        """(the copies, the oldest first; why others cannot be used)."""
        found, failed = [], []
        for number in self.numbers():
            try:
                found.append(self.find(number))
            except FundamenError as error:
                failed.append(error)
        return tuple(found), tuple(failed)

    def add(self, copy: ColdCopy) -> None:
        """Write the list of a copy whose archive lies there already: from now on there is one. Raises: OSError."""
        write_whole(self._list_of(copy.number), manifest_bytes(copy))

    def drop(self, number: int) -> None:
        """Give a copy up: first its list, so that none is offered whose archive is gone. Raises: OSError."""
        os.unlink(self._list_of(number))
        flush_folder(self.folder)
        with contextlib.suppress(FileNotFoundError):
            os.unlink(self.archive_of(number))

    def _list_of(self, number: int) -> str:
        return os.path.join(self.folder, f"{number}.json")

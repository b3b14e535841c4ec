"""The licences that the technician has accepted: which text, when. Written only when someone said yes to that text.

The file is JSON Lines in Fundamen's own folder, one acceptance a line; a line that cannot be read counts for nothing.
"""

import os
from datetime import datetime

import msgspec

from fundamen.model.encoding import encode_json
from fundamen.model.paths import HostPath

_NAME = "accepted-licences.jsonl"
_MOST_BYTES = 16 << 20


class RecordedAcceptance(msgspec.Struct, frozen=True):
    """That a text was accepted."""

    sha256: str  # of the text
    text: str  # where it lay
    at: datetime  # UTC


def read_acceptances(home: HostPath) -> tuple[RecordedAcceptance, ...]:
    """All that were recorded. Raises: OSError: the file is there and cannot be read."""
    try:
        with open(os.path.join(home, _NAME), "rb") as file:
            lines = file.read(_MOST_BYTES).splitlines()
    except FileNotFoundError:
        return ()
    found = []
    for line in lines:
        try:
            found.append(msgspec.json.decode(line, type=RecordedAcceptance))
        except (msgspec.DecodeError, ValueError):
            continue
    return tuple(found)


def record_acceptance(home: HostPath, acceptance: RecordedAcceptance) -> None:
    """Write one down, flushed before it counts. Raises: OSError."""
    os.makedirs(home, exist_ok=True)
    path = os.path.join(home, _NAME)
    is_new = not os.path.exists(path)
    with open(path, "ab") as file:
        if file.tell():
            with open(path, "rb") as before:
                before.seek(-1, os.SEEK_END)
                if before.read(1) != b"\n":  # a line that was interrupted must not swallow this one
                    file.write(b"\n")
        file.write(encode_json(acceptance) + b"\n")
        file.flush()
        os.fsync(file.fileno())
    if is_new and os.name == "posix":
        folder = os.open(home, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)

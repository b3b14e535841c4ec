"""The contract of ``capture`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.formats.capture_file import CaptureManifest


class CaptureRecord(msgspec.Struct, frozen=True):
    """A capture that was written."""

    file: str
    machine: str
    made_at: str
    of: tuple[str, ...]
    files: int  # that it has bytes of
    bytes: int
    left_out: tuple[str, ...]
    schema: Literal["fundamen.captured/1"] = "fundamen.captured/1"


def capture_record(file: str, manifest: CaptureManifest) -> CaptureRecord:
    """A capture as JSON has it."""
    return CaptureRecord(
        file=file,
        machine=manifest.machine,
        made_at=manifest.made_at.isoformat(),
        of=manifest.of,
        files=manifest.files,
        bytes=manifest.bytes,
        left_out=manifest.left_out,
    )

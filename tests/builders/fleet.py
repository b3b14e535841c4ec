"""Captures of many made-up machines."""

import io
import random
from datetime import UTC, datetime
from pathlib import Path

from fundamen.formats.capture_file import CaptureManifest, MachineFacts, SharedFault, Summary, write_capture
from fundamen.model.architecture import Platform

NOW = datetime(2026, 11, 28, 9, tzinfo=UTC)


def a_fleet(folder: Path, count: int, packages: int = 50) -> Path:
    """Captures of machines that are alike but for a few: each tenth has a fault, one is behind, one lacks a package."""
    chance = random.Random(3)  # noqa: S311 - to be the same each time
    folder.mkdir()
    for number in range(count):
        components = {f"lib{name}:amd64": "1.0" for name in range(packages)}
        components["tide:amd64"] = chance.choice(["4.2", "4.3"])
        if number == 1:
            components["lib7:amd64"] = "0.9"
        if number == 2:
            components.pop("lib8:amd64", None)
        faults = (SharedFault("libtide.so.2", "missing", 3),) if number % 10 == 0 else ()
        if number == 5:
            faults = (*faults, SharedFault("/usr/lib/libebb.so", "corrupt", 1))
        summary = Summary(
            machine=f"desk-{number:03}", platform=Platform.LINUX, made_at=NOW, programs=900, components=components,
            faults=faults,
        )  # fmt: skip
        manifest = CaptureManifest(
            machine=summary.machine, platform=Platform.LINUX, was_running=True, made_at=NOW, of=("the whole machine",),
            files=1, bytes=100_000, left_out=(), facts_sha256="", content_sha256="",
        )  # fmt: skip
        content = io.BytesIO(chance.randbytes(100_000))
        with (folder / f"{summary.machine}.capture").open("wb") as file:
            write_capture(file, manifest, MachineFacts(), content, summary)
    return folder

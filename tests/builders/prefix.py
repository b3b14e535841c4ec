"""A fresh Windows-compatible prefix: made once for all tests of a run, and copied for each that wants one."""

import fcntl
import os
import subprocess
from pathlib import Path

import pytest

WINE, SERVER = "/usr/lib/wine/wine64", "/usr/lib/wine/wineserver64"


def a_prefix(factory: pytest.TempPathFactory, folder: Path | None = None) -> Path:
    """A prefix that no one has used, in a folder of its own; in this one, if it is named."""
    folder = folder or factory.mktemp("prefix")
    subprocess.run(["cp", "-a", "--reflink=auto", f"{_pristine(factory)}/.", folder], check=True)
    return folder


def _pristine(factory: pytest.TempPathFactory) -> Path:
    """The one that is copied. All processes of a run share it; the first one makes it."""
    shared = factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    made, part = shared / "pristine-prefix", shared / "pristine-prefix.part"
    with (shared / "pristine-prefix.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            environment = {**os.environ, "WINEPREFIX": str(part), "WINEDEBUG": "-all"}
            environment["WINEDLLOVERRIDES"] = "mscoree,mshtml="  # no offer to fetch what few programs want
            quiet = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
            subprocess.run([WINE, "wineboot", "--init"], env=environment, check=True, **quiet)  # type: ignore[call-overload]
            subprocess.run([SERVER, "-w"], env=environment, check=True)
            part.rename(made)
    return made

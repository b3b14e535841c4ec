"""Compile small programs and libraries from C."""

import shutil
import subprocess
from pathlib import Path

import pytest

COMPILER = shutil.which("cc") or shutil.which("gcc")


def compiled(output: Path, source: str, *arguments: str, using: str | None = COMPILER) -> Path:
    """Compile a source text; skipped where there is no compiler.

    Args:
        output: the file to be made, whose folder is made too.
        source: in C.
        arguments: further ones of the compiler.
        using: the compiler.
    """
    if using is None:
        pytest.skip("no C compiler")
    output.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run(
        [using, "-x", "c", "-", "-o", output, "-x", "none", *arguments],
        input=source.encode(),
        check=True,
        capture_output=True,
    )
    return output

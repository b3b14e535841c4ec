"""The loader's own report of symbols that no one defines, for programs and libraries of this machine."""

import os
import random
import re
import subprocess
import sys
from pathlib import Path

import pytest

from builders.machine import LOADER
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import trace_programs

pytestmark = [
    pytest.mark.system,
    pytest.mark.skipif(not Path(LOADER).exists() or sys.platform != "linux", reason="needs the loader of x86_64"),
]
REPORT = {"LD_TRACE_LOADED_OBJECTS": "1", "LD_WARN": "1", "LD_BIND_NOW": "1"}
UNDEFINED = re.compile(rb"^undefined symbol: (\S+)\t", re.MULTILINE)


def is_of_this_loader(path: Path) -> bool:
    data = path.read_bytes()[:20]
    return data[:5] == b"\x7fELF\2" and data[16] == 3 and data[18] == 62  # ET_DYN for x86_64


def test_the_symbols_that_no_one_defines_are_those_that_the_loader_reports() -> None:
    folders = [Path("/usr/bin"), *(Path("/usr/lib/x86_64-linux-gnu").rglob("*/")), Path("/usr/lib/x86_64-linux-gnu")]
    files = [
        path
        for folder in folders
        for path in folder.glob("*")
        if path.is_file() and not path.is_symlink() and path.stat().st_size < 20 << 20 and is_of_this_loader(path)
    ]
    chosen = random.Random(9).sample(sorted(files), min(400, len(files)))  # noqa: S311 - the same ones each time
    machine = open_machine(None, environment={}, current="/")
    traces = trace_programs(machine, [MachinePath(str(path)) for path in chosen], symbols=True)
    differing, lacking = [], 0
    for path, trace in zip(chosen, traces, strict=True):
        assert not isinstance(trace, Exception), path
        answer = subprocess.run([LOADER, path], env=REPORT, capture_output=True, check=False, cwd="/")
        theirs = {os.fsdecode(name) for name in UNDEFINED.findall(answer.stdout + answer.stderr)}
        ours = {component.name for component in trace.components if component.kind == "symbol"}
        lacking += bool(theirs)
        if (
            len(ours) < 200
            and ours != theirs
            and not any(c.kind == "shared-library" and c.is_fault for c in trace.components)
        ):
            differing.append((str(path), sorted(ours ^ theirs)[:5]))
    assert differing == []
    assert lacking > 5

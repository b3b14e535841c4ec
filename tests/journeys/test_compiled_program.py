"""The first journey, on this very host: a program compiled on the spot is broken, traced, restored, run and undone."""

import fcntl
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from builders.machine import a_copy
from builders.source import ASource
from conftest import Fundamen
from fundamen.demo.world import BINARIES
from wording import says

pytestmark = [
    pytest.mark.skipif(sys.platform != "linux", reason="live machines are examined on Linux"),
    pytest.mark.xdist_group("this host"),  # two at once are refused, as they should be
]

LIBRARIES = ("alder", "birch", "cedar")


@pytest.fixture
def app(tmp_path: Path, compile_c: Callable[..., Path]) -> Path:
    """A program that adds up what its three private libraries give."""
    folder = tmp_path / "der Ordner"
    for number, name in enumerate(LIBRARIES, 1):
        source = f"int {name}(void) {{ return {number}; }}\n"
        compile_c(folder / "lib" / f"lib{name}.so.1", source, "-shared", "-fPIC", f"-Wl,-soname,lib{name}.so.1")
    calls = " + ".join(f"{name}()" for name in LIBRARIES)
    declarations = "".join(f"int {name}(void);\n" for name in LIBRARIES)
    main = f'#include <stdio.h>\n{declarations}int main(void) {{ printf("sum %d\\n", {calls}); return 0; }}\n'
    libraries = [str(folder / "lib" / f"lib{name}.so.1") for name in LIBRARIES]
    flags = ["-Wl,--enable-new-dtags", "-Wl,-rpath,$ORIGIN/../lib", *libraries]
    return compile_c(folder / "bin" / "app", main, *flags)


def states(folder: Path) -> dict[str, tuple[object, ...]]:
    """Content, mode, owner and time of every file and folder."""
    return {
        str(p.relative_to(folder)): (p.is_file() and p.read_bytes(), s.st_mode, s.st_uid, s.st_gid, s.st_mtime_ns)
        for p in folder.rglob("*")
        if (s := p.stat())
    }


def test_one_trace_names_the_three_faults_restore_mends_them_and_undo_brings_them_back(
    fundamen: Fundamen, app: Path, tmp_path: Path
) -> None:
    libraries = app.parent.parent / "lib"
    source = ASource(tmp_path / "it", tmp_path / "unused")
    source.published({path.name: path.read_bytes() for path in libraries.iterdir()})
    whole = a_copy(tmp_path / "whole", libraries)

    (libraries / "libalder.so.1").unlink()
    shutil.copyfile(BINARIES / "linux-x86" / "libsaltgrass-core.so.4", libraries / "libbirch.so.1")
    os.truncate(libraries / "libcedar.so.1", (libraries / "libcedar.so.1").stat().st_size // 2)
    broken = states(app.parent.parent)
    assert subprocess.run([app], capture_output=True, check=False).returncode != 0

    [trace] = fundamen("trace", "--json", str(app)).records
    assert sorted((c["name"], c["verdict"]) for c in trace["components"] if c["fault"]) == [
        ("libalder.so.1", "missing"),
        ("libbirch.so.1", "wrong-architecture"),
        ("libcedar.so.1", "corrupt"),
    ]

    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    rehearsed = fundamen("restore", "--rehearse", str(app))
    assert (rehearsed.status, states(app.parent.parent)) == (1, broken)

    restored = fundamen("restore", "--yes", "--launch", str(app))
    assert restored.status == 0, restored.out + restored.err
    assert "sum 6" in restored.out
    assert subprocess.run([app], capture_output=True, check=True).stdout == b"sum 6\n"
    assert {p.name: p.read_bytes() for p in libraries.iterdir()} == {p.name: p.read_bytes() for p in whole.iterdir()}
    assert fundamen("trace", str(app)).status == 0

    assert fundamen("undo").status == 0
    assert states(app.parent.parent) == broken


def test_a_bit_that_flipped_is_found_by_the_signed_digest(fundamen: Fundamen, app: Path, tmp_path: Path) -> None:
    library = app.parent.parent / "lib" / "libbirch.so.1"
    whole = {path.name: path.read_bytes() for path in library.parent.iterdir() if path.is_file()}
    source = ASource(tmp_path / "it", tmp_path / "unused").published(whole)
    fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
    data = bytearray(library.read_bytes())
    data[len(data) // 2] ^= 1
    library.write_bytes(data)
    [trace] = fundamen("trace", "--json", str(app)).records
    assert [(c["name"], c["verdict"]) for c in trace["components"] if c["fault"]] == [("libbirch.so.1", "corrupt")]


def test_a_program_that_fails_or_runs_on_is_reported_so(
    fundamen: Fundamen, tmp_path: Path, compile_c: Callable[..., Path]
) -> None:
    failing = compile_c(tmp_path / "failing", "int main(void) { return 3; }\n")
    ran = fundamen("restore", "--launch", str(failing))
    assert (ran.status, "exit status 3" in ran.out) == (1, True), ran.out + ran.err
    lasting = compile_c(tmp_path / "lasting", "#include <unistd.h>\nint main(void) { sleep(60); return 0; }\n")
    ran = fundamen("restore", "--launch", "--launch-seconds", "0.5", str(lasting))
    assert (ran.status, "still running" in ran.out) == (0, True), ran.out + ran.err


def test_two_at_once_on_one_machine_are_refused(fundamen: Fundamen, tmp_path: Path) -> None:
    root = tmp_path / "root"
    (root / "usr" / "lib").mkdir(parents=True)
    with (tmp_path / "lock").open("w"):
        handle = os.open(root, os.O_RDONLY)
        fcntl.flock(handle, fcntl.LOCK_EX)
        ran = fundamen("undo", "--machine", str(root))
        os.close(handle)
    assert (ran.status, says(ran.err, "execution.another-fundamen-is-changing-it-at")) == (6, True)

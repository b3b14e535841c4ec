"""A program of this host is run and watched: what it loads as it runs, and that it is ended in its time."""

import shutil
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import pytest

from conftest import Fundamen
from fundamen.formats.unix.ld_debug import SearchedLibrary, read_ld_debug

pytestmark = pytest.mark.skipif(
    sys.platform != "linux" or shutil.which("cc") is None, reason="needs Linux and a C compiler"
)

SOURCES = {
    "loads": 'dlopen("PLUGIN", 2); dlopen("libgone.so", 2); puts("own words"); return 7;',
    "sleeps": "sleep(600); return 0;",
    "prints": 'for (;;) puts("and on and on");',
    "forks": "for (int i = 0; i < 20; i++) if (!fork()) { setsid(); sleep(600); } return 0;",
}


def compiled(folder: Path, name: str) -> Path:
    (folder / "plugin.c").write_text("int plugin(void) { return 1; }")
    subprocess.run(["cc", "-shared", "-fPIC", "-o", "plugin.so", "plugin.c"], cwd=folder, check=True)
    body = SOURCES[name].replace("PLUGIN", str(folder / "plugin.so"))
    headers = "#include <dlfcn.h>\n#include <stdio.h>\n#include <unistd.h>\n"
    (folder / "app.c").write_text(f"{headers}int main(void) {{ {body} }}")
    subprocess.run(["cc", "-o", name, "app.c"], cwd=folder, check=True)
    return folder / name


def running(name: str) -> bool:
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        with suppress(OSError):  # it has ended meanwhile
            if name.encode() in path.read_bytes().split(b"\0")[0]:
                return True
    return False


def test_what_a_program_loads_as_it_runs_is_added_and_its_output_kept_apart(fundamen: Fundamen, tmp_path: Path) -> None:
    program = compiled(tmp_path, "loads")
    [line] = fundamen("trace", "--observe", "--json", program).records
    seen = {component["name"]: (component["observed"] or {}).get("code") for component in line["components"]}
    assert (seen["libgone.so"], seen[str(tmp_path / "plugin.so")]) == ("trace.asked-for", "trace.loaded")
    askers = {component["name"]: component["asked_by"] for component in line["components"]}
    assert askers["libgone.so"] == askers[str(tmp_path / "plugin.so")] == str(program)
    assert (line["observation"]["status"], line["observation"]["failed"], line["faults"]) == (7, ["libgone.so"], 0)
    answer = fundamen("trace", "--observe", program)
    assert answer.err == "Running loads here for at most 30 s; what it does is real.\n"
    assert "it said     own words" in answer.out


@pytest.mark.parametrize("name", ["sleeps", "prints", "forks"])
def test_a_run_is_ended_in_its_time_with_all_that_it_started(name: str, fundamen: Fundamen, tmp_path: Path) -> None:
    program, start = compiled(tmp_path, name), time.monotonic()
    answer = fundamen("trace", "--observe", "--observe-for", "1", program)
    assert (answer.status, time.monotonic() - start < 20) == (0, True)
    assert not running(str(program))


def test_what_cannot_be_watched_is_not_run(fundamen: Fundamen, tmp_path: Path) -> None:
    (tmp_path / "app.c").write_text("int main(void) { return 0; }")
    subprocess.run(["cc", "-static", "-o", "app", "app.c"], cwd=tmp_path, check=True)
    answer = fundamen("trace", "--observe", tmp_path / "app")
    assert (answer.status, "started without a loader" in answer.err) == (2, True)
    assert fundamen("trace", "--observe", "--observe-for", "0", tmp_path / "app").status == 2


def test_the_loaders_own_words_are_read() -> None:
    data = (
        b"       77:\tfile=./plug in.so [0];  dynamically loaded by ./app [0]\n"
        b"       77:\tfile=./plug in.so [0];  generating link map\n"
        b"       77:\tcalling init: ./plug in.so\n"
        b"       77:\tfile=libgone.so [0];  dynamically loaded by ./plug in.so [0]\n"
        b"       77:\tfind library=libgone.so [0]; searching\n       77:\tcut"
    )
    seen = read_ld_debug(data)
    assert (seen.loaded, seen.in_vain) == (("./plug in.so",), (SearchedLibrary("libgone.so", "./plug in.so"),))

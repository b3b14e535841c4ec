"""Real linkers and compilers are the truth: which library is taken, what a library offers, how they word a failure."""

import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from fundamen.building.examination import examine_command
from fundamen.formats.build_log import BuildSaying, read_build_log
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.ar_archive import read_archive
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath

pytestmark = pytest.mark.system

ENVIRONMENT = {**os.environ, "LC_ALL": "C"}
MAIN = "int one(void); int main(void) { return one(); }"


class Bench:
    """A folder with main.o, which calls ``one``."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        (folder / "main.c").write_text(MAIN)
        self.run("cc", "-c", "main.c")

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            words, cwd=self.folder, env=ENVIRONMENT, capture_output=True, text=True, errors="replace", check=False
        )

    def shared(self, path: str, *words: str, body: str = "int one(void) { return 0; }") -> "Bench":
        return self._compiled(path, body, "-shared", "-fPIC", *words)

    def static(self, path: str, *words: str, body: str = "int one(void) { return 0; }") -> "Bench":
        self._compiled("part.o", body, "-c", *words)
        (self.folder / path).parent.mkdir(exist_ok=True)
        assert self.run("ar", "rcs", path, "part.o").returncode == 0
        return self

    def file(self, path: str, text: str) -> "Bench":
        (self.folder / path).parent.mkdir(exist_ok=True)
        (self.folder / path).write_text(text.replace("HERE", str(self.folder)))
        return self

    def cut(self, path: str, size: int) -> "Bench":
        os.truncate(self.folder / path, size)
        return self

    def _compiled(self, path: str, body: str, *words: str) -> "Bench":
        (self.folder / "part.c").write_text(body)
        (self.folder / path).parent.mkdir(exist_ok=True)
        done = self.run("clang", "part.c", "-o", path, *words)
        assert done.returncode == 0, done.stderr
        return self


OF_ARM = ("--target=aarch64-linux-gnu", "-nostdlib", "-fuse-ld=lld")
CASES: dict[str, tuple[Callable[[Bench], object], str]] = {
    "a shared library comes before a static one": (
        lambda b: b.shared("a/libone.so").static("a/libone.a"),
        "cc main.o -La -lone",
    ),
    "a folder comes before the form": (
        lambda b: b.static("a/libone.a").shared("b/libone.so"),
        "cc main.o -La -Lb -lone",
    ),
    "only static ones where it is said": (
        lambda b: b.shared("a/libone.so").static("b/libone.a"),
        "cc main.o -La -Lb -Wl,-Bstatic -lone -Wl,-Bdynamic",
    ),
    "a file by its whole name": (
        lambda b: b.shared("a/libone.so").static("b/libone.a"),
        "cc main.o -La -Lb -l:libone.a",
    ),
    "one for another processor is passed over": (
        lambda b: b.shared("a/libone.so", *OF_ARM).shared("b/libone.so"),
        "cc main.o -La -Lb -lone",
    ),
    "and so is an archive of such objects": (
        lambda b: b.static("a/libone.a", OF_ARM[0]).static("b/libone.a"),
        "cc main.o -La -Lb -lone",
    ),
    "a script stands for other files": (
        lambda b: b.static("b/libreal.a").file("a/libone.so", "GROUP ( HERE/b/libreal.a AS_NEEDED ( -lm ) )"),
        "cc main.o -La -lone",
    ),
    "a script whose file is not there": (
        lambda b: b.file("a/libone.so", "INPUT ( HERE/b/libreal.a )"),
        "cc main.o -La -lone",
    ),
    "what is nowhere": (lambda _: None, "cc main.o -lone"),
    "what is only for another processor": (lambda b: b.shared("a/libone.so", *OF_ARM), "cc main.o -La -lone"),
    "a folder of the other width": (lambda _: None, "cc -m32 main.o -lm"),
    "clang's own folders": (lambda b: b.shared("a/libone.so"), "clang main.o -La -lone -lm -lz"),
    "an archive without its index": (
        lambda b: (b.static("a/libone.a"), b.run("objcopy", "a/libone.a"), b.run("ar", "rcS", "a/libone.a", "part.o")),
        "cc main.o -La -lone",
    ),
    "a cut library": (
        lambda b: b.shared("a/libone.so").cut("a/libone.so", 3000),
        "cc main.o -La -lone",
    ),
    "text that is no script": (lambda b: b.file("a/libone.so", "Dear linker,\n"), "cc main.o -La -lone"),
}  # fmt: skip


@pytest.mark.parametrize("rule", CASES)
def test_the_linker_takes_what_is_said_to_be_taken_and_fails_where_a_fault_is_found(rule: str, tmp_path: Path) -> None:
    lay_out, line = CASES[rule]
    bench = Bench(tmp_path)
    lay_out(bench)
    linked = bench.run(*line.split(), "-o", "app", "-Wl,-t", "-Wl,--no-as-needed")
    [step] = examine_command(open_machine(None, current=str(tmp_path)), line, MachinePath(str(tmp_path)))
    assert bool(step.faults) == (linked.returncode != 0), (linked.stderr, step.faults)
    if linked.returncode == 0:
        taken = {
            os.path.realpath(tmp_path / text) for text in linked.stdout.split() if text.endswith((".so", ".a", ".o"))
        }
        taken |= {os.path.realpath(text) for text in linked.stdout.split() if ".so." in text}
        named = {os.path.realpath(n.path) for n in step.needs if n.path and str(n.sort) != "library"}
        assert {path for path in named if "/lib/gcc" not in path} <= taken


def test_archives_of_this_machine_offer_what_the_tools_of_binutils_list() -> None:
    archives = [
        path for path in Path("/usr/lib").rglob("*.a") if path.stat().st_size < 40 << 20 and not path.is_symlink()
    ]
    compared = 0
    for path in sorted(archives)[:400]:
        if path.read_bytes()[:8] not in {b"!<arch>\n", b"!<thin>\n"}:
            continue
        archive = read_archive(MemoryBytes(path.read_bytes(), str(path)))
        if archive.members and archive.members[0].name == "__.PKGDEF":
            continue  # Go's own: names of 16 characters fill their field, and ar leaves the last one out
        members = subprocess.run(["ar", "t", path], capture_output=True, text=True, check=True).stdout.split("\n")[:-1]
        assert [member.name for member in archive.members] == members, path
        listed = subprocess.run(["nm", "--print-armap", path], capture_output=True, text=True, check=False).stdout
        index = listed.split("\n\n")[0] if "Archive index:" in listed else ""
        symbols = {line.partition(" in ")[0] for line in index.splitlines() if " in " in line}
        assert set(archive.symbols or ()) == symbols, path
        compared += 1
    assert compared > 100


WORDINGS: dict[str, tuple[str, BuildSaying, str]] = {
    "cc main.o -lnowhere": ("cc", BuildSaying.NO_LIBRARY, "nowhere"),
    "cc -fuse-ld=gold main.o -lnowhere": ("ld.gold", BuildSaying.NO_LIBRARY, "nowhere"),
    "clang -fuse-ld=lld main.o -lnowhere": ("clang", BuildSaying.NO_LIBRARY, "nowhere"),
    "cc main.o": ("cc", BuildSaying.NO_SYMBOL, "one"),
    "clang -fuse-ld=lld main.o ": ("clang", BuildSaying.NO_SYMBOL, "one"),
    "cc nothing.o": ("cc", BuildSaying.NO_FILE, "nothing.o"),
    "clang nothing.o": ("clang", BuildSaying.NO_FILE, "nothing.o"),
    "cc -c wants.c": ("cc", BuildSaying.NO_HEADER, "tide/berth.h"),
    "clang -c wants.c": ("clang", BuildSaying.NO_HEADER, "tide/berth.h"),
    "x86_64-w64-mingw32-gcc -c wants.c": ("x86_64-w64-mingw32-gcc", BuildSaying.NO_HEADER, "tide/berth.h"),
    "make wanting": ("make", BuildSaying.NO_RULE, "libsa1t.a"),
    "make failing": ("make", BuildSaying.TARGET_FAILED, "failing"),
    "make toolless": ("make", BuildSaying.NO_TOOL, "no-such-tool"),
}


@pytest.mark.parametrize("line", WORDINGS)
def test_the_tools_word_their_messages_as_they_are_read(line: str, tmp_path: Path) -> None:
    tool, says, name = WORDINGS[line]
    if not shutil.which(tool):
        pytest.skip(f"no {tool}")
    bench = Bench(tmp_path).file("wants.c", "#include <tide/berth.h>\n")
    bench.file("Makefile", "wanting: libsa1t.a\nfailing:\n\tcc -o x main.o -lnone\ntoolless:\n\tno-such-tool x\n")
    done = bench.run(*line.split())
    assert done.returncode != 0
    log = read_build_log(done.stdout + done.stderr)
    assert (says, name) in [(message.says, message.name) for message in log.messages], done.stderr

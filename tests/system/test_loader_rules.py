"""One small program for each rule of the GNU loader; the loader itself is the truth.

Each case is compiled and laid out below ``lib`` and ``else`` beside the program. The loader tells what it maps
(LD_TRACE_LOADED_OBJECTS), and whether the program starts; a trace must name the same files, and faults exactly where
the program does not start.
"""

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.listing import listed
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import trace_program

pytestmark = [pytest.mark.system, pytest.mark.skipif(sys.platform != "linux", reason="the loader is Linux's")]

STARTS = 7
MUSL = "/lib/ld-musl-x86_64.so.1"
GNU_ONLY = ("a version", "a static", "another", "an ABI", "bytes", "program headers", "preloaded", "what a preloaded")
RUNPATH, RPATH = "-Wl,--enable-new-dtags", "-Wl,--disable-new-dtags"


class Workshop:
    """Compiles small libraries and programs; ``one`` calls ``two``, ``two`` calls ``three``."""

    def __init__(self, folder: Path, compiler: str = "cc") -> None:
        self.folder = folder
        self.compiler = compiler
        self.program = folder / "bin" / "app"
        self.environment: dict[str, str] = {}
        for name in ("bin", "lib", "else", "build"):
            (folder / name).mkdir()

    def library(self, name: str, *words: str, calls: str = "", into: str = "lib", versions: str = "") -> "Workshop":
        """Compile libNAME.so, which defines NAME and calls another library's function."""
        body = (
            f"int {calls}(void); int {name}(void) {{ return {calls}(); }}"
            if calls
            else f"int {name}(void) {{ return 7; }}"
        )
        needs = [f"-l{calls}"] if calls else []
        if versions:
            (self.folder / "build" / "versions").write_text(versions)
            needs += ["-Wl,--version-script=versions"]
        target = self.folder / into / f"lib{name}.so"
        target.parent.mkdir(parents=True, exist_ok=True)
        self._compile(body, target, "-shared", f"-Wl,-soname,lib{name}.so", *needs, *words)
        return self

    def app(self, *words: str, calls: str = "one", source: str = "") -> "Workshop":
        """Compile the program, which ends with what the function gives back."""
        body = source or f"int {calls}(void); int main(void) {{ return {calls}(); }}"
        self._compile(body, self.program, *([f"-l{calls}"] if calls else []), *words)
        return self

    def chain(self, *words: str, runpath: str = "$ORIGIN/../lib", tags: str = RUNPATH) -> "Workshop":
        """The usual three libraries, each found by a search path of the file that needs it, and the program."""
        path = ["-Wl,-rpath," + runpath, tags]
        self.library("three").library("two", *path, calls="three").library("one", *path, calls="two")
        return self.app(*path, *words)

    def moved(self, name: str, into: str = "else") -> "Workshop":
        target = self.folder / into
        target.mkdir(parents=True, exist_ok=True)
        shutil.move(self.folder / "lib" / f"lib{name}.so", target / f"lib{name}.so")
        return self

    def without(self, *names: str) -> "Workshop":
        for name in names:
            (self.folder / "lib" / f"lib{name}.so").unlink()
        return self

    def file(self, path: str, data: bytes) -> "Workshop":
        target = self.folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        target.write_bytes(data)
        target.chmod(0o755)
        return self

    def changed(self, path: str, at: int, data: bytes) -> "Workshop":
        content = bytearray((self.folder / path).read_bytes())
        content[at : at + len(data)] = data
        return self.file(path, bytes(content))

    def cut(self, path: str, size: int) -> "Workshop":
        return self.file(path, (self.folder / path).read_bytes()[:size])

    def link(self, path: str, target: str) -> "Workshop":
        (self.folder / path).parent.mkdir(parents=True, exist_ok=True)
        (self.folder / path).symlink_to(target)
        return self

    def with_another_group(self) -> "Workshop":
        """Make it a program that is started in secure mode."""
        os.chown(self.program, -1, 65534)
        self.program.chmod(0o2755)
        return self

    def demanding(self, path: str, levels: int) -> "Workshop":
        """Let a file demand other levels of the processor than the one that it demands now."""
        data = (self.folder / path).read_bytes()
        at = data.index(bytes.fromhex("028000c004000000")) + 8
        return self.changed(path, at, levels.to_bytes(4, "little"))

    def started_as(self, path: str) -> "Workshop":
        self.program = self.folder / path
        return self

    def with_variable(self, name: str, value: str) -> "Workshop":
        self.environment[name] = value.replace("HERE", str(self.folder))
        return self

    def _compile(self, source: str, target: Path, *words: str) -> None:
        (self.folder / "build" / "source.c").write_text(source)
        search = [f"-L{self.folder}/lib", f"-L{self.folder}/else", f"-Wl,-rpath-link,{self.folder}/lib"]
        always = ["-Wl,--no-as-needed", "-Wl,--allow-shlib-undefined"]
        command = [self.compiler, "-fPIC", "-O1", "-o", str(target), "source.c", *search, *always, *words]
        done = subprocess.run(command, cwd=self.folder / "build", capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr


def according_to_the_loader(made: Workshop) -> set[str | None]:
    """The real files that the loader maps; None for each name that it does not find."""
    environment = {**made.environment, "LD_TRACE_LOADED_OBJECTS": "1"}
    command = [MUSL, "--list", os.path.realpath(made.program)] if made.compiler == "musl-gcc" else [made.program]
    run = subprocess.run(command, env=environment, cwd="/", capture_output=True, check=False)
    return listed(run.stdout)


def starts(made: Workshop) -> bool:
    try:
        run = subprocess.run([made.program], env=made.environment, cwd="/", capture_output=True, check=False)
    except FileNotFoundError:  # what a missing interpreter looks like
        return False
    return run.returncode == STARTS


OTHER_WIDTH = an_elf("x86", soname="libone.so")
V1 = "V1 { one; };"
V1_V2 = "V1 { one; }; V2 { *; };"

CASES: dict[str, Callable[[Workshop], Workshop]] = {
    "all there": lambda w: w.chain(),
    "first level missing": lambda w: w.chain().without("one"),
    "second level missing": lambda w: w.chain().without("two"),
    "third level missing": lambda w: w.chain().without("three"),
    "two missing at once": lambda w: w.chain().without("two", "three"),
    "rpath is inherited": lambda w: (
        w.library("two", into="else")
        .library("one", calls="two")
        .app(RPATH, "-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else")
    ),
    "runpath is not inherited": lambda w: (
        w.library("two", into="else")
        .library("one", calls="two")
        .app(RUNPATH, "-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else")
    ),
    "rpath is not inherited by a library with a runpath": lambda w: (
        w.library("two", into="else")
        .library("one", RUNPATH, "-Wl,-rpath,/nowhere", calls="two")
        .app(RPATH, "-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else")
    ),
    "rpath of a library serves what it loads": lambda w: (
        w.library("three", into="else")
        .library("two", calls="three")
        .library("one", RPATH, "-Wl,-rpath,$ORIGIN:$ORIGIN/../else", calls="two")
        .app(RUNPATH, "-Wl,-rpath,$ORIGIN/../lib")
    ),
    "origin in braces": lambda w: w.chain(runpath="${ORIGIN}/../lib"),
    "origin before a letter is no token": lambda w: w.chain(runpath="$ORIGINAL/../lib"),
    "an unknown token stays": lambda w: w.chain(runpath="$NOTHING:$ORIGIN/../lib"),
    "a program started through a link has the origin of the file": lambda w: (
        w.chain().link("elsewhere/app", "../bin/app").started_as("elsewhere/app")
    ),
    "a library found through a link has the origin of the link": lambda w: (
        w.chain().moved("one").link("lib/libone.so", "../else/libone.so")
    ),
    "a library found through a link has not the origin of the file": lambda w: (
        w.chain().moved("one").moved("two").link("lib/libone.so", "../else/libone.so")
    ),
    "lib token": lambda w: w.chain(runpath="$ORIGIN/../$LIB").moved("one", "lib/x86_64-linux-gnu"),
    "platform token": lambda w: w.chain(runpath="$ORIGIN/../lib/$PLATFORM:$ORIGIN/../lib").moved("one", "lib/x86_64"),
    "empty folders in a runpath": lambda w: w.chain(runpath=":$ORIGIN/../lib:"),
    "dots in a runpath": lambda w: w.chain(runpath="$ORIGIN/../lib/../lib/."),
    "library path before runpath": lambda w: (
        w.chain().library("one", into="else").with_variable("LD_LIBRARY_PATH", "HERE/else")
    ),
    "rpath before library path": lambda w: (
        w.chain(tags=RPATH).library("one", into="else").with_variable("LD_LIBRARY_PATH", "HERE/else")
    ),
    "library path with a semicolon": lambda w: (
        w.chain().moved("one").with_variable("LD_LIBRARY_PATH", "/nowhere;HERE/else")
    ),
    "library path with origin": lambda w: w.chain().moved("one").with_variable("LD_LIBRARY_PATH", "$ORIGIN/../else"),
    "preloaded by path": lambda w: (
        w.chain().without("three").library("three", into="else").with_variable("LD_PRELOAD", "HERE/else/libthree.so")
    ),
    "preloaded by name": lambda w: (
        w.chain()
        .moved("three")
        .with_variable("LD_LIBRARY_PATH", "HERE/else")
        .with_variable("LD_PRELOAD", "libthree.so")
    ),
    "preloaded and not there": lambda w: w.chain().with_variable("LD_PRELOAD", "HERE/else/libgone.so"),
    "two preloaded, a blank between them": lambda w: (
        w.chain().moved("three").moved("two").with_variable("LD_PRELOAD", "HERE/else/libthree.so HERE/else/libtwo.so")
    ),
    "preloaded of the other width": lambda w: (
        w.chain().file("else/libx.so", OTHER_WIDTH).with_variable("LD_PRELOAD", "HERE/else/libx.so")
    ),
    "what a preloaded library needs": lambda w: (
        w.chain().library("extra", calls="three").with_variable("LD_PRELOAD", "HERE/lib/libextra.so")
    ),
    "a need that is a path": lambda w: w.library("one", f"-Wl,-soname,{w.folder}/lib/libone.so").app(),
    "a need that is a path to nothing": lambda w: (
        w.library("one", f"-Wl,-soname,{w.folder}/lib/libone.so").app().without("one")
    ),
    "a need that is a path with origin": lambda w: w.library("one", "-Wl,-soname,$ORIGIN/../lib/libone.so").app(),
    "no default folders": lambda w: w.chain("-Wl,-z,nodefaultlib"),
    "of the other width, and the right one behind it": lambda w: w.chain(runpath="$ORIGIN/../else:$ORIGIN/../lib").file(
        "else/libone.so", OTHER_WIDTH
    ),
    "of the other width only": lambda w: w.chain().file("lib/libone.so", OTHER_WIDTH),
    "text in its place": lambda w: w.chain().file("lib/libone.so", b"no library at all" * 9),
    "text in front of it stops the search": lambda w: w.chain(runpath="$ORIGIN/../else:$ORIGIN/../lib").file(
        "else/libone.so", b"no library at all" * 9
    ),
    "empty in its place": lambda w: w.chain().file("lib/libone.so", b""),
    "cut to a piece of its header": lambda w: w.chain().file("lib/libone.so", b"\x7fELF\2\1\1"),
    "cut behind its program headers": lambda w: w.chain().cut("lib/libone.so", 0x300),
    "cut before its code, which then kills by a bus error": lambda w: w.chain().cut("lib/libone.so", 0x1000),
    "cut before its data": lambda w: w.chain().cut("lib/libone.so", 0x2000),
    "the program cut before its code": lambda w: w.chain().cut("bin/app", 0x1000),
    "a folder in its place": lambda w: w.chain().without("one").file("lib/libone.so/x", b""),
    "a link to nothing in its place": lambda w: w.chain().without("one").link("lib/libone.so", "gone.so"),
    "another operating system's ABI": lambda w: w.chain().changed("lib/libone.so", 7, b"\x09"),
    "an ABI version that is not known": lambda w: w.chain().changed("lib/libone.so", 8, b"\x63"),
    "bytes in the padding of the identification": lambda w: w.chain().changed("lib/libone.so", 12, b"\x01"),
    "another version of the format": lambda w: w.chain().changed("lib/libone.so", 20, b"\x02"),
    "another byte order": lambda w: w.chain().changed("lib/libone.so", 5, b"\x02"),
    "an object file in its place": lambda w: w.chain().changed("lib/libone.so", 16, b"\x01\x00"),
    "program headers of another size": lambda w: w.chain().changed("lib/libone.so", 54, b"\x20\x00"),
    "known by its soname under another name": lambda w: w.chain("-Wl,--no-as-needed", "-lone").link(
        "lib/libother.so", "libone.so"
    ),
    "two names of one file": lambda w: (
        w.library("one").link("lib/libtwo.so", "libone.so").app("-Wl,-rpath,$ORIGIN/../lib", "-ltwo")
    ),
    "two that need each other": lambda w: (
        w.library("two", RUNPATH, "-Wl,-rpath,$ORIGIN")
        .library("one", RUNPATH, "-Wl,-rpath,$ORIGIN", calls="two")
        .library("two", "-lone", RUNPATH, "-Wl,-rpath,$ORIGIN")
        .app("-Wl,-rpath,$ORIGIN/../lib")
    ),
    "a version that is defined": lambda w: w.library("one", versions=V1).app("-Wl,-rpath,$ORIGIN/../lib"),
    "a version that is not defined": lambda w: (
        w.library("one", versions=V1_V2.replace("one", "two").replace("*", "one"))
        .app("-Wl,-rpath,$ORIGIN/../lib")
        .library("one", versions=V1)
    ),
    "a library without any versions": lambda w: (
        w.library("one", versions=V1).app("-Wl,-rpath,$ORIGIN/../lib").library("one")
    ),
    "a version that a library asks for": lambda w: (
        w.library("two", versions="V9 { *; };")
        .library("one", RUNPATH, "-Wl,-rpath,$ORIGIN", calls="two")
        .app("-Wl,-rpath,$ORIGIN/../lib")
        .library("two", versions="V8 { *; };")
    ),
    "another level of the processor that it has": lambda w: w.chain("-Wl,-z,x86-64-v2").demanding("bin/app", 3),
    "another level that no processor has": lambda w: w.chain("-Wl,-z,x86-64-v2").demanding("bin/app", 1 << 9),
    "another level that no processor has, of a library": lambda w: (
        w.chain()
        .library("one", RUNPATH, "-Wl,-rpath,$ORIGIN", "-Wl,-z,x86-64-v2", calls="two")
        .demanding("lib/libone.so", 1 << 9)
    ),
    "another folder for the processor, of the older kind": lambda w: w.chain(tags=RPATH).moved("one", "lib/haswell"),
    "another folder for the processor, in its order": lambda w: (
        w.chain(tags=RPATH)
        .library("one", into="lib/tls/x86_64", calls="two")
        .library("one", into="lib/haswell", calls="two")
        .library("one", into="lib/x86_64", calls="two")
    ),
    "in a folder for the processor's level": lambda w: w.chain().moved("one", "lib/glibc-hwcaps/x86-64-v2"),
    "an interpreter that is not there": lambda w: w.chain("-Wl,--dynamic-linker,/lib64/ld-gone.so"),
    "a statically linked program": lambda w: w.app("-static", calls="", source="int main(void) { return 7; }"),
    "a static program that can be moved": lambda w: w.app(
        "-static-pie", calls="", source="int main(void) { return 7; }"
    ),
    "a filter that is not there": lambda w: w.library("one", "-Wl,-F,libgone.so").app("-Wl,-rpath,$ORIGIN/../lib"),
    "an auxiliary filter that is not there": lambda w: w.library("one", "-Wl,-f,libgone.so").app(
        "-Wl,-rpath,$ORIGIN/../lib"
    ),
    "an auxiliary filter that is there": lambda w: (
        w.library("extra")
        .library("one", "-Wl,-f,libextra.so", RUNPATH, "-Wl,-rpath,$ORIGIN")
        .app("-Wl,-rpath,$ORIGIN/../lib")
    ),
}


# What the other C library's loader does in its own way, or leaves undone.
MUSL_CASES: dict[str, Callable[[Workshop], Workshop]] = {
    **{name: CASES[name] for name in CASES if not name.startswith(GNU_ONLY)},
    "relative folders in a runpath are left out": lambda w: w.chain(runpath="lib:$ORIGIN/../lib"),
    "what is preloaded and what it needs": lambda w: (
        w.chain().library("extra", calls="three").with_variable("LD_PRELOAD", "HERE/lib/libextra.so")
    ),
    "another token switches the whole path off": lambda w: w.chain(runpath="$ORIGIN/../lib:$LIB"),
    "library path with a line break": lambda w: (
        w.chain().moved("one").with_variable("LD_LIBRARY_PATH", "/nowhere\nHERE/else")
    ),
}


@pytest.mark.parametrize("case", MUSL_CASES)
def test_a_trace_gives_the_answer_of_musls_loader(case: str, tmp_path: Path) -> None:
    compare(MUSL_CASES[case](Workshop(tmp_path, "musl-gcc")))


@pytest.mark.parametrize("case", CASES)
def test_a_trace_gives_the_loaders_own_answer(case: str, tmp_path: Path) -> None:
    compare(CASES[case](Workshop(tmp_path)))


# Programs that change the group, so that the loader heeds less; in this mode it lists nothing, only starts or not.
SECURE_CASES: dict[str, Callable[[Workshop], Workshop]] = {
    "absolute folders are heeded": lambda w: w.chain(runpath=f"{w.folder}/lib"),
    "origin is not heeded": lambda w: w.chain(),
    "library path is not heeded": lambda w: w.chain(runpath="/nowhere").with_variable("LD_LIBRARY_PATH", "HERE/lib"),
    "what is preloaded by path is not heeded": lambda w: (
        w.chain(runpath=f"{w.folder}/lib")
        .without("three")
        .library("three", into="else")
        .with_variable("LD_PRELOAD", "HERE/else/libthree.so")
    ),
}


@pytest.mark.skipif(sys.platform == "linux" and os.geteuid() != 0, reason="only root may give files away")
@pytest.mark.parametrize("case", SECURE_CASES)
def test_a_trace_gives_the_loaders_own_answer_in_secure_mode(case: str, tmp_path: Path) -> None:
    made = SECURE_CASES[case](Workshop(tmp_path)).with_another_group()
    trace = trace_program(open_machine(None, environment=made.environment), MachinePath(str(made.program)))
    assert (trace.faults == ()) == starts(made), [(fault.name, fault.reason) for fault in trace.faults]


def compare(made: Workshop) -> None:
    trace = trace_program(open_machine(None, environment=made.environment), MachinePath(str(made.program)))
    needs = [c for c in trace.components if c.kind != "program" and (c.path or c.is_fault)]
    ours: Mapping[str | None, str] = {c.path and os.path.realpath(c.path): c.name for c in needs}
    real = starts(made)
    assert (trace.faults == ()) == real, [(fault.name, fault.reason) for fault in trace.faults]
    if real:
        assert set(ours) == according_to_the_loader(made) - {None}


def test_a_copy_that_is_found_first_and_lacks_a_version_hides_the_right_one_behind_it(tmp_path: Path) -> None:
    made = Workshop(tmp_path).library("one", into="else", versions="V1 { }; V2 { one; };")
    made.app("-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else").library("one", versions=V1)
    assert not starts(made)
    [fault] = trace_program(open_machine(None), MachinePath(str(made.program))).faults
    assert (str(fault.verdict), fault.unoffered) == ("shadowed", ("V2",))
    assert f"{tmp_path}/else/libone.so has them" in fault.reason.replace("bin/../", "")


def test_a_foreign_copy_without_versions_that_lacks_a_symbol_hides_the_right_one(tmp_path: Path) -> None:
    made = Workshop(tmp_path).library("one", into="else", versions="V1 { one; };")
    made.app("-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else").library("two")
    assert starts(made)
    assert trace_program(open_machine(None), MachinePath(str(made.program))).faults == ()
    (tmp_path / "lib" / "libtwo.so").rename(tmp_path / "lib" / "libone.so")
    assert not starts(made)
    [fault] = trace_program(open_machine(None), MachinePath(str(made.program))).faults
    assert (str(fault.verdict), fault.unoffered) == ("shadowed", ("one",))


def test_a_foreign_copy_without_versions_that_has_all_symbols_serves(tmp_path: Path) -> None:
    made = Workshop(tmp_path).library("one", into="else", versions="V1 { one; };")
    made.app("-Wl,-rpath,$ORIGIN/../lib:$ORIGIN/../else").library("one")
    assert starts(made)
    assert trace_program(open_machine(None), MachinePath(str(made.program))).faults == ()

"""A real prefix is the truth: it runs exactly those programs that a trace finds nothing wrong with.

The program app.exe needs one.dll, which needs two.dll, which needs three.dll; the fault lies at one of the three, in
the program's folder, the system folder, or a folder on PATH.
"""

import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from builders.machine import AWindowsMachine
from builders.prefix import a_prefix
from builders.source import ASource
from conftest import Fundamen
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.trace import trace_program

pytestmark = pytest.mark.system

WINE, SERVER = "/usr/lib/wine/wine64", "/usr/lib/wine/wineserver64"
WIDE, NARROW = "x86_64-w64-mingw32-gcc", "i686-w64-mingw32-gcc"
LEVELS = ("one", "two", "three")
PLACES = {"app": "drive_c/app", "system": "drive_c/windows/system32", "path": "drive_c/tools"}


def cut_in_half(library: Path) -> None:
    os.truncate(library, library.stat().st_size // 2)


def of_the_other_width(library: Path) -> None:
    shutil.copy(library.parent / "narrow" / library.name, library)


FAULTS: dict[str, tuple[Callable[[Path], object], Verdict]] = {
    "removed": (Path.unlink, Verdict.MISSING),
    "cut in half": (cut_in_half, Verdict.CORRUPT),
    "empty": (lambda library: library.write_bytes(b""), Verdict.CORRUPT),
    "text": (lambda library: library.write_text("not found\n" * 99), Verdict.CORRUPT),
    "of the other width": (of_the_other_width, Verdict.WRONG_ARCHITECTURE),
}


def compiled(folder: Path, compiler: str, *words: str) -> None:
    subprocess.run([compiler, "-Os", "-s", *words], cwd=folder, check=True, capture_output=True)


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The program and its libraries; in ``narrow`` those for 32 bits, in ``poor`` those without their function."""
    folder = tmp_path_factory.mktemp("built")
    for below, compiler in (("", WIDE), ("narrow", NARROW), ("poor", WIDE)):
        target = folder / below
        target.mkdir(exist_ok=True)
        for number, name in reversed(list(enumerate(LEVELS))):
            below_it = LEVELS[number + 1] if number < 2 else None
            body = f"int {below_it}(void); __declspec(dllexport) int {name}(void) {{ return 1 + {below_it}(); }}"
            source = body if below_it else f"__declspec(dllexport) int {name}(void) {{ return 1; }}"
            (target / f"{name}.c").write_text(source)
            compiled(
                target,
                compiler,
                "-shared",
                "-o",
                f"{name}.dll",
                f"{name}.c",
                *([f"{below_it}.dll"] if below_it else []),
            )
    for name in LEVELS:
        (folder / "poor" / f"{name}.c").write_text("__declspec(dllexport) int other(void) { return 0; }")
        compiled(folder / "poor", WIDE, "-shared", "-o", f"{name}.dll", f"{name}.c")
    (folder / "app.c").write_text("int one(void); int main(void) { return one() == 3 ? 42 : 1; }")
    compiled(folder, WIDE, "-o", "app.exe", "app.c", "one.dll")
    return folder


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A prefix whose server stays: a program started just as its server ends would fail for that alone."""
    folder = a_prefix(tmp_path_factory)
    serve(folder, "-w")
    serve(folder, "-p")
    yield folder
    serve(folder, "-k")


def serve(prefix: Path, word: str) -> None:
    environment = {**os.environ, "WINEPREFIX": str(prefix)}
    subprocess.run([SERVER, word], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)


@pytest.fixture
def laid_out(prefix: Path, built: Path) -> Callable[[str], Path]:
    """Lay the program out with its libraries in one of the places, and give that folder."""

    def lay(place: str) -> Path:
        for folder in PLACES.values():
            (prefix / folder).mkdir(exist_ok=True)
            for name in LEVELS:
                (prefix / folder / f"{name}.dll").unlink(missing_ok=True)
        shutil.copy(built / "app.exe", prefix / "drive_c" / "app")
        target = prefix / PLACES[place]
        shutil.copytree(built / "narrow", target / "narrow", dirs_exist_ok=True)
        for name in LEVELS:
            shutil.copy(built / f"{name}.dll", target)
        return target

    return lay


def run(prefix: Path, *words: str, answer: Path | None = None) -> int:
    """Run a program, and keep what the prefix's loader says in a file, if one is given."""
    environment = {**os.environ, "WINEPREFIX": str(prefix), "DISPLAY": "", "WINEPATH": "C:\\tools"}
    environment["WINEDEBUG"] = "-all,err+module" if answer else "-all"
    # No pipes: the prefix's own services would hold them open long after the program has ended.
    with open(answer or os.devnull, "wb") as errors:
        return subprocess.run(
            [WINE, *words], env=environment, stdout=subprocess.DEVNULL, stderr=errors, timeout=300, check=False
        ).returncode


def complaint(prefix: Path, file: Path) -> str:
    """The message with which the prefix's loader gives the program up.

    Once in some hundred runs it stops without a word; such a run tells nothing, and is repeated.
    """
    for _ in range(3):
        status = run(prefix, "C:\\app\\app.exe", answer=file)
        assert status != 42
        if said := file.read_text():
            return said
    return f"it gave up without a word, with status {status}"


def faults(prefix: Path) -> list[tuple[str, Verdict]]:
    machine = open_machine(str(prefix), environment={"PATH": "C:\\windows\\system32;C:\\tools"})
    trace = trace_program(machine, MachinePath("C:\\app\\app.exe"))
    return [(fault.name, fault.verdict) for fault in trace.faults]


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("level", LEVELS)
@pytest.mark.parametrize("fault", FAULTS)
def test_the_prefix_stops_where_the_trace_says(
    prefix: Path, laid_out: Callable[[str], Path], tmp_path: Path, fault: str, level: str, place: str
) -> None:
    folder = laid_out(place)
    assert (run(prefix, "C:\\app\\app.exe"), faults(prefix)) == (42, [])
    change, verdict = FAULTS[fault]
    change(folder / f"{level}.dll")
    answer = complaint(prefix, tmp_path / "told")
    first = answer[answer.find("import_dll") :].partition("(which is needed")[0]
    assert f"{level}.dll" in first, answer
    assert faults(prefix) == [(f"{level}.dll", verdict)]


@pytest.mark.parametrize("level", LEVELS)
def test_a_copy_of_the_other_width_in_front_is_passed_over_by_both(
    prefix: Path, laid_out: Callable[[str], Path], built: Path, level: str
) -> None:
    laid_out("system")
    shutil.copy(built / "narrow" / f"{level}.dll", prefix / PLACES["app"])
    assert (run(prefix, "C:\\app\\app.exe"), faults(prefix)) == (42, [])


@pytest.mark.parametrize("level", LEVELS)
def test_a_library_without_the_called_function_is_outdated(
    prefix: Path, laid_out: Callable[[str], Path], built: Path, level: str
) -> None:
    """The prefix is more lenient than the platform: it starts the program and stops it at the call."""
    folder = laid_out("app")
    shutil.copy(built / "poor" / f"{level}.dll", folder)
    assert run(prefix, "C:\\app\\app.exe") != 42
    assert (f"{level}.dll", Verdict.OUTDATED) in faults(prefix)


ASSEMBLY = '<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">{}</assembly>'
IDENTITY = '<assemblyIdentity type="win32" name="Ardvane.One" version="1.0.0.0" processorArchitecture="amd64"/>'


def test_a_private_assembly_is_found_by_both_and_missed_by_both(
    prefix: Path, laid_out: Callable[[str], Path], built: Path
) -> None:
    folder = laid_out("app")
    asking = ASSEMBLY.format(f"<dependency><dependentAssembly>{IDENTITY}</dependentAssembly></dependency>")
    (built / "app.manifest").write_text(asking)
    (built / "app.rc").write_text('1 24 "app.manifest"\n')
    subprocess.run(["x86_64-w64-mingw32-windres", "app.rc", "app.o"], cwd=built, check=True, capture_output=True)
    compiled(built, WIDE, "-o", "asking.exe", "app.c", "app.o", "one.dll")
    shutil.copy(built / "asking.exe", folder / "app.exe")
    (folder / "Ardvane.One").mkdir(exist_ok=True)
    (folder / "Ardvane.One" / "Ardvane.One.manifest").write_text(ASSEMBLY.format(f'{IDENTITY}<file name="one.dll"/>'))
    (folder / "one.dll").rename(folder / "Ardvane.One" / "one.dll")
    assert (run(prefix, "C:\\app\\app.exe"), faults(prefix)) == (42, [])
    (folder / "Ardvane.One" / "one.dll").unlink()
    assert run(prefix, "C:\\app\\app.exe") != 42
    assert faults(prefix) == [("one.dll", Verdict.MISSING)]


def test_a_broken_program_is_restored_so_that_the_prefix_runs_it_and_undone(
    fundamen: Fundamen, prefix: Path, laid_out: Callable[[str], Path], built: Path, tmp_path: Path
) -> None:
    folder = laid_out("system")
    source = ASource(tmp_path / "it", tmp_path / "unused")
    source.published({f"{name}.dll": (built / f"{name}.dll").read_bytes() for name in LEVELS}, place="{system}")
    fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
    (folder / "one.dll").unlink()
    of_the_other_width(folder / "two.dll")
    cut_in_half(folder / "three.dll")
    broken = {name: (folder / f"{name}.dll").read_bytes() for name in LEVELS if name != "one"}
    on_prefix = ("--machine", str(prefix), "--json")
    assert run(prefix, "C:\\app\\app.exe") != 42
    restored = fundamen("restore", "--yes", *on_prefix, "C:\\app\\app.exe")
    assert (restored.status, len(restored.records[0]["steps"])) == (0, 3), restored.err
    assert run(prefix, "C:\\app\\app.exe") == 42
    assert fundamen("undo", *on_prefix).status == 0
    assert {name: (folder / f"{name}.dll").read_bytes() for name in LEVELS if name != "one"} == broken
    assert not (folder / "one.dll").exists()


def test_every_program_of_the_prefix_itself_has_what_it_needs(fundamen: Fundamen, prefix: Path) -> None:
    programs = sorted(path.name for path in (prefix / "drive_c" / "windows" / "system32").glob("*.exe"))
    ran = fundamen(
        "trace", "--json", "--machine", str(prefix), *(f"C:\\windows\\system32\\{name}" for name in programs)
    )
    assert [record["path"] for record in ran.records if record["faults"] or record["error"]] == []
    assert len(ran.records) == len(programs) > 50


@pytest.mark.parametrize("level", LEVELS)
@pytest.mark.parametrize("fault", FAULTS)
def test_a_compiled_32_bit_program_has_the_same_faults(built: Path, tmp_path: Path, fault: str, level: str) -> None:
    """The prefix runs 64-bit programs only; what holds for those must hold for 32-bit ones too."""
    windows = AWindowsMachine(tmp_path / "volume")
    app = windows.root / "app"
    (app / "narrow").mkdir(parents=True)  # where a fault takes the library for the other word size from
    compiled(built, NARROW, "-o", str(app / "app.exe"), "app.c", "narrow/one.dll")
    for name in LEVELS:
        shutil.copy(built / "narrow" / f"{name}.dll", app)
        shutil.copy(built / f"{name}.dll", app / "narrow")
    assert faults(windows.root) == []
    change, verdict = FAULTS[fault]
    change(app / f"{level}.dll")
    assert faults(windows.root) == [(f"{level}.dll", verdict)]

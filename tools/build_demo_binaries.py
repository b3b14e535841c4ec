"""Build the demo's small binaries from src/fundamen/demo/sources, for every platform and width that the story needs.

Needs the ziglang package, whose compiler builds for all of them: pip install ziglang. Run it after a change to the
sources: python tools/build_demo_binaries.py
"""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

DEMO = Path(__file__).parent.parent / "src" / "fundamen" / "demo"
SOURCES, BINARIES = DEMO / "sources", DEMO / "binaries"
PARTS = {"core": (), "tide": ("core",), "chart": ("core",), "zone": ()}  # each with what it needs

# An old C library's version, so that the program runs on every Linux of the last ten years.
TARGETS = {
    "linux-x86_64": "x86_64-linux-gnu.2.17",
    "linux-x86": "x86-linux-gnu.2.17",
    "linux-aarch64": "aarch64-linux-gnu.2.17",
    "windows-x86": "x86-windows-gnu",
    "windows-x86_64": "x86_64-windows-gnu",
}


def main() -> None:
    """Build everything anew."""
    shutil.rmtree(BINARIES, ignore_errors=True)
    for folder, target in TARGETS.items():
        with tempfile.TemporaryDirectory() as work:
            build = build_windows if "windows" in target else build_linux
            build(Path(work), target)
            (BINARIES / folder).mkdir(parents=True)
            for file in sorted(Path(work).iterdir()):
                if file.suffix in {".exe", ".dll", ".4", ""}:
                    shutil.copy(file, BINARIES / folder / file.name)
                    print(f"{folder}/{file.name}: {file.stat().st_size} bytes")


def build_linux(work: Path, target: str) -> None:
    """The four libraries, each finding the others beside it, and the program, finding them in ../lib."""
    for part, needs in PARTS.items():
        name = f"libsaltgrass-{part}.so.4"
        needed = [str(work / f"libsaltgrass-{need}.so.4") for need in needs]
        found = ["-Wl,-rpath,$ORIGIN"] if needs else []
        compile_c(
            target, "-shared", "-nostdlib", f"-Wl,-soname,{name}", *found, f"-o{work / name}", f"{part}.c", *needed
        )
    libraries = [str(work / f"libsaltgrass-{part}.so.4") for part in PARTS]
    compile_c(
        target, "-Wl,-rpath,$ORIGIN/../lib", f"-o{work / 'tidebook'}", "tidebook.c", "-Wl,--as-needed", *libraries
    )


def build_windows(work: Path, target: str) -> None:
    """The four libraries, the program, and the stand-in for the operating system's library."""
    for part, needs in {**PARTS, "": ()}.items():
        name = f"saltgrass-{part}.dll" if part else "kernel32.dll"
        needed = [str(work / f"{need}.lib") for need in needs]
        implib = f"-Wl,--out-implib,{work / (part or 'kernel32')}.lib"
        source = f"{part}.c" if part else "kernel32.c"
        compile_c(target, "-shared", "-nostdlib", implib, f"-o{work / name}", source, "dll.c", *needed)
    libraries = [str(work / f"{part}.lib") for part in (*PARTS, "kernel32")]
    compile_c(target, "-nostdlib", "-Wl,-e,start", f"-o{work / 'tidebook.exe'}", "tidebook.c", *libraries)


def compile_c(target: str, *arguments: str) -> None:
    """Compile with the sources' folder as the current one."""
    command = [sys.executable, "-m", "ziglang", "cc", "-target", target, "-Os", "-s", "-fno-builtin", *arguments]
    subprocess.run(command, cwd=SOURCES, check=True)


if __name__ == "__main__":
    main()

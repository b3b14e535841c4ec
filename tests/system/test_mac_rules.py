"""One small program for each rule of macOS's loader, compiled and laid out as on a Mac's disk.

No such loader runs here: what is expected is what dyld(1) and Apple's own sources say. The compiler and linker are
LLVM's, and so is what tells how the files came out.
"""

import glob
import plistlib
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Self

import pytest

from builders.dyld_cache import a_dyld_cache
from fundamen.evidence.code_signature import CodeSignatureAuthority
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

pytestmark = pytest.mark.system

LIBSYSTEM = """--- !tapi-tbd
tbd-version: 4
targets: [ x86_64-macos, arm64-macos, arm64-ios ]
install-name: '/usr/lib/libSystem.B.dylib'
exports:
  - targets: [ x86_64-macos, arm64-macos, arm64-ios ]
    symbols: [ dyld_stub_binder ]
...
"""
RPATH = ("-rpath", "@executable_path/../lib")


def tool(name: str) -> str:
    """An LLVM tool, by its plain name or Debian's."""
    return shutil.which(name) or max(glob.glob(f"/usr/lib/llvm-*/bin/{name}"))


class Mac:
    """A Mac's disk below a folder; ``one`` calls ``two``, ``two`` calls ``three``."""

    def __init__(self, folder: Path) -> None:
        self.root = folder / "root"
        self.build = folder / "build"
        self.build.mkdir(parents=True)
        (self.build / "libSystem.tbd").write_text(LIBSYSTEM)
        self.environment: dict[str, str] = {}
        self.program = "/opt/bin/app"
        self.architectures: tuple[str, ...] = ("arm64",)
        self.version("14.2.1").cache("arm64e", "/usr/lib/libSystem.B.dylib")

    def version(self, text: str) -> Self:
        return self.file("/System/Library/CoreServices/SystemVersion.plist", plistlib.dumps({"ProductVersion": text}))

    def cache(self, architecture: str, *paths: str) -> Self:
        name = f"/System/Library/dyld/dyld_shared_cache_{architecture}"
        return self.file(name, a_dyld_cache(architecture, *paths))

    def intel(self) -> Self:
        """Make it a Mac of before Apple silicon."""
        shutil.rmtree(self.root / "System/Library/dyld")
        self.architectures = ("x86_64",)
        return self.cache("x86_64", "/usr/lib/libSystem.B.dylib")

    def of(self, *architectures: str) -> Self:
        """The target of the next compilations."""
        self.architectures = architectures
        return self

    def library(self, name: str, *words: str, calls: str = "", into: str = "/opt/lib", install: str = "") -> Self:
        body = (
            f"int {calls}(void); int {name}(void) {{ return {calls}(); }}"
            if calls
            else f"int {name}(void) {{ return 7; }}"
        )
        install_name = install or f"@rpath/lib{name}.dylib"
        self._link(body, f"{into}/lib{name}.dylib", calls, "-dylib", "-install_name", install_name, *words)
        shutil.copy(self.root / into.lstrip("/") / f"lib{name}.dylib", self.build / f"lib{name}.dylib")
        return self

    def app(self, *words: str, calls: str = "one", at_start: bool = False) -> Self:
        """Compile the program; it calls the function, and may hold its address from the start."""
        body = f"int {calls}(void); int main(void) {{ return {calls}(); }}" + f"int (*f)(void) = {calls};" * at_start
        self._link(body, self.program, "" if "-no_one" in words else calls, *(w for w in words if w != "-no_one"))
        return self

    def chain(self, *words: str) -> Self:
        """The usual three libraries by @rpath, and the program that says where that is."""
        return self.library("three").library("two", calls="three").library("one", calls="two").app(*RPATH, *words)

    def moved(self, name: str, into: str) -> Self:
        target = self.root / into.lstrip("/")
        target.mkdir(parents=True, exist_ok=True)
        shutil.move(self.root / f"opt/lib/lib{name}.dylib", target / f"lib{name}.dylib")
        return self

    def without(self, name: str) -> Self:
        (self.root / f"opt/lib/lib{name}.dylib").unlink()
        return self

    def file(self, path: str, data: bytes) -> Self:
        target = self.root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
        return self

    def changed(self, path: str, at: int, data: bytes) -> Self:
        content = bytearray((self.root / path.lstrip("/")).read_bytes())
        content[at : at + len(data)] = data
        return self.file(path, bytes(content))

    def cut(self, path: str, size: int) -> Self:
        return self.file(path, (self.root / path.lstrip("/")).read_bytes()[:size])

    def link(self, path: str, target: str) -> Self:
        (self.root / path.lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
        (self.root / path.lstrip("/")).symlink_to(target)
        return self

    def with_variable(self, name: str, value: str) -> Self:
        self.environment[name] = value
        return self

    def set_user_id(self) -> Self:
        (self.root / self.program.lstrip("/")).chmod(0o4755)
        return self

    def trace(self) -> Trace:
        machine = open_machine(str(self.root), environment=self.environment)
        return trace_program(machine, MachinePath(self.program), [CodeSignatureAuthority()])

    def _link(self, body: str, path: str, calls: str, *words: str) -> None:
        (self.build / "source.c").write_text(body)
        target = self.root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        outputs = []
        system = "ios14" if "ios" in words else "macos11"
        for architecture in self.architectures:
            self._run("clang", "-target", f"{architecture}-apple-{system}", "-c", "source.c", "-o", "source.o")
            output = f"{target}.{architecture}"
            needs = [f"lib{calls}.dylib"] if calls and f"lib{calls}.dylib" not in words else []
            version = [] if "-platform_version" in words else ["-platform_version", "macos", "11.0", "14.0"]
            fixed = ["-arch", architecture, *version, "source.o", *needs, "libSystem.tbd", "-o", output]
            self._run("ld64.lld", *fixed, *words)
            outputs.append(output)
        self._run("llvm-lipo", "-create", *outputs, "-output", str(target))
        for output in outputs:
            Path(output).unlink()

    def _run(self, name: str, *words: str) -> None:
        done = subprocess.run([tool(name), *words], cwd=self.build, capture_output=True, text=True, check=False)
        assert done.returncode == 0, (name, words, done.stderr)


def started_by_link(mac: Mac) -> Mac:
    mac.program = "/usr/local/bin/tidebook"
    return mac.link("/usr/local/bin/tidebook", "../../../opt/bin/app")


def re_exporting(mac: Mac) -> Mac:
    """libone, which hands on what libtwo offers."""
    two = mac.library("two", install="@loader_path/libtwo.dylib")
    return two.library("one", "-reexport_library", "libtwo.dylib")


def one_without_one(mac: Mac, *, at_start: bool = False) -> Mac:
    """A program, and in place of the library that it calls another of that name."""
    mac.library("one").app(*RPATH, at_start=at_start).library("two", install="@rpath/libone.dylib").without("one")
    return mac.link("/opt/lib/libone.dylib", "libtwo.dylib")


Case = Callable[[Mac], Mac]

# rule -> (what is laid out, the faults that must be found: file name -> verdict)
CASES: dict[str, tuple[Case, dict[str, str]]] = {
    "@rpath is what the program's run path says": (lambda m: m.chain(), {}),
    "a library that is nowhere is missing": (lambda m: m.chain().without("two"), {"libtwo.dylib": "missing"}),
    "all that is missing is told at once": (
        lambda m: (
            m.chain()
            .app(*RPATH, "-no_one", "-needed_library", "libone.dylib", "libtwo.dylib")
            .without("one")
            .without("two")
        ),
        {"libone.dylib": "missing", "libtwo.dylib": "missing"},
    ),
    "run paths are inherited by the libraries of libraries": (lambda m: m.chain(), {}),
    "a library's own run path comes first": (
        lambda m: m.library("two").library("one", "-rpath", "/own", calls="two").app(*RPATH).moved("two", "/own"),
        {},
    ),
    "a run path of a library serves nobody above it": (
        lambda m: m.library("one", "-rpath", "/own").app("-rpath", "/none"),
        {"libone.dylib": "missing"},
    ),
    "@loader_path is the folder of whoever asks": (
        lambda m: m.library("two", install="@loader_path/libtwo.dylib").library("one", calls="two").app(*RPATH),
        {},
    ),
    "@loader_path is not the program's folder": (
        lambda m: (
            m.library("two", install="@loader_path/libtwo.dylib")
            .library("one", calls="two")
            .app(*RPATH)
            .moved("two", "/opt/bin")
        ),
        {"libtwo.dylib": "missing"},
    ),
    "@executable_path is the program's folder": (
        lambda m: m.library("one", install="@executable_path/../lib/libone.dylib").app(),
        {},
    ),
    "@executable_path follows a link to the program": (
        lambda m: started_by_link(m.library("one", install="@executable_path/../lib/libone.dylib").app()),
        {},
    ),
    "@loader_path in a run path is the folder of the file that has it": (
        lambda m: (
            m.library("two")
            .library("one", "-rpath", "@loader_path/deep", calls="two")
            .app(*RPATH)
            .moved("two", "/opt/lib/deep")
        ),
        {},
    ),
    "an absolute path is taken as it is": (lambda m: m.library("one", install="/opt/lib/libone.dylib").app(), {}),
    "an absolute path has no fallback in what is built today": (
        lambda m: m.library("one", install="/opt/lib/libone.dylib").app().moved("one", "/usr/local/lib"),
        {"libone.dylib": "missing"},
    ),
    "what an older SDK built falls back to /usr/local/lib": (
        lambda m: (
            m.library("one", install="/opt/lib/libone.dylib")
            .app("-platform_version", "macos", "11.0", "12.0")
            .moved("one", "/usr/local/lib")
        ),
        {},
    ),
    "the fallback variable takes the place of that": (
        lambda m: (
            m.library("one", install="/opt/lib/libone.dylib")
            .app()
            .moved("one", "/else")
            .with_variable("DYLD_FALLBACK_LIBRARY_PATH", "/none:/else")
        ),
        {},
    ),
    "DYLD_LIBRARY_PATH comes before everything": (
        lambda m: m.chain().moved("two", "/else").with_variable("DYLD_LIBRARY_PATH", "/else"),
        {},
    ),
    "DYLD_LIBRARY_PATH does not count for a set-user-id program": (
        lambda m: m.chain().moved("two", "/else").with_variable("DYLD_LIBRARY_PATH", "/else").set_user_id(),
        {"libtwo.dylib": "missing"},
    ),
    "DYLD_LIBRARY_PATH does not count where a segment says so": (
        lambda m: (
            m.chain("-sectcreate", "__RESTRICT", "__restrict", "/dev/null")
            .moved("two", "/else")
            .with_variable("DYLD_LIBRARY_PATH", "/else")
        ),
        {"libtwo.dylib": "missing"},
    ),
    "what is inserted and not there keeps the program from starting": (
        lambda m: m.chain().with_variable("DYLD_INSERT_LIBRARIES", "/none/libx.dylib"),
        {"libx.dylib": "missing"},
    ),
    "what is inserted is loaded with all that it needs": (
        lambda m: (
            m.chain()
            .library("four", install="/else/libfour.dylib", into="/else")
            .library("five", install="/else/libfive.dylib", into="/else", calls="four")
            .with_variable("DYLD_INSERT_LIBRARIES", "/else/libfive.dylib")
        ),
        {},
    ),
    "a library that is needed weakly may be missing": (
        lambda m: m.library("one").app(*RPATH, "-no_one", "-weak_library", "libone.dylib").without("one"),
        {},
    ),
    "what a re-exported library lacks is missing": (
        lambda m: re_exporting(m).app(*RPATH).without("two"),
        {"libtwo.dylib": "missing"},
    ),
    "a symbol may come from a re-exported library": (
        lambda m: re_exporting(m).app(*RPATH, "libone.dylib", "-no_one", calls="two", at_start=True),
        {},
    ),
    "a symbol that is no longer there makes a library outdated": (
        lambda m: one_without_one(m, at_start=True),
        {"libone.dylib": "outdated"},
    ),
    "a symbol that is bound at its first call keeps nothing from starting": (one_without_one, {}),
    "a library of the other architecture is passed over": (
        lambda m: (
            m.of("x86_64").library("one", into="/first").of("arm64").library("one").app("-rpath", "/first", *RPATH)
        ),
        {},
    ),
    "a library of the other architecture alone is of no use": (
        lambda m: m.library("one").app(*RPATH).of("x86_64").library("one"),
        {"libone.dylib": "wrong-architecture"},
    ),
    "a universal library serves both": (lambda m: m.of("x86_64", "arm64").library("one").of("arm64").app(*RPATH), {}),
    "a universal program is run as the machine's own kind": (
        lambda m: m.of("x86_64", "arm64").library("one").app(*RPATH).of("arm64").library("one"),
        {},
    ),
    "on an Intel machine the other slice is run": (
        lambda m: m.of("x86_64", "arm64").library("one").app(*RPATH).intel().of("arm64").library("one"),
        {"libone.dylib": "wrong-architecture"},
    ),
    "an Intel machine runs nothing for arm64": (lambda m: m.chain().intel(), {"app": "wrong-architecture"}),
    "without its translator a machine runs nothing for x86_64": (
        lambda m: m.of("x86_64").chain(),
        {"app": "wrong-architecture"},
    ),
    "with its translator it does": (
        lambda m: (
            m.of("x86_64")
            .chain()
            .cache("x86_64", "/usr/lib/libSystem.B.dylib")
            .file("/Library/Apple/usr/libexec/oah/x", b"")
        ),
        {},
    ),
    "a library with a lower compatibility version is outdated": (
        lambda m: (
            m.library("one", "-compatibility_version", "2.1")
            .app(*RPATH)
            .library("one", "-compatibility_version", "2.0.9")
        ),
        {"libone.dylib": "outdated"},
    ),
    "a library with a higher compatibility version serves": (
        lambda m: (
            m.library("one", "-compatibility_version", "2.1")
            .app(*RPATH)
            .library("one", "-compatibility_version", "2.2")
        ),
        {},
    ),
    "code for arm64 must be signed": (
        lambda m: m.library("one", "-no_adhoc_codesign").app(*RPATH),
        {"libone.dylib": "untrusted"},
    ),
    "a program for arm64 must be signed": (
        lambda m: m.library("one").app(*RPATH, "-no_adhoc_codesign"),
        {"app": "untrusted"},
    ),
    "code for x86_64 need not be": (
        lambda m: m.intel().library("one", "-no_adhoc_codesign").app(*RPATH, "-no_adhoc_codesign"),
        {},
    ),
    "an altered page is found by the signature": (
        lambda m: m.library("one").app(*RPATH).changed("/opt/lib/libone.dylib", 0x4300, b"\1\2\3"),
        {"libone.dylib": "corrupt"},
    ),
    "a cut library is corrupt": (
        lambda m: m.library("one").app(*RPATH).cut("/opt/lib/libone.dylib", 16500),
        {"libone.dylib": "corrupt"},
    ),
    "a file of text is passed over": (
        lambda m: m.library("one").app("-rpath", "/text", *RPATH).file("/text/libone.dylib", b"no library\n" * 9),
        {},
    ),
    "a library of another system is of no use": (
        lambda m: m.library("one").app(*RPATH).library("one", "-platform_version", "ios", "14.0", "15.0"),
        {"libone.dylib": "corrupt"},
    ),
    "a program is no library": (
        lambda m: m.library("one").app(*RPATH).without("one").link("/opt/lib/libone.dylib", "../bin/app"),
        {"libone.dylib": "corrupt"},
    ),
    "the shared cache has what no disk has": (lambda m: m.chain(), {}),
    "what the shared cache has not is missing": (
        lambda m: m.library("one", install="/usr/lib/libone.dylib").app().without("one"),
        {"libone.dylib": "missing"},
    ),
    "a link on the disk may lead into the shared cache": (
        lambda m: (
            m.library("one", install="/usr/lib/libone.dylib")
            .app()
            .without("one")
            .cache("arm64e", "/usr/lib/libone.1.dylib", "/usr/lib/libSystem.B.dylib")
            .link("/usr/lib/libone.dylib", "libone.1.dylib")
        ),
        {},
    ),
    "names are compared without case": (
        lambda m: (
            m.chain()
            .without("three")
            .library("three", into="/opt/Lib2")
            .link("/opt/lib/LIBTHREE.dylib", "../lib2/libThree.dylib")
        ),
        {},
    ),
    "what is loaded under an install name is not searched again": (
        lambda m: (
            m.library("two")
            .app("-no_one", "libtwo.dylib", *RPATH, calls="two")
            .library("one", calls="two", install="/opt/lib/libone.dylib")
            .moved("two", "/else")
            .with_variable("DYLD_INSERT_LIBRARIES", "/else/libtwo.dylib")
        ),
        {},
    ),
}


@pytest.mark.parametrize("rule", CASES)
def test_a_rule_of_the_mac_loader(rule: str, tmp_path: Path) -> None:
    lay_out, faults = CASES[rule]
    trace = lay_out(Mac(tmp_path)).trace()
    assert {fault.name.rpartition("/")[2]: str(fault.verdict) for fault in trace.faults} == faults

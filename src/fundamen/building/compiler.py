"""Ask a compiler where it looks: for libraries and start files, for headers, and for which architecture it links.

It is asked in its own ways, which compile and link nothing: ``-###`` shows the linker's command line, ``-E -v`` the
folders of headers, ``-M -MG`` the headers that a source reads. Source: the manual of GCC, "Overall Options" and
"Preprocessor Options"; the manual of GNU ld, "--verbose".
"""

import contextlib
import os
import re
import shlex
import subprocess
import tempfile

import msgspec

from fundamen.building.command import CompilerCommand
from fundamen.machine.host_tools import run_tool
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError

_SECONDS = 60.0
_LINKERS = re.compile(r"(?:collect2|ld|ld\.\w+|ld64\.lld|lld|mold|[\w.+-]+-ld(?:\.\w+)?)$")
_WITH_ARGUMENT = {
    "-o",
    "-z",
    "-T",
    "-h",
    "-e",
    "-u",
    "-soname",
    "-rpath",
    "-rpath-link",
    "-plugin",
    "-dynamic-linker",
    "-A",
}
_STATIC, _DYNAMIC = {"-static", "-Bstatic", "-dn", "-non_shared"}, {"-Bdynamic", "-dy", "-call_shared"}
_SEARCH_DIR = re.compile(r'SEARCH_DIR\("(=?)([^"]+)"\)')
_EMULATIONS = {
    "elf_x86_64": Architecture.X86_64,
    "elf_i386": Architecture.X86,
    "elf32_x86_64": Architecture.X32,
    "aarch64linux": Architecture.AARCH64,
    "armelf_linux_eabi": Architecture.ARM,
    "elf64lriscv": Architecture.RISCV64,
    "elf64lppc": Architecture.PPC64LE,
    "elf64_s390": Architecture.S390X,
    "i386pep": Architecture.X86_64,
    "i386pe": Architecture.X86,
    "arm64pe": Architecture.AARCH64,
}


class CompilerPart(msgspec.Struct, frozen=True):
    """One file or library in the linker's order."""

    name: str  # a path, a file name, or ``-lname``
    only_static: bool = False  # whether only static libraries may meet it


class LinkPlan(msgspec.Struct, frozen=True):
    """The input of a link step, as the linker would be given it."""

    linker: str
    emulation: str
    architecture: Architecture  # UNKNOWN where the emulation is none that is known here
    folders: tuple[str, ...]  # where libraries are looked for, in order
    parts: tuple[CompilerPart, ...]  # without what the command itself gives as inputs

    @property
    def is_for_windows(self) -> bool:
        """Whether it makes PE files, whose libraries have other names."""
        return self.emulation.endswith(("pe", "pep"))


class HeaderFolders(msgspec.Struct, frozen=True):
    """Where headers are looked for, in order."""

    quoted: tuple[str, ...]  # only those in quotation marks
    all: tuple[str, ...]


class Compiler:
    """A compiler of this host, run in one folder with the words of one command that change where it looks."""

    def __init__(self, tool: str, searching: tuple[str, ...], folder: str) -> None:
        self.tool = tool
        self._searching = list(searching)
        self._folder = folder

    def link_plan(self) -> LinkPlan:
        """The plan that the compiler driver would give the linker.

        Raises:
            UnreadableError: it cannot be run, or shows no linker's command.
        """
        with tempfile.TemporaryDirectory(prefix="fundamen-") as folder:
            stand_in = os.path.join(folder, "stand-in.o")
            open(stand_in, "wb").close()
            said = self._ask(stand_in, *self._searching, "-###")
            for line in reversed(said.splitlines()):
                with contextlib.suppress(ValueError):
                    words = shlex.split(line)
                    if words and _LINKERS.match(os.path.basename(words[0])):
                        return self._read_plan([word for word in words if word != stand_in])
        raise UnreadableError(
            what=say("building.does-not-say-how-it-links", tool=printable(self.tool)),
            why=printable(said.strip().splitlines()[-1])
            if said.strip()
            else say("building.it-shows-no-linker-command-for"),
            do=say("building.name-a-compiler-that-follows-gcc"),
        )

    def header_folders(self, *, is_cpp: bool) -> HeaderFolders:
        """Where it looks for headers.

        Raises:
            UnreadableError: it cannot be run.
        """
        language = "c++" if is_cpp else "c"
        folders: dict[str, list[str]] = {'"': [], "<": []}
        kind = ""
        for line in self._ask(*self._without_libraries(), "-E", "-v", "-x", language, os.devnull).splitlines():
            if line.startswith("#include "):
                kind = line[len("#include ")]
            elif line.startswith("End of search list"):
                kind = ""
            elif kind in folders:
                folders[kind].append(os.path.normpath(line.strip().removesuffix(" (framework directory)")))
        return HeaderFolders(tuple(folders['"']), tuple(folders["<"]))

    def missing_headers(self, source: str) -> tuple[str, ...]:
        """The headers that a source asks for, directly or through others, and that the compiler does not find.

        Raises:
            UnreadableError: it cannot be run.
        """
        said = self._ask(*self._without_libraries(), "-M", "-MG", source, only_results=True)
        with contextlib.suppress(ValueError):
            names = shlex.split(said.partition(":")[2].replace("\\\n", " "))
            return tuple(n for n in names if not os.path.exists(os.path.join(self._folder, n)) and n != source)
        return ()

    def _without_libraries(self) -> list[str]:
        return [word for word in self._searching if not word.startswith(("-l", "-Wl,"))]

    def _read_plan(self, words: list[str]) -> LinkPlan:
        folders: list[str] = []
        parts: list[CompilerPart] = []
        emulation, only_static = "", False
        rest = list(reversed(words[1:]))
        while rest:
            word = rest.pop()
            if word == "-m" and rest:
                emulation = rest.pop()
            elif word in _WITH_ARGUMENT and rest:
                rest.pop()
            elif word.startswith("-L"):
                folders.append(word[2:] or (rest.pop() if rest else ""))
            elif word in _STATIC | _DYNAMIC:
                only_static = word in _STATIC
            elif word.startswith("-l"):
                parts.append(CompilerPart(word, only_static))
            elif not word.startswith("-"):
                parts.append(CompilerPart(word))
        linker = self._ask("-print-prog-name=ld").strip() or "ld"
        folders += self._own_folders(linker, emulation)
        # Where its own parts for another width would lie; it names only those folders that are there.
        other_width = self._ask(*self._without_libraries(), "-print-multi-directory").strip()
        if re.fullmatch(r"\w+", other_width):
            folders += [
                os.path.join(folder, other_width) for folder in folders if "/gcc" in folder and ".." not in folder
            ]
        tidy = dict.fromkeys(os.path.normpath(os.path.join(self._folder, each)) for each in folders)
        architecture = _EMULATIONS.get(emulation, Architecture.UNKNOWN)
        return LinkPlan(linker, emulation, architecture, tuple(tidy), tuple(parts))

    def _own_folders(self, linker: str, emulation: str) -> list[str]:
        """The folders that are built into the linker, behind those that it is given."""
        roots = [word.removeprefix("--sysroot=") for word in self._searching if word.startswith("--sysroot=")]
        try:
            script = _output_of([linker, *(["-m", emulation] if emulation else []), "--verbose"], self._folder)
        except UnreadableError:
            return []
        return [(roots[-1] if roots and mark else "") + path for mark, path in _SEARCH_DIR.findall(script)]

    def _ask(self, *words: str, only_results: bool = False) -> str:
        return _output_of([self.tool, *words], self._folder, only_results=only_results)


def compiler_of(command: CompilerCommand, folder: str, *, is_trusted: bool) -> Compiler:
    """The compiler that a command names.

    Args:
        command: the command.
        folder: that it is run in.
        is_trusted: whether a person gave the command; of a log's only the name counts, which PATH then finds.
    """
    tool = command.tool if is_trusted else os.path.basename(command.tool)
    return Compiler("cc" if command.is_linker else tool, command.searching, folder)


def dry_run(target: str, folder: str) -> str:
    """Ask make what it would run for a target (``-n``, which runs no recipe), and give its messages.

    Raises:
        UnreadableError: make cannot be run.
    """
    return _output_of(["make", "-n", "-k", *([target] if target else [])], folder)


def _output_of(words: list[str], folder: str, *, only_results: bool = False) -> str:
    stderr = subprocess.DEVNULL if only_results else subprocess.STDOUT
    try:
        return run_tool(words, _SECONDS, folder or None, stderr=stderr, errors="surrogateescape").stdout
    except FileNotFoundError as error:
        is_folder = not os.path.isdir(folder or ".")
        raise UnreadableError(
            what=say("building.cannot-be-asked", words=printable(words[0])),
            why=say("building.the-folder-is-not-there", folder=printable(folder))
            if is_folder
            else say("building.no-such-compiler-is-on-path"),
            do=say("building.name-the-folder-of-the-build")
            if is_folder
            else say("building.install-it-or-name-another-one"),
        ) from error
    except OSError as error:
        why = (
            say("building.it-did-not-answer-in-s", seconds=_SECONDS) if isinstance(error, TimeoutError) else str(error)
        )
        raise UnreadableError(
            what=say("building.cannot-be-asked", words=printable(words[0])),
            why=printable(why),
            do=say("building.try-it-by-hand-add-to"),
        ) from error

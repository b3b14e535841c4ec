"""Take a compiler's command line apart: what it reads, which libraries it names, and which words change where it looks.

Source: the manual of GCC, "Option Summary"; the manual of GNU ld, "Command-line Options"; Clang's follow them.
"""

import re

import msgspec

# Words that change where the compiler looks, or what for. No other word of a log is ever handed to a compiler: some
# name plug-ins, tools or files of arguments (-fplugin=, -B, -wrapper, -specs=, @file), which would be run or believed.
_SEARCHING = re.compile(
    r"-m(?:32|64|x32)$|-std=[\w+:]+$|--sysroot=|-static$|-static-libgcc$|-static-libstdc\+\+$|-static-pie$|-shared$|-r$"
    r"|-(?:no-)?pie$|-nostdlib$|-nostartfiles$|-nodefaultlibs$|-nostdinc$|-nolibc$|-pthread$|-fopenmp$|-stdlib=[\w+]+$"
    r"|--?target=[\w.-]+$|-Wl,(?:-B(?:static|dynamic)|-static|-d[ny])$|-O[\w]*$|-f(?:PIC|pic|PIE|pie)$"
)
_JOINED = ("-L", "-I", "-l", "-D", "-U")  # an argument follows in the same word, or in the next
_WITH_ARGUMENT = {"-isystem", "-iquote", "-idirafter", "-include", "-target", "-x"}
_DROPPED = {
    "-o",
    "-T",
    "-u",
    "-z",
    "-MF",
    "-MT",
    "-MQ",
    "-Xlinker",
    "-Xassembler",
    "-Xpreprocessor",
    "-arch",
}  # and what follows
_STOPS_EARLY = {"-c", "-S", "-E", "-M", "-MM"}
_SOURCES = (".c", ".cc", ".cpp", ".cxx", ".c++", ".C", ".m", ".mm", ".s", ".S")


class CompilerCommand(msgspec.Struct, frozen=True):
    """One command line of a compiler or linker."""

    tool: str  # as it is spelled
    inputs: tuple[str, ...]  # sources, objects and libraries by their paths, in order
    order: tuple[str, ...]  # inputs and ``-lname`` in the order of the line
    searching: tuple[str, ...]  # the words that change where it looks, each with its argument behind it
    links: bool  # whether it goes on to linking

    @property
    def sources(self) -> tuple[str, ...]:
        """The inputs that are compiled."""
        return tuple(path for path in self.inputs if path.endswith(_SOURCES))

    @property
    def is_linker(self) -> bool:
        """Whether the linker is called itself, and not by a compiler."""
        return bool(re.match(r"(?:[\w.+-]+-)?(?:ld(?:\.\w+)?|mold)$", self.tool.rpartition("/")[2]))


def read_compiler_command(words: tuple[str, ...]) -> CompilerCommand:
    """Take a command line apart; its first word is the tool."""
    inputs: list[str] = []
    order: list[str] = []
    searching: list[str] = []
    rest = list(reversed(words[1:]))
    while rest:
        word = rest.pop()
        if word in _DROPPED:
            rest = rest[:-1]
        elif word in _WITH_ARGUMENT or word in _JOINED:
            if rest:
                argument = rest.pop()
                searching += [word, argument]
                order += [f"-l{argument}"] if word == "-l" else []
        elif word.startswith(_JOINED):
            searching.append(word)
            order += [word] if word.startswith("-l") else []
        elif _SEARCHING.match(word):
            searching.append(word)
        elif not word.startswith(("-", "@")):
            inputs.append(word)
            order.append(word)
    links = not _STOPS_EARLY.intersection(words)
    return CompilerCommand(words[0], tuple(inputs), tuple(order), tuple(searching), links)

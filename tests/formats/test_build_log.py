"""Messages of each tool are read; that the tools really word them so is proven in tests/system."""

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.build_log import BuildMessage, BuildSaying, read_build_log

# What it says | name | who asks | the message
MESSAGES = r"""no library | salt |  | /usr/bin/ld: cannot find -lsalt: No such file or directory
no library | salt |  | /usr/bin/ld: cannot find -lsalt
no library | salt |  | ld.lld: error: unable to find library -lsalt
no library | salt |  | mold: fatal: library not found: salt
no library | salt |  | ld: library not found for -lsalt
no library | salt |  | ld: library 'salt' not found
no file | salt.lib |  | LINK : fatal error LNK1104: cannot open file 'salt.lib'
no file | crt1.o |  | /usr/bin/ld: cannot find crt1.o: No such file or directory
no file | tide.o |  | gcc: error: tide.o: No such file or directory
no file | tide.o |  | clang: error: no such file or directory: 'tide.o'
skipped | /opt/libsalt.so | salt | /usr/bin/ld: skipping incompatible /opt/libsalt.so when searching for -lsalt
no header | tide/berth.h | src/main.c | src/main.c:3:10: fatal error: tide/berth.h: No such file or directory
no header | berth.h | main.cc | main.cc:1:10: fatal error: 'berth.h' file not found
no header | berth.h | main.cpp | main.cpp(3): fatal error C1083: Cannot open include file: 'berth.h': No such file
no symbol | salt_depth | main.o | /usr/bin/ld: main.o: undefined reference to symbol 'salt_depth@@SALT_4'
no symbol | salt_depth | main.c | main.c:(.text+0xa): undefined reference to `salt_depth'
no symbol | salt_depth |  | ld.lld: error: undefined symbol: salt_depth
no symbol | salt_depth |  | main.obj : error LNK2019: unresolved external symbol salt_depth referenced in function main
no symbol | _salt_depth |  |   "_salt_depth", referenced from:
no rule | libsa1t.a | tidebook | make: *** No rule to make target 'libsa1t.a', needed by 'tidebook'.  Stop.
target failed | tidebook | Makefile | make[2]: *** [Makefile:12: tidebook] Error 1
target failed | tide_parts | /srv/tide/build.mk | It stopped at target 'tide_parts' of makefile '/srv/tide/build.mk'.
no tool | gcc |  | make: gcc: No such file or directory
no tool | g++ |  | /bin/sh: 1: g++: not found"""


@pytest.mark.parametrize("row", MESSAGES.split("\n"))
def test_a_message_says_what_is_lacking(row: str) -> None:
    says, name, asked_by, line = row.split(" | ", 3)
    [message] = read_build_log(line).messages
    assert (message.says, message.name, message.asked_by) == (says, name, asked_by)


@pytest.mark.parametrize(
    ("line", "words", "folder"),
    [
        ("cc -o tidebook main.o -ltide", ("cc", "-o", "tidebook", "main.o", "-ltide"), ""),
        ("[3/9] /usr/bin/x86_64-linux-gnu-gcc-12 -c 'a b.c'", ("/usr/bin/x86_64-linux-gnu-gcc-12", "-c", "a b.c"), ""),
        ("cd parts && LANG=C ccache g++ -c a.cc && echo done", ("g++", "-c", "a.cc"), "parts"),
        ("libtool: link: gcc -shared a.o -o liba.so", ("gcc", "-shared", "a.o", "-o", "liba.so"), ""),
        ("gcc -o a \\\n  a.o \\\n  -lm", ("gcc", "-o", "a", "a.o", "-lm"), ""),
    ],
)
def test_a_command_is_known_among_what_a_shell_and_its_helpers_write(
    line: str, words: tuple[str, ...], folder: str
) -> None:
    [command] = read_build_log(line).commands
    assert (command.words, command.folder) == (words, folder)


def test_the_folder_and_the_command_of_a_message_are_those_before_it() -> None:
    log = read_build_log("make[1]: Entering directory '/src/tide'\ncc -c a.c\ncc a.o -lx\nld: cannot find -lx\n")
    assert [command.folder for command in log.commands] == ["/src/tide", "/src/tide"]
    assert log.messages == (BuildMessage(BuildSaying.NO_LIBRARY, "x", "", 4, 1),)


@given(st.text(max_size=300))
def test_any_text_is_read(text: str) -> None:
    read_build_log(text + "\nerror: " + text)


@pytest.mark.parametrize("piece", ["a", "a:", "ld", "ld: ", "gcc ", "'", "[", "make: *** ["])
def test_a_hostile_line_does_not_hold_the_reader_up(piece: str) -> None:
    began = time.monotonic()
    read_build_log((piece * 100_000)[:100_000] + " error cannot undefined not found arget")
    assert time.monotonic() - began < 5

"""The first cause of failures that were really provoked, whatever the text's form; silence on healthy logs."""

import contextlib
import io
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.corpus import Case, cases
from fundamen.clues import large, shapes
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading, read_text
from fundamen.clues.scanning import Scanner
from fundamen.clues.text import clean
from fundamen.knowledge.entries import load_knowledge
from fundamen.model.errors import UnreadableError

KNOWN = load_knowledge()
SCANNER = Scanner(KNOWN)
CASES = list(cases())
LIBRARY = (
    b"tidebook: error while loading shared libraries: libtide.so.2: cannot open shared object file: No such file\n"
)


def read(data: bytes) -> Reading:
    return read_text(KNOWN, SCANNER, io.BytesIO(data), "log")


def named(reading: Reading, kind: MentionKind) -> set[str]:
    return {mention.text for mention in reading.mentions if mention.kind is kind}


def is_right(case: Case) -> bool:
    decisive = read(case.text.encode()).decisive
    return decisive is not None and decisive.line == case.line


def test_the_line_that_decides_is_right_in_at_least_95_of_100_texts() -> None:
    wrong = [case.name for case in CASES if not is_right(case)]
    assert len(CASES) >= 120
    assert len(wrong) <= len(CASES) * 0.05, wrong


def test_component_and_architecture_are_named_in_all_texts() -> None:
    for case in CASES:
        reading = read(case.text.encode())
        if case.component:
            assert case.component.rpartition("/")[2] in named(reading, MentionKind.COMPONENT), case.name
        if case.architecture:
            assert case.architecture in named(reading, MentionKind.ARCHITECTURE), case.name


@pytest.fixture(scope="module")
def healthy() -> list[bytes]:
    """The lines that a loader and an interpreter really write while a program runs well."""
    run = subprocess.run(
        [sys.executable, "-v", "-c", "import ctypes, email.message, http.client, json, sqlite3, ssl, xml.dom.minidom"],
        env={**os.environ, "LD_DEBUG": "files,libs,versions,bindings"},
        capture_output=True,
        check=True,
    )
    lines = run.stderr.splitlines(keepends=True)
    assert len(lines) >= 5000
    return [lines[at * len(lines) // 5000] for at in range(5000)]  # from the first to the last


@pytest.mark.xdist_group("healthy lines")  # they are written once
def test_5000_healthy_lines_tell_of_no_failure(healthy: list[bytes]) -> None:
    reading = read(b"".join(healthy))
    assert (reading.decisive, reading.lines) == (None, len(healthy))


@pytest.mark.xdist_group("healthy lines")
def test_the_line_that_decides_is_found_between_5000_healthy_lines(healthy: list[bytes]) -> None:
    at = len(healthy) // 2
    assert read(b"".join([*healthy[:at], LIBRARY, *healthy[at:], b"ERROR: gave up\n"])).decisive == read(
        b"\n" * at + LIBRARY + b"\n" * at + b"ERROR: gave up\n"
    ).decisive  # fmt: skip


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32", "cp1252"])
def test_the_encoding_is_found_out(encoding: str) -> None:
    text = "Größe geändert: 4 von 7\r\n" * 5 + "da SALTGRASS4.dll auf dem Computer fehlt: für Tidebook\r\n"
    decisive = read(text.encode(encoding)).decisive
    assert decisive is not None
    assert (decisive.line, decisive.holes["component"], "für" in decisive.text) == (6, "SALTGRASS4.dll", True)


def lines_that_decide() -> list[str]:
    """Those of every second case that say all by themselves, and are long enough to be wrapped."""
    lines = [next(line for line in case.text.split("\n") if case.decides in line) for case in CASES[::2]]
    readings = [(line, read(line.encode()).decisive) for line in lines if len(line.split()) >= 8]
    return [line for line, decisive in readings if decisive is not None and not decisive.is_guess]


@pytest.mark.parametrize("line", lines_that_decide())
def test_a_message_that_was_wrapped_is_read_all_the_same(line: str) -> None:
    """Only between words: by a message box, a mail, a terminal."""
    whole, words = read(line.encode()).decisive, line.split()
    wrapped = read(" ".join(words[:5]).encode() + b"\n" + " ".join(words[5:]).encode()).decisive
    assert wrapped is not None
    assert wrapped.entry == (whole and whole.entry)


def test_a_line_that_never_ends_is_cut_and_the_lines_behind_it_keep_their_numbers() -> None:
    data = b"INFO begins\n" + b"x" * (5 << 20) + b"\n" + LIBRARY
    decisive = read(data).decisive
    assert decisive is not None
    assert decisive.line == 3


def test_no_escape_of_a_terminal_comes_through() -> None:
    hostile = b"\x1b]0;owned\x07\x1b[31mERROR\x1b[0m \x9b2Jlibtide\xc2\x9b.so.2: invalid ELF header\r\n"
    decisive = read(hostile).decisive
    assert decisive is not None
    assert decisive.text.isprintable()
    assert "owned" not in decisive.text


@given(st.binary(max_size=400))
def test_no_line_keeps_a_character_that_does_something(raw: bytes) -> None:
    assert not set(clean(raw)) & set("\x00\x07\x08\x1b\x7f\x9b\r\n\u202e\u200b")


@given(st.binary(max_size=3000))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(UnreadableError):
        assert read(data).lines <= data.count(b"\n") + 1


@given(
    st.lists(
        st.sampled_from([LIBRARY, b"INFO ok\n", b"\n", b"make: *** [all] Error 2\n", b"z" * 70 + b"\n"]), min_size=1
    ),
    st.integers(1, 400),
)
def test_a_large_log_read_in_pieces_says_the_same_as_read_at_once(
    tmp_path_factory: pytest.TempPathFactory, lines: list[bytes], piece: int
) -> None:
    path = tmp_path_factory.getbasetemp() / "pieces.log"
    path.write_bytes(b"".join(lines))
    counted = 0
    for begin in range(0, path.stat().st_size, piece):
        stream = large.Lines(str(path), begin, piece)
        while data := stream.read(1):
            counted += data.count(b"\n")
    assert counted == len(lines)


def test_what_was_remembered_of_a_log_changes_no_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shapes, "_MOST_REMEMBERED", 2_000)  # bytes, so that it is forgotten again and again
    lines = [line for case in CASES for line in case.text.encode().splitlines()]
    scanner, forgetful = Scanner(KNOWN), Scanner(KNOWN)
    for start in (0, 1, 0):
        for at in range(start, len(lines), 7):
            block = b"\n".join(lines[at : at + 7])
            forgetful._shapes.forget()
            assert scanner.scan(block, set()) == forgetful.scan(block, set())


def test_several_processes_find_what_one_finds(tmp_path: Path) -> None:
    """Behind a line that goes over several of their pieces, too."""
    path = tmp_path / "large.log"
    filler = b"".join(
        b"2026-11-28 09:%02d:%02d INFO gauge %d reports\n" % (n // 60 % 60, n % 60, n) for n in range(50_000)
    )
    with path.open("wb") as file:
        file.write(b"x" * (40 << 20) + b"\n")
        while file.tell() < large.LARGE + (40 << 20):
            file.write(filler)
        file.write(LIBRARY + b"ERROR: gave up\n")
    assert large.may_be_shared(str(path)) or (os.cpu_count() or 1) == 1
    shared = large.read_large(KNOWN, SCANNER, str(path))
    with path.open("rb") as file:
        whole = read_text(KNOWN, SCANNER, file, str(path))
    assert (shared.decisive, shared.lines, shared.mentions) == (whole.decisive, whole.lines, whole.mentions)
    assert shared.decisive is not None


def test_what_a_later_run_overcame_is_not_reported_as_the_cause() -> None:
    log = (
        b"=== Verbose logging started: 27 ===\nError 1308. Source file not found: D:\\gauge.cab.\n"
        b"=== Verbose logging started: 28 ===\nProduct: Saltgrass -- Installation completed successfully.\n"
    )
    reading = read(log)
    assert (reading.decisive, reading.ended_well, len(reading.earlier)) == (None, True, 1)


def test_what_hardly_counts_does_not_crowd_out_the_cause_and_what_counts_is_bounded() -> None:
    quiet = b"".join(
        b"09:00:00 DEBUG probing lib%d.so: cannot open shared object file: No such file\n" % n for n in range(6000)
    )
    reading = read(quiet + LIBRARY + b"ERROR: gave up\n")
    assert reading.decisive is not None
    assert (reading.decisive.line, reading.read_until) == (6001, None)
    loud = b"".join(b"ERROR cannot open /opt/%d: Permission denied\n" % n for n in range(6000))
    reading = read(loud + LIBRARY)
    assert (reading.read_until, reading.lines, len(reading.findings)) == (5000, 6001, 5000)

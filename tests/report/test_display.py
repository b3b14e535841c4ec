"""No text of a file, a name or a server acts, hides or reverses where it is shown."""

import json
import os
import unicodedata
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from builders.signing import AnIssuer
from conftest import Fundamen
from fundamen.model.display import printable, shown_json, shown_lines, shown_page

TEXTS = {
    "red": "\x1b[31mred", "title": "\x1b]0;title\x07", "link": "\x1b]8;;https://tide.example\x1b\\here\x1b]8;;\x1b\\",
    "clear": "\x1b[2J\x1b[H", "answer back": "\x1b[6n", "bell": "\x07", "back": "sound\x08\x08\x08\x08\x08bad",
    "carriage return": "missing\rsound", "vertical tab": "\x0b", "form feed": "\x0c", "delete": "\x7f",
    "one-byte CSI": "\x9b31m", "one-byte OSC": "\x9d0;x\x9c", "next line": "\x85", "undecodable": "\udc9b31m",
    "right to left": "\u202egnp.exe", "left to right": "\u202dx", "pop": "\u202c", "embedding": "\u202aa\u202bb",
    "isolates": "\u2066a\u2067b\u2068c\u2069", "marks": "a\u200eb\u200fc", "arabic mark": "a\u061cb",
    "no width": "a\u200bb", "joiners": "a\u200cb\u200dc", "word joiner": "a\u2060b", "byte order": "\ufeffa",
    "soft hyphen": "a\u00adb", "line": "a\u2028b", "paragraph": "a\u2029b", "mongolian": "a\u180eb",
    "hangul": "a\u3164b\u115fc\u1160d\uffa0e", "braille": "a\u2800b", "grapheme joiner": "a\u034fb",
    "variation": "a\ufe0fb\U000e0101c", "tags": "a\U000e0041\U000e007f", "private": "a\ue000b\U000f0000",
    "not assigned": "a\u0378b", "khmer": "a\u17b4b", "no-break blank": "a\u00a0b", "wide blank": "a\u3000b",
}  # fmt: skip
# Unicode's property Default_Ignorable_Code_Point, and a symbol that is blank.
IGNORABLE = set("\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b\u180c\u180d\u180e\u180f\u3164\ufeff\uffa0\u2800")
IGNORABLE |= {chr(code) for first, last in ((0x200B, 0x200F), (0x202A, 0x202E), (0x2060, 0x206F), (0xFE00, 0xFE0F))
              for code in range(first, last + 1)}  # fmt: skip
IGNORABLE |= {chr(code) for code in range(0xE0000, 0xE1000)}


UNSEEN = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}  # categories


def hidden(text: str) -> set[str]:
    """The parts of a text that are invisible or act."""
    unseen = IGNORABLE | {"\u00a0", "\u3000"}
    return {c for c in text if c not in "\n\t" and (unicodedata.category(c) in UNSEEN or c in unseen)}


def test_there_are_forty_texts() -> None:
    assert len(TEXTS) == 40
    assert all(hidden(text) for text in TEXTS.values())


@pytest.mark.parametrize("text", TEXTS.values(), ids=TEXTS)
def test_each_filter_lets_nothing_by_and_leaves_what_is_seen(text: str) -> None:
    whole = f"Tagebücher {text} für 潮 \U0001f30a"
    assert hidden(printable(whole) + shown_lines(whole) + shown_page(whole).replace("\x1b[31m", "")) == set()
    assert all(
        each.startswith("Tagebücher ") and each.endswith("für 潮 \U0001f30a") for each in map(printable, [whole])
    )
    if "\udc9b" not in text:
        encoded = shown_json(json.dumps({whole: whole}, ensure_ascii=False))
        assert hidden(encoded) == set()
        assert json.loads(encoded) == {whole: whole}, "who reads the JSON gets the very text"


def test_a_page_keeps_lines_and_our_own_styles() -> None:
    page = "\x1b[1m■ sound\x1b[0m  libtide.so\n  \tTagebücher\n"
    assert shown_page(page) == page
    assert shown_page(page + "\x1b]0;x\x07") == page + "\\x1b]0;x\\x07"


@pytest.fixture
def hostile(linux: ALinuxMachine) -> ALinuxMachine:
    """A program with a need of each such name, in folders of such names."""
    folders = [f"/opt/{number}{text}" for number, text in enumerate(TEXTS.values())]
    for folder in folders:
        (linux.root / os.fsencode(folder).decode("utf-8", "surrogateescape").lstrip("/")).mkdir(parents=True)
    names = [f"lib{number}{text}.so" for number, text in enumerate(TEXTS.values())]
    return linux.program("/opt/t/bin/tide", needs=names, runpath=":".join(folders))


FORMS = ("html", "svg", "dot", "cdx.json")


def test_no_sink_shows_anything_of_a_machine_raw(hostile: ALinuxMachine, fundamen: Fundamen, tmp_path: Path) -> None:
    root, program = hostile.root, "/opt/t/bin/tide"
    written = [word for form in FORMS for word in ("--write", tmp_path / f"trace.{form}")]
    ran = fundamen("trace", "-v", "-m", root, program, *written)
    assert ran.status == 1, ran.err
    seen = {"text": ran.out, "messages": ran.err}
    seen |= {form: (tmp_path / f"trace.{form}").read_text() for form in FORMS}
    for words in (("trace", program), ("inspect", program), ("survey", "/opt"), ("restore", "--rehearse", program)):
        for more in ((), ("--json",)):
            ran = fundamen(*words, "-m", root, *more)
            seen[" ".join((*words, *more))] = ran.out + ran.err
    (tmp_path / "captures").mkdir()
    assert fundamen("capture", tmp_path / "captures/it.capture", "--all", "-m", root, "--yes").status == 0
    assert fundamen("fleet", tmp_path / "captures", "--write", tmp_path / "fleet.csv").status in {0, 1}
    seen["csv"] = (tmp_path / "fleet.csv").read_text()
    assert {sink: found for sink, text in seen.items() if (found := hidden(text))} == {}
    assert all("gnp.exe" in text for sink, text in seen.items() if sink in {"text", "html"})


@pytest.mark.parametrize("text", TEXTS.values(), ids=TEXTS)
def test_no_message_shows_a_name_raw(linux: ALinuxMachine, fundamen: Fundamen, text: str) -> None:
    for words in (("trace", f"/{text}"), ("clues", f"no such {text}"), ("plans", "run", f"{text}.plan")):
        for more in ((), ("--json",)):
            ran = fundamen(*words, *more, *(("-m", linux.root) if words[0] != "clues" else ()))
            assert hidden(ran.out + ran.err) == set()


def test_a_certificates_names_are_shown_escaped(fundamen: Fundamen, tmp_path: Path) -> None:
    root = AnIssuer.root("Ardvane \u202eInstruments\x1b[31m")
    (tmp_path / "it.pem").write_bytes(root.pem)
    for more in ((), ("--json",)):
        ran = fundamen("inspect", tmp_path / "it.pem", *more)
        assert hidden(ran.out + ran.err) == set()
        assert "Instruments" in ran.out

"""Sentences with holes are found in lines, and no sentence takes long over any line."""

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.knowledge.sentence import read_sentence
from fundamen.model.errors import UsageError

MISSING = "{program}: error while loading shared libraries: {component}: cannot open shared object file"


@pytest.mark.parametrize(
    ("sentence", "line", "holes"),
    [
        (MISSING, "x: error while loading shared libraries: liba.so.2: cannot open shared object file: No such file",
         {"program": "x", "component": "liba.so.2"}),
        ("No module named '{component}'", "No module named \u2018salt.depth\u2019", {"component": "salt.depth"}),
        ("Module {component} failed to register", r"Module C:\Program Files\Tide\gauge.dll failed to register.",
         {"component": r"C:\Program Files\Tide\gauge.dll"}),
        ("undefined symbol: {symbol}", "lld: undefined symbol: salt::depth(int, char const*)",
         {"symbol": "salt::depth(int, char const*"}),
        ("Source file not found: {path}", r"Error 1308. Source file not found: D:\salt water\gauge.cab. Verify",
         {"path": r"D:\salt water\gauge.cab"}),
        ("system error {code}", "failed, system error 126", {"code": "126"}),
        ("The {service} service failed to start", "The Tide Gauge service failed to start", {"service": "Tide Gauge"}),
        ("assembly '{component}, ...version='{version}'", "assembly 'A.B, type=\"win32\", version=\"1.2\"'",
         {"component": "A.B", "version": "1.2"}),
        ("system error {code}", "ecosystem error 126", None),
        ("FAILED: {target}", "the check failed: never mind", None),
    ],
)  # fmt: skip
def test_a_sentence_is_found_with_what_stands_in_its_holes(
    sentence: str, line: str, holes: dict[str, str] | None
) -> None:
    found = read_sentence(sentence).find(line)
    assert (found.holes if found else None) == holes


@pytest.mark.parametrize(
    ("sentence", "why"),
    [
        ("{component}{version} is gone", "side by side"),
        ("{colour} is gone", "is no hole"),
        ("{path} or {path} is gone", "twice"),
        ("{component}: {path}", "in it is fixed"),
        ("two  spaces", "two in a row"),
        ("x" * 401, "longer than"),
    ],
)
def test_what_could_not_be_looked_for_is_refused(sentence: str, why: str) -> None:
    with pytest.raises(UsageError) as refused:
        read_sentence(sentence)
    assert why in refused.value.why


@given(st.text(alphabet="ab: '{}.component-path\\", max_size=200), st.text(alphabet="ab: '/.\\C", max_size=4000))
def test_no_sentence_takes_long_over_any_line(sentence: str, line: str) -> None:
    """Both come from outside: an organisation's file, and a hostile log."""
    try:
        looked_for = read_sentence(sentence)
    except UsageError:
        return
    begin = time.perf_counter()
    looked_for.find(line)
    assert time.perf_counter() - begin < 5


def test_the_worst_sentence_over_the_worst_line_ends() -> None:
    worst = read_sentence("aa ... aa ... aa ... aa ... aa ... aa ... aa ... aa over")
    begin = time.perf_counter()
    assert worst.find("aa " * 1333) is None
    assert time.perf_counter() - begin < 5

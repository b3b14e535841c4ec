from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.windows.loader_trace import Event, Failed, Loaded, LoaderTrace

STREAM = (
    rb'0020:0024:trace:loaddll:build_module Loaded L"C:\\obs\\\00fc b\\app.exe" at 0000000140000000: native' + b"\n"
    rb"own words, and in the middle of them "
    rb'0020:0024:warn:module:load_dll Failed to load module L"gone.dll"; status=c0000135' + b"\n"
    rb"the rest of the line" + b"\r\n"
    rb'0020:0024:trace:module:load_dll looking for L"x.dll" in (null)' + b"\n"
    rb"0020:0024:err:module:import_dll and no name here" + b"\nno end"
)
EVENTS = [Loaded("0020", "C:\\obs\\ü b\\app.exe"), Failed("0020", "gone.dll", 0xC0000135)]
OWN = b"own words, and in the middle of them the rest of the line\r\nno end"


def fed(stream: bytes, cuts: list[int]) -> tuple[list[Event], bytes]:
    trace, events, own = LoaderTrace(), list[Event](), b""
    for start, end in zip([0, *cuts], [*cuts, len(stream)], strict=True):
        found, rest = trace.feed(stream[start:end])
        events += found
        own += rest
    return events, own + trace.rest()


@given(st.lists(st.integers(0, len(STREAM)), max_size=9).map(sorted))
def test_the_loaders_lines_and_the_programs_own_words_are_distinguished_however_they_arrive(cuts: list[int]) -> None:
    assert fed(STREAM, cuts) == (EVENTS, OWN)


@given(st.binary(), st.lists(st.integers(0, 50), max_size=3).map(sorted))
def test_no_byte_of_what_a_program_writes_is_lost(own: bytes, cuts: list[int]) -> None:
    assert fed(own, [min(cut, len(own)) for cut in cuts]) == ([], own)

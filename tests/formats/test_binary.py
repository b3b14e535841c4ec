import pytest

from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.model.errors import NotExecutableError


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "is empty"),
        (b"%PDF-1.7\n", "it is text"),
        (b"Dear caller,\n", "it is text"),
        ("Gezeiten für März\n".encode() * 40, "it is text"),
        (b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", "data that begins with 89 50 4e 47"),
    ],
    ids=["empty", "document", "text", "text in another language", "picture"],
)
def test_what_is_no_executable_is_reported_for_what_it_is(data: bytes, said: str) -> None:
    with pytest.raises(NotExecutableError) as raised:
        read_binary(MemoryBytes(data, "tidebook"))
    assert said in f"{raised.value.what} {raised.value.why}"

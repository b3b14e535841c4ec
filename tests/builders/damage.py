"""Files that are changed byte by byte."""

from collections.abc import Callable, Iterable, Iterator

_VALUES: tuple[Callable[[int], int], ...] = (lambda _: 0x00, lambda _: 0xFF, lambda old: old ^ 0x80, lambda _: 0x7F)


def changed_at_each(data: bytes, places: Iterable[int], *, every_value: bool) -> Iterator[bytes]:
    """A file changed at each of some places: to each of four values, or to one of them, turn by turn."""
    for count, at in enumerate(places):
        for value in _VALUES if every_value else (_VALUES[count % len(_VALUES)],):
            yield data[:at] + bytes([value(data[at])]) + data[at + 1 :]

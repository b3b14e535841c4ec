"""Do something with each of many files, with large ones at the same time: copying and hashing wait for the disk."""

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_WORKERS = 4
_SMALL = 64 << 10  # bytes; so small a file is done before another thread has taken it over

Item = TypeVar("Item")


def side_by_side(do: Callable[[Item], object], items: Sequence[Item], size_of: Callable[[Item], int]) -> None:
    """Call a function with each. Raises: whatever it raises, once all that was begun has ended."""
    large = [item for item in items if size_of(item) > _SMALL]
    if len(large) > 1:
        with ThreadPoolExecutor(_WORKERS) as pool:
            list(pool.map(do, large))
    for item in items if len(large) < 2 else (item for item in items if size_of(item) <= _SMALL):  # noqa: PLR2004
        do(item)

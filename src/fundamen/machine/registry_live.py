"""The registry of this very host, read through the operating system (``winreg`` in Python's library reference)."""

from collections.abc import Iterator
from typing import Any

from fundamen.formats.windows.text_hive import Value
from fundamen.machine.registry import Registry

_MOST_ENTRIES = 1 << 20  # keys or values of one key


class LiveRegistry(Registry):
    """HKLM and HKCU as a 64-bit program sees them, whatever the width of this Python.

    A key that may not be read counts as one that is not there: most of HKLM may be read by everybody.
    """

    def __init__(self) -> None:
        """Begin. Raises: ImportError: this is not Windows."""
        import winreg  # noqa: PLC0415 - Windows alone has it

        self._winreg: Any = winreg  # of another platform the type checker knows nothing
        self._roots = {"HKLM": self._winreg.HKEY_LOCAL_MACHINE, "HKCU": self._winreg.HKEY_CURRENT_USER}

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name; None where there is no such key."""
        opened = self._open(key)
        if opened is None:
            return None
        with opened:
            return {name: _plain(data) for name, data, _ in self._entries(opened, self._winreg.EnumValue)}

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""
        opened = self._open(key)
        if opened is None:
            return ()
        with opened:
            return tuple(self._entries(opened, self._winreg.EnumKey))

    def _open(self, key: str) -> Any:  # noqa: ANN401 - winreg's own handle
        root, _, path = key.partition("\\")
        if root not in self._roots:
            return None
        try:
            access = self._winreg.KEY_READ | self._winreg.KEY_WOW64_64KEY
            return self._winreg.OpenKey(self._roots[root], path, 0, access)
        except OSError:
            return None

    def _entries(self, opened: Any, enumerate_at: Any) -> Iterator[Any]:  # noqa: ANN401
        """All values or subkeys; a key may change while it is read, so the end is where the system says so."""
        for index in range(_MOST_ENTRIES):
            try:
                yield enumerate_at(opened, index)
            except OSError:
                return


def _plain(data: object) -> Value:
    if isinstance(data, (str, int, bytes)):
        return data
    if isinstance(data, list):
        return tuple(str(part) for part in data if part)
    return "" if data is None else str(data)

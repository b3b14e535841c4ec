"""Stand in for Python's module for the registry of Windows, on a made-up registry."""

from types import SimpleNamespace
from typing import Any


class AnOpenKey:
    """A key as the operating system gives it: read by index until there is no more."""

    def __init__(self, content: dict[str, Any]) -> None:
        self.values = [(name, data, 1) for name, data in content.items() if not isinstance(data, dict)]
        self.keys = [name for name, data in content.items() if isinstance(data, dict)]

    def __enter__(self) -> None:
        pass

    def __exit__(self, *_: object) -> None:
        pass


def a_winreg(machine: dict[str, Any]) -> SimpleNamespace:
    """Python's module for the registry of Windows, on a made-up registry."""

    def found(root: dict[str, Any], path: str, _reserved: int, access: int) -> AnOpenKey:
        assert access == 0x20119, "read, as a 64-bit program sees it"
        for part in filter(None, path.split("\\")):
            root = next((data for name, data in root.items() if name.lower() == part.lower()), {})
            if not root:
                raise FileNotFoundError(path)
        return AnOpenKey(root)

    def at(entries: list[Any], index: int) -> Any:
        if index >= len(entries):
            raise OSError(259, "no more data")
        return entries[index]

    return SimpleNamespace(
        HKEY_LOCAL_MACHINE=machine,
        HKEY_CURRENT_USER={},
        KEY_READ=0x20019,
        KEY_WOW64_64KEY=0x100,
        OpenKey=found,
        EnumValue=lambda key, index: at(key.values, index),
        EnumKey=lambda key, index: at(key.keys, index),
    )

r"""The registry of a Windows machine, read-only: offline hives, or the text hives of a prefix.

Keys are written from a root on, such as ``HKLM\System\CurrentControlSet\Services``. An offline system hive has no
``CurrentControlSet``; its ``Select`` key names the control set that it stands for.
"""

import re
from abc import ABC, abstractmethod
from typing import TYPE_CHECKING

from fundamen.messages import Message

if TYPE_CHECKING:  # most machines are opened without a hive being read
    from collections.abc import Iterator

    from fundamen.formats.windows.text_hive import Value

_VARIABLE = re.compile(r"%([^%\\]+)%")


class Registry(ABC):
    """Questions to a registry. A hive that cannot be read is listed in ``gaps`` and has no values."""

    gaps: tuple[Message, ...] = ()  # which hives could not be read, and why

    @abstractmethod
    def values(self, key: str) -> "dict[str, Value] | None":
        """The values of a key by name; None where there is no such key."""

    @abstractmethod
    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""

    def knows(self, key: str) -> bool:  # noqa: ARG002 - the same question as to any other
        """Whether it could tell if a key is there: the hive that would hold it is available, and can be read."""
        return True

    def children(self, key: str) -> "Iterator[tuple[str, dict[str, Value]]]":
        """Each key right below a key, with its values."""
        for name in self.subkeys(key):
            yield name, self.values(f"{key}\\{name}") or {}

    def value(self, key: str, name: str) -> "Value | None":
        """One value; names are compared without case. None where there is none."""
        for found, value in (self.values(key) or {}).items():
            if found.lower() == name.lower():
                return value
        return None

    def text(self, key: str, name: str) -> str:
        """One value as text; empty where there is none, or it is no text."""
        value = self.value(key, name)
        return value if isinstance(value, str) else ""


class NoRegistry(Registry):
    """The registry of a machine that has none, or whose hives are not available."""

    def __init__(self, *gaps: Message) -> None:
        self.gaps = gaps

    def knows(self, key: str) -> bool:  # noqa: ARG002 - the same question as to any other
        """Nothing is recorded."""
        return False

    def values(self, key: str) -> "dict[str, Value] | None":  # noqa: ARG002 - the same question as to any other
        """No key is there."""
        return None

    def subkeys(self, key: str) -> tuple[str, ...]:  # noqa: ARG002
        """No key is there."""
        return ()


def expand_variables(text: str, variables: dict[str, str]) -> str:
    """Text with ``%NAME%`` replaced; names are compared without case, an unknown one stays as it is."""
    known = {name.upper(): value for name, value in variables.items()}
    return _VARIABLE.sub(lambda found: known.get(found[1].upper(), found[0]), text)

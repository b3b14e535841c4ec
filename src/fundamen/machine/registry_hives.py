"""The registry of a mounted volume, read from its hive files by regipy, which is an extra."""

import contextlib
import logging
import struct
from collections.abc import Iterator, Mapping
from typing import Any

from construct import ConstructError
from regipy.exceptions import RegipyException
from regipy.registry import RegistryHive

from fundamen.formats.windows.text_hive import Value
from fundamen.machine.registry import Registry
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.paths import HostPath

# regipy logs what it cannot make sense of; we tell it as a gap.
logging.getLogger("regipy").setLevel(logging.CRITICAL)

_CURRENT = "currentcontrolset"
# What a damaged hive makes regipy and the library below it raise, besides their own exceptions.
_DAMAGE = (
    RegipyException,
    ConstructError,
    struct.error,
    ValueError,
    LookupError,
    TypeError,
    OverflowError,
    AttributeError,
    RuntimeError,  # a generator of theirs that ran out; too deep a recursion is one too
    StopIteration,
    MemoryError,
)


class HiveRegistry(Registry):
    """HKLM of a volume that is not running: ``System`` and ``Software``, each in a file of its own; HKU: the users'."""

    def __init__(self, hives: dict[str, HostPath], users: Mapping[str, HostPath] | None = None) -> None:
        """Open the hives: key below HKLM -> file. One that cannot be read becomes a gap.

        Args:
            hives: key below HKLM -> file.
            users: a user's name, the key below HKU -> file; opened when they are first asked for.
        """
        self._users = dict(users or {})
        self._users_hives: dict[str, RegistryHive] | None = None
        self.gaps = ()
        self._hives = self._open(hives)
        self._control_set = self._find_control_set()

    def _open(self, hives: Mapping[str, HostPath]) -> dict[str, RegistryHive]:
        opened: dict[str, RegistryHive] = {}
        gaps: list[Message] = []
        for key, path in hives.items():
            try:
                hive = RegistryHive(path)
                if hive.header.primary_sequence_num != hive.header.secondary_sequence_num:
                    gaps.append(say("machine.it-was-not-closed-cleanly-its", path=printable(path)))
                opened[key.lower()] = hive
            except (OSError, *_DAMAGE) as error:
                gaps.append(
                    say("machine.it-is-damaged-or-no-hive", path=printable(path), error_class=type(error).__name__)
                )
        self.gaps = (*self.gaps, *gaps)
        return opened

    def knows(self, key: str) -> bool:
        """Whether the hive of a key is available, and could be opened."""
        root, _, rest = key.partition("\\")
        return rest.partition("\\")[0].lower() in self._hives_of(root)

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name; None where there is no such key."""
        found = self._key(key)
        return _values(found) if found is not None else None

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""
        if key == "HKU":
            return tuple(self._users)
        found = self._key(key)
        if found is None:
            return ()
        try:
            return tuple(subkey.name for subkey in found.iter_subkeys())
        except _DAMAGE:
            return ()

    def children(self, key: str) -> Iterator[tuple[str, dict[str, Value]]]:
        """Each key right below a key, with its values: read in one go, for there may be very many."""
        found = self._key(key)
        if found is None:
            return
        with contextlib.suppress(*_DAMAGE):
            for child in found.iter_subkeys():
                yield child.name, _values(child) or {}

    def _key(self, key: str) -> Any:  # noqa: ANN401 - regipy's own type is not typed
        root, _, rest = key.partition("\\")
        hive, _, path = rest.partition("\\")
        hives = self._hives_of(root)
        if hive.lower() not in hives:
            return None
        first, _, below = path.partition("\\")
        if first.lower() == _CURRENT:
            path = f"{self._control_set}\\{below}"
        try:
            return hives[hive.lower()].get_key("\\" + path)
        except _DAMAGE:
            return None

    def _hives_of(self, root: str) -> dict[str, RegistryHive]:
        if root == "HKU" and self._users_hives is None:
            self._users_hives = self._open(self._users)
        return {"HKLM": self._hives, "HKU": self._users_hives or {}}.get(root, {})

    def _find_control_set(self) -> str:
        select = self._key(r"HKLM\System\Select")
        try:
            number = select.get_value("Current") if select is not None else 1
        except _DAMAGE:
            number = 1
        return f"ControlSet{number if isinstance(number, int) else 1:03}"


def _values(found: Any) -> dict[str, Value] | None:  # noqa: ANN401 - regipy's own type is not typed
    try:
        return {
            value.name if value.name != "(default)" else "": _plain(value.value)
            for value in found.iter_values(trim_values=False)
        }
    except _DAMAGE:
        return None


def _plain(value: object) -> Value:
    if isinstance(value, (str, int, bytes)):
        return value
    if isinstance(value, list):
        return tuple(str(part) for part in value if part)
    return str(value)

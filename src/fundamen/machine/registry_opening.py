"""Open the registry of a Windows volume or prefix, when it is first asked for something."""

import os
from collections.abc import Callable, Iterator

from fundamen.formats.windows.text_hive import TextHive, Value
from fundamen.machine.registry import NoRegistry, Registry
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

_TEXT_HIVES = {"HKLM": "system.reg", "HKCU": "user.reg"}
_HIVES = {"system": "System", "software": "Software"}  # file below Windows/System32/config -> key below HKLM
_MOST_BYTES = 256 << 20
_MOST_USERS = 50


class TextRegistry(Registry):
    """The registry of a prefix: system.reg is HKLM, user.reg is HKCU."""

    def __init__(self, hives: dict[str, TextHive], gaps: tuple[Message, ...] = ()) -> None:
        """Make it from root (``HKLM``, ``HKCU``) -> hive."""
        self._hives = hives
        self.gaps = gaps

    def knows(self, key: str) -> bool:
        """Whether the hive of a key is available."""
        return key.partition("\\")[0] in self._hives

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name; None where there is no such key."""
        root, _, rest = key.partition("\\")
        return self._hives[root].values(rest) if root in self._hives else None

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""
        root, _, rest = key.partition("\\")
        return self._hives[root].subkeys(rest) if root in self._hives else ()


class RegistryWhenAsked(Registry):
    """A registry that is opened by the first question to it: most commands ask none."""

    def __init__(self, opening: Callable[[], Registry]) -> None:
        """Make it from what opens the registry."""
        self._opening = opening
        self._opened: Registry | None = None

    @property
    def gaps(self) -> tuple[str, ...]:  # type: ignore[override]
        """Which hives could not be read, and why."""
        return self._registry().gaps

    def knows(self, key: str) -> bool:
        """Whether the hive of a key is available."""
        return self._registry().knows(key)

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name; None where there is no such key."""
        return self._registry().values(key)

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""
        return self._registry().subkeys(key)

    def children(self, key: str) -> Iterator[tuple[str, dict[str, Value]]]:
        """Each key right below a key, with its values."""
        return self._registry().children(key)

    def _registry(self) -> Registry:
        if self._opened is None:
            self._opened = self._opening()
        return self._opened


def open_registry(root: HostPath, find: Callable[[str], HostPath]) -> Registry:
    """The registry of the machine in a folder.

    Args:
        root: the folder of the volume or prefix.
        find: gives the host path of a path below the system drive, with the right case.
    """
    if os.path.isfile(os.path.join(root, _TEXT_HIVES["HKLM"])):
        return RegistryWhenAsked(lambda: _prefix_registry(root))
    files = {key: find(f"Windows\\System32\\config\\{name}") for name, key in _HIVES.items()}
    there = {key: path for key, path in files.items() if os.path.isfile(path)}
    return RegistryWhenAsked(lambda: _volume_registry(there, _users(find))) if there else NoRegistry()


def _users(find: Callable[[str], HostPath]) -> dict[str, HostPath]:
    """The hive of each user who has one."""
    try:
        names = sorted(os.listdir(find("Users")))
    except OSError:
        return {}
    hives = {name: find(f"Users\\{name}\\NTUSER.DAT") for name in names[:_MOST_USERS]}
    return {name: path for name, path in hives.items() if os.path.isfile(path)}


def _prefix_registry(root: HostPath) -> Registry:
    hives: dict[str, TextHive] = {}
    gaps: list[Message] = []
    for key, name in _TEXT_HIVES.items():
        try:
            with open(os.path.join(root, name), "rb") as file:
                hives[key] = TextHive(file.read(_MOST_BYTES))
        except OSError as error:
            gaps.append(say("common.said-of", subject=name, said=error.strerror))
        except UnreadableError as error:
            gaps.append(say("common.said-of", subject=name, said=error.why))
    return TextRegistry(hives, tuple(gaps))


def _volume_registry(hives: dict[str, HostPath], users: dict[str, HostPath]) -> Registry:
    try:
        from fundamen.machine.registry_hives import HiveRegistry  # noqa: PLC0415 - an extra
    except ImportError:
        names = ", ".join(printable(path) for path in hives.values())
        return NoRegistry(say("machine.reading-registry-hives-needs-the-extra", names=names))
    return HiveRegistry(hives, users)

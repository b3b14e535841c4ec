r"""The registry of a prefix or a mounted Windows volume, to be changed: which file has a key, and what it comes to.

Sources: "Registry Hives" for where the hives lie, ``Select\Current`` for the control set; for a prefix its own files.
"""

import hashlib
import os
import re

import msgspec

from fundamen.changes.files import Change
from fundamen.changes.insertions import Insertion
from fundamen.formats.windows import hive, hive_cells, text_hive
from fundamen.formats.windows.registry_value import HiveValue
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import MachinePath

_MOST_HIVE = 256 << 20  # bytes
_MOST_NAME = 255  # characters of one key; source: "Registry Element Size Limits"
_CONFIG = "\\Windows\\System32\\config\\"  # on the system drive
_MEMORY = MachinePath("\\hiberfil.sys")  # likewise
_ASLEEP = b"hibr"  # how the image of a hibernated system begins
_USER = re.compile(r"^[^\\/:]{1,100}$")
_CURRENT, _SELECT = "CurrentControlSet", ("Select", "Current")


class KeyPlace(msgspec.Struct, frozen=True):
    """Where a key of the registry lies."""

    path: MachinePath  # of the hive, for people
    location: str  # of the hive
    key: str  # from the hive's root on

    @property
    def is_text(self) -> bool:
        """Whether the hive is one of a prefix."""
        return self.location.endswith(".reg")

    def value_in(self, data: bytes, name: str) -> HiveValue | None:
        """A value of the key in a hive's bytes. Raises: FundamenError: it is damaged, or cannot be changed."""
        find = text_hive.find_value if self.is_text else hive_cells.find_value
        return find(data, self.key, name)

    def with_value(self, data: bytes, name: str, value: HiveValue | None, now_seconds: int) -> bytes:
        """The hive's bytes with a value of the key, or without it. Raises: FundamenError, likewise."""
        if self.is_text:
            return text_hive.with_value(data, self.key, name, value, now_seconds)
        if value is None:
            return hive.without_value(data, self.key, name)
        return hive.with_values(data, self.key, {name: value}, now_seconds)


def place_of_key(machine: Machine, key: str) -> KeyPlace:
    r"""Where a key lies, written from a root on, as ``HKLM\System\CurrentControlSet\Services\tide``.

    Raises:
        UsageError: this machine has no registry that can be changed from outside, or not now, or no such hive.
    """
    root, _, rest = key.strip("\\").partition("\\")
    if any(not part or len(part) > _MOST_NAME or not part.isprintable() for part in rest.split("\\")):
        raise _unchangeable(key, say("changes.a-part-of-it-is-empty"), say("changes.name-it-as-the-registry-has"))
    if machine.platform is not Platform.WINDOWS or machine.is_live or not rest:
        why = (
            say("changes.it-names-no-root-and-key")
            if not rest
            else say("changes.this-machine-registry-cannot-be-changed")
        )
        raise _unchangeable(
            key, why, "Write it as, for example, HKLM\\Software\\Tide; for a prefix or a mounted volume."
        )
    if machine.is_prefix:
        require_quiet(machine)
        name = {"HKLM": "system.reg", "HKCU": "user.reg", "HKU": "userdef.reg"}.get(root.upper(), "")
        if not name:
            raise _unchangeable(key, say("changes.a-prefix-has-the-roots-hklm"), say("changes.name-one-of-these"))
        below = rest.partition("\\")[2] if name == "userdef.reg" else rest
        return KeyPlace(MachinePath(name), f"/{name}", below)
    require_shut_down(machine)
    first, _, below = rest.partition("\\")
    path = _hive_of(root.upper(), first)
    if path is None or not below:
        raise _unchangeable(
            key, say("changes.no-hive-of-a-mounted-volume"), "Name HKLM\\System, HKLM\\Software or HKU\\USER."
        )
    real = machine.real(MachinePath(path))
    place = KeyPlace(real, machine.ground.location(machine.place(real)), below)
    set_, _, deeper = below.partition("\\")
    if first.lower() == "system" and set_.lower() == _CURRENT.lower():
        found = hive_cells.find_value(read_hive(machine, place.location), *_SELECT)
        number = found.content if found is not None and isinstance(found.content, int) else 1
        place = msgspec.structs.replace(place, key=f"ControlSet{number:03}\\{deeper}".rstrip("\\"))
    return place


def _hive_of(root: str, first: str) -> str | None:
    if root == "HKLM" and first.lower() in {"system", "software"}:
        return f"{_CONFIG}{first.upper()}"
    if root == "HKU" and _USER.match(first) and first.strip(". "):
        return f"\\Users\\{first}\\NTUSER.DAT"
    return None


def read_hive(machine: Machine, location: str) -> bytes:
    """The bytes of a hive. Raises: UnreadableError."""
    try:
        with machine.ground.place(location).open_to_read() as file:
            return file.read(_MOST_HIVE)
    except OSError as error:
        raise UnreadableError(
            what=say("changes.the-machine-registry-cannot-be-read"),
            why=f"{printable(str(error.filename))}: {error.strerror}",
            do=say("changes.see-that-this-is-the-folder"),
        ) from error


def hive_change(
    path: MachinePath, location: str, changed: bytes, insertion: Insertion, because: str, details: tuple[str, ...] = ()
) -> Change:
    """The step that puts a hive's new bytes in place."""
    return Change(
        path=path,
        location=location,
        because=because,
        sha256=hashlib.sha256(changed).hexdigest(),
        size=len(changed),
        insertion=insertion,
        details=details,
    )


def require_quiet(machine: Machine) -> None:
    """A running prefix keeps its registry in memory, and would write over what we put into the file.

    Raises:
        UsageError: programs of it are running.
    """
    status = os.stat(machine.root)
    socket = f"/tmp/.wine-{status.st_uid}/server-{status.st_dev:x}-{status.st_ino:x}/socket"  # noqa: S108 - wine's own place
    if os.path.exists(socket):
        raise UsageError(
            what=say("changes.the-registry-of-cannot-be-changed", title=machine.title),
            why=say("changes.programs-of-the-prefix-are-running"),
            do=say("changes.end-them-wineserver-w-waits-for"),
        )


def require_shut_down(machine: Machine) -> None:
    """A Windows that only sleeps keeps its registry in memory, and continues with that. Raises: UsageError."""
    image = machine.real(_MEMORY)
    if machine.look(image).kind is not EntryKind.FILE:
        return
    with machine.open(image) as source:
        if source.read_at(0, len(_ASLEEP)).lower() == _ASLEEP:
            raise UsageError(
                what=say("changes.the-registry-of-cannot-be-changed", title=machine.title),
                why=say("changes.its-windows-is-hibernated-fast-start", image=printable(image)),
                do=say("changes.start-it-and-shut-it-down"),
            )


def _unchangeable(key: str, why: str, do: str) -> UsageError:
    return UsageError(
        what=say("changes.the-registry-key-cannot-be-changed", key=printable(key)),
        why=why,
        do=say("changes.nothing-was-changed", do=do),
    )

"""The look-ups by which an install package fills its properties: registry, files, folders, components, INI files.

Source: Windows Installer reference, tables AppSearch, RegLocator, CompLocator, DrLocator, IniLocator, Signature. A
search gives what the installer would get, and says if what is registered is not there.
"""

import re
from collections.abc import Callable, Iterator
from contextlib import suppress
from enum import IntEnum

import msgspec

from fundamen.formats.archives.msi_database import Database, Row
from fundamen.formats.decimal import read_decimal
from fundamen.formats.settings.editing import find_value
from fundamen.formats.settings.setting import SettingFormat
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.registry import expand_variables
from fundamen.messages import Message, as_said, say
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath

_COMPONENTS = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Installer\UserData\S-1-5-18\Components"
_REFERENCE = re.compile(r"\[([%\w.]+)\]")
_GUID = re.compile(r"\{([0-9A-Fa-f]{8})-([0-9A-Fa-f]{4})-([0-9A-Fa-f]{4})-([0-9A-Fa-f]{4})-([0-9A-Fa-f]{12})\}")
_IN_64_BITS = 16  # msidbLocatorType64bit
_MOST_DEPTH, _MOST_FOLDERS, _MOST_NESTED = 20, 20_000, 16
_MOST_INI = 1 << 20  # bytes
_MOST_SEARCHES = 2_000
_LONGEST = 1 << 16  # characters of a text with properties put in


class Root(IntEnum):
    """Values of RegLocator.Root."""

    CLASSES = 0
    USER = 1
    MACHINE = 2
    USERS = 3


class LocatorKind(IntEnum):
    """Kinds of places that a locator names: the lower bits of its column Type."""

    FOLDER = 0
    FILE = 1
    RAW = 2


class SearchResult(msgspec.Struct, frozen=True):
    """The result of one search."""

    property: str
    value: str  # that the property is given; empty where the search finds nothing
    where: Message  # what was looked at, in words
    leftover: str = ""  # a place that is registered and is not there


class Searches:
    """The searches of one package on one machine."""

    def __init__(
        self, machine: Machine, database: Database, formatted: Callable[[str], str], *, is_64_bit: bool
    ) -> None:
        """Begin.

        Args:
            machine: where it is searched.
            database: the package.
            formatted: puts properties in a text in the place of their names.
            is_64_bit: whether the package is for 64 bits: which view of the registry it sees.
        """
        self._machine = machine
        self._formatted = formatted
        self._is_64_bit = is_64_bit
        self._tables = {
            name: {str(row["Signature_"]): row for row in database.tables.get(name, ()) if "Signature_" in row}
            for name in ("RegLocator", "CompLocator", "DrLocator", "IniLocator")
        }
        self._signatures = {
            str(row["Signature"]): row for row in database.tables.get("Signature", ()) if "Signature" in row
        }
        self._rows = database.tables.get("AppSearch", ())

    def all(self) -> Iterator[SearchResult]:
        """Each search in its order; of several for one property a later one counts, if it finds something."""
        for row in self._rows[:_MOST_SEARCHES]:
            yield self._search(str(row.get("Property") or ""), str(row.get("Signature_") or ""))

    def _search(self, name: str, signature: str) -> SearchResult:
        for table, search in (
            ("CompLocator", self._component),
            ("RegLocator", self._registry),
            ("IniLocator", self._ini),
            ("DrLocator", self._folder),
        ):
            row = self._tables[table].get(signature)
            if row is not None:
                found = search(row, signature)
                return msgspec.structs.replace(found, property=name)
        return SearchResult(name, "", say("installers.no-way-to-search-is-given"))

    def _registry(self, row: Row, signature: str) -> SearchResult:
        kind = row.get("Type")
        kind = kind if isinstance(kind, int) else int(LocatorKind.FILE)
        key = _full_key(row.get("Root"), self._formatted(str(row.get("Key") or "")))
        if not self._is_64_bit and not kind & _IN_64_BITS:
            key = _of_32_bits(self._machine, key)
        name = self._formatted(str(row.get("Name") or ""))
        where = say("installers.the-registry", key=key, name=name or "(unnamed)")
        value = self._machine.registry.value(key, name)
        if value is None:
            return SearchResult("", "", where)
        if kind & ~_IN_64_BITS == LocatorKind.RAW:
            text = _raw(self._expand_variables(value) if isinstance(value, str) else value)
            return SearchResult("", text, where, self._absent_place(value if isinstance(value, str) else ""))
        if not isinstance(value, str):
            return SearchResult("", "", where)
        text = self._expand_variables(value).strip().strip('"')
        return self._at(text, signature, where, is_file=kind & ~_IN_64_BITS == LocatorKind.FILE)

    def _component(self, row: Row, signature: str) -> SearchResult:
        code = _pack_code(str(row.get("ComponentId") or ""))
        where = say("installers.the-registered-component", kind=row.get("ComponentId"))
        paths = self._machine.registry.values(rf"{_COMPONENTS}\{code}") if code else None
        path = next((value for value in (paths or {}).values() if isinstance(value, str) and value), "")
        if not path:
            return SearchResult("", "", where)
        is_file = row.get("Type") in {int(LocatorKind.FILE), None}
        return self._at(path, signature, where, is_file=is_file)

    def _ini(self, row: Row, signature: str) -> SearchResult:
        file, section, key = (self._formatted(str(row.get(column) or "")) for column in ("FileName", "Section", "Key"))
        path = self._machine.join("C:\\Windows", file.rpartition("|")[2])
        where = say("installers.in-the-section-of", key=key, section=section, path=path)
        try:
            value = find_value(self._machine.content(path, _MOST_INI), SettingFormat.INI, (section, key), path)
        except FundamenError:
            value = None
        if value is None:
            return SearchResult("", "", where)
        text = str(value.value)
        field = row.get("Field")
        if isinstance(field, int) and field > 0:
            fields = text.split(",")
            text = fields[field - 1].strip() if field <= len(fields) else ""
        kind = row.get("Type")
        if kind == LocatorKind.RAW:
            return SearchResult("", text, where, self._absent_place(text))
        return self._at(text, signature, where, is_file=kind in {int(LocatorKind.FILE), None})

    def _folder(self, row: Row, signature: str, nested: int = 0) -> SearchResult:
        path = self._formatted(str(row.get("Path") or ""))
        parent = str(row.get("Parent") or "")
        if parent and nested < _MOST_NESTED:
            above = self._parent(parent, nested)
            path = self._machine.join(above, path) if above else ""
        depth = row.get("Depth")
        depth = depth if isinstance(depth, int) else 0
        where = as_said(path) if path else say("installers.the-drives")
        if depth:
            where = say("installers.and-levels-below", where=where, depth=depth)
        if not path:
            return SearchResult("", "", where)
        wanted = self._signatures.get(signature)
        for folder in self._folders(MachinePath(path), depth):
            if wanted is None:
                return SearchResult("", folder.rstrip("\\") + "\\", where)
            file = self._machine.join(folder, _long_name(wanted))
            if self._is_wanted(file, wanted):
                return SearchResult("", file, where)
        return SearchResult("", "", where)

    def _parent(self, signature: str, nested: int) -> str:
        """The folder that another search gives."""
        row = self._tables["DrLocator"].get(signature)
        found = self._folder(row, signature, nested + 1) if row is not None else self._search("", signature)
        return found.value if found.value.endswith("\\") else self._machine.folder_of(MachinePath(found.value))

    def _folders(self, top: MachinePath, depth: int) -> Iterator[MachinePath]:
        waiting, count = [(top, 0)], 0
        while waiting and count < _MOST_FOLDERS:
            folder, below = waiting.pop(0)
            if self._machine.look(folder).kind is not EntryKind.FOLDER:
                continue
            count += 1
            yield folder
            if below < min(depth, _MOST_DEPTH):
                with suppress(UnreadableError):  # nor could the installer look into it
                    waiting += [(self._machine.join(folder, name), below + 1) for name in self._machine.names(folder)]

    def _at(self, text: str, signature: str, where: Message, *, is_file: bool) -> SearchResult:
        """A recorded place, resolved, and whether it exists."""
        wanted = self._signatures.get(signature)
        path = MachinePath(text)
        if not self._machine.paths.isabs(text):
            return SearchResult("", "", where)
        if not is_file and wanted is not None:
            path = self._machine.join(text, _long_name(wanted))
        if wanted is None:
            folder = self._machine.folder_of(path) if is_file else path
            is_there = self._machine.look(folder).kind is EntryKind.FOLDER
            return SearchResult("", folder.rstrip("\\") + "\\" if is_there else "", where, "" if is_there else folder)
        is_right = self._is_wanted(path, wanted)
        return SearchResult("", path if is_right else "", where, self._absent_place(path))

    def _expand_variables(self, text: str) -> str:
        """A text with the variables of the environment that a service has."""
        usual = {"SystemRoot": "C:\\windows", "windir": "C:\\windows", "SystemDrive": "C:"}
        return expand_variables(text, usual | dict(self._machine.environment))

    def _absent_place(self, text: str) -> str:
        """A place that is named and is not there; empty where it is no place, or is there."""
        path = text.strip().strip('"')
        if not re.match(r"[A-Za-z]:\\", path):
            return ""
        return path if self._machine.look(MachinePath(path.rstrip("\\"))).kind is EntryKind.ABSENT else ""

    def _is_wanted(self, path: MachinePath, wanted: Row) -> bool:
        """Whether a file is there, in the versions and sizes that are asked for."""
        entry = self._machine.look(path)
        if entry.kind is not EntryKind.FILE:
            return False
        least, most = wanted.get("MinSize"), wanted.get("MaxSize")
        if (isinstance(least, int) and entry.size < least) or (isinstance(most, int) and entry.size > most):
            return False
        lowest, highest = str(wanted.get("MinVersion") or ""), str(wanted.get("MaxVersion") or "")
        if not lowest and not highest:
            return True
        version = _numbers(self._version(path))
        return (
            bool(version)
            and (not lowest or version >= _numbers(lowest))
            and (not highest or version <= _numbers(highest))
        )

    def _version(self, path: MachinePath) -> str:
        try:
            binary = self._machine.binary(path)
            if not isinstance(binary, Pe):
                return ""
            with self._machine.open(path) as source:
                found = read_version(source, binary)
        except FundamenError:
            return ""
        return (found.file_version or "") if found is not None else ""


def format_text(text: str, properties: dict[str, str], environment: dict[str, str]) -> str:
    """A text with properties in the place of their names. Source: "Formatted"."""

    def put(found: re.Match[str]) -> str:
        name = found[1]
        if name.startswith("%"):
            return environment.get(name[1:].upper(), "")
        return properties.get(name, "")

    # A value that is put in is not looked through again; brackets in brackets are.
    for _ in range(2 if "[[" in text else 1):
        text = _REFERENCE.sub(put, text)[:_LONGEST]
    return text


def packed_code(code: str) -> str:
    """A product's or upgrade's code as the registry's keys have it: each part turned around; empty where it is none.

    Source: as the open implementation of the service and the registries of real machines have it.
    """
    return _pack_code(code)


def _pack_code(code: str) -> str:
    found = _GUID.fullmatch(code)
    if found is None:
        return ""
    first, second, third, *rest = found.groups()
    tail = "".join(rest)
    turned = "".join(tail[at + 1] + tail[at] for at in range(0, len(tail), 2))
    return (first[::-1] + second[::-1] + third[::-1] + turned).upper()


def _full_key(root: object, key: str) -> str:
    place = {
        int(Root.CLASSES): r"HKLM\Software\Classes",
        int(Root.USER): "HKCU",
        int(Root.MACHINE): "HKLM",
        int(Root.USERS): "HKU",
    }.get(root if isinstance(root, int) else -1, "HKLM")
    return f"{place}\\{key.strip(chr(92))}"


def _of_32_bits(machine: Machine, key: str) -> str:
    r"""The key that a 32-bit process is given on a 64-bit machine. Source: "Registry Keys Affected by WOW64"."""
    head = "HKLM\\Software\\"
    is_64_bit = machine.look(MachinePath(r"C:\Windows\SysWOW64")).kind is EntryKind.FOLDER
    if (
        not is_64_bit
        or not key.lower().startswith(head.lower())
        or key.lower().startswith(f"{head}wow6432node".lower())
    ):
        return key
    return f"{head}WOW6432Node\\{key[len(head) :]}"


def _raw(value: str | int | bytes | tuple[str, ...]) -> str:
    """A value as a property has it. Source: RegLocator, "Remarks" on msidbLocatorTypeRawValue."""
    if isinstance(value, int):
        return f"#{value}"
    if isinstance(value, bytes):
        return f"#x{value.hex().upper()}"
    if isinstance(value, tuple):
        return "[~]".join(["", *value, ""])
    return f"#{value}" if value.startswith("#") else value


def _long_name(signature: Row) -> str:
    return str(signature.get("FileName") or "").rpartition("|")[2]


def _numbers(version: str) -> tuple[int, ...]:
    parts = [read_decimal(part) for part in version.split(".")]
    if None in parts:
        return ()
    return tuple(part or 0 for part in (*parts, 0, 0, 0))[:4]

"""Read an API set schema: which library a version of Windows puts behind each api-ms-* and ext-ms-* name.

Source of the layouts: the .apiset section of apisetschema.dll in its versions 2 (Windows 7), 4 (8.1) and 6 (10 and
later), as the structures API_SET_NAMESPACE and API_SET_VALUE_ENTRY of the public debugging symbols describe them.
"""

import struct
from collections.abc import Iterator

import msgspec

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

SECTION = ".apiset"
PREFIXES = ("api-", "ext-")

_WORD = struct.Struct("<I")
_MAX_SETS = 20_000
_MAX_HOSTS = 64


class _Layout(msgspec.Struct, frozen=True):
    """Where a version of the schema keeps things."""

    header: struct.Struct
    count_at: int  # index into the header's fields
    entries_at: int | None  # likewise; None where the entries follow the header
    entry: struct.Struct  # an API set
    name_at: int  # index into the entry's fields; the length follows
    values_at: int
    values_head: struct.Struct | None  # stands before the hosts; its last word is their count
    value: struct.Struct  # a host: importing library's offset and length, host's offset and length, at the end
    has_prefix: bool  # whether names are written with api- and ext-


_LAYOUTS = {
    2: _Layout(
        struct.Struct("<II"), 1, None, struct.Struct("<III"), 0, 2, _WORD, struct.Struct("<IIII"), has_prefix=False
    ),
    4: _Layout(
        struct.Struct("<IIII"),
        3,
        None,
        struct.Struct("<IIIIII"),
        1,
        5,
        struct.Struct("<II"),
        struct.Struct("<IIIII"),
        has_prefix=False,
    ),
    6: _Layout(
        struct.Struct("<IIIIIII"), 3, 4, struct.Struct("<IIIIII"), 1, 4, None, struct.Struct("<IIIII"), has_prefix=True
    ),
}


class ApiSets:
    """The API sets of one system."""

    def __init__(self, sets: dict[str, tuple[tuple[str, str], ...]], *, has_prefix: bool) -> None:
        """Make it from each contract's name, without its last number -> (importing library or "", host or "")."""
        self._sets = sets
        self._has_prefix = has_prefix

    def __len__(self) -> int:
        return len(self._sets)

    def host_of(self, name: str, importer: str) -> str | None:
        """The library behind an API set for one importing library; None where the system does not know the set.

        The last number of the name, the contract's revision, does not count. An empty name means that this system has
        nothing behind the set.
        """
        name = name.lower().removesuffix(".dll")
        if not name.startswith(PREFIXES):
            return None
        hosts = self._sets.get(_contract(name if self._has_prefix else name[4:]))
        if hosts is None:
            return None
        own = (host for for_importer, host in hosts if for_importer and for_importer == importer.lower())
        general = (host for for_importer, host in hosts if not for_importer)
        return next(own, next(general, ""))


def read_api_sets(section: bytes) -> ApiSets:
    """Read the content of an .apiset section.

    Raises:
        DamagedFileError: it is of an unknown version, or its tables do not fit.
    """
    source = MemoryBytes(section, say("formats.the-api-set-schema"))
    version = Cursor(source).unpack(_WORD, "version")[0]
    layout = _LAYOUTS.get(version)
    if layout is None:
        raise _damaged_schema(say("formats.its-version-is-and-2-4", version=version))
    cursor = Cursor(source)
    header = cursor.unpack(layout.header, "header")
    count = header[layout.count_at]
    if count > _MAX_SETS:
        raise _damaged_schema(say("formats.it-claims-sets", count=count))
    if layout.entries_at is not None:
        cursor.at = header[layout.entries_at]
    sets = {}
    for entry in list(cursor.table(layout.entry, count, "entries")):
        name = _text(source, *entry[layout.name_at : layout.name_at + 2])
        sets[_contract(name)] = tuple(_hosts(source, layout, entry))
    return ApiSets(sets, has_prefix=layout.has_prefix)


def _hosts(source: MemoryBytes, layout: _Layout, entry: tuple[int, ...]) -> Iterator[tuple[str, str]]:
    cursor = Cursor(source, entry[layout.values_at])
    if layout.values_head is not None:
        count = cursor.unpack(layout.values_head, "host list")[-1]
    else:
        count = entry[layout.values_at + 1]
    if count > _MAX_HOSTS:
        raise _damaged_schema(say("formats.a-set-claims-hosts", count=count))
    for *_, importer_at, importer_size, host_at, host_size in cursor.table(layout.value, count, "host list"):
        yield _text(source, importer_at, importer_size), _text(source, host_at, host_size)


def _text(source: MemoryBytes, offset: int, size: int) -> str:
    return Cursor(source, offset).take(size, "name").decode("utf-16-le", "replace").lower() if size else ""


def _contract(name: str) -> str:
    return name.rpartition("-")[0]


def _damaged_schema(why: str) -> DamagedFileError:
    return damage_error(say("formats.the-api-set-schema-2"), why)

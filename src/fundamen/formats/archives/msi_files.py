"""Unpack install packages (MSI): each file under the path where the package would put it.

Source: Windows Installer reference, tables File, Component, Directory and Media. The path begins with the property that
stands for a folder of the system, such as ``SystemFolder``, or with ``TARGETDIR``.
"""

from collections.abc import Mapping

from fundamen.formats.archives.cabinet import cabinets_of_set, read_cabinet
from fundamen.formats.archives.cabinet_files import unpack_cabinet
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.archives.msi_database import Database, read_database
from fundamen.formats.archives.packed import PackedFile, Unpacked, plain_path
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_MOST_DEPTH = 32
_ROOT = "TARGETDIR"

# Windows Installer reference, "System Folder Properties".
_STANDARD_FOLDERS = frozenset(
    {
        "AdminToolsFolder",
        "AppDataFolder",
        "CommonAppDataFolder",
        "CommonFiles64Folder",
        "CommonFilesFolder",
        "DesktopFolder",
        "FavoritesFolder",
        "FontsFolder",
        "LocalAppDataFolder",
        "MyPicturesFolder",
        "NetHoodFolder",
        "PersonalFolder",
        "PrintHoodFolder",
        "ProgramFiles64Folder",
        "ProgramFilesFolder",
        "ProgramMenuFolder",
        "RecentFolder",
        "SendToFolder",
        "StartMenuFolder",
        "StartupFolder",
        "System16Folder",
        "System64Folder",
        "SystemFolder",
        "TempFolder",
        "TemplateFolder",
        "WindowsFolder",
        "WindowsVolume",
    }
)


def cabinets_beside(source: ByteSource) -> tuple[str, ...]:
    """The names of the cabinets that a package expects beside it.

    Raises:
        DamagedFileError: it is damaged.
    """
    database = read_database(CompoundFile(source), say("formats.the-install-package", name=printable(source.name)))
    names = (str(medium.get("Cabinet") or "") for medium in database.tables.get("Media", ()))
    return tuple(name for name in names if name and not name.startswith("#"))


def unpack_msi(source: ByteSource, beside: Mapping[str, ByteSource] | None = None) -> Unpacked:
    """Each file of the cabinets that the package holds itself, and of those beside it that are available.

    Args:
        source: the package.
        beside: cabinets that lie beside it, by their names in lower case.

    Raises:
        DamagedFileError: it is damaged, or names a path that leads elsewhere.
    """
    what = say("formats.the-install-package", name=printable(source.name))
    database = read_database(CompoundFile(source), what)
    paths = file_paths(database, what)
    names = [str(medium.get("Cabinet") or "") for medium in database.tables.get("Media", ())]
    cabinets = dict(beside or {})
    for name in names:
        if name.startswith("#"):
            entry = database.streams.get(name[1:])
            if entry is None:
                raise damage_error(what, say("formats.its-cabinet-is-not-in-it", name=printable(name[1:])))
            cabinets[name.lower()] = database.package.source(entry)
    for name in names:
        cabinet = cabinets.get(name.lower())
        if cabinet is None or read_cabinet(cabinet).previous.lower() in cabinets:
            continue  # not available, or a later one of a set, which is unpacked from its first one on
        for packed, data in unpack_cabinet(*cabinets_of_set(cabinet, lambda known: cabinets.get(known.lower()))):
            path = paths.get(packed.path)
            if path is not None:
                yield PackedFile(path, packed.mode, packed.size), data


def file_paths(database: Database, what: str) -> dict[str, str]:
    """Where each file of the table File belongs, by its key.

    Raises:
        DamagedFileError: a path leads elsewhere, or the folders lie in a ring.
    """
    folders = {str(row["Directory"]): row for row in database.tables.get("Directory", ())}
    components = {str(row["Component"]): str(row["Directory_"]) for row in database.tables.get("Component", ())}

    def path_of(folder: str) -> list[str]:
        parts: list[str] = []
        for _ in range(_MOST_DEPTH):
            standard = folder.partition(".")[0]  # a merge module adds its own identity after a dot
            if standard in _STANDARD_FOLDERS:  # whatever its name is in the table
                return [standard, *reversed(parts)]
            row = folders.get(folder)
            if row is None or row["Directory_Parent"] in {None, folder}:
                return [_ROOT, *reversed(parts)]
            # "target:source", each "short|long"; a dot stands for the parent itself.
            target = str(row["DefaultDir"] or ".").partition(":")[0].rpartition("|")[2]
            if target != ".":
                parts.append(target)
            folder = str(row["Directory_Parent"])
        raise damage_error(what, say("formats.its-folders-are-nested-more-than", most_depth=_MOST_DEPTH))

    paths = {}
    for row in database.tables.get("File", ()):
        name = str(row["FileName"] or "").rpartition("|")[2]
        folder = path_of(components.get(str(row["Component_"]), _ROOT))
        paths[str(row["File"])] = plain_path(what, "/".join([*folder, name]))
    return paths

"""All kinds of change: what the journal knows them by. A new kind is a module of its own, and a line here."""

import os
from typing import Any

import msgspec

from fundamen.changes.base import LOCATIONS, OURS, ElsewhereError, FolderRecord, FolderTimes, Record, Site
from fundamen.changes.cold_copy import TakeColdCopy
from fundamen.changes.directory_entries import DirectoryRecord, SetDirectoryEntry
from fundamen.changes.files import CopyLink, EntryRecord, MakeLink, PutFile
from fundamen.changes.folders import MadeFolderRecord, MakeFolder
from fundamen.changes.installer_trust import UseInstaller
from fundamen.changes.installers import InstallerRunRecord
from fundamen.changes.limits import LimitRecord, SetLimit
from fundamen.changes.moves import MoveRecord, SetAside
from fundamen.changes.packages import InstallByName, PackagesRecord
from fundamen.changes.registry_edits import RemoveRegistryValue, SetRegistryEntry, SetRegistryValue
from fundamen.changes.rights import RightsRecord, SetRights
from fundamen.changes.root_stores import ImportRoot
from fundamen.changes.services import EnableService
from fundamen.changes.settings import RemoveValue, SetEntry, SetValue
from fundamen.changes.starting import RunService, ServiceRecord
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import to_plain
from fundamen.placing.file_state import FileState

PlannedStep = (
    PutFile
    | MakeLink
    | MakeFolder
    | CopyLink
    | SetValue
    | RemoveValue
    | SetEntry
    | ImportRoot
    | SetAside
    | InstallByName
    | EnableService
    | RunService
    | UseInstaller
    | SetLimit
    | SetDirectoryEntry
    | TakeColdCopy
    | SetRegistryValue
    | RemoveRegistryValue
    | SetRegistryEntry
    | SetRights
)

_RECORDS: tuple[type[Record], ...] = (
    EntryRecord,
    MoveRecord,
    MadeFolderRecord,
    PackagesRecord,
    ServiceRecord,
    InstallerRunRecord,
    LimitRecord,
    DirectoryRecord,
    RightsRecord,
)
_KINDS: dict[str, type[Record]] = {str(kind.__struct_config__.tag): kind for kind in _RECORDS}


def decode_record(fields: dict[str, Any], site: Site) -> Record:
    """A record from what the journal holds, also what the formats before this one held.

    Raises:
        ElsewhereError: it is of an older version, and of a machine that was mounted elsewhere.
        msgspec.ValidationError: it is none.
        ValueError: it is of a kind that is not known here.
    """
    if "kind" not in fields:
        fields = _from_format_1(fields)
    kind = _KINDS.get(str(fields["kind"]))
    if kind is None:
        raise ValueError(say("changes.it-has-a-step-of-the", kind=fields["kind"]))
    if issubclass(kind, FolderRecord) and fields.get("form") != LOCATIONS:
        fields = _from_format_2(fields, site)
    record: Record = msgspec.convert(fields, type=kind)
    return record


def _from_format_2(fields: dict[str, Any], site: Site) -> dict[str, Any]:
    """Format 2 wrote host paths down, by where the machine was mounted."""

    def location(host: str) -> str:
        try:
            return site.location(site.ground.place_of(host))
        except OSError as error:
            why = say("changes.it-tells-of-and-the-machine", host=printable(host), root=printable(site.machine.root))
            raise ElsewhereError(why) from error

    fields = {**fields, "form": LOCATIONS, "target": location(fields["target"])}
    fields["new_folders"] = [location(each) for each in fields.get("new_folders", ())]
    fields["folders"] = [{**each, "path": location(each["path"])} for each in fields["folders"]]
    for name in ("staged", "aside"):
        if name in fields:
            fields[name] = location(fields[name])
    if fields.get("keeps_inode"):
        fields["kept"] = location(fields["kept"])
    return fields


def _from_format_1(fields: dict[str, Any]) -> dict[str, Any]:
    """Format 1 knew files only, and what they would be by digest or link; and the one folder nearest to each."""
    after = FileState(0, fields["after_sha256"], 0o644, -1, -1, -1, -1, link=fields.get("link", ""))
    nearest = os.path.dirname(fields["new_folders"][0] if fields["new_folders"] else fields["target"])
    after_ns = fields.get("folder_after_ns", OURS)
    times = FolderTimes(nearest, fields["folder_modified_ns"], fields["folder_accessed_ns"], after_ns)
    return {**fields, "kind": "entry", "after": to_plain(after), "folders": [to_plain(times)]}

"""The step that gives a file or folder other rights: mode, owner, access control list, capabilities, security label.

Its content and its times are not touched. An undo gives it the rights back that it had, if it has ours.
"""

import stat
from collections.abc import Callable, Mapping
from typing import Annotated

import msgspec

from fundamen.changes.base import AS_AROUND, LOCATIONS, EntryOwner, FolderRecord, Keeping, Site, Step, Tell
from fundamen.changes.form import Form, PlanResolution, Text, unfit
from fundamen.formats.unix.access import acl_bytes, acl_with_mode, capability_bytes, mode_of_acl
from fundamen.machine.accounts import GROUPS, USERS, number_of
from fundamen.machine.machine import AccessRights, Machine
from fundamen.machine.overlay import Layer
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.calls import give_away, remove_attribute, set_attribute, set_mode
from fundamen.placing.file_state import FileState

_ACL, _DEFAULT_ACL = "system.posix_acl_access", "system.posix_acl_default"
_SET_USER, _IN_THEIR_NAME, _WRITTEN_BY_OTHERS = 0o4000, 0o6000, 0o022
_CAPABILITIES, _LABEL = "security.capability", "security.selinux"
_WORDS = {_ACL: "access list", _DEFAULT_ACL: "default access list", _CAPABILITIES: "capabilities", _LABEL: "label"}


class EntryRights(msgspec.Struct, frozen=True):
    """The rights of an entry."""

    mode: int  # permission bits
    uid: int
    gid: int
    attributes: dict[str, bytes] = {}  # those that carry rights and are there

    def without(self, name: str) -> "EntryRights":
        """The same without an attribute."""
        return msgspec.structs.replace(self, attributes={n: v for n, v in self.attributes.items() if n != name})


class RightsRecord(FolderRecord, frozen=True, kw_only=True, tag_field="kind", tag="rights"):
    """An entry gets other rights."""

    undone = "as before"

    before: EntryRights
    after: EntryRights
    inode: int  # which entry it is

    def make(self, site: Site, _tell: Tell) -> None:
        """Give it the rights. Raises: OSError: also where the system made something else of them."""
        place = site.place(self.target)
        self._require_same(place)
        _give(place, self.after)
        if not self.is_made(site):
            raise OSError(0, say("changes.the-file-system-made-other-rights"), place.host)

    def is_made(self, site: Site) -> bool:
        """Whether it has them."""
        return _rights_of(site.place(self.target)) == self.after

    def obstacle(self, site: Site) -> Message:
        """Reason why it can be neither made nor undone; empty if it can."""
        place = site.place(self.target)
        if not place.is_there:
            return say("changes.it-does-not-exist-any-more")
        if place.status().st_ino != self.inode:
            return say("changes.it-is-another-entry-now")
        is_ours = self._is_between(_rights_of(place))
        return UNSAID if is_ours else say("changes.its-rights-are-neither-as-before")

    def take_back(self, site: Site) -> None:
        """Give it back those that it had."""
        place = site.place(self.target)
        self._require_same(place)
        _give(place, self.before)

    def _is_between(self, now: EntryRights) -> bool:
        """Whether these are the rights before or after, or what a cut has left on the way from one to the other.

        Another owner takes the bits and capabilities away by which a program runs with another's rights: chown(2).
        """
        ends = (self.before, self.after)
        return (
            (now.uid, now.gid) in {(each.uid, each.gid) for each in ends}
            and now.mode & 0o777 in {each.mode & 0o777 for each in ends}
            and not now.mode & ~(self.before.mode | self.after.mode)
            and all(value in [each.attributes.get(name) for each in ends] for name, value in now.attributes.items())
        )

    def _require_same(self, place: Place) -> None:
        if place.status().st_ino != self.inode:
            raise OSError(0, say("changes.it-is-another-entry-now"), place.host)


class ChangeRights(Step, frozen=True, kw_only=True):
    """One step: an entry gets other rights."""

    replaces = True
    verb = "rights"

    before: EntryRights
    after: EntryRights

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        before, after = self.before, self.after
        lines = (
            [say("changes.mode-from-to", mode=before.mode, other_mode=after.mode)] if before.mode != after.mode else []
        )
        if (before.uid, before.gid) != (after.uid, after.gid):
            lines.append(
                say("changes.owner-from-to", uid=before.uid, gid=before.gid, other_uid=after.uid, other_gid=after.gid)
            )
        for name, words in _WORDS.items():
            old, new = (each.attributes.get(name) for each in (before, after))
            if old != new:
                lines.append(
                    say(
                        f"changes.attribute-{'removed' if new is None else 'set' if old is None else 'changed'}",
                        of=words,
                    )
                )
        return tuple(lines)

    def place(self, machine: Machine) -> Place:
        """Where it stands. Raises: OSError, UnreadableError."""
        return machine.place(self.path)

    def lay_over(self, layer: Layer, _contents: Mapping[str, HostPath]) -> None:
        """Lay it over a machine."""
        layer.rights[self.path] = AccessRights(self.after.mode, self.after.uid, self.after.gid)

    def form(self, _state: FileState | None) -> "SetRights":
        """The step in a plan file."""
        return SetRights(path=self.path, because=self.because, mode=self.after.mode)

    def keep(self, keeping: Keeping) -> RightsRecord:
        """Write its rights down. Raises: OSError: they have changed since."""
        target = keeping.target
        if _rights_of(target) != self.before:
            raise OSError(0, say("changes.its-rights-have-changed-since-they"), target.host)
        return RightsRecord(
            path=self.path,
            target=keeping.site.location(target),
            folders=(),
            form=LOCATIONS,
            before=self.before,
            after=self.after,
            inode=target.status().st_ino,
        )


def allow(machine: Machine, path: MachinePath, bits: int, because: str) -> ChangeRights:
    """The step that adds permission bits to a file or folder. Raises: OSError, UnreadableError."""
    before = _rights_of(machine.place(path))
    after = msgspec.structs.replace(before, mode=before.mode | bits)
    acl = before.attributes.get(_ACL)
    if acl is not None:
        after = msgspec.structs.replace(after, attributes={**after.attributes, _ACL: acl_with_mode(acl, after.mode)})
    return ChangeRights(path=path, because=because, before=before, after=after)


def give(
    machine: Machine, path: MachinePath, mode: int, owner: EntryOwner, capabilities: bytes | None, because: Message
) -> ChangeRights:
    """The step that gives a file bits that it lacks, an owner, and capabilities if it has none.

    No other account may write to it then. A program that runs as its owner needs no capabilities.

    Raises:
        OSError: its rights cannot be read.
        UnreadableError: it is not there.
    """
    before = _rights_of(machine.place(path))
    uid = before.uid if owner.uid == AS_AROUND else owner.uid
    gid = before.gid if owner.gid == AS_AROUND else owner.gid
    wanted = (before.mode if (uid, gid) == (before.uid, before.gid) else before.mode & ~_IN_THEIR_NAME) | mode
    wanted &= ~(_WRITTEN_BY_OTHERS & ~mode)
    after = msgspec.structs.replace(before, mode=wanted, uid=uid, gid=gid)
    if capabilities is not None and not wanted & _SET_USER and _CAPABILITIES not in before.attributes:
        after = msgspec.structs.replace(after, attributes={**after.attributes, _CAPABILITIES: capabilities})
    return ChangeRights(path=path, because=because, before=before, after=after)


class SetRights(Form, frozen=True, kw_only=True, tag="set rights"):
    """A file or folder gets other rights; what is not listed stays as it is."""

    mode: Annotated[int, msgspec.Meta(ge=0, le=0o7777)] | None = None
    owner: Annotated[str, msgspec.Meta(max_length=100)] = ""  # by name, or as # and a number
    group: Annotated[str, msgspec.Meta(max_length=100)] = ""
    acl: Text | None = None  # in the short text form; empty: none
    default_acl: Text | None = None  # of a folder
    capabilities: Text | None = None  # as cap_net_raw=ep; empty: none
    label: Text | None = None  # security label; empty: none

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        machine = resolving.machine
        path = machine.real(MachinePath(self.path))
        place = machine.place(path)
        status = place.status_or_none()
        if status is None or not (stat.S_ISREG(status.st_mode) or stat.S_ISDIR(status.st_mode)):
            raise unfit(path, say("changes.it-is-neither-a-file-nor"))
        before = _rights_of(place)
        try:
            after = self._wanted_rights(machine, before)
        except ValueError as error:
            raise unfit(path, str(error)) from error
        if after != before:
            because = self.because or "other rights"
            resolving.set(path, ChangeRights(path=path, because=because, before=before, after=after))

    def _wanted_rights(self, machine: Machine, before: EntryRights) -> EntryRights:
        def number(kind: str, name: str) -> int:
            of = USERS if kind == "user" else GROUPS
            found = number_of(machine, name, of)
            if found is None:
                raise ValueError(say("changes.does-not-list", of=of, name=printable(name)))
            return found

        uid = number("user", self.owner) if self.owner else before.uid
        gid = number("group", self.group) if self.group else before.gid
        wanted = {
            _ACL: _bytes_of(self.acl, lambda text: acl_bytes(text, number)),
            _DEFAULT_ACL: _bytes_of(self.default_acl, lambda text: acl_bytes(text, number)),
            _CAPABILITIES: _bytes_of(self.capabilities, capability_bytes),
            _LABEL: _bytes_of(self.label, lambda text: text.encode() + b"\0"),
        }
        after = EntryRights(before.mode if self.mode is None else self.mode, uid, gid, before.attributes)
        if (uid, gid) != (before.uid, before.gid) and self.capabilities is None:
            after = after.without(_CAPABILITIES)  # chown(2) takes them away, and so does every tool
        for name, value in wanted.items():
            if value is not None:
                after = after.without(name)
                if value:
                    after = msgspec.structs.replace(after, attributes={**after.attributes, name: value})
        acl = after.attributes.get(_ACL)
        if acl is None:
            return after
        if self.acl and self.mode is not None and self.mode & 0o777 != mode_of_acl(acl):
            raise ValueError(say("changes.its-mode-and-its-access-list"))
        if self.acl:  # the mode follows the list
            return msgspec.structs.replace(after, mode=after.mode & ~0o777 | mode_of_acl(acl))
        return msgspec.structs.replace(after, attributes={**after.attributes, _ACL: acl_with_mode(acl, after.mode)})


def _bytes_of(text: str | None, read: Callable[[str], bytes]) -> bytes | None:
    """New value of an attribute: None to keep it, empty to remove it."""
    return None if text is None else read(text) if text else b""


def _rights_of(place: Place) -> EntryRights:
    """The rights of an entry, no link. Raises: OSError."""
    status = place.status()
    found = {name: value for name, value in place.attributes() if name in _WORDS}
    return EntryRights(stat.S_IMODE(status.st_mode), status.st_uid, status.st_gid, found)


def _give(place: Place, rights: EntryRights) -> None:
    """Give an entry rights: its owner first, which takes others away. Raises: OSError."""
    status = place.status()
    if (status.st_uid, status.st_gid) != (rights.uid, rights.gid):
        give_away(place, rights.uid, rights.gid)
    for name, _ in place.attributes():
        if name in _WORDS and name not in rights.attributes:
            remove_attribute(place, name)
    for name, value in rights.attributes.items():
        set_attribute(place, name, value)
    set_mode(place, rights.mode)
    place.flush()

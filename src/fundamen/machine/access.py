"""Judge whether a user may read or run a file, by the modes and owners of it and of the folders above it.

Sources: path_resolution(7), "Permissions"; inode(7), "The file type and mode"; acl(5). The administrator may read
everything.
"""

import msgspec

from fundamen.formats.unix.access import acl_gives
from fundamen.machine.accounts import GROUPS, USERS, accounts
from fundamen.machine.descent import FOLDER
from fundamen.machine.file_systems import forbids_running
from fundamen.machine.machine import AccessRights, EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath

_READ, _RUN = 4, 1  # bits of one class of users
_ALL_READ, _ALL_RUN, _GROUP_BITS = 0o444, 0o111, 0o070
_MEMBERS = 3  # the field of a group's members
_PRIMARY = 3  # the field of a user's own group
_MOST_DIGITS = 10


class Runner(msgspec.Struct, frozen=True):
    """A user of a machine; one without a number is any ordinary user."""

    name: str = ""
    uid: int | None = None
    gids: frozenset[int] = frozenset()

    @property
    def in_words(self) -> Message:
        """The subject of a sentence."""
        return say("machine.the-user", name=self.name) if self.name else say("machine.an-ordinary-user")

    def has(self, bit: int, rights: AccessRights) -> bool:
        """Whether the rights of an entry give the user a bit."""
        if self.uid == 0:
            return bit == _READ or bool(rights.mode & _ALL_RUN)
        if self.uid is not None and self.uid == rights.uid:
            return bool(rights.mode >> 6 & bit)
        if rights.gid in self.gids:
            return bool(rights.mode >> 3 & bit)
        return bool(rights.mode & bit)


ORDINARY = Runner()


class Barrier(msgspec.Struct, frozen=True):
    """An entry whose rights keep a user from a file."""

    path: MachinePath  # the file, or a folder above it
    is_folder: bool
    rights: AccessRights
    lacks: int  # the mode bits that would let every user through

    def reason(self, user: Runner) -> Message:
        """The reason, as a clause."""
        verb = (
            say("machine.enter-the-folder", path=self.path)
            if self.is_folder
            else "run it"
            if self.lacks & 1
            else "read it"
        )
        return say(
            "machine.may-not-mode-owner", words=user.in_words, verb=verb, mode=self.rights.mode, uid=self.rights.uid
        )


def find_user(machine: Machine, name: str) -> Runner:
    """A user of a machine by name, with the groups that list the user. Raises: UsageError: there is none."""
    fields = accounts(machine, USERS).get(name)
    numbers = fields[2 : _PRIMARY + 1] if fields is not None else []
    if not numbers or not all(each.isascii() and each.isdigit() and len(each) <= _MOST_DIGITS for each in numbers):
        raise UsageError(
            what=say("machine.nothing-is-judged-for-the-user", name=printable(name)),
            why=say("machine.of-does-not-list-this-user", users=USERS, title=machine.title),
            do=say("machine.name-a-user-of-that-machine"),
        )
    listed = accounts(machine, GROUPS).values()
    further = {int(each[2]) for each in listed if name in each[_MEMBERS].split(",") and each[2].isdigit()}
    return Runner(name, int(numbers[0]), frozenset({int(numbers[1]), *further}))


def user_of(machine: Machine, program: MachinePath, named: Runner | None = None) -> Runner | None:
    """The user for whom a program is judged: the one that was named, or an ordinary one, if such a user may run it.

    None where the rights are not known, and for a program that runs as its file's owner or group. A user whom the unit
    names that starts the program counts before an ordinary one.
    """
    if machine.run_as is not None or named is not None:
        return machine.run_as or named
    if machine.look(program).changes_account or find_barrier(machine, program, ORDINARY, runs=True) is not None:
        return None
    return ORDINARY


def find_barrier(machine: Machine, path: MachinePath, user: Runner, *, runs: bool = False) -> Barrier | None:
    """The first entry that keeps a user from reading a file, or from running it; None where none is known to."""
    return machine.fact(path, _find_barrier, user, runs)


def _has(machine: Machine, path: MachinePath, user: Runner, bit: int, rights: AccessRights) -> bool:
    """Whether a user has a bit of an entry, by its access control list if it has one that concerns the user."""
    if user.uid is None or user.uid in {0, rights.uid} or not rights.mode & _GROUP_BITS:
        return user.has(
            bit, rights
        )  # with an empty mask Linux does not ask the list (fs/namei.c, acl_permission_check)
    acl = machine.access_list(path)
    return acl_gives(acl, bit, user.uid, user.gids, rights.gid) if acl else user.has(bit, rights)


def mount_without_running(machine: Machine, path: MachinePath) -> HostPath | None:
    """Where the file system of a file is mounted so that nothing on it is run (mount(8), noexec); None for any other.

    That of a whole root counts only where it is this host's: elsewhere it is how the technician has mounted it.
    """
    if machine.is_captured:
        return None
    return machine.fact(machine.folder_of(machine.real(path)), _mount_without_running)


def _mount_without_running(machine: Machine, path: MachinePath) -> HostPath | None:
    try:
        folder, top = machine.place(path), machine.place(machine.absolute_path("/"))
        device = folder.status().st_dev
        if not machine.is_live and device == top.status().st_dev:
            return None
        with folder.open_handle(FOLDER) as handle:
            if not forbids_running(handle):
                return None
        while folder.inner and folder.folder.status().st_dev == device:
            folder = folder.folder
    except (OSError, UnreadableError):
        return None
    return folder.host


def _find_barrier(machine: Machine, path: MachinePath, user: Runner, runs: bool) -> Barrier | None:  # noqa: FBT001
    real = machine.real(path)
    above = machine.folder_of(real)
    barrier = machine.fact(above, _find_barrier_above, user)
    if barrier is not None:
        return barrier
    rights = machine.rights(real)
    if rights is None or machine.look(real).kind is not EntryKind.FILE:
        return None
    bit, lacks = (_RUN, _ALL_RUN) if runs else (_READ, _ALL_READ)
    return (
        None if _has(machine, real, user, bit, rights) else Barrier(real, is_folder=False, rights=rights, lacks=lacks)
    )


def _find_barrier_above(machine: Machine, folder: MachinePath, user: Runner) -> Barrier | None:
    above = machine.folder_of(folder)
    if above != folder and (barrier := machine.fact(above, _find_barrier_above, user)) is not None:
        return barrier
    rights = machine.rights(folder)
    if rights is None or _has(machine, folder, user, _RUN, rights):
        return None
    return Barrier(folder, is_folder=True, rights=rights, lacks=_ALL_RUN)

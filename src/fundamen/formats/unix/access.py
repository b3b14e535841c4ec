"""Read and write the rights of a file besides its mode: access control lists, capabilities.

Sources: acl(5), "SHORT TEXT FORM"; linux/posix_acl_xattr.h, version 2; capabilities(7), "File capabilities", and
linux/capability.h, VFS_CAP_REVISION_2; cap_to_text(3).
"""

import struct
from collections.abc import Callable

from fundamen.messages import say

_ACL_VERSION, _NO_ID = 2, 0xFFFF_FFFF
_TAGS = {("user", False): 0x01, ("user", True): 0x02, ("group", False): 0x04, ("group", True): 0x08}
_MASK, _OTHER = 0x10, 0x20
_USER_BY_NAME, _OWN_GROUP, _GROUP_BY_NAME = 0x02, 0x04, 0x08
_RIGHTS = {"r": 4, "w": 2, "x": 1, "-": 0}
_MOST_ENTRIES = 1000
_CAP_REVISION_2, _EFFECTIVE = 0x0200_0000, 0x01
_CAPABILITIES = (
    "chown", "dac_override", "dac_read_search", "fowner", "fsetid", "kill", "setgid", "setuid", "setpcap",
    "linux_immutable", "net_bind_service", "net_broadcast", "net_admin", "net_raw", "ipc_lock", "ipc_owner",
    "sys_module", "sys_rawio", "sys_chroot", "sys_ptrace", "sys_pacct", "sys_admin", "sys_boot", "sys_nice",
    "sys_resource", "sys_time", "sys_tty_config", "mknod", "lease", "audit_write", "audit_control", "setfcap",
    "mac_override", "mac_admin", "syslog", "wake_alarm", "block_suspend", "audit_read", "perfmon", "bpf",
    "checkpoint_restore",
)  # fmt: skip

Number = Callable[[str, str], int]  # (``user`` or ``group``, a name) -> its number


def acl_bytes(text: str, number: Number) -> bytes:
    """An access control list from its short text form, such as ``u::rw-,u:tide:r--,g::r--,m::r--,o::---``.

    Args:
        text: entries with commas between.
        number: finds the number of a user or group.

    Raises:
        ValueError: it is none, or lacks one of the entries that every list has.
    """
    entries = []
    for written in text.split(",")[:_MOST_ENTRIES]:
        kind, name, rights = (part.strip() for part in (*written.split(":"), "", "")[:3])
        kinds = [each for each in ("user", "group", "mask", "other") if kind and each.startswith(kind)]
        if len(kinds) != 1 or written.count(":") != 2 or len(rights) != 3 or set(rights) - set(_RIGHTS):  # noqa: PLR2004
            raise ValueError(say("formats.is-no-entry-as-user-name", written=written))
        if kinds[0] in {"mask", "other"} and name:
            raise ValueError(say("formats.takes-no-name-and-it-has", kinds=kinds[0], name=name))
        tag = {"mask": _MASK, "other": _OTHER}.get(kinds[0]) or _TAGS[kinds[0], bool(name)]
        bits = sum(_RIGHTS[letter] for letter in set(rights))
        entries.append((tag, number(kinds[0], name) if name else _NO_ID, bits))
    tags = [tag for tag, _, _ in entries]
    wanted = {0x01, 0x04, _OTHER, *([_MASK] if {0x02, 0x08} & set(tags) else [])}
    if missing := wanted - set(tags) or len({entry[:2] for entry in entries}) != len(entries):
        raise ValueError(
            say("formats.it-has-an-entry-twice") if missing is True else say("formats.it-lacks-user-group-other-or")
        )
    packed = b"".join(struct.pack("<HHI", tag, bits, who) for tag, who, bits in sorted(entries))
    return struct.pack("<I", _ACL_VERSION) + packed


def mode_of_acl(acl: bytes) -> int:
    """The permission bits that go with a list: of the owner, of the mask or else the group, of all others."""
    bits = {tag: rights for tag, rights, _ in _entries(acl)}
    return bits.get(0x01, 0) << 6 | bits.get(_MASK, bits.get(0x04, 0)) << 3 | bits.get(_OTHER, 0)


def acl_with_mode(acl: bytes, mode: int) -> bytes:
    """A list as chmod(2) leaves it. Source: acl(5), "CORRESPONDENCE BETWEEN ACL ENTRIES AND FILE PERMISSION BITS"."""
    entries = _entries(acl)
    group = _MASK if any(tag == _MASK for tag, _, _ in entries) else 0x04
    bits = {0x01: mode >> 6 & 7, group: mode >> 3 & 7, _OTHER: mode & 7}
    return acl[:4] + b"".join(struct.pack("<HHI", tag, bits.get(tag, rights), who) for tag, rights, who in entries)


def acl_gives(acl: bytes, bit: int, uid: int, gids: frozenset[int], group: int) -> bool:
    """Whether a list gives a user who does not own the entry a right. Source: acl(5), "ACCESS CHECK ALGORITHM".

    Args:
        acl: the list.
        bit: of one class, such as 4 to read.
        uid: the user's number.
        gids: the numbers of the user's groups.
        group: the number of the entry's own group.
    """
    entries = _entries(acl)
    mask = next((rights for tag, rights, _ in entries if tag == _MASK), 7)
    named = [rights for tag, rights, who in entries if (tag, who) == (_USER_BY_NAME, uid)]
    if named:
        return bool(named[0] & mask & bit)
    groups = [
        rights
        for tag, rights, who in entries
        if (tag == _OWN_GROUP and group in gids) or (tag == _GROUP_BY_NAME and who in gids)
    ]
    if groups:
        return any(rights & mask & bit for rights in groups)
    return any(tag == _OTHER and rights & bit for tag, rights, _ in entries)


def _entries(acl: bytes) -> list[tuple[int, int, int]]:
    """(tag, rights, whose) of each entry; what is no whole entry is left out."""
    whole = acl[4 : 4 + (len(acl) - 4) // 8 * 8]
    return [(tag, rights, who) for tag, rights, who in struct.iter_unpack("<HHI", whole)]


def capability_bytes(text: str) -> bytes:
    """Capabilities that a program gets, from text such as ``cap_net_raw,cap_net_admin=ep``.

    Raises:
        ValueError: it names none that is known, or more than one clause.
    """
    names, equals, flags = text.replace("+", "=").partition("=")
    numbers = [_number_of(name) for name in names.split(",")]
    if not equals or not flags or set(flags) - set("eip") or len(set(flags)) != len(flags):
        raise ValueError(say("formats.it-does-not-end-in-ep"))
    mask = sum(1 << number for number in set(numbers))
    permitted, inheritable = mask if "p" in flags else 0, mask if "i" in flags else 0
    low, high = 0xFFFF_FFFF, 32
    return struct.pack(
        "<IIIII",
        _CAP_REVISION_2 | (_EFFECTIVE if "e" in flags else 0),
        permitted & low,
        inheritable & low,
        permitted >> high,
        inheritable >> high,
    )


def _number_of(name: str) -> int:
    plain = name.strip().lower().removeprefix("cap_")
    if plain not in _CAPABILITIES:
        raise ValueError(say("formats.is-no-capability", name=name))
    return _CAPABILITIES.index(plain)

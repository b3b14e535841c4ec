"""Which rights a package's installation gives to its files besides: dpkg records none, its script has them.

Only what a script does for everybody counts: one that asks debconf decides by answers.
Sources: deb-postinst(5); setcap(8); chmod(1); debconf-devel(7), "confmodule".
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.evidence.dpkg import find_owners
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.shell import ShellCommand, read_shell
from fundamen.formats.unix.shell_words import Quoting, Word
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_INFO = "/var/lib/dpkg/info"
_DEBCONF = b"/debconf/confmodule"
_GIVING = (b"setcap", b"chmod", b"perm")  # what a script has in it that gives rights
_TRUE_NAME = ("dpkg-divert", "--truename")  # prints the place of a file, which is its own where there is no diversion
_MOST_BYTES = 1 << 20
_MODE = re.compile("[0-7]{3,4}")
_ACCOUNT = re.compile(r"[a-z_][a-z0-9_-]{0,31}")


class GivenRights(msgspec.Struct, frozen=True):
    """The rights that a script gives to a file, as far as it gives any."""

    path: MachinePath
    capabilities: str = ""  # as ``cap_net_raw+ep``
    mode: int | None = None
    owner: str = ""  # a user's name
    group: str = ""


def rights_given_to(machine: Machine, path: MachinePath) -> GivenRights:
    """The rights that the installation of a file's package gives it besides those of the archive; empty for none."""
    real, given = machine.real(path), GivenRights(path)
    for owner in find_owners(machine, (), (path,)):
        for name in (f"{owner.package}:{owner.architecture}", owner.package):
            for rights in _read_script(machine, MachinePath(f"{_INFO}/{name}.postinst")):
                if machine.real(rights.path) == real:
                    given = GivenRights(
                        path,
                        rights.capabilities or given.capabilities,
                        rights.mode if rights.mode is not None else given.mode,
                        rights.owner or given.owner,
                        rights.group or given.group,
                    )
    return given


def _read_script(machine: Machine, script: MachinePath) -> Iterator[GivenRights]:
    """The rights that a script gives, in its order."""
    try:
        data = machine.content(script, _MOST_BYTES)
    except UnreadableError:
        return
    if _DEBCONF in data or not any(word in data for word in _GIVING):
        return
    known: dict[str, str] = {}
    for command in read_shell(MemoryBytes(data, script)).commands:
        known.update((name, value) for name, word in command.assigned if (value := _value(word, known)))
        match [_value(word, known) for word in command.words]:
            case ["setcap", capabilities, path] if capabilities and path.startswith("/"):
                yield GivenRights(MachinePath(path), capabilities=capabilities)
            case ["chmod", mode, path] if _MODE.fullmatch(mode) and path.startswith("/"):
                yield GivenRights(MachinePath(path), mode=int(mode, 8))
            # A function of the script's own: many packages have one that is called with these four.
            case [_, owner, group, mode, path] if (
                _ACCOUNT.fullmatch(owner)
                and _ACCOUNT.fullmatch(group)
                and _MODE.fullmatch(mode)
                and path.startswith("/")
            ):
                yield GivenRights(MachinePath(path), mode=int(mode, 8), owner=owner, group=group)
            case _:
                pass


def _value(word: Word, known: dict[str, str]) -> str:
    """A word that is plain, a variable, or the true name of a file; empty for any other."""
    if len(word.pieces) != 1:
        return ""
    [piece] = word.pieces
    if piece.how is Quoting.TEXT:
        return piece.text
    if piece.how is Quoting.VARIABLE:
        return known.get(piece.text, "")
    if piece.how is Quoting.COMMAND:
        inner = read_shell(MemoryBytes(piece.text.encode("utf-8", "surrogateescape"), "it")).commands
        return _true_name(inner[0]) if len(inner) == 1 else ""
    return ""


def _true_name(command: ShellCommand) -> str:
    words = tuple(_value(word, {}) for word in command.words)
    return words[2] if words[:2] == _TRUE_NAME and len(words) == 3 else ""  # noqa: PLR2004

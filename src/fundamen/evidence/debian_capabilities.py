"""Which capabilities a package's installation gives to its programs: dpkg records none, its script has them.

Only what a script does for everybody counts: one that asks debconf decides by answers.
Sources: deb-postinst(5); setcap(8); debconf-devel(7), "confmodule".
"""

from fundamen.evidence.dpkg import find_owners
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.shell import ShellCommand, read_shell
from fundamen.formats.unix.shell_words import Quoting, Word
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_INFO = "/var/lib/dpkg/info"
_DEBCONF = b"/debconf/confmodule"
_TRUE_NAME = ("dpkg-divert", "--truename")  # prints the place of a file, which is its own where there is no diversion
_MOST_BYTES = 1 << 20


def capabilities_given_to(machine: Machine, path: MachinePath) -> str:
    """The capabilities that the installation of a program's package gives it, as ``cap_net_raw+ep``; empty for none."""
    real = machine.real(path)
    for owner in find_owners(machine, (), (path,)):
        for name in (f"{owner.package}:{owner.architecture}", owner.package):
            for place, capabilities in _read_script(machine, MachinePath(f"{_INFO}/{name}.postinst")):
                if machine.real(place) == real:
                    return capabilities
    return ""


def _read_script(machine: Machine, script: MachinePath) -> list[tuple[MachinePath, str]]:
    """The capabilities that a script gives: (program, capabilities)."""
    try:
        data = machine.content(script, _MOST_BYTES)
    except UnreadableError:
        return []
    if b"setcap" not in data or _DEBCONF in data:
        return []
    given: list[tuple[MachinePath, str]] = []
    known: dict[str, str] = {}
    for command in read_shell(MemoryBytes(data, script)).commands:
        known.update((name, value) for name, word in command.assigned if (value := _value(word, known)))
        words = [_value(word, known) for word in command.words]
        if words[:1] == ["setcap"] and len(words) == 3 and words[1] and words[2].startswith("/"):  # noqa: PLR2004
            given.append((MachinePath(words[2]), words[1]))
    return given


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

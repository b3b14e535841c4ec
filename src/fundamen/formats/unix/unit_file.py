"""Read unit files of systemd: their sections, the commands in them, and by what a unit is wanted once it is enabled.

Source: systemd.syntax(7); systemd.unit(5), "[Install] Section Options" and "Specifiers"; systemd.service(5), "Command
Lines".
"""

import re
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from fundamen.messages import say

_SPECIFIERS = {
    "%n": "{name}", "%N": "{stem}", "%p": "{prefix}", "%i": "{instance}", "%j": "{last}", "%I": "{path}", "%%": "%",
    "%t": "/run", "%S": "/var/lib", "%C": "/var/cache", "%L": "/var/log", "%E": "/etc",
}  # fmt: skip
# A word of a command: quoted parts and escapes as in C, and anything else but blanks.
_WORD = re.compile(r"""(?:"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|[^\s"'\\]|\\.)+""", re.DOTALL)
_PART = re.compile(r""""((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)'|((?:[^\s"'\\]|\\.)+)""", re.DOTALL)
_ESCAPE = re.compile(r"\\(x[0-9a-fA-F]{2}|[0-7]{3}|.)", re.DOTALL)
_ESCAPED = {"n": "\n", "t": "\t", "s": " ", "a": "\a", "b": "\b", "f": "\f", "r": "\r", "v": "\v"}
_MOST_WORDS = 10_000
_COMMENTS = ("#", ";")


class Install(msgspec.Struct, frozen=True):
    """The effect of enabling a unit; each name with its specifiers filled in."""

    wanted_by: tuple[str, ...] = ()
    required_by: tuple[str, ...] = ()
    upheld_by: tuple[str, ...] = ()
    aliases: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    default_instance: str = ""

    @property
    def is_empty(self) -> bool:
        """Whether the unit cannot be enabled: nothing would start it."""
        return not (self.wanted_by or self.required_by or self.upheld_by or self.aliases or self.also)


def read_install(text: str, name: str) -> Install:
    """The [Install] section of a unit.

    Args:
        text: the unit file.
        name: the unit's own, such as ``tide.service`` or ``tide@north.service``.

    Raises:
        ValueError: a name has a specifier that cannot be filled in here.
    """
    values = read_sections(text).get("Install", {})

    def names(key: str) -> tuple[str, ...]:
        words = " ".join(values.get(key, [])).split()
        return tuple(dict.fromkeys(fill_specifiers(each, name) for each in words))

    return Install(
        wanted_by=names("WantedBy"),
        required_by=names("RequiredBy"),
        upheld_by=names("UpheldBy"),
        aliases=names("Alias"),
        also=names("Also"),
        default_instance=" ".join(values.get("DefaultInstance", [])),
    )


def read_sections(text: str) -> dict[str, dict[str, list[str]]]:
    """The values of each key by section, in their order. An empty value clears the earlier ones."""
    sections: dict[str, dict[str, list[str]]] = {}
    section: dict[str, list[str]] = {}
    for line in _lines(text):
        if line.startswith("["):
            section = sections.setdefault(line.strip("[]"), {})
        elif "=" in line:
            key, _, value = (part.strip() for part in line.partition("="))
            values = section.setdefault(key, [])
            values.append(value) if value else values.clear()
    return sections


def split_words(text: str) -> list[str]:
    """The words of a value: quotes hold blanks together, and escapes are those of C. Raises: ValueError."""
    words: list[str] = []
    at = 0
    while at < len(text):
        if text[at].isspace():
            at += 1
            continue
        found = _WORD.match(text, at)
        if found is None or len(words) == _MOST_WORDS:
            raise ValueError(say("formats.a-quote-is-not-closed"))
        words.append("".join(_unescape(a or b or c) for a, b, c in _PART.findall(found[0])))
        at = found.end()
    return words


def split_commands(text: str, name: str) -> Iterator[list[str]]:
    """The commands of one value, which a semicolon parts, each as its words with specifiers filled in.

    Raises:
        ValueError: a quote is not closed, or a specifier cannot be filled in here.
    """
    command: list[str] = []
    for word in [*split_words(text), ";"]:
        if word != ";":
            command.append(fill_specifiers(word, name))
        elif command:
            yield command
            command = []


def fill_variables(words: Sequence[str], environment: Mapping[str, str]) -> list[str]:
    """The words of a command with ``${NAME}`` filled in; ``$NAME`` as a word of its own is split into words."""
    filled: list[str] = []
    for word in words:
        if re.fullmatch(r"\$[A-Za-z_]\w*", word):
            filled += environment.get(word[1:], "").split()
        else:
            whole = re.sub(r"\$\{([A-Za-z_]\w*)\}", lambda found: environment.get(found[1], ""), word)
            filled.append(whole.replace("$$", "$"))
    return filled


def _unescape(text: str) -> str:
    def translate(found: re.Match[str]) -> str:
        code = found[1]
        if len(code) == 3:  # noqa: PLR2004 - x and two digits, or three octal ones
            return chr(int(code[1:], 16) if code[0] == "x" else int(code, 8) & 0xFF)
        return _ESCAPED.get(code, code)

    return _ESCAPE.sub(translate, text)


def _lines(text: str) -> list[str]:
    """The lines, those that a backslash joins as one, without comments."""
    joined: list[str] = []
    rest = ""
    for line in text.splitlines():
        if line.lstrip().startswith(_COMMENTS):
            continue
        rest += line.rstrip()
        if rest.endswith("\\"):
            rest = rest[:-1] + " "
            continue
        joined.append(rest.strip())
        rest = ""
    return [*joined, rest.strip()]


def fill_specifiers(text: str, name: str) -> str:
    """A text with the specifiers of a unit filled in. Raises: ValueError: it has one that only a run fills in."""
    stem = name.rpartition(".")[0]
    prefix, _, instance = stem.partition("@")
    facts = {
        "name": name, "stem": stem, "prefix": prefix, "instance": instance, "last": prefix.rpartition("-")[2],
        "path": instance.replace("-", "/"),
    }  # fmt: skip
    filled, at = "", 0
    while at < len(text):
        if text[at] != "%":
            filled, at = filled + text[at], at + 1
            continue
        form = _SPECIFIERS.get(text[at : at + 2])
        if form is None:
            raise ValueError(say("formats.the-specifier-in-cannot-be-filled", text=text[at : at + 2], other_text=text))
        filled, at = filled + form.format(**facts), at + 2
    return filled

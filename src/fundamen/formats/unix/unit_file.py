"""Read what a unit file of systemd says under [Install]: by what it is wanted once it is enabled.

Source: systemd.syntax(7); systemd.unit(5), "[Install] Section Options" and "Specifiers".
"""

import msgspec

from fundamen.messages import say

_SPECIFIERS = {"%n": "{name}", "%N": "{stem}", "%p": "{prefix}", "%i": "{instance}", "%j": "{last}", "%%": "%"}
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
    values: dict[str, list[str]] = {}
    section = ""
    for line in _lines(text):
        if line.startswith("["):
            section = line.strip("[]")
        elif section == "Install" and "=" in line:
            key, _, value = (part.strip() for part in line.partition("="))
            # An empty value takes back what was said before.
            values[key] = values.get(key, []) + value.split() if value else []

    def names(key: str) -> tuple[str, ...]:
        return tuple(dict.fromkeys(_fill_specifiers(each, name) for each in values.get(key, [])))

    return Install(
        wanted_by=names("WantedBy"),
        required_by=names("RequiredBy"),
        upheld_by=names("UpheldBy"),
        aliases=names("Alias"),
        also=names("Also"),
        default_instance=" ".join(values.get("DefaultInstance", [])),
    )


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


def _fill_specifiers(text: str, name: str) -> str:
    stem = name.rpartition(".")[0]
    prefix, _, instance = stem.partition("@")
    facts = {
        "name": name, "stem": stem, "prefix": prefix, "instance": instance, "last": prefix.rpartition("-")[2]
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

"""Read and change one value of a settings file; everything else of the file stays the same, to the byte.

A value is named by a key of one or more parts, from the outermost in: section and name in INI files; names and
positions in TOML, JSON and YAML; elements in XML, the last part perhaps ``@attribute``. In properties, shell-style and
sysctl files a key is one name.

Guarantees: bytes that are no UTF-8 stay what they are; a change is read back before it is given; where it cannot be
known which of several places is meant, nothing is changed.
"""

from collections.abc import Callable

from fundamen.formats.cursor import damage_error
from fundamen.formats.settings.setting import Dialect, FoundSetting, Key, Plain, SettingFormat, as_text, refusal
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError

MOST_BYTES = 16 << 20
_MOST_BITS = 1024  # of a number; what has more cannot even be written as text
_BOM = "\ufeff"


def format_of(name: str) -> SettingFormat | None:
    """The format that a file's name tells; None where it tells none."""
    ending = name.rpartition(".")[2].lower()
    if name.rpartition("/")[2] == "sysctl.conf" or "/sysctl.d/" in name:
        return SettingFormat.SYSCTL
    return _ENDINGS.get(ending)


def find_value(data: bytes, form: SettingFormat, key: Key, what: str) -> FoundSetting | None:
    """A value as it stands; None where the file has none of this key.

    Raises:
        DamagedFileError: the file is not written in this format.
        UsageError: the key has not the form that the format asks for.
    """
    text = _text_of(data, what)
    found = _dialect(form).find(text.removeprefix(_BOM), _require_depth(key, form), what)
    if found is not None and isinstance(found.value, int) and found.value.bit_length() > _MOST_BITS:
        raise damage_error(
            what, say("formats.is-a-number-of-bits", key=".".join(key), bit_length=found.value.bit_length())
        )
    return found


def with_value(data: bytes, form: SettingFormat, key: Key, value: Plain, what: str) -> bytes:
    """The file's bytes with one value changed, or put in where there was none.

    Raises:
        DamagedFileError: the file is not written in this format.
        UsageError: the value cannot be put in, or it cannot be known where.
    """
    return _change_text(
        data, form, key, what, lambda text: _dialect(form).change(text, key, value, what), FoundSetting(value)
    )


def without_value(data: bytes, form: SettingFormat, key: Key, what: str) -> bytes:
    """The file's bytes without one value; the same bytes where it has none. Raises: as ``with_value``."""
    return _change_text(data, form, key, what, lambda text: _dialect(form).remove(text, key, what), None)


def _change_text(
    data: bytes, form: SettingFormat, key: Key, what: str, change: Callable[[str], str], expected: FoundSetting | None
) -> bytes:
    text = _text_of(data, what)
    bom = _BOM if text.startswith(_BOM) else ""
    _require_depth(key, form)
    changed = change(text.removeprefix(_BOM))
    found = _dialect(form).find(changed, key, what)
    if not _alike(found, expected, form):
        raise refusal(what, key, say("formats.what-was-written-would-be-read"))
    return (bom + changed).encode("utf-8", "surrogateescape")


def _alike(found: FoundSetting | None, expected: FoundSetting | None, form: SettingFormat) -> bool:
    """Whether a value reads as what was written; most formats have nothing but text."""
    if found is None or expected is None:
        return found is expected
    if form in {SettingFormat.JSON, SettingFormat.TOML, SettingFormat.YAML}:
        return type(found.value) is type(expected.value) and found.value == expected.value
    return found.value == as_text(expected.value)


def _require_depth(key: Key, form: SettingFormat) -> Key:
    most = {SettingFormat.INI: 2, SettingFormat.PROPERTIES: 1, SettingFormat.SHELL: 1, SettingFormat.SYSCTL: 1}.get(
        form, 64
    )
    if not 1 <= len(key) <= most or not all(key[-1:]):
        raise UsageError(
            what=say("formats.names-no-setting", key=printable(".".join(key)) or say("formats.an-empty-key")),
            why=say(
                "formats.a-key-of-has",
                form=form,
                more="one part" if most == 1 else say("formats.one-to-parts", most=most),
            ),
            do=say("formats.name-it-part-by-part-from"),
        )
    return key


def _text_of(data: bytes, what: str) -> str:
    if len(data) > MOST_BYTES or b"\0" in data:
        raise damage_error(
            what, say("formats.it-has-nul-bytes") if b"\0" in data else say("formats.it-has-bytes", count=len(data))
        )
    return data.decode("utf-8", "surrogateescape")


def _dialect(form: SettingFormat) -> Dialect:
    match form:
        case SettingFormat.JSON:
            from fundamen.formats.settings import in_json as module  # noqa: PLC0415 - only where such a file is met
        case SettingFormat.TOML:
            from fundamen.formats.settings import in_toml as module  # type: ignore[no-redef]  # noqa: PLC0415
        case SettingFormat.YAML:
            from fundamen.formats.settings import in_yaml as module  # type: ignore[no-redef]  # noqa: PLC0415
        case SettingFormat.XML:
            from fundamen.formats.settings import in_xml as module  # type: ignore[no-redef]  # noqa: PLC0415
        case _:
            from fundamen.formats.settings import in_lines  # noqa: PLC0415

            return in_lines.dialect_of(form)
    return Dialect(module.find, module.change, module.remove)


_ENDINGS = {
    "ini": SettingFormat.INI,
    "cnf": SettingFormat.INI,
    "desktop": SettingFormat.INI,
    "service": SettingFormat.INI,
    "toml": SettingFormat.TOML,
    "json": SettingFormat.JSON,
    "yaml": SettingFormat.YAML,
    "yml": SettingFormat.YAML,
    "xml": SettingFormat.XML,
    "config": SettingFormat.XML,
    "properties": SettingFormat.PROPERTIES,
    "env": SettingFormat.SHELL,
    "sh": SettingFormat.SHELL,
}

"""The steps that change a value of a settings file; several of one file become one change of it."""

import hashlib
from typing import Annotated, Literal

import msgspec

from fundamen.changes.files import Change
from fundamen.changes.form import Form, Part, PlanResolution, unfit
from fundamen.changes.lists import list_with
from fundamen.formats.settings.editing import find_value, format_of, with_value, without_value
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, SettingFormat
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath

_MOST_SETTINGS = 16 << 20  # bytes of one file


class _SettingForm(Form, frozen=True, kw_only=True):
    key: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=64)]
    format: SettingFormat | None = None  # where the file's name does not tell it

    def require(self, path: MachinePath, found: FoundSetting | None) -> None:
        """Compare what is there with what is expected. Raises: RestorationError."""

    def edit(self, machine: Machine, data: bytes, form: SettingFormat, name: str, found: FoundSetting | None) -> bytes:
        """The file's bytes as they are to be."""
        raise NotImplementedError

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path = resolving.machine.real(MachinePath(self.path))
        form = self.format or format_of(path)
        if form is None:
            raise UsageError(
                what=say("changes.is-not-changed", path=printable(path)),
                why=say("changes.its-name-does-not-tell-how"),
                do=say("changes.nothing-was-changed-give-the-step", settingformat=", ".join(SettingFormat)),
            )
        place = resolving.machine.fold(path)
        data = resolving.written.get(place)
        if data is None:
            data = resolving.machine.content(path, _MOST_SETTINGS)
        name = resolving.machine.paths.basename(path)
        found = find_value(data, form, self.key, name)
        self.require(path, found)
        changed = self.edit(resolving.machine, data, form, name, found)
        if changed == data:
            return
        resolving.written[place] = changed
        sha256 = hashlib.sha256(changed).hexdigest()
        resolving.contents[sha256] = resolving.means.keep(changed)
        earlier = resolving.steps.get(place)
        because = self.because or say("changes.is-not-as-it-should-be", name=".".join(self.key))
        details: tuple[str, ...] = (_in_words(self.key, found, find_value(changed, form, self.key, name)),)
        if isinstance(earlier, Change):
            because = earlier.because if because in earlier.because else f"{earlier.because}; {because}"
            details = (*earlier.details, *details)
        resolving.set(path, Change(path=path, because=because, sha256=sha256, size=len(changed), details=details))


class SetValue(_SettingForm, frozen=True, kw_only=True, tag="set value"):
    """One value of a settings file is changed, or put in."""

    value: Plain
    expects: Plain | msgspec.UnsetType = msgspec.UNSET  # null: that it is not there

    def require(self, path: MachinePath, found: FoundSetting | None) -> None:
        """Compare what is there with what is expected."""
        expected = None if self.expects in (None, msgspec.UNSET) else FoundSetting(self.expects)
        if self.expects is not msgspec.UNSET and found not in (expected, FoundSetting(self.value)):
            has = say("changes.is", value=found.value) if found is not None else say("changes.is-not-there")
            raise unfit(path, say("changes.and-was-expected", key=".".join(self.key), has=has, expects=self.expects))

    def edit(
        self, _machine: Machine, data: bytes, form: SettingFormat, name: str, _found: FoundSetting | None
    ) -> bytes:
        """The file with the value."""
        return with_value(data, form, self.key, self.value, name)


class RemoveValue(_SettingForm, frozen=True, kw_only=True, tag="remove value"):
    """One value of a settings file is removed."""

    def edit(
        self, _machine: Machine, data: bytes, form: SettingFormat, name: str, _found: FoundSetting | None
    ) -> bytes:
        """The file without the value."""
        return without_value(data, form, self.key, name)


class SetEntry(_SettingForm, frozen=True, kw_only=True, tag="set entry"):
    """A list in a setting, such as PATH, has exactly one entry of a name, at the beginning, at the end, or none."""

    entry: Part
    place: Literal["first", "last", "nowhere"] = "first"
    separator: Annotated[str, msgspec.Meta(min_length=1, max_length=1)] = ":"
    without_dead: bool = False  # entries that lead to no folder go as well

    def edit(self, machine: Machine, data: bytes, form: SettingFormat, name: str, found: FoundSetting | None) -> bytes:
        """The file with the list as it is to be."""
        held = str(found.value) if found is not None and found.value else ""
        return with_value(data, form, self.key, list_with(machine, self, held, self.separator), name)


def _in_words(key: Key, before: FoundSetting | None, after: FoundSetting | None) -> Message:
    old, new = (f"{each.value}" if each is not None else "nothing" for each in (before, after))
    return say("changes.from-to", attribute=".".join(key), old=old, new=new)

"""One value of a registry that is not in use is changed: what the hive comes to, and how it is undone."""

from typing import Annotated, Literal

import msgspec

from fundamen.changes.files import Change
from fundamen.changes.form import Form, Part, PlanResolution, Text, unfit
from fundamen.changes.hives import KeyPlace, hive_change, place_of_key, read_hive
from fundamen.changes.insertions import Insertion, InsertionKind
from fundamen.changes.lists import list_with
from fundamen.formats.windows.registry_value import HiveValue, ValueType, value_of
from fundamen.machine.machine import Machine
from fundamen.messages import say

_SEPARATOR = ";"


class _RegistryForm(Form, frozen=True, kw_only=True):
    name: Annotated[str, msgspec.Meta(max_length=1000)]  # empty: the unnamed value

    def wanted_value(self, machine: Machine, found: HiveValue | None) -> HiveValue | None:
        """The wanted value; None for none."""
        raise NotImplementedError

    def require(self, found: HiveValue | None) -> None:
        """Compare what is there with what is expected. Raises: RestorationError."""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the change of the hive, or what it becomes by this."""
        place = place_of_key(resolving.machine, self.path)
        data = resolving.written.get(place.location)
        if data is None:
            data = read_hive(resolving.machine, place.location)
        found = place.value_in(data, self.name)
        new = self.wanted_value(resolving.machine, found)
        if found == new:
            return
        self.require(found)
        changed = place.with_value(data, self.name, new, resolving.means.now_seconds)
        earlier = resolving.steps.get(place.location)
        change = self._change(place, changed, found, new, earlier if isinstance(earlier, Change) else None)
        resolving.written[place.location] = changed
        resolving.contents[change.sha256] = resolving.means.keep(changed)
        resolving.steps[place.location] = change

    def _change(
        self, place: KeyPlace, changed: bytes, found: HiveValue | None, new: HiveValue | None, earlier: Change | None
    ) -> Change:
        insertion = Insertion(
            InsertionKind.REGISTRY_VALUE,
            place.key,
            self.name,
            new.as_text() if new is not None else None,
            found.as_text() if found is not None else None,
            earlier.insertion if earlier is not None else None,
        )
        values = tuple("nothing" if each is None else str(each.content) for each in (found, new))
        details: tuple[str, ...] = (
            say("changes.registry-value-from-to", path=self.path, name=self.name, old=values[0], new=values[1]),
        )
        because = self.because or say("changes.is-not-as-it-should-be", name=self.name)
        if earlier is not None:
            because = earlier.because if because in earlier.because else f"{earlier.because}; {because}"
            details = (*earlier.details, *details)
        return hive_change(place.path, place.location, changed, insertion, because, details)


class SetRegistryValue(_RegistryForm, frozen=True, kw_only=True, tag="set registry value"):
    r"""A value of the registry is changed, or put in; the path is its key, as HKLM\Software\Tide."""

    value: str | int | tuple[Text, ...]
    # None: where neither the value nor the old one tells
    type: Literal["text", "expanded text", "number", "texts"] | None = None
    expects: str | int | tuple[Text, ...] | msgspec.UnsetType | None = msgspec.UNSET  # null: that it is not there

    def wanted_value(self, _machine: Machine, found: HiveValue | None) -> HiveValue | None:
        """The value, of the type that is asked for, or that the old one has."""
        asked = ValueType[self.type.upper().replace(" ", "_")] if self.type is not None else None
        is_alike = found is not None and isinstance(found.content, type(self.value))
        return value_of(self.value, asked or (_type_of(found) if is_alike else None))

    def require(self, found: HiveValue | None) -> None:
        """Compare what is there with what is expected. Raises: RestorationError."""
        has = found.content if found is not None else None
        if self.expects is not msgspec.UNSET and has != self.expects:
            raise unfit(
                self.path,
                say("changes.is-and-was-expected-name-has-expects", name=self.name, has=has, expects=self.expects),
            )


class RemoveRegistryValue(_RegistryForm, frozen=True, kw_only=True, tag="remove registry value"):
    """A value of the registry is removed."""

    def wanted_value(self, _machine: Machine, _found: HiveValue | None) -> HiveValue | None:
        """None."""
        return None


class SetRegistryEntry(_RegistryForm, frozen=True, kw_only=True, tag="set registry entry"):
    """A list in a value of the registry, such as Path, has exactly one entry of a name, or none."""

    name: Part
    entry: Part
    place: Literal["first", "last", "nowhere"] = "first"
    without_dead: bool = False

    def wanted_value(self, machine: Machine, found: HiveValue | None) -> HiveValue | None:
        """The list with that entry."""
        held = found.content if found is not None else ""
        if not isinstance(held, str):
            raise unfit(self.path, say("changes.is-no-text-and-so-no", name=self.name))
        return value_of(list_with(machine, self, held, _SEPARATOR), _type_of(found) or ValueType.EXPANDED_TEXT)


def _type_of(found: HiveValue | None) -> ValueType | None:
    return ValueType(found.type) if found is not None and found.type in set(ValueType) else None

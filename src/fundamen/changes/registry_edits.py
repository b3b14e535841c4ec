"""One value of a registry that is not in use is changed: what the hive comes to, and how it is taken back."""

import msgspec

from fundamen.changes.files import Change
from fundamen.changes.forms import RemoveRegistryValue, SetRegistryEntry, SetRegistryValue
from fundamen.changes.hives import KeyPlace, hive_change
from fundamen.changes.insertions import Insertion, Kind
from fundamen.changes.lists import list_with
from fundamen.formats.registry_value import HiveValue, ValueType, value_of
from fundamen.machine.machine import Machine
from fundamen.model.errors import RestorationError
from fundamen.model.paths import shown

RegistryStep = SetRegistryValue | RemoveRegistryValue | SetRegistryEntry

_SEPARATOR = ";"


def edited_hive(
    machine: Machine, step: RegistryStep, place: KeyPlace, data: bytes, earlier: Change | None, now_seconds: int
) -> tuple[Change, bytes] | None:
    """(the change of the hive's file, its new bytes); None where the value is as the step wants it.

    Args:
        machine: whose registry it is.
        step: what is wanted.
        place: of its key.
        data: the hive as it is, or as earlier steps make it.
        earlier: the change of the same file that these steps come to.
        now_seconds: since 1970, UTC.

    Raises:
        RestorationError: another value stands there than the step expects.
        UsageError: the value does not fit its type.
        FundamenError: the hive is damaged, or cannot be changed now.
    """
    found = place.value_in(data, step.name)
    new = _wanted(machine, step, found)
    if found == new:
        return None
    if isinstance(step, SetRegistryValue) and step.expects is not msgspec.UNSET:
        has = found.content if found is not None else None
        if has != step.expects:
            raise unfit(step.path, f"{step.name} is {has!r}, and {step.expects!r} was expected")
    changed = place.changed(data, step.name, new, now_seconds)
    insertion = Insertion(
        Kind.REGISTRY_VALUE,
        place.key,
        step.name,
        new.written() if new is not None else None,
        found.written() if found is not None else None,
        earlier.insertion if earlier is not None else None,
    )
    told = tuple("nothing" if each is None else str(each.content) for each in (found, new))
    detail = f"{step.path}\\{step.name}: from {told[0]} to {told[1]}"
    because = step.because or f"{step.name} is not as it should be"
    details: tuple[str, ...] = (detail,)
    if earlier is not None:
        because = earlier.because if because in earlier.because else f"{earlier.because}; {because}"
        details = (*earlier.details, detail)
    return hive_change(place.path, place.location, changed, insertion, because, details), changed


def unfit(path: str, why: str) -> RestorationError:
    """The word for a machine that is not as a step expects it."""
    return RestorationError(
        what="The plan no longer fits the machine",
        why=f"{shown(path)}: {why}",
        do="Nothing was changed. Make the plan anew for the machine as it is now.",
    )


def _wanted(machine: Machine, step: RegistryStep, found: HiveValue | None) -> HiveValue | None:
    """What a value is to be; of the type that is asked for, or that it has."""
    known = ValueType(found.type) if found is not None and found.type in set(ValueType) else None
    match step:
        case RemoveRegistryValue():
            return None
        case SetRegistryValue():
            asked = ValueType[step.type.upper().replace(" ", "_")] if step.type is not None else None
            is_alike = found is not None and isinstance(found.content, type(step.value))
            return value_of(step.value, asked or (known if is_alike else None))
        case SetRegistryEntry():
            held = found.content if found is not None else ""
            if not isinstance(held, str):
                raise unfit(step.path, f"{step.name} is no text, and so no list of folders")
            return value_of(list_with(machine, step, held, _SEPARATOR), known or ValueType.EXPANDED_TEXT)

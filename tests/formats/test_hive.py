"""Registry hives that were changed: an independent reader finds what was put in, and everything else as it was."""

import tempfile
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from regipy.registry import RegistryHive

from builders.hive import a_hive
from fundamen.formats.windows.hive import with_values, without_key
from fundamen.formats.windows.registry_value import HiveValue, ValueType
from fundamen.model.errors import UnreadableError

Tree = dict[str, Any]  # a key: its values by name, with backslashes in front of the names of keys

NAMES = st.text("abXYZ019 -", min_size=1, max_size=8).filter(lambda name: name.strip() == name)
VALUES = st.dictionaries(NAMES, st.binary(max_size=40) | st.integers(0, 2**32 - 1), max_size=3)
KEYS = st.recursive(
    VALUES,
    lambda below: st.builds(lambda own, keys: {**keys, **own}, VALUES, st.dictionaries(NAMES, below, max_size=4)),
)


def read(data: bytes) -> Tree:
    """The reading of the independent reader."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        return _below(RegistryHive(file.name).root)


def _below(key: Any) -> Tree:
    values = {value.name: value.value for value in key.iter_values(trim_values=False)} if key.values_count else {}
    keys = {f"\\{below.name}": _below(below) for below in key.iter_subkeys()} if key.subkey_count else {}
    return values | keys


@given(KEYS, st.lists(NAMES, min_size=1, max_size=3, unique_by=str.lower), st.binary(min_size=5, max_size=20_000))
def test_a_key_goes_in_beside_everything_else_and_out_again(keys: Tree, path: list[str], content: bytes) -> None:
    hive = a_hive({**keys, "tide": {"Old": 1}})
    inner = "tide\\" + "\\".join(path)
    added = with_values(hive, inner, {"Blob": HiveValue(ValueType.BINARY, content)}, 7)
    expected, above = read(hive), read(added)
    below = above["\\tide"]
    for name in path[:-1]:
        below = below[f"\\{name}"]
    assert below.pop(f"\\{path[-1]}") == {"Blob": content}
    if len(path) > 1:
        below, above["\\tide"] = None, {"Old": 1}
    assert above == expected
    assert read(without_key(added, inner.upper())).keys() == expected.keys()
    assert without_key(hive, "tide\\no such key") == hive


def test_very_many_keys_lie_in_the_order_in_which_the_system_looks_for_them() -> None:
    hive = a_hive({"many": {f"k{number:04}": {} for number in range(600)}})
    for name in ("k0100a", "A", "zz"):
        hive = with_values(hive, f"many\\{name}", {}, 7)
    names = [name.upper() for name in read(hive)["\\many"]]
    assert len(names) == 603
    assert names == sorted(names)


def test_a_value_is_replaced_by_one_of_the_same_name_and_the_rest_stays() -> None:
    hive = a_hive({"Tide": {"Start": 4, "Name": "Salt", "Seal": b"old" * 9}})
    changed = with_values(
        hive,
        "TIDE",
        {
            "start": HiveValue(ValueType.NUMBER, (2).to_bytes(4, "little")),
            "Seal": HiveValue(ValueType.BINARY, b"new" * 30),
            "Ümlaut": HiveValue(ValueType.TEXT, "Möwe\0".encode("utf-16-le")),
        },
        7,
    )
    assert read(changed)["\\Tide"] == {"Start": 2, "Name": "Salt", "Seal": b"new" * 30, "Ümlaut": "Möwe"}


HIVE = a_hive({"Tide": {"Blob": b"x" * 30, "Salt": {"Grass": 1}, "Reed": {}}})


@given(st.integers(0, len(HIVE) - 1), st.binary(min_size=1, max_size=4))
def test_a_damaged_hive_is_changed_or_refused(at: int, noise: bytes) -> None:
    damaged = HIVE[:at] + noise + HIVE[at + len(noise) :]
    try:
        with_values(damaged, "Tide\\Salt\\New", {"Blob": HiveValue(3, b"12345")}, 7)
        without_key(damaged, "Tide\\Reed")
    except UnreadableError:
        return


@given(st.integers(0, len(HIVE) - 1))
def test_a_cut_hive_is_refused(size: int) -> None:
    try:
        with_values(HIVE[:size], "Tide", {}, 7)
    except UnreadableError:
        return
    raise AssertionError("it was taken")

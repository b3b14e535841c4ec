"""Registry hives: what another editor has written is changed by us, and what we have written it reads and changes."""

import base64
import random
import subprocess
from pathlib import Path
from xml.etree.ElementTree import Element

import pytest
from defusedxml.ElementTree import fromstring

from builders.hive import a_hive
from fundamen.formats.windows.hive import with_values, without_key, without_value
from fundamen.formats.windows.hive_cells import find_value
from fundamen.formats.windows.registry_value import HiveValue, ValueType

pytestmark = pytest.mark.system

Hive = dict[str, bytes | None]  # path -> None for a key, the data for a value


def seen(hive: Path) -> Hive:
    """Everything in a hive, as the other program exports it."""
    exported = subprocess.run(["hivexml", hive], capture_output=True, check=True).stdout
    found: Hive = {}

    def go(node: Element, path: str) -> None:
        found[path] = None
        for value in node.iter("value"):
            if value in list(node):
                data = value.get("value") or ""
                is_binary = value.get("encoding") == "base64"
                found[f"{path}|{value.get('key')}"] = base64.b64decode(data) if is_binary else data.encode()
        for below in node.findall("node"):
            go(below, f"{path}\\{below.get('name')}")

    go(fromstring(exported).find("node"), "")
    return found


def edit(hive: Path, *commands: str) -> None:
    subprocess.run(["hivexsh", "-w", hive], input="\n".join(commands), text=True, capture_output=True, check=True)


@pytest.mark.parametrize("seed", range(40))
def test_two_editors_change_one_hive_in_turn_and_lose_nothing(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)  # noqa: S311 - chance, no secret
    path = tmp_path / "SOFTWARE"
    path.write_bytes(a_hive({"Tide": {"Old": b"123456"}}))
    expected = seen(path)
    for step in range(12):
        keys = [key for key in expected if key.count("\\") == 2 and "|" not in key]
        name = f"{chance.choice('abcxyz')}{step}"
        if chance.random() < 0.5:
            content = chance.randbytes(chance.randint(5, 3000)).hex()
            edit(path, "cd \\Tide", f"add {name}", f"cd {name}", f"setval 1\nB\nhex:3:{content}", "commit")
            expected |= {f"\\Tide\\{name}": None, f"\\Tide\\{name}|B": bytes.fromhex(content)}
        elif not keys or chance.random() < 0.7:
            data = chance.randbytes(chance.randint(5, 16_000))
            path.write_bytes(
                with_values(path.read_bytes(), f"tide\\{name}", {"B": HiveValue(ValueType.BINARY, data)}, 7)
            )
            expected |= {f"\\Tide\\{name}": None, f"\\Tide\\{name}|B": data}
        elif chance.random() < 0.5 and (held := [key for key in keys if f"{key}|B" in expected]):
            key = chance.choice(held)
            value = find_value(path.read_bytes(), key[1:].upper(), "b")
            assert value == HiveValue(ValueType.BINARY, expected.pop(f"{key}|B") or b"")
            path.write_bytes(without_value(path.read_bytes(), key[1:], "B"))
        else:
            gone = chance.choice(keys)
            path.write_bytes(without_key(path.read_bytes(), gone[1:]))
            expected = {key: data for key, data in expected.items() if key.partition("|")[0] != gone}
        assert seen(path) == expected

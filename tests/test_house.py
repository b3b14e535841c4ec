"""The house keeps its own rules: floors, one version, schemas that are the types' own."""

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import fundamen

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "fundamen"
FLOORS = {
    "model": 0,
    "knowledge": 0,
    "formats": 0,
    "machine": 1,
    "trust": 1,
    "loaders": 2,
    "placing": 2,
    "cold_copies": 3,
    "evidence": 2,
    "trace": 3,
    "building": 3,
    "toolchains": 3,
    "directories": 1,
    "survey": 4,
    "certificate_authorities": 3,
    "sources": 3,
    "clues": 4,
    "prerequisites": 4,
    "installers": 4,
    "restore": 4,
    "cases": 5,
    "report": 5,
    "demo": 5,
    "cli": 6,
}
NEIGHBOURS = {
    ("formats", "model"),
    ("knowledge", "model"),
    ("restore", "sources"),
    ("restore", "prerequisites"),
    ("evidence", "trust"),
    ("toolchains", "sources"),
    ("survey", "prerequisites"),
    ("report", "cases"),
}


def imports() -> list[tuple[str, str, str]]:
    """(module, its room, the room it imports from) for all imports inside the package."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        room = path.relative_to(SOURCE).parts[0]
        nodes = [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ImportFrom)]
        rooms = [str(node.module).split(".")[1] for node in nodes if str(node.module).startswith("fundamen.")]
        found += [(str(path.relative_to(SOURCE)), room, target) for target in rooms]
    return found


def test_a_room_imports_only_from_lower_floors() -> None:
    climbing = [
        (module, target)
        for module, room, target in imports()
        if room in FLOORS and room != target and FLOORS[target] >= FLOORS[room] and (room, target) not in NEIGHBOURS
    ]
    assert climbing == []
    assert len(imports()) > 100


def test_every_folder_of_the_package_is_a_room_on_a_floor() -> None:
    assert {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"} == set(FLOORS)


def test_the_core_neither_prints_nor_reads_clock_or_environment() -> None:
    for path in sorted(SOURCE.rglob("*.py")):
        room = path.relative_to(SOURCE).parts[0]
        if FLOORS.get(room, 6) < 5:
            names = {
                ast.unparse(node.func) for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call)
            }
            assert not names & {
                "print",
                "input",
                "datetime.now",
                "time.time",
                "os.getenv",
                "os.getcwd",
                "os.environ.get",
            }, path


def test_all_public_names_can_be_had() -> None:
    for name in fundamen.__all__:
        assert getattr(fundamen, name)
    with pytest.raises(AttributeError):
        fundamen.nothing_of_this_name  # noqa: B018 - the attribute is looked up for its error


def test_the_published_schemas_are_those_of_the_types() -> None:
    subprocess.run([sys.executable, ROOT / "tools" / "write_schemas.py", "--check"], check=True)
    assert len(list((ROOT / "docs" / "schemas").glob("*.json"))) == 34


def test_mutated_files_are_answered_or_refused() -> None:
    run = subprocess.run(
        [sys.executable, ROOT / "tools" / "mutate_inputs.py", "1500"], capture_output=True, text=True, check=False
    )
    assert (run.returncode, run.stdout.splitlines()[-1].split(";")[0]) == (0, "1500 mutations, 0 failures")

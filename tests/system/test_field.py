"""Cases of tests/field that need no package of the archive, and two that do; tools/measure_field.py tries them all."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.debian_root import MAKES_A_ROOT
from command import Server
from field import REFUSED, Case, ask, layered, make_base
from field.cases import CASES

TRIED = {
    "a soname's link leads to nothing",
    "a package was removed by force",
    "a vendor's application was moved",
    "a vendor's links became text",
    "a vendor's program may not be run",
    "a script has the line ends of Windows",
    "an alternative's link is gone",
    "an alternative leads to nothing",
    "an environment's Python is gone",
    "the database of packages is empty",
}
# Its dependents were there before: the package manager does not remove it, and undo says so.
NEEDED_BY_OTHERS = {"a package was removed by force"}

pytestmark = [*MAKES_A_ROOT, pytest.mark.xdist_group("field")]


@pytest.fixture(scope="module")
def base(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    folder = tmp_path_factory.mktemp("field") / "base"
    make_base(folder, ["curl", "php-cli", "python3", "python3-venv"])
    yield folder
    shutil.rmtree(folder)


@pytest.mark.parametrize("case", [case for case in CASES if case.name in TRIED], ids=lambda case: case.name)
def test_the_first_answer_names_the_cause_pasted_lines_mend_it_and_all_goes_back(
    case: Case, base: Path, command_server: Server, in_memory: Path, tmp_path: Path
) -> None:
    with layered(base, in_memory / "layers") as root:
        outcome = ask(command_server, root, case, tmp_path / "home")
    assert (outcome.is_named, outcome.is_mended) == (True, True), f"{outcome.answer}\n{outcome.pasted}"
    assert outcome.left[:1] == ([REFUSED] if case.name in NEEDED_BY_OTHERS else [])

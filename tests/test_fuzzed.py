"""Inputs that fuzzing has found are answered or refused for ever; see tools/fuzz.py."""

import sys
from contextlib import suppress
from pathlib import Path

import pytest

from fundamen.model.errors import FundamenError

sys.path.append(str(Path(__file__).parent.parent / "tools"))

import mutate_inputs
from hostile_inputs import TESTS, Target, file_name, fuzzed_inputs, targets

TARGETS = {file_name(target.name): target for target in targets()}


@pytest.mark.parametrize("name", TARGETS)
def test_a_found_input_is_answered_or_refused(name: str) -> None:
    target: Target = TARGETS[name]
    for data in (*target.seeds, *fuzzed_inputs(target)):
        with suppress(FundamenError):
            target.reader(data)


def test_every_found_input_belongs_to_a_reader() -> None:
    assert {path.name for path in (TESTS / "data" / "fuzzed").iterdir()} <= set(TARGETS)


def test_mutated_files_are_answered_or_refused() -> None:
    assert mutate_inputs.main(1500, 1) == 0

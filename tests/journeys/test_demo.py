"""The demo plays its whole story, on Linux and on a Windows volume, and leaves its machines as they were."""

import os
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import pytest

from command import Server
from conftest import NO_SCANNER, Fundamen
from fundamen.demo.story import Played, play
from fundamen.demo.world import QUAY_NARROW_PROGRAM, QUAY_PROGRAM, desk_target

pytestmark = pytest.mark.xdist_group("this host")  # two at once are refused, as they should be


class Kept(NamedTuple):
    """The world as the story leaves it, and the story's scenes with what was printed."""

    folder: Path
    played: list[Played]


@pytest.fixture(scope="module")
def kept(command_server: Server, tmp_path_factory: pytest.TempPathFactory) -> Kept:
    def run(words: Sequence[str], environment: Mapping[str, str], folder: Path) -> tuple[str, int]:
        ran = command_server.run(tuple(words), {**environment, **NO_SCANNER}, folder)
        return ran.out + ran.err, ran.status

    world = tmp_path_factory.mktemp("marram")
    return Kept(world, list(play(world, False, lambda _scene: None, run)))  # noqa: FBT003


def test_the_story_is_what_the_demo_shows(kept: Kept) -> None:
    assert [(each.scene.command, each.status) for each in kept.played if not each.is_as_expected] == []
    answer = " ".join(" ".join(each.output.split()) for each in kept.played)
    assert "saltgrass-chart.dll is of the wrong architecture" in answer
    if desk_target():
        assert "6:00 450 cm" in answer


@pytest.mark.system
def test_the_command_plays_the_whole_story(fundamen: Fundamen, tmp_path: Path) -> None:
    world = tmp_path / "marram"
    ran = fundamen("demo", "--keep", str(world))
    assert ran.status == 0, ran.out + ran.err
    assert "the story expects" not in ran.err
    assert "The case is closed." in ran.out


def test_the_kept_world_can_be_gone_on_with(fundamen: Fundamen, kept: Kept) -> None:
    world = kept.folder
    assert fundamen("demo", "--keep", str(world)).status == 2
    on_quay = ("--machine", str(world / "quay"), "--json")
    state = {"FUNDAMEN_HOME": str(world / "state")}

    [trace] = fundamen("trace", *on_quay, QUAY_PROGRAM, **state).records
    assert sorted((c["name"], c["verdict"]) for c in trace["components"] if c["fault"]) == [
        ("saltgrass-chart.dll", "wrong-architecture"),
        ("saltgrass-core.dll", "corrupt"),
        ("saltgrass-tide.dll", "missing"),
    ]
    assert fundamen("trace", *on_quay, QUAY_NARROW_PROGRAM, **state).status == 0
    narrow, wide = world / "quay/Windows/SysWOW64", world / "quay/Windows/System32"
    (narrow / "saltgrass-tide.dll").unlink()
    shutil.copy(wide / "saltgrass-zone.dll", narrow / "saltgrass-zone.dll")
    os.truncate(narrow / "saltgrass-core.dll", 900)
    [trace] = fundamen("trace", *on_quay, QUAY_NARROW_PROGRAM, **state).records
    assert sorted((c["name"], c["verdict"]) for c in trace["components"] if c["fault"]) == [
        ("saltgrass-core.dll", "corrupt"),
        ("saltgrass-tide.dll", "missing"),
        ("saltgrass-zone.dll", "wrong-architecture"),
    ]
    [record] = fundamen("restore", "--yes", *on_quay, QUAY_PROGRAM, **state).records
    assert (record["state"], record["faults"]) == ("restored", 0)
    placed = {(step["path"].split("\\")[2], step["package"].split()[-1]) for step in record["steps"]}
    assert placed == {("System32", "x86_64"), ("SysWOW64", "x86")}  # programs for both word sizes run there
    [record] = fundamen("restore", "--yes", *on_quay, QUAY_NARROW_PROGRAM, **state).records
    assert record["state"] == "not needed"

"""The power goes at any moment of a restoration or an undo, and the disk has only what was flushed, or only names."""

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from builders.tree import tree_of, without_times
from faults.disk import Disk
from faults.world import UNFINISHED, World, a_world

Cut = Callable[[], None]  # lays out what is found after the cut


class Power:
    """A world whose disk is watched while a command runs in it."""

    def __init__(self, world: World) -> None:
        self.world, self.log = world, world.root.parent / "changes"
        self._tops = [world.root, world.home]

    def cuts(self, *words: str, lost: str, every: int) -> Iterator[str]:
        """Run a command; then lay out the disk as a cut at each of its changes leaves it, and say where that was."""
        disk, names_kept = Disk(self._tops), lost == "bytes"
        outcome = self.world.run(*words, log=self.log)
        assert outcome.status == 0, outcome.said
        after = self.world.state()
        step, moments = every if names_kept else every // 4 + 1, 0
        for number, verb in enumerate(disk.play(self.log)):
            if names_kept or verb.startswith("flush"):  # until the next flush the disk is as it was
                moments += 1
                if moments % step == 0:
                    disk.lay_out(names_kept=names_kept)
                    yield f"cut at change {number}, {verb}"
        assert moments > (150 if names_kept else 20)
        disk.lay_out(names_kept=names_kept)
        assert self.world.state() == after, "what is done is on the disk"


@pytest.fixture(params=[6, 20], ids=["flushed one by one", "flushed together"])
def power(in_memory: Path, request: pytest.FixtureRequest) -> Power:
    """The state of a disk at a moment is computed from the log; a real one would only be slower."""
    return Power(a_world(in_memory, request.param))


TOGETHER = pytest.mark.xdist_group("faults")  # worlds, and the process that forks, are made once for what is short
EVERY = pytest.mark.parametrize(
    "every",
    [pytest.param(61, marks=TOGETHER), pytest.param(1, marks=[pytest.mark.system, pytest.mark.long])],
    ids=["sampled", "in full"],
)
WHAT_IS_LOST = pytest.mark.parametrize("lost", ["names and bytes", "bytes"])


@EVERY
@WHAT_IS_LOST
def test_whenever_the_power_goes_it_is_resumed_or_undone(power: Power, every: int, lost: str) -> None:
    world = power.world
    shutil.rmtree(world.home / "machines")  # the journal too is made again
    kinds = {"before": 0, "unfinished": 0, "after": 0}
    for number, where in enumerate(power.cuts("plans", "run", "--yes", str(world.plan), lost=lost, every=every)):
        if world.run("history").status == UNFINISHED:
            kinds["unfinished"] += 1
            if number % 2:
                resumed = world.run("resume")
                assert resumed.status == 0, f"{where}: {resumed.said}"
                assert world.state() == world.after, where
            world.undo(where)
        else:
            state = world.state()
            assert state in (world.after, without_times(world.before)), where
            kinds["after" if state == world.after else "before"] += 1
    assert kinds["unfinished"] > 2
    assert every > 1 or all(kinds.values()), kinds


@EVERY
@WHAT_IS_LOST
def test_whenever_the_power_goes_an_undo_is_done_again(power: Power, every: int, lost: str) -> None:
    world = power.world
    world.restore()
    for where in power.cuts("undo", lost=lost, every=every):
        if tree_of(world.root) != world.before or world.run("history").status == UNFINISHED:
            world.undo(where)

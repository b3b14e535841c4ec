"""A restoration with steps of many kinds, killed or failing at its changing system calls; sampled, and in full."""

import errno
import os
import shutil
from pathlib import Path

import pytest

from builders.tree import tree_of, without_times
from faults import Mode, Outcome
from faults.world import COUNT, UNFINISHED, World, a_world
from wording import says


@pytest.fixture
def world(in_memory: Path, request: pytest.FixtureRequest) -> World:
    """In memory: a disk would only be slower."""
    return a_world(in_memory, COUNT if request.node.get_closest_marker("system") else FEW)


def is_beyond_the_end(outcome: Outcome, at: int) -> bool:
    """Whether a run came to its end before the call: how many the journal makes differs a little from run to run."""
    return 0 < outcome.calls < at


FEW = 16  # files in the plan of what is sampled
TOGETHER = pytest.mark.xdist_group("faults")  # worlds, and the process that forks, are made once for what is short
EVERY = pytest.mark.parametrize(
    "every",
    [pytest.param(97, marks=TOGETHER), pytest.param(1, marks=[pytest.mark.system, pytest.mark.long])],
    ids=["sampled", "in full"],
)


@EVERY
def test_killed_anywhere_it_is_resumed_or_undone(world: World, every: int) -> None:
    total = world.restore().calls
    world.undo()
    assert total > 8 * len(world.files)
    resumed = undone = at = 0
    for at in range(1, total + 1, every):
        killed = world.restore(Mode.KILL, at)
        if is_beyond_the_end(killed, at):
            world.undo()
            break
        assert killed.status == -9
        assert world.each_is_old_or_new(), f"killed at call {at}"
        again = world.restore()
        if again.status == UNFINISHED and at // every % 2:
            outcome = world.run("resume")
            assert outcome.status == 0, f"killed at call {at}: {outcome.said}"
            resumed += 1
        elif again.status == UNFINISHED:
            undone += 1
            world.undo()
            continue
        assert without_times(tree_of(world.root)) == world.after, f"killed at call {at}"
        world.undo()
    assert min(resumed, undone) * every > 1.6 * len(world.files)
    assert at > 0.9 * total - every


@EVERY
def test_an_undo_that_is_killed_anywhere_is_done_again(world: World, every: int) -> None:
    world.restore()
    total, at = world.run("undo").calls, 0
    assert total > 4 * len(world.files)
    for at in range(1, total + 1, every):
        world.restore()
        killed = world.run("undo", mode=Mode.KILL, at=at)
        if is_beyond_the_end(killed, at):
            assert tree_of(world.root) == world.before
            break
        assert killed.status == -9
        assert world.each_is_old_or_new(), f"killed at call {at}"
        if tree_of(world.root) != world.before or world.run("history").status == UNFINISHED:
            world.undo()
    assert at > 0.9 * total - every


@EVERY
@pytest.mark.parametrize("code", [errno.ENOSPC, errno.EIO, errno.EACCES], ids=os.strerror)
def test_where_a_call_fails_all_is_undone(world: World, code: int, every: int) -> None:
    total = world.restore().calls
    world.undo()
    statuses = []
    for at in range(1, total + 1, every):
        outcome = world.restore(Mode.FAIL_ONCE, at, code)
        statuses.append(outcome.status)
        if outcome.status in {0, 1}:
            world.undo()  # the failing call did not matter
        assert tree_of(world.root) == world.before, f"failed at call {at}: {outcome.said}"
    assert statuses.count(5) * every > 2 * len(world.files)
    assert set(statuses) <= {0, 1, 3, 5}


@EVERY
def test_where_the_disk_stays_full_it_says_so_and_is_undone_once_there_is_room(world: World, every: int) -> None:
    total = world.restore().calls
    world.undo()
    for at in range(1, total + 1, 2 * every):
        outcome = world.restore(Mode.FAIL_ON, at, errno.ENOSPC)
        assert outcome.status in {0, 1, 3, 5, UNFINISHED}, outcome.said
        assert world.each_is_old_or_new(), f"full from call {at}"
        if outcome.status in {0, 1, UNFINISHED}:
            world.undo()
        assert tree_of(world.root) == world.before, f"full from call {at}: {outcome.said}"


def leave_unfinished_and_unchanged(world: World, total: int) -> None:
    """Kill it at the first call that leaves it unfinished: nothing is changed by then."""

    def is_unfinished(at: int) -> bool:
        world.restore(Mode.KILL, at)
        if world.run("history").status == UNFINISHED:
            return True
        world.restore()  # what one that was killed early leaves takes calls to clear away: none is left
        world.undo()
        return False

    low, high = total // 8, total // 2
    while high - low > 4:
        at = (low + high) // 2
        if is_unfinished(at):
            world.undo()
            high = at
        else:
            low = at + 1
    assert any(is_unfinished(at) for at in range(low, high + 4))  # its calls differ a little from run to run
    assert tree_of(world.root) == world.before


@TOGETHER
def test_one_whose_kept_originals_are_gone_is_not_gone_on_with(world: World) -> None:
    total = world.restore().calls
    world.undo()
    leave_unfinished_and_unchanged(world, total)
    [kept] = world.home.glob("machines/*/kept/*/*")
    shutil.rmtree(kept)
    outcome = world.run("resume")
    assert (outcome.status, says(outcome.said, "execution.its-kept-originals-are-gone-so")) == (5, True), outcome.said
    world.undo()

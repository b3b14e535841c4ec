"""A restoration with steps of many kinds, killed or failing at its changing system calls; sampled, and in full."""

import base64
import errno
import hashlib
import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.signing import APublisher
from builders.source import ASource
from builders.tree import tree_of, without_times
from conftest import Fundamen
from faults import Faults, Mode, Outcome, injecting

COUNT = 50
FILES = {f"lib{n:02}.so": an_elf(soname=f"lib{n:02}.so", padding=16 * n) for n in range(COUNT)}
ROOT = APublisher().root
UNFINISHED = 6
WRONG_MODE = 4  # of this library only the mode is not as it should be


class World:
    """A machine, a plan with 50 files, a root, a setting, a PATH entry, links and a folder to set aside."""

    def __init__(self, linux: ALinuxMachine, source: ASource, fundamen: Fundamen, faults: Faults) -> None:
        linux.program("/opt/bin/app", needs=tuple(FILES), runpath="$ORIGIN/../lib")
        linux.file("/etc/tide.ini", b"[tide]\nstation = Marram\n", mode=0o640).file("/opt/cache/1", b"1")
        linux.file("/etc/environment", b'PATH="/usr/bin"\n').file("/srv/a.js", b"assets")
        linux.file("/etc/ssl/certs/ca-certificates.crt", APublisher().root.pem)
        (linux.root / "srv/b.js").symlink_to("a.js")
        (linux.root / "srv/c.js").symlink_to("nowhere")
        steps: list[dict[str, Any]] = [
            {"do": "set value", "path": "/etc/tide.ini", "key": ["tide", "station"], "value": "Reed"},
            {"do": "copy link", "path": "/srv/b.js"},
            {"do": "make link", "path": "/srv/c.js", "target": "a.js"},
            {"do": "set aside", "path": "/opt/cache"},
            {"do": "set entry", "path": "/etc/environment", "format": "shell", "key": ["PATH"], "entry": "/opt/bin"},
            {
                "do": "import root",
                "path": "/etc/ssl",
                "certificate": base64.b64encode(ROOT.der).decode(),
                "sha256": ROOT.certificate.sha256,
            },
        ]
        for number, (name, data) in enumerate(FILES.items()):
            digest = hashlib.sha256(data).hexdigest()
            place = {"path": f"/opt/lib/{name}", "name": name, "size": len(data), "sha256": digest}
            steps.append({"do": "place file", **place, **({"mode": 0o644} if number == WRONG_MODE else {})})
            if number == WRONG_MODE:
                linux.file(f"/opt/lib/{name}", data, mode=0o600)
            elif number % 3:
                linux.file(f"/opt/lib/{name}", data[: 40 * (number % 4)], mode=0o640 + number % 8)
        os.link(linux.root / "opt/lib/lib01.so", linux.root / "opt/lib/lib01-again.so")
        with (linux.root / "opt/lib/lib02.so").open("ab") as file:
            file.truncate(1 << 20)  # with a hole
        self.root, self.faults = linux.root, faults
        source.published(FILES)
        assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
        self.plan = source.folder.parent / "whole.plan"
        plan = {"schema": "fundamen.plan/1", "program": "/opt/bin/app", "machine": "it"}
        self.plan.write_text(json.dumps({**plan, "made_at": "2026-01-01T00:00:00Z", "steps": steps}))
        self.before = tree_of(self.root)
        faults.run("restore", "--yes", "-m", str(self.root), "--plan", str(self.plan), is_warming=True)
        faults.run("undo", "-m", str(self.root), is_warming=True)
        self.restore()  # what is fetched is at hand from now on
        self.after = without_times(tree_of(self.root))
        self.undo()

    def run(self, command: str, *words: str, mode: Mode = Mode.COUNT, at: int = 0, code: int = 0) -> Outcome:
        outcome = self.faults.run(command, "-m", str(self.root), *words, mode=mode, at=at, code=code)
        assert "Traceback" not in outcome.said
        assert "fault of its own" not in outcome.said, outcome.said
        return outcome

    def restore(self, mode: Mode = Mode.COUNT, at: int = 0, code: int = 0) -> Outcome:
        return self.run("restore", "--yes", "--plan", str(self.plan), mode=mode, at=at, code=code)

    def undo(self) -> None:
        outcome = self.run("undo")
        assert outcome.status == 0, outcome.said
        assert tree_of(self.root) == self.before

    def each_is_old_or_new(self) -> bool:
        now, nothing = tree_of(self.root), (None,)
        return all(
            now.get(path, nothing)[0] in {data, self.before.get(path, nothing)[0]}
            for path, data in ((f"opt/lib/{name}", data) for name, data in FILES.items())
        )


@pytest.fixture
def world(linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen) -> Iterator[World]:
    with injecting(tmp_path, home) as faults:
        yield World(linux, ASource(tmp_path, home), fundamen, faults)


def is_beyond_the_end(outcome: Outcome, at: int) -> bool:
    """Whether a run came to its end before the call: how many the journal makes differs a little from run to run."""
    return 0 < outcome.calls < at


EVERY = pytest.mark.parametrize("every", [67, pytest.param(1, marks=pytest.mark.system)], ids=["sampled", "in full"])


@EVERY
def test_killed_anywhere_it_is_gone_on_with_or_taken_back(world: World, every: int) -> None:
    total = world.restore().calls
    world.undo()
    assert total > 400
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
    assert min(resumed, undone) * every > 80
    assert at > 0.95 * total - every


@EVERY
def test_an_undo_that_is_killed_anywhere_is_done_again(world: World, every: int) -> None:
    world.restore()
    total, at = world.run("undo").calls, 0
    assert total > 200
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
    assert at > 0.95 * total - every


@EVERY
@pytest.mark.parametrize("code", [errno.ENOSPC, errno.EIO, errno.EACCES], ids=os.strerror)
def test_where_a_call_fails_all_is_taken_back(world: World, code: int, every: int) -> None:
    total = world.restore().calls
    world.undo()
    statuses = []
    for at in range(1, total + 1, every):
        outcome = world.restore(Mode.FAIL_ONCE, at, code)
        statuses.append(outcome.status)
        if outcome.status in {0, 1}:
            world.undo()  # the failing call did not matter
        assert tree_of(world.root) == world.before, f"failed at call {at}: {outcome.said}"
    assert statuses.count(5) * every > 200
    assert set(statuses) <= {0, 1, 3, 5}


@EVERY
def test_where_the_disk_stays_full_it_says_so_and_is_taken_back_once_there_is_room(world: World, every: int) -> None:
    total = world.restore().calls
    world.undo()
    for at in range(1, total + 1, 2 * every):
        outcome = world.restore(Mode.FAIL_ON, at, errno.ENOSPC)
        assert outcome.status in {0, 1, 3, 5, UNFINISHED}, outcome.said
        assert world.each_is_old_or_new(), f"full from call {at}"
        if outcome.status in {0, 1, UNFINISHED}:
            world.undo()
        assert tree_of(world.root) == world.before, f"full from call {at}: {outcome.said}"

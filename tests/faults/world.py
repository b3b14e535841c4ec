"""A restoration with steps of many kinds, for whatever is to go wrong with it."""

import atexit
import base64
import hashlib
import json
import os
import shutil
import subprocess
import tempfile
from functools import cache
from pathlib import Path
from typing import Any

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.signing import APublisher
from builders.source import ASource
from builders.tree import Tree, tree_of, without_times
from faults import Faults, Mode, Outcome

COUNT = 20  # files are flushed together from 16 on
FILES = {f"lib{n:02}.so": an_elf(soname=f"lib{n:02}.so", padding=16 * n) for n in range(COUNT)}
ROOT = APublisher().root
UNFINISHED = 6
WRONG_MODE = 4  # of this library only the mode is not as it should be


def a_world(folder: Path, count: int = COUNT) -> "World":
    """One in which nothing has happened yet. It lies in a folder beside this one, which all of its count share.

    Args:
        folder: on the file system that it is to lie on.
        count: of the files in its plan.
    """
    world, pristine = _made(folder.parent, count)
    own = world.root.parent
    shutil.rmtree(own)
    subprocess.run(["cp", "-a", "--sparse=always", pristine, own], check=True)
    world.before = tree_of(world.root)
    return world


@cache
def _made(folder: Path, count: int) -> "tuple[World, Path]":
    """A world and a copy of its folder: many tests begin with the same, and none has to make it."""
    own = Path(tempfile.mkdtemp(prefix="fundamen-world-", dir=folder))
    atexit.register(shutil.rmtree, own)
    world = World(own / "world", count)
    subprocess.run(["cp", "-a", "--sparse=always", own / "world", own / "pristine"], check=True)
    return world, own / "pristine"


class World:
    """A machine, a plan with many files, a root, a setting, a PATH entry, links and a folder to set aside."""

    def __init__(self, folder: Path, count: int) -> None:
        self.files = list(FILES)[:count]
        linux, self.home = ALinuxMachine(folder / "linux"), folder / "home"
        source = ASource(folder, self.home)
        linux.program("/opt/bin/app", needs=tuple(self.files), runpath="$ORIGIN/../lib")
        linux.file("/etc/tide.ini", b"[tide]\nstation = Marram\n", mode=0o640).file("/opt/cache/1", b"1")
        linux.file("/etc/environment", b'PATH="/usr/bin"\n').file("/srv/a.js", b"assets")
        linux.file("/srv/d.sh", b"ebb", mode=0o4711)
        linux.file("/etc/ssl/certs/ca-certificates.crt", APublisher().root.pem)
        (linux.root / "srv/b.js").symlink_to("a.js")
        (linux.root / "srv/c.js").symlink_to("nowhere")
        linux.file("/srv/e.js/own", b"in the place of a link")
        steps: list[dict[str, Any]] = [
            {"do": "set value", "path": "/etc/tide.ini", "key": ["tide", "station"], "value": "Reed"},
            {"do": "copy link", "path": "/srv/b.js"},
            {"do": "make link", "path": "/srv/c.js", "target": "a.js"},
            {"do": "set rights", "path": "/srv/d.sh", "mode": 0o2755, "owner": "#7", "group": "#8"},
            {"do": "set aside", "path": "/opt/cache"},
            {"do": "set aside", "path": "/srv/e.js"},
            {"do": "make link", "path": "/srv/e.js", "target": "a.js"},
            {"do": "set entry", "path": "/etc/environment", "format": "shell", "key": ["PATH"], "entry": "/opt/bin"},
            {
                "do": "import root",
                "path": "/etc/ssl",
                "certificate": base64.b64encode(ROOT.der).decode(),
                "sha256": ROOT.certificate.sha256,
            },
        ]
        for number, name in enumerate(self.files):
            data = FILES[name]
            digest = hashlib.sha256(data).hexdigest()
            place = {"path": f"/opt/lib/{name}", "name": name, "size": len(data), "sha256": digest}
            steps.append({"do": "place file", **place, **({"mode": 0o644} if number == WRONG_MODE else {})})
            if number == WRONG_MODE:
                linux.file(f"/opt/lib/{name}", data, mode=0o600)
            elif number % 3:
                linux.file(f"/opt/lib/{name}", data[: 40 * (number % 4)], mode=0o604 + number % 4)
        os.link(linux.root / "opt/lib/lib01.so", linux.root / "opt/lib/lib01-again.so")
        with (linux.root / "opt/lib/lib02.so").open("ab") as file:
            file.truncate(1 << 20)  # with a hole
        self.root, self.faults = linux.root, Faults(folder, self.home)
        source.published(FILES)
        trusted = self.faults.run("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
        assert trusted.status == 0, trusted.said
        self.plan = source.folder.parent / "whole.plan"
        plan = {"schema": "fundamen.plan/1", "program": "/opt/bin/app", "machine": "it"}
        self.plan.write_text(json.dumps({**plan, "made_at": "2026-01-01T00:00:00Z", "steps": steps}))
        self.before = tree_of(self.root)
        self.restore()  # what is fetched is available from now on
        self.after = without_times(tree_of(self.root))
        self.undo()

    def run(
        self,
        command: str,
        *words: str,
        mode: Mode = Mode.COUNT,
        at: int = 0,
        code: int = 0,
        log: Path | None = None,
    ) -> Outcome:
        outcome = self.faults.run(command, *words, "-m", str(self.root), mode=mode, at=at, code=code, log=log)
        assert "Traceback" not in outcome.said
        assert "fault of its own" not in outcome.said, outcome.said
        return outcome

    def restore(self, mode: Mode = Mode.COUNT, at: int = 0, code: int = 0) -> Outcome:
        return self.run("plans", "run", "--yes", str(self.plan), mode=mode, at=at, code=code)

    def undo(self, where: str = "") -> None:
        outcome = self.run("undo")
        assert outcome.status == 0, f"{where}: {outcome.said}"
        now = tree_of(self.root)
        differing = {path for path in now.keys() | self.before.keys() if now.get(path) != self.before.get(path)}
        answer = {path: (now.get(path, ())[1:], self.before.get(path, ())[1:]) for path in differing}
        assert not answer, where

    def state(self) -> Tree:
        return without_times(tree_of(self.root))

    def each_is_old_or_new(self) -> bool:
        now, nothing = tree_of(self.root), (None,)
        return all(
            now.get(path, nothing)[0] in {data, self.before.get(path, nothing)[0]}
            for path, data in ((f"opt/lib/{name}", FILES[name]) for name in self.files)
        )

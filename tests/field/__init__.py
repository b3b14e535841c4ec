"""Real Debian roots, really broken: what a program then prints is asked about, and what is answered is pasted.

A case breaks a root (a layer over one that is made once), runs a program in it, and gives what it printed to
``fundamen clues``. The first answer must name the cause. Then the first line under "Next" that was not yet run is run,
until the program works or nothing is left to paste.
"""

import json
import os
import shlex
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from hashlib import sha256
from pathlib import Path
from typing import NamedTuple

from builders.tree import state_of
from command import Ran, Server

PACKAGES = (
    "python3", "curl", "cron", "sudo", "nginx-light", "libnginx-mod-http-echo", "php-cli", "php-mbstring", "apache2",
    "gstreamer1.0-tools", "libgdk-pixbuf2.0-bin", "openssl", "perl", "ruby", "file", "iputils-ping", "imagemagick",
    "libcap2-bin", "bsdextrautils", "xz-utils", "zstd", "python3-venv",
)  # fmt: skip
RELEASE = "bookworm"
_MOST_PASTED = 6
# What package managers and running programs keep for themselves.
_OF_THE_SYSTEM = ("var/lib/dpkg", "var/lib/apt", "var/cache", "var/log", "proc", "run", "tmp", "dev", "root")
_BY_RUNNING = "__pycache__"
REFUSED = "undo is refused"
_SECONDS = 120


class Case(NamedTuple):
    """One way to break a root."""

    name: str
    breaks: str  # shell, run on the host in the folder of the root; ``in_root`` runs in it, ``build`` compiles for it
    run: str  # shell, run in the root: it fails now, and works once it is mended
    cause: tuple[str, ...]  # what the first answer must say, all of it
    remedy: bool = True  # whether the archive or the machine holds one
    user: str = ""  # who runs it, root unless named
    said: str = ""  # what it prints must hold this, or the root was not broken as meant
    gives: str = ""  # what it prints must hold this once it works
    was_seen: bool = False  # whether it was made later and worked with: it belongs to neither half

    @property
    def half(self) -> int:
        """0 for the half that is worked with, 1 for the one that only measures (by the name's digest); 2: neither."""
        if self.was_seen:
            return 2
        return sha256(self.name.encode()).digest()[0] & 1


class Root:
    """A root of one case."""

    def __init__(self, path: Path, upper: Path, base: Path) -> None:
        self.path, self._upper, self._base = path, upper, base

    def sh(self, script: str, user: str = "") -> subprocess.CompletedProcess[str]:
        """Run a script in the root, as a login of an account would see it."""
        script += "\nexit $?"  # or the shell would become the last program, and not tell how that one ended
        inside = ["chroot", *([f"--userspec={user}"] if user else []), str(self.path), "/bin/bash", "-c", script]
        environment = {"PATH": "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin", "LANG": "C.UTF-8", "HOME": "/root"}
        return subprocess.run(
            inside, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace",
            stdin=subprocess.DEVNULL, timeout=_SECONDS, check=False,
        )  # fmt: skip

    def broken(self, case: Case) -> None:
        """Break it as a case says."""
        helpers = 'in_root() { chroot "$R" "$@"; }\nbuild() { cc -o "$@"; }\nset -e\n'
        ran = subprocess.run(
            ["bash", "-c", helpers + case.breaks], cwd=self.path, env={**os.environ, "R": str(self.path)}, check=False,
            capture_output=True, text=True, errors="replace", timeout=_SECONDS,
        )  # fmt: skip
        if ran.returncode:
            raise NotBrokenError(ran.stderr[-300:])

    def works(self, case: Case) -> bool:
        """Whether the program of a case does what it should."""
        ran = self.sh(case.run, case.user)
        return ran.returncode == 0 and case.gives in ran.stdout and not (case.said and case.said in ran.stdout)

    def changed(self) -> dict[str, object]:
        """Each path at which the root is, or was meanwhile, another than its base, with the state there now."""
        paths = (path.relative_to(self._upper) for path in self._upper.rglob("*"))
        own = [path for path in map(str, paths) if not path.startswith(_OF_THE_SYSTEM) and _BY_RUNNING not in path]
        return {path: _state(self.path / path) for path in own}

    def differing(self, before: dict[str, object]) -> list[str]:
        """The paths that are not as ``changed`` had them before, or as the base has them."""
        now = self.changed()
        return sorted(path for path in {*before, *now} if now.get(path) != before.get(path, _state(self._base / path)))


def _state(path: Path) -> object:
    """Content, mode, owner, time and attributes; of a folder in which a running program leaves files, without its time.

    Access times are of the program that runs.
    """
    if not os.path.lexists(path):
        return None
    content, mode, uid, gid, changed_at, *_, attributes = state_of(str(path))
    is_written_to = path.is_dir() and (path / _BY_RUNNING).exists()
    return content, mode, uid, gid, 0 if is_written_to else changed_at, attributes


class NotBrokenError(Exception):
    """A root was not broken as a case means it."""


class Outcome(NamedTuple):
    """What came of asking about a case."""

    symptom: str
    answer: str  # the first one, as it is printed
    pasted: Sequence[tuple[str, int]]  # each line, and the exit status
    is_named: bool
    is_mended: bool
    left: Sequence[str] = ()  # the paths that are not as before once all is undone


def make_base(folder: Path, names: Sequence[str] = PACKAGES) -> None:
    """Make the root that all cases are layers over, from Debian's archive."""
    folder.parent.mkdir(parents=True, exist_ok=True)
    packages = f"--include={','.join(names)}"
    subprocess.run(["debootstrap", "--variant=minbase", packages, RELEASE, folder], check=True, capture_output=True)
    # As a machine has it after its first upgrade: with lists that belong together, and a backup of its database.
    subprocess.run(["chroot", folder, "apt-get", "-qq", "update"], check=True, capture_output=True)
    subprocess.run(["chroot", folder, "dpkg", "--configure", "--pending"], check=True, capture_output=True)
    shutil.copy(folder / "var/lib/dpkg/status", folder / "var/lib/dpkg/status-old")


@contextmanager
def layered(base: Path, folder: Path) -> Iterator[Root]:
    """A root that is a layer over another one."""
    upper, work, merged = (folder / name for name in ("upper", "work", "root"))
    for each in (upper, work, merged):
        each.mkdir(parents=True)
    options = f"lowerdir={base},upperdir={upper},workdir={work}"
    subprocess.run(["mount", "-t", "overlay", "overlay", "-o", options, merged], check=True)
    subprocess.run(["mount", "-t", "proc", "proc", merged / "proc"], check=True)
    try:
        yield Root(merged, upper, base)
    finally:
        subprocess.run(["umount", "-R", merged], check=True)


def ask(server: Server, root: Root, case: Case, home: Path) -> Outcome:
    """Break the root, see it fail, ask, and paste."""
    root.broken(case)
    failed = root.sh(case.run, case.user)
    symptom = failed.stdout
    if case.said not in symptom or (failed.returncode == 0 and not case.said):
        raise NotBrokenError(f"it fails otherwise: {symptom[:300]}")
    words = ["clues", "--machine", str(root.path), *(["--as", case.user] if case.user else []), "-"]
    first = _fundamen(server, home, words, symptom)
    is_named = all(part in " ".join(first.out.split()) for part in case.cause)
    pasted: list[tuple[str, int]] = []
    said = first.out
    before = root.changed()
    while case.remedy and len(pasted) < _MOST_PASTED and not root.works(case):
        run_already = {line for line, _ in pasted}
        line = next((each for each in next_lines(said) if each not in run_already and is_command(each)), None)
        if line is None:
            break
        ran = _paste(server, home, line)
        pasted.append((line, ran.status))
        said = ran.out
    is_mended = root.works(case)
    left = _undo_all(server, root, home, before) if is_mended else []
    return Outcome(symptom, first.out, pasted, is_named, is_mended, left)


def _undo_all(server: Server, root: Root, home: Path, before: dict[str, object]) -> list[str]:
    """Undo every restoration; the paths that are not as before then, or why one is refused."""
    for _ in range(_MOST_PASTED):
        history = json.loads(_fundamen(server, home, ["history", "--machine", str(root.path), "--json"], "").out)
        if not any(each["state"] == "done" for each in history["restorations"]):
            return root.differing(before)
        ran = _fundamen(server, home, ["undo", "--machine", str(root.path)], "")
        if ran.status:
            return [REFUSED, ran.err]
    return ["more restorations than there could be"]


def next_lines(said: str) -> list[str]:
    """The commands under the heading "Next", in their order; one may go over several lines."""
    _, found, below = said.rpartition("\nNext\n")
    lines: list[str] = []
    for line in below.splitlines() if found else ():
        if line.startswith("    ") and lines:
            lines[-1] += " " + line.strip()
        elif line.strip():
            lines.append(line.strip())
    return [line.removesuffix(" \\") for line in lines]


def is_command(line: str) -> bool:
    """Whether a line can be run as it is: a sentence cannot, nor what has a word in place of a name."""
    words = shlex.split(line, comments=True) if line.count("'") % 2 == 0 else [""]
    is_there = words[0] == "fundamen" or shutil.which(words[0]) is not None
    return is_there and not any(word.isupper() for word in words[1:])


def _paste(server: Server, home: Path, line: str) -> Ran:
    words = shlex.split(line, comments=True)
    if words[0] == "fundamen":
        return _fundamen(server, home, words[1:], "")
    ran = subprocess.run(["sh", "-c", line], capture_output=True, text=True, timeout=_SECONDS, check=False)
    return Ran(ran.returncode, ran.stdout, ran.stderr)


def _fundamen(server: Server, home: Path, words: Sequence[str], given: str) -> Ran:
    environment = {**os.environ, "FUNDAMEN_HOME": str(home), "FUNDAMEN_SETTLE": "0.02", "COLUMNS": "400"}
    return server.run(tuple(words), environment, home.parent, given.encode())

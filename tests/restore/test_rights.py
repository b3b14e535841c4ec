"""Rights of files and folders are given by a plan, shown before, and undone; what they mean is the kernel's word."""

import json
import os
import shutil
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from builders.tree import tree_of, without_times
from conftest import Fundamen
from fundamen.formats.unix.access import acl_bytes, acl_with_mode, capability_bytes, mode_of_acl

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="giving files away needs the administrator's rights")
HELD = b"4.5 m"
Given = Callable[..., None]


@pytest.fixture
def file(linux: ALinuxMachine) -> Path:
    linux.file("/etc/passwd", b"root:x:0:0::/:\ntide:x:4001:4001::/:\n").file(
        "/etc/group", b"root:x:0:\npier:x:4002:\n"
    )
    linux.file("/srv/depth", HELD)
    (linux.root / "srv/depth").chmod(0o640)
    return linux.root / "srv/depth"


@pytest.fixture
def given(fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path, file: Path) -> Given:
    def give(*steps: dict[str, object], status: int = 0) -> None:
        head = {
            "schema": "fundamen.plan/1",
            "program": "/srv/depth",
            "machine": "it",
            "made_at": "2026-01-01T00:00:00Z",
        }
        done = [{"do": "set rights", "path": "/srv/depth", **step} for step in steps]
        (tmp_path / "it.plan").write_text(json.dumps({**head, "steps": done}))
        ran = fundamen("plans", "run", "--yes", "-m", linux.root, "it.plan")
        assert ran.status == status, ran.out + ran.err
        assert file.read_bytes() == HELD

    return give


def may_read(file: Path, uid: int, gid: int) -> bool:
    """Whether an account may read a file, as the kernel has it."""
    code = f"import os; os.setgroups([]); os.setgid({gid}); os.setuid({uid}); open({str(file)!r})"
    return subprocess.run(["python3", "-c", code], capture_output=True, check=False).returncode == 0


def test_mode_and_owner_are_given_and_undone(
    fundamen: Fundamen, linux: ALinuxMachine, file: Path, given: Given
) -> None:
    before = without_times(tree_of(linux.root))
    given({"mode": 0o4755, "owner": "tide", "group": "pier"})
    status = file.stat()
    assert (stat.S_IMODE(status.st_mode), status.st_uid, status.st_gid) == (0o4755, 4001, 4002)
    assert fundamen("undo", "-m", linux.root).status == 0
    assert without_times(tree_of(linux.root)) == before


def test_an_access_list_lets_just_those_in_that_it_names(
    fundamen: Fundamen, linux: ALinuxMachine, file: Path, given: Given
) -> None:
    for folder in file.parents:
        if not folder.stat().st_mode & stat.S_IXOTH:
            folder.chmod(folder.stat().st_mode | stat.S_IXOTH)
    given({"acl": "u::rw-,u:tide:r--,g::---,m::r--,o::---"})
    assert [may_read(file, uid, 5000) for uid in (4001, 4002)] == [True, False]
    given({"mode": 0o600})
    assert not may_read(file, 4001, 5000)
    assert fundamen("undo", "-m", linux.root).status == 0
    assert may_read(file, 4001, 5000)
    assert fundamen("undo", "-m", linux.root).status == 0
    assert (os.listxattr(file), stat.S_IMODE(file.stat().st_mode)) == ([], 0o640)


def test_capabilities_are_those_that_the_systems_own_tool_reads(given: Given, file: Path) -> None:
    if (tool := shutil.which("getcap", path="/usr/sbin:/sbin:/usr/bin")) is None:
        pytest.skip("no tool that reads capabilities")
    given({"capabilities": "cap_net_raw,cap_bpf=ep"})
    answer = subprocess.run([tool, file], capture_output=True, text=True, check=True).stdout
    assert answer.split()[-1] == "cap_net_raw,cap_bpf=ep"
    given({"owner": "tide"})
    assert os.listxattr(file) == []
    given({"capabilities": ""}, status=0)


def test_a_plan_that_changes_the_same_file_in_two_ways_is_refused(given: Given, file: Path) -> None:
    given({"mode": 0o600}, {"do": "set aside"}, status=5)
    assert stat.S_IMODE(file.stat().st_mode) == 0o640


def test_what_others_have_given_since_is_not_taken_away(
    fundamen: Fundamen, linux: ALinuxMachine, file: Path, given: Given
) -> None:
    given({"mode": 0o600})
    file.chmod(0o644)
    assert fundamen("undo", "-m", linux.root).status == 5
    file.chmod(0o600)
    data = file.read_bytes()
    file.unlink()
    (file.parent / "other").write_bytes(data)
    file.write_bytes(data)
    file.chmod(0o600)
    assert fundamen("undo", "-m", linux.root).status == 5
    assert stat.S_IMODE(file.stat().st_mode) == 0o600


@pytest.mark.parametrize(
    "step",
    [
        {"owner": "nobody-of-this-name"},
        {"acl": "u::rw-"},
        {"acl": "u::rw-,u:tide:r--,g::---,o::---"},
        {"acl": "u::rw-,g::---,o::---", "mode": 0o777},
        {"capabilities": "cap_of_the_sea=ep"},
        {"capabilities": "cap_net_raw"},
        {"path": "/srv/none", "mode": 0o600},
    ],
)
def test_what_makes_no_sense_is_refused_with_nothing_changed(
    linux: ALinuxMachine, given: Given, step: dict[str, object]
) -> None:
    before = without_times(tree_of(linux.root))
    given(step, status=5)
    assert without_times(tree_of(linux.root)) == before


@pytest.mark.parametrize("mode", range(0, 0o1000, 73))
def test_a_list_and_its_mode_belong_together(mode: int) -> None:
    acl = acl_bytes("u::---,u:#7:r-x,g::r--,m::---,o::---", lambda _kind, name: int(name[1:]))
    assert mode_of_acl(acl_with_mode(acl, mode)) == mode
    assert len(capability_bytes("cap_chown=p")) == 20

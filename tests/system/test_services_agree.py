"""Enabling a service makes the links that systemd's own tool makes, on a root that is not up."""

import json
import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine, a_copy
from conftest import Fundamen
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.trace import trace_program

pytestmark = [pytest.mark.system, pytest.mark.skipif(not shutil.which("systemctl"), reason="no systemctl")]

UNITS = {
    "plain.service": "[Install]\nWantedBy=multi-user.target\n",
    "several.service": "[Install]\nWantedBy=a.target b.target\nRequiredBy=c.target\nWantedBy=d.target \\\n e.target\n",
    "taken-back.service": "[Install]\nWantedBy=a.target\nWantedBy=\nWantedBy=b.target\n",
    "named.service": "[Install]\nAlias=other.service %p-too.service\nWantedBy=%N.target\n",
    "together.service": "[Install]\nWantedBy=a.target\nAlso=plain.service late.timer\n",
    "late.timer": "[Timer]\nOnBootSec=1\n[Install]\nWantedBy=timers.target\n",
    "berth@.service": "[Install]\nWantedBy=multi-user.target\nDefaultInstance=north\n",
    "comment.service": "# [Install]\n[Install]\n; WantedBy=x.target\nWantedBy=a.target\n",
}


def links(root: Path) -> dict[str, str]:
    """The links that enable units, each with the file to which it leads."""
    folder = root / "etc/systemd/system"
    found = (path for path in folder.rglob("*") if path.is_symlink())
    return {str(path.relative_to(folder)): os.path.basename(os.readlink(path)) for path in found}


@pytest.mark.parametrize("unit", [*UNITS, "berth@south.service"])
def test_a_service_is_enabled_as_its_own_tool_does(
    unit: str, linux: ALinuxMachine, tmp_path: Path, fundamen: Fundamen
) -> None:
    (linux.root / "usr").mkdir(exist_ok=True)
    for name, text in UNITS.items():
        linux.file(f"/usr/lib/systemd/system/{name}", f"[Unit]\nDescription={name}\n{text}".encode())
    (linux.root / "lib").symlink_to("usr/lib")
    other = a_copy(tmp_path / "other", linux.root)
    theirs = subprocess.run(
        ["systemctl", f"--root={other}", "enable", unit], capture_output=True, text=True, check=False
    )
    assert theirs.returncode == 0, theirs.stderr
    step = {"do": "enable service", "path": "/etc/systemd/system", "name": unit}
    plan = {"schema": "fundamen.plan/1", "program": "/x", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
    (tmp_path / "it.plan").write_text(json.dumps({**plan, "steps": [step]}))
    ran = fundamen("plans", "run", "--yes", "it.plan", "-m", str(linux.root))
    assert ran.status == 0, ran.err
    assert links(linux.root) == links(other) != {}
    again = fundamen("plans", "run", "--yes", "it.plan", "-m", str(other))
    assert again.out.startswith("There is nothing to do"), again.out


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="no systemd")
@pytest.mark.parametrize(
    "line",
    [
        "/opt/marram/gone", "@/opt/marram/gone zero", "+/opt/marram/gone -x", "-/opt/marram/gone",
        '"/opt/marram/g\\x6fne" x',
        "/opt/marram/%p 'a b'", "/bin/true /opt/marram/gone", "'/opt/marram/go ne'", ":/opt/marram/gone $X", "true",
    ],
    ids=str,
)  # fmt: skip
def test_systemd_misses_the_same_commands(line: str, tmp_path: Path) -> None:
    unit = tmp_path / "tide.service"
    unit.write_text(f"[Service]\nExecStart={line}\n")
    checked = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", unit], capture_output=True, text=True, check=False
    )
    theirs = set(re.findall(r"Command (.+) is not executable", checked.stderr))
    trace = trace_program(open_machine(None), MachinePath(str(unit)))
    assert {fault.name for fault in trace.faults if fault.verdict is Verdict.MISSING} == theirs

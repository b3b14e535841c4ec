"""Debian's own dpkg is the truth: it sets up exactly those packages whose needs are reported to be met."""

import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import Fundamen

pytestmark = pytest.mark.system

RELATIONS = [
    *("Depends: libc6", "Depends: libc6 (>= 2.0)", "Depends: libc6 (>= 99)", "Depends: libc6 (<< 2.0)"),
    *("Depends: no-such-package", "Depends: no-such-package | libc6", "Depends: libc6, no-such-package"),
    *("Depends: no-such-package | libc6 (>> 99)", "Depends: libc6 (= 1.0)", "Depends: awk", "Depends: awk (>= 1.0)"),
    *("Pre-Depends: no-such-package", "Pre-Depends: libc6 (>> 2.0)", "Depends: dpkg (>= 1.9~), libc6 (<= 99:0)"),
    *("Breaks: libc6 (<< 2.0)", "Breaks: libc6 (>= 2.0)", "Conflicts: no-such-package", "Conflicts: libc6 (<< 1.0~)"),
]


@pytest.mark.parametrize("relation", RELATIONS)
def test_a_package_is_set_up_where_its_needs_are_met(fundamen: Fundamen, tmp_path: Path, relation: str) -> None:
    root, tree = tmp_path / "root", tmp_path / "tree"
    for folder in ("info", "updates", "triggers"):
        (root / "var/lib/dpkg" / folder).mkdir(parents=True)
    shutil.copy("/var/lib/dpkg/status", root / "var/lib/dpkg/status")
    (tree / "DEBIAN").mkdir(parents=True)
    head = "Package: tidebook\nVersion: 1.0\nArchitecture: all\nMaintainer: A <a@ardvane.example>\nDescription: tides\n"
    (tree / "DEBIAN/control").write_text(f"{head}{relation}\n")
    subprocess.run(["dpkg-deb", "-b", tree, tmp_path / "tidebook.deb"], check=True, capture_output=True)
    answer = fundamen("installer", "tidebook.deb")
    assert answer.status in {0, 1}
    words = ["dpkg", f"--root={root}", "--force-not-root", "--log=/dev/null", "-i", str(tmp_path / "tidebook.deb")]
    assert (subprocess.run(words, capture_output=True, check=False).returncode == 0) is (answer.status == 0)

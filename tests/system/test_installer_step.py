"""A compiled, signed installer is really run in a prefix: its effects are seen, harm is reported, all is undone."""

import hashlib
import json
import os
import subprocess
from pathlib import Path

import pytest

from builders.prefix import a_prefix
from builders.signing import APublisher
from conftest import Fundamen
from wording import says

pytestmark = [
    pytest.mark.system,
    pytest.mark.xdist_group("wine"),
    pytest.mark.skipif(not Path("/usr/lib/wine/wine64").exists(), reason="no wine"),
]

SOURCE = """
#include <windows.h>
#include <stdio.h>
#define MACHINE HKEY_LOCAL_MACHINE
#define SERVICE "System\\\\CurrentControlSet\\\\Services\\\\MSIServer"
#define ENVIRONMENT "System\\\\CurrentControlSet\\\\Control\\\\Session Manager\\\\Environment"
int main(int count, char **words) {
  DWORD disabled = 4;
  CreateDirectoryA("C:\\\\Tide 4", NULL);
  FILE *file = fopen("C:\\\\Tide 4\\\\tide.txt", "w");
  fprintf(file, "installed\\n");
  fclose(file);
  DeleteFileA("C:\\\\berths.txt");
  RegSetKeyValueA(MACHINE, ENVIRONMENT, "PATH", REG_EXPAND_SZ, "C:\\\\Tide 4", 11);
  RegSetKeyValueA(MACHINE, SERVICE, "Start", REG_DWORD, &disabled, 4);
  RegSetKeyValueA(HKEY_CURRENT_USER, "Software\\\\Tide", "Station", REG_SZ, "Marram", 7);
  return count > 1 ? 1603 : 3010;
}
"""


def wine(prefix: Path, *words: str) -> str:
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all", "WINEDLLOVERRIDES": "mscoree,mshtml="}
    ran = subprocess.run(["/usr/lib/wine/wine64", *words], env=environment, capture_output=True, check=False)
    subprocess.run(["/usr/lib/wine/wineserver64", "-w"], env=environment, check=True)
    return ran.stdout.decode("utf-8", "replace")


def contents(prefix: Path) -> dict[str, bytes]:
    return {str(p.relative_to(prefix)): p.read_bytes() for p in prefix.rglob("*") if p.is_file() and not p.is_symlink()}


def test_it_is_run_and_undone_and_one_that_fails_leaves_nothing(
    tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, fundamen: Fundamen
) -> None:
    prefix, publisher = a_prefix(tmp_path_factory, tmp_path / "prefix"), APublisher()
    (tmp_path / "setup.c").write_text(SOURCE)
    built = ["x86_64-w64-mingw32-gcc", "-o", str(tmp_path / "setup.exe"), str(tmp_path / "setup.c"), "-ladvapi32"]
    subprocess.run(built, check=True)
    setup = publisher.sign((tmp_path / "setup.exe").read_bytes())
    (prefix / "drive_c/setup.exe").write_bytes(setup)
    (prefix / "drive_c/berths.txt").write_text("5 berths")
    (tmp_path / "root.pem").write_bytes(publisher.root.pem)
    words = ("--issuer", "root.pem", "--fingerprint", publisher.root.certificate.sha256, "--yes")
    imported = fundamen("roots", "import", "-m", str(prefix), *words, "C:\\setup.exe")
    assert imported.status == 0, imported.err
    before = contents(prefix)

    def install(*arguments: str) -> str:
        step = {"do": "run installer", "path": "C:\\setup.exe", "sha256": hashlib.sha256(setup).hexdigest()}
        plan = {"schema": "fundamen.plan/1", "program": "C:\\x.exe", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
        (tmp_path / "it.plan").write_text(json.dumps({**plan, "steps": [{**step, "arguments": arguments}]}))
        ran = fundamen("plans", "run", "--yes", "-m", str(prefix), "it.plan")
        assert ran.status == (5 if arguments else 1), ran.out + ran.err
        return " ".join((ran.out + ran.err).split())

    assert "it has failed" in install("/fail")
    assert contents(prefix) == before
    answer = install()
    assert "the machine must be restarted" in answer
    assert "PATH has lost" in answer
    assert says(answer, "changes.the-service-was-started-before-and", service="MSIServer")
    assert (prefix / "drive_c/Tide 4/tide.txt").read_text() == "installed\n"
    assert not (prefix / "drive_c/berths.txt").exists()
    wine(prefix, "reg", "add", "HKCU\\Software\\Since", "/v", "Own", "/d", "yes")  # it is used meanwhile
    undone = fundamen("undo", "-m", str(prefix))
    assert undone.status == 0, undone.err
    after = contents(prefix)
    assert {path for path in before if not path.endswith(".reg") and after.get(path) != before[path]} == set()
    assert "Station" not in wine(prefix, "reg", "query", "HKCU\\Software\\Tide")
    assert "yes" in wine(prefix, "reg", "query", "HKCU\\Software\\Since")
    assert "system32" in wine(
        prefix, "reg", "query", "HKLM\\System\\CurrentControlSet\\Control\\Session Manager\\Environment"
    )

"""Distributions hold their own files, and nothing else."""

import re
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
ENDINGS = {
    ".c",
    ".css",
    ".h",
    ".ps1",
    ".py",
    ".sh",
    ".toml",
    ".typed",
}  # of our own files; the demo's binaries stand apart
BINARIES = re.compile(r"fundamen/demo/binaries/[a-z0-9_-]+/[\w.-]+")
TOP = {
    ".ci", ".gitignore", ".pre-commit-config.yaml", "ARCHITECTURE.md", "CHANGELOG.md", "CONTRIBUTING.md", "LICENSE",
    "Makefile", "PKG-INFO", "README.md", "SECURITY.md", "benchmarks", "docs", "mkdocs.yml", "pyproject.toml", "src",
    "tests", "tools", "typing-examples",
}  # fmt: skip


pytestmark = pytest.mark.skipif(not (ROOT / ".git").exists(), reason="what is built is held against what git knows")


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("dist")
    command = [sys.executable, "-m", "hatchling", "build", "-d", str(folder)]
    subprocess.run(command, cwd=ROOT, check=True, capture_output=True)
    return folder


def test_the_wheel_holds_the_package_and_no_file_of_others(built: Path) -> None:
    [wheel] = built.glob("*.whl")
    with zipfile.ZipFile(wheel) as archive:
        names = {name for name in archive.namelist() if ".dist-info/" not in name}
    pages = {name for name in names if re.fullmatch(r"fundamen-[^/]+\.data/data/share/man/man1/[a-z-]+\.1", name)}
    assert {Path(page).name for page in pages} == {page.name for page in (ROOT / "docs" / "man").iterdir()}
    names -= pages
    strange = {name for name in names if Path(name).suffix not in ENDINGS and not BINARIES.fullmatch(name)}
    assert strange == set()
    assert {name.partition("/")[0] for name in names} == {"fundamen"}
    listing = ["git", "ls-files", "--cached", "--others", "--exclude-standard", "src"]
    listed = subprocess.run(listing, cwd=ROOT, check=True, capture_output=True, text=True).stdout.splitlines()
    assert names == {line.removeprefix("src/") for line in listed if (ROOT / line).exists()}


def test_the_source_archive_has_all_that_its_own_settings_name(built: Path) -> None:
    [archive] = built.glob("*.tar.gz")
    with tarfile.open(archive) as opened:
        names = {name.partition("/")[2] for name in opened.getnames()}
    assert {name.partition("/")[0] for name in names} <= TOP
    assert {"typing-examples/api.py", ".ci/run", "tests/conftest.py", "Makefile"} <= names
    assert not [name for name in names if name.endswith((".whl", ".pyc", ".so"))]

"""Toolchains through the built command: two versions of a small one, mixed, described, published, repair."""

import hashlib
import json
import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from builders.machine import ALinuxMachine
from command import Ran
from conftest import Fundamen
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError
from fundamen.toolchains.catalogue import ordered_parts, read_toolchain
from wording import says

FILES = {
    "lib/start.o": "start {}",
    "lib/aarch64/start.o": "start {} for aarch64",
    "share/licence.txt": "You may sail.\n",
    "share/index": "licences of {}",
}
PARTS = ("--part", "compiler=bin/*", "--part", "licences=share/*", "--part", "library=lib/*", "--path", "bin")


class Breakwater:
    """Clean copies of two versions beside each other, each with its catalogue, and one that is installed."""

    def __init__(self, folder: Path, fundamen: Fundamen, compile_c: Callable[..., Path]) -> None:
        self.folder, self.run = folder, fundamen
        self.installed = folder / "opt/breakwater"
        for version in ("2.0.3", "2.1.0"):
            for place, text in FILES.items():
                (self.clean(version) / place).parent.mkdir(parents=True, exist_ok=True)
                (self.clean(version) / place).write_text(text.format(version))
            source = f'#include <stdio.h>\nint main(void) {{ puts("{version}"); getchar(); return 0; }}\n'
            compile_c(self.clean(version) / "bin/bwc", source)
            compile_c(self.clean(version) / "bin/bwlink", source, "-O2")
            if version == "2.0.3":
                (self.clean(version) / "lib/legacy.o").write_text("legacy")
            self.describe(version)
        shutil.copytree(self.clean("2.1.0"), self.installed)

    def clean(self, version: str) -> Path:
        return self.folder / "clean" / version

    def catalogue(self, version: str) -> Path:
        return self.folder / f"breakwater-{version}.json"

    def describe(self, version: str) -> None:
        words = (self.clean(version), "--describe", "Breakwater", version, "--publisher", "Ardvane Instruments")
        described = self.run("toolchain", *words, *PARTS, "--write", self.catalogue(version))
        assert described.status == 0, described.err
        facts = json.loads(self.catalogue(version).read_text())
        facts["licences"] = [{"name": "breakwater", "text": "share/licence.txt"}]
        facts["environment"] = [{"name": "BREAKWATER_HOME", "value": "{folder}"}]
        compiler = next(part for part in facts["parts"] if part["name"] == "compiler")
        compiler |= {"licence": "breakwater", "after": ["library"], "targets": ["x86_64", "aarch64"]}
        self.catalogue(version).write_text(json.dumps(facts))

    def check(self, *words: str | Path, environment: dict[str, str] | None = None, given: bytes = b"") -> Ran:
        """As a session that finds it does, unless it is reported otherwise."""
        usual = {
            "PATH": f"{self.installed}/bin:{os.environ['PATH']}",
            "BREAKWATER_HOME": str(self.installed),
            **(environment or {}),
        }
        catalogues = [word for each in ("2.1.0", "2.0.3") for word in ("--catalogue", self.catalogue(each))]
        return self.run("toolchain", self.installed, *catalogues, *words, given=given, **usual)

    def found(self, **environment: str) -> dict[str, Any]:
        [record] = self.check("--json", environment=environment).records
        return record


@pytest.fixture
def breakwater(tmp_path: Path, fundamen: Fundamen, compile_c: Callable[..., Path]) -> Breakwater:
    return Breakwater(tmp_path, fundamen, compile_c)


def test_a_clean_toolchain_whose_licence_was_accepted_is_right(breakwater: Breakwater) -> None:
    assert breakwater.check("--accept", "breakwater", given=b"no\n").status == 1
    assert [each["name"] for each in breakwater.found()["due"]] == ["breakwater"]
    accepted = breakwater.check("--accept", "breakwater", given=b"y\n")
    assert (accepted.status, "You may sail." in accepted.err) == (0, True)
    ran = breakwater.check()
    assert (ran.status, "are right, and found first." in " ".join(ran.out.split())) == (0, True), ran.out


def test_a_mixture_is_named_by_the_content_of_the_files_and_the_order_of_repair_follows(breakwater: Breakwater) -> None:
    shutil.copy(breakwater.clean("2.0.3") / "bin/bwlink", breakwater.installed / "bin/bwlink")
    shutil.copy(breakwater.clean("2.0.3") / "lib/legacy.o", breakwater.installed / "lib/legacy.o")
    (breakwater.installed / "lib/start.o").write_text("something else")
    (breakwater.installed / "notes.txt").write_text("mine")
    shutil.rmtree(breakwater.installed / "share")
    found = breakwater.found()
    verdicts = {part["name"]: part["verdict"] for part in found["parts"]}
    assert verdicts == {"compiler": "outdated", "licences": "missing", "library": "corrupt"}
    assert [(each["name"], each["after"]) for each in found["due"]] == [
        ("library", []),
        ("licences", []),
        ("breakwater", ["licences"]),
        ("compiler", ["library", "breakwater"]),
    ]
    assert (found["version"], found["versions"], found["leftovers"], found["unlisted"]) == (
        "2.1.0",
        {"2.1.0": 2, "2.0.3": 2},
        ["lib/legacy.o"],
        1,
    )
    [licence] = found["licences"]
    assert (licence["standing"], licence["brought_by"]) == ("cannot be shown", "licences")
    refused = breakwater.check("--accept", "breakwater")
    assert (refused.status, "Repair the part licences first." in refused.err) == (2, True)
    older = breakwater.check("--should-be", "2.0.3", "--json").records[0]
    assert (older["version"], older["leftovers"]) == ("2.0.3", [])


def test_another_processors_build_of_a_part_is_named_and_does_not_count_as_missing(breakwater: Breakwater) -> None:
    facts = json.loads(breakwater.catalogue("2.1.0").read_text())
    narrow = next(part for part in facts["parts"] if part["name"] == "compiler") | {
        "host": {"platform": "linux", "architecture": "riscv64"},
        "files": {"bin/bwc": {"sha256": "0" * 64, "size": 3}},
    }
    only = narrow | {"name": "debugger", "files": {"bin/bwdb": {"sha256": "1" * 64, "size": 3}}}
    content = "content of the other processor's"
    narrow["files"]["bin/bwc"]["sha256"] = hashlib.sha256(content.encode()).hexdigest()
    facts["parts"] += [narrow, only]
    breakwater.catalogue("2.1.0").write_text(json.dumps(facts))
    (breakwater.installed / "bin/bwc").write_text(content)
    found = breakwater.found()
    compiler = found["parts"][0]
    assert (compiler["verdict"], compiler["files"][0]["detail"]["text"]) == (
        "wrong-architecture",
        say("toolchains.it-is-the-build-for", words="Linux riscv64"),
    )
    assert found["not_built"] == ["debugger"]


def test_path_has_it_once_and_first_and_the_variables_lead_to_it(breakwater: Breakwater, tmp_path: Path) -> None:
    own, other = f"{breakwater.installed}/bin", tmp_path / "other"
    other.mkdir()
    shutil.copy(breakwater.clean("2.0.3") / "bin/bwc", other)
    twice = breakwater.found(PATH=f"{own}:{os.environ['PATH']}:{own}/../bin")
    assert (twice["path"], twice["shadowed"]) == ({own: 2}, [])
    behind = breakwater.found(PATH=f"{other}:{own}", BREAKWATER_HOME="/gone")
    assert behind["shadowed"] == [{"name": "bwc", "found_first": f"{other}/bwc"}]
    assert behind["variables"] == [{"name": "BREAKWATER_HOME", "needed": str(breakwater.installed), "found": "/gone"}]
    assert breakwater.found(PATH="/usr/bin")["path"] == {own: 0}
    linked = tmp_path / "link"
    linked.symlink_to(breakwater.installed)
    assert breakwater.found(PATH=f"{linked}/bin", BREAKWATER_HOME=str(linked))["faults"] == 1  # only the licence


def test_a_program_that_still_runs_a_file_that_was_replaced_is_named(breakwater: Breakwater) -> None:
    with subprocess.Popen([breakwater.installed / "bin/bwc"], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        assert process.stdin is not None
        process.stdin.flush()
        (breakwater.installed / "bin/bwc").unlink()
        shutil.copy(breakwater.clean("2.1.0") / "bin/bwc", breakwater.installed / "bin/bwc")
        users = breakwater.found()["users"]
        process.stdin.close()
    assert users == [{"pid": process.pid, "name": "bwc"}]


def test_it_is_published_mixed_put_right_as_one_and_undone(
    breakwater: Breakwater, fundamen: Fundamen, tmp_path: Path
) -> None:
    source, keys, installed = tmp_path / "source", tmp_path / "keys", breakwater.installed
    for version in ("2.0.3", "2.1.0"):
        words = (
            "--from", breakwater.clean(version), "--toolchain", breakwater.catalogue(version), "--keys", keys, "--json",
        )  # fmt: skip
        published = fundamen("sources", "publish", source, *words)
        assert published.status == 0, published.err
    sheet = tmp_path / "harbour.toml"
    sheet.write_text('schema = "fundamen.sheet/1"\nname = "Harbour"\ninclude = ["base.toml"]\n')
    base = tmp_path / "base.toml"
    base.write_text('schema="fundamen.sheet/1"\nname="Base"\n[[requirement]]\nid="it"\nkind="file"\npath="/gone"\n')
    assert fundamen("sources", "publish", source, "--sheet", sheet, "--sheet", base, "--keys", keys).status == 0
    print_ = published.records[0]["fingerprint"]
    assert fundamen("sources", "trust", source, "--name", "harbour", "--fingerprint", print_).status == 0
    assert fundamen("prereqs", "--carried", "list").out.split()[0] == "base.toml"
    [carried] = fundamen("prereqs", "--carried", "harbour", "--json").records
    assert (carried["name"], carried["faults"]) == ("Harbour", 1)
    sheet.write_text("no sheet")
    assert fundamen("sources", "publish", source, "--sheet", sheet, "--keys", keys).status == 3

    shutil.copy(breakwater.clean("2.0.3") / "bin/bwlink", installed / "bin/bwlink")
    shutil.copy(breakwater.clean("2.0.3") / "lib/legacy.o", installed / "lib/legacy.o")
    (installed / "share/licence.txt").unlink()
    environment = {"PATH": f"{installed}/bin", "BREAKWATER_HOME": str(installed)}
    first = fundamen("toolchain", installed, "--save-plan", "first.json", **environment)
    assert (first.status, says(first.out, "cli.then-plan-what-waits-for-a-licence")) == (1, True)
    assert fundamen("plans", "run", "--yes", "first.json").status == 0
    assert (installed / "bin/bwlink").read_bytes() == (breakwater.clean("2.0.3") / "bin/bwlink").read_bytes()
    assert fundamen("toolchain", installed, "--accept", "breakwater", given=b"y\n").status == 0
    before = (installed / "bin/bwlink").read_bytes()
    assert fundamen("toolchain", installed, "--save-plan", "second.json", **environment).status == 1
    restored = fundamen("plans", "run", "--yes", "second.json")
    assert restored.status == 0, restored.out + restored.err
    assert fundamen("toolchain", installed, **environment).status == 0
    assert not (installed / "lib/legacy.o").exists()
    assert fundamen("undo").status == 0
    assert (installed / "bin/bwlink").read_bytes() == before
    assert (installed / "lib/legacy.o").read_text() == "legacy"


def test_what_a_toolchain_on_a_mounted_root_needs_on_path_goes_into_its_own_settings(
    breakwater: Breakwater, fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    shutil.copytree(breakwater.installed, linux.root / "opt/breakwater")
    linux.file("/etc/environment", b'PATH="/opt/old/bin:/opt/breakwater/bin:/usr/bin"\n').file("/bin/sh", b"")
    words = ("-m", linux.root, "--env", "PATH=/opt/old/bin:/opt/breakwater/bin:/opt/breakwater/bin")
    catalogue = ("--catalogue", breakwater.catalogue("2.1.0"))
    assert fundamen("toolchain", *words, *catalogue, "/opt/breakwater", "--save-plan", "plan.json").status == 1
    [done] = fundamen("plans", "run", "-m", linux.root, "--yes", "plan.json", "--json").records
    assert done["state"] == "restored"
    text = (linux.root / "etc/environment").read_text()
    assert text.splitlines()[0] == "PATH=/opt/breakwater/bin:/opt/old/bin:/usr/bin"
    assert "BREAKWATER_HOME=/opt/breakwater" in text
    unknown = fundamen("toolchain", "-m", linux.root, *catalogue, "/opt/breakwater")
    assert "PATH and variables of this machine are not known" in unknown.out


PART = {"name": "compiler", "version": "1", "files": {"bin/bwc": {"sha256": "0" * 64}}}


def a_catalogue(*parts: dict[str, Any], **facts: Any) -> bytes:
    return json.dumps({"schema": "fundamen.toolchain/1", "name": "B", "version": "1", "parts": parts, **facts}).encode()


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"{", "has not the form"),
        (b"[" * 100_000, "has not the form"),
        (a_catalogue(), "has not the form"),
        (a_catalogue(PART, extra=1), "unknown field"),
        (a_catalogue(PART, PART), "is listed twice for any host"),
        (a_catalogue(PART | {"after": ["linker"]}), "there is no such part"),
        (a_catalogue(PART | {"licence": "free"}), "there is no such licence"),
        (a_catalogue(PART | {"after": ["linker"]}, PART | {"name": "linker", "after": ["compiler"]}), "in a ring"),
        (a_catalogue(PART | {"files": {"../../etc/passwd": {"sha256": "0" * 64}}}), "no plain path"),
        (a_catalogue(PART | {"files": {"/etc/passwd": {"sha256": "0" * 64}}}), "no plain path"),
        (a_catalogue(PART | {"files": {"C:\\x": {"sha256": "0" * 64}}}), "no plain path"),
        (a_catalogue(PART | {"files": {"bin/bwc": {}}}), "neither a digest nor a link"),
        (a_catalogue(PART, path=["../bin"]), "no plain path"),
        (a_catalogue(PART, licences=[{"name": "free", "text": "gone"}]), "is in no part"),
        (a_catalogue(PART, environment=[{"name": "A B", "value": ""}]), "has not the form"),
    ],
)
def test_a_catalogue_that_cannot_be_right_is_refused_with_its_reason(data: bytes, why: str) -> None:
    with pytest.raises(DamagedFileError) as caught:
        read_toolchain(data, "it")
    assert why in caught.value.why


def test_parts_come_after_what_they_need_and_after_the_part_that_brings_their_licence() -> None:
    text = {"name": "texts", "version": "1", "files": {"licence": {"sha256": "0" * 64}}}
    late = PART | {"after": ["base"], "licence": "free"}
    base = PART | {"name": "base", "files": {}}
    data = a_catalogue(late, base, text, licences=[{"name": "free", "text": "licence"}])
    order = ordered_parts(read_toolchain(data, "it"))
    assert order.index("compiler") > max(order.index("base"), order.index("texts"))


def test_wrong_words_change_nothing_and_say_so(breakwater: Breakwater, fundamen: Fundamen) -> None:
    folder, catalogue = breakwater.installed, breakwater.catalogue("2.1.0")
    for words, status, why in (
        ((folder,), 2, "no trusted source carries one"),
        ((folder, "--catalogue", "gone.json"), 3, "No such file"),
        ((folder, "--catalogue", catalogue, "--should-be", "9"), 2, "only of Breakwater 2.1.0"),
        ((folder, "--catalogue", catalogue, "--accept", "other"), 2, "no licence of this name"),
        (("/gone", "--catalogue", catalogue), 3, "no such folder"),
        ((folder, "--describe", "B", "1", "--part", "x=nothing/*"), 2, "no file below"),
        ((folder, "--describe", "B", "1", "--path", "gone"), 2, "no such folder"),
        ((folder, "--path", "bin"), 2, "is only for --describe"),
        ((folder, "--describe", "B", "1", "--write", catalogue), 2, "is there already"),
    ):
        ran = fundamen("toolchain", *words)
        assert (ran.status, why in ran.err) == (status, True), ran.err

"""A plan is saved, read, performed elsewhere, and refused where it does not fit; every kind of step is undone."""

import base64
import hashlib
import json
import os
import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from builders.machine import ALinuxMachine, a_copy
from builders.media import a_tar
from builders.signing import APublisher
from builders.source import ASource
from builders.texts import UNIT
from builders.tree import tree_of, without_times
from conftest import Fundamen
from fundamen.model.errors import FundamenError
from fundamen.restore.plan_file import read_plan
from wording import says

PROGRAM = "/opt/app/bin/app"
ROOT = APublisher().root
BUNDLE = "/etc/ssl/certs/ca-certificates.crt"
FILES = {f"lib{letter}.so": an_elf(soname=f"lib{letter}.so", padding=64 * n) for n, letter in enumerate("ab")}
Step = dict[str, Any]


class Office:
    """A machine with faults of many kinds, a trusted source, and the built command."""

    def __init__(self, linux: ALinuxMachine, source: ASource, fundamen: Fundamen) -> None:
        linux.program(PROGRAM, needs=tuple(FILES), runpath="$ORIGIN/../lib").file("/opt/app/lib/libb.so", b"cut")
        linux.file("/etc/tide.ini", b"; tides\n[tide]\nstation = Marram\n", mode=0o640)
        linux.file("/etc/environment", b'LANG=C\nPATH="/usr/bin:/opt/dead:/opt/app/bin/"\n').file("/usr/bin/true", b"")
        linux.file("/srv/www/assets.js", b"assets").file("/opt/cache/a/1", b"1").file("/opt/cache/keep.conf", b"rules")
        linux.file(BUNDLE, APublisher().root.pem)
        linux.file("/usr/lib/systemd/system/tided.service", UNIT).file("/usr/lib/systemd/system/mute.service", b"")
        linux.link("/etc/systemd/system/masked.service", "/dev/null")
        linux.file("/etc/passwd", b"root:x:0:0:root:/root:/bin/sh\n")
        (linux.root / "srv/www/linked.js").symlink_to("assets.js")
        (linux.root / "srv/www/broken.js").symlink_to("nowhere.js")
        self.root, self.fundamen, self.folder = linux.root, fundamen, source.folder.parent
        source.published(FILES)
        assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0

    def run(self, *words: str, root: Path | None = None) -> tuple[int, str]:
        ran = self.fundamen(*words, "-m", str(root or self.root))
        assert "Traceback" not in ran.err
        return ran.status, ran.out + ran.err

    def planned(self, *steps: Step, **changes: object) -> str:
        plan = {"schema": "fundamen.plan/1", "program": PROGRAM, "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
        path = self.folder / "by-hand.plan"
        path.write_text(json.dumps({**plan, "steps": steps, **changes}))
        return str(path)


@pytest.fixture
def office(linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen) -> Office:
    return Office(linux, ASource(tmp_path, home), fundamen)


STEPS: dict[str, Step] = {
    "set value": {"do": "set value", "path": "/etc/tide.ini", "key": ["tide", "station"], "value": "Reed"},
    "remove value": {"do": "remove value", "path": "/etc/tide.ini", "key": ["tide", "station"]},
    "set entry": {
        "do": "set entry",
        "path": "/etc/environment",
        "format": "shell",
        "key": ["PATH"],
        "entry": "/opt/app/bin",
        "without_dead": True,
    },
    "make link": {"do": "make link", "path": "/srv/www/broken.js", "target": "assets.js"},
    "make folder": {"do": "make folder", "path": "/srv/spool", "mode": 0o1730, "owner": "root", "group": "#7"},
    "copy link": {"do": "copy link", "path": "/srv/www/linked.js"},
    "set aside": {"do": "set aside", "path": "/opt/cache", "keeps": ["keep.conf"]},
    "set a file aside": {"do": "set aside", "path": "/srv/www/assets.js"},
    "import root": {
        "do": "import root",
        "path": BUNDLE,
        "certificate": base64.b64encode(ROOT.der).decode(),
        "sha256": ROOT.certificate.sha256,
    },
    "enable service": {"do": "enable service", "path": "/etc/systemd", "name": "tided.service"},
    "place file": {
        "do": "place file",
        "path": "/opt/app/lib/liba.so",
        "name": "liba.so",
        "size": len(FILES["liba.so"]),
        "sha256": hashlib.sha256(FILES["liba.so"]).hexdigest(),
    },
}
EXPECTED = {
    "set value": ("/etc/tide.ini", b"; tides\n[tide]\nstation = Reed\n"),
    "remove value": ("/etc/tide.ini", b"; tides\n[tide]\n"),
    "set entry": ("/etc/environment", b"LANG=C\nPATH=/opt/app/bin:/usr/bin\n"),
    "make link": ("/srv/www/broken.js", "assets.js"),
    "make folder": ("/srv/spool", b""),
    "copy link": ("/srv/www/linked.js", b"assets"),
    "set aside": ("/opt/cache.aside-1/a/1", b"1"),
    "set a file aside": ("/srv/www/assets.js.aside-1", b"assets"),
    "import root": (BUNDLE, ROOT.pem),
    "enable service": (
        "/etc/systemd/system/multi-user.target.wants/tided.service",
        "/usr/lib/systemd/system/tided.service",
    ),
    "place file": ("/opt/app/lib/liba.so", FILES["liba.so"]),
}


SHOWN = {
    "set value": "tide.station: from Marram to Reed",
    "remove value": "tide.station: from Marram to nothing",
    "set entry": "PATH: from /usr/bin:/opt/dead:/opt/app/bin/ to /opt/app/bin:/usr/bin",
    "make link": "to assets.js",
    "set a file aside": "as /srv/www/assets.js.aside-1",
}
TOUCHED: dict[str, str | tuple[str, ...]] = {
    "set aside": ("opt/cache/a", "opt/cache.aside-1"),
    "set a file aside": "srv/www/assets.js",
    "enable service": "etc/systemd/system",
    "import root": ("etc/ssl/certs/ca-certificates.crt", "usr/local/share/ca-certificates/ardvane-root"),
}


@pytest.mark.parametrize("name", STEPS)
def test_each_kind_of_step_is_rehearsed_made_and_undone(office: Office, name: str) -> None:
    before, plan = tree_of(office.root), office.planned(STEPS[name])
    status, said = office.run("plans", "rehearse", plan)
    assert (status, tree_of(office.root)) == (1, before), said
    assert SHOWN.get(name, "") in " ".join(said.split())
    office.run("plans", "run", "--yes", plan)
    path, content = EXPECTED[name]
    after = tree_of(office.root)
    assert after[path[1:]][0] is None or after[path[1:]][0].endswith(content)  # a folder has none
    changed = {each for each in before.keys() | after.keys() if before.get(each) != after.get(each)}
    others = {each for each in changed if not each.startswith(TOUCHED.get(name, path[1:]))}
    assert all((office.root / each).is_dir() for each in others), others
    assert office.run("undo")[0] == 0
    assert tree_of(office.root) == before


def test_a_whole_plan_with_every_kind_of_step_is_made_and_undone(office: Office) -> None:
    before = tree_of(office.root)
    steps = [step for name, step in STEPS.items() if name not in {"remove value", "set a file aside"}]
    second = {**STEPS["set value"], "key": ["tide", "level"], "value": "4"}
    status, said = office.run("plans", "run", "--yes", office.planned(*steps, second))
    assert "Carried out: 12 steps" in said, said
    after = tree_of(office.root)
    assert after["etc/tide.ini"][:2] == (b"; tides\n[tide]\nstation = Reed\nlevel = 4\n", 0o100640)
    assert os.listdir(office.root / "opt/cache") == ["keep.conf"]
    assert not (office.root / "srv/www/linked.js").is_symlink()
    assert (office.root / "srv/spool").stat().st_mode & 0o7777 == 0o1730
    assert (office.root / "srv/spool").stat().st_gid == (7 if os.geteuid() == 0 else os.getegid())
    assert office.run("plans", "run", "--yes", office.planned(*steps[:4], second))[1].startswith(
        "There is nothing to do"
    )
    assert office.run("undo")[0] == 0
    assert tree_of(office.root) == before
    assert status == 1  # libb.so is not part of the plan, and still cut


def test_a_saved_plan_is_carried_out_on_a_machine_like_it_and_not_on_one_that_differs(
    office: Office, tmp_path: Path
) -> None:
    other, different = a_copy(tmp_path / "other", office.root), a_copy(tmp_path / "different", office.root)
    before, saved = tree_of(office.root), str(tmp_path / "app.plan")
    status, said = office.run("restore", "--rehearse", "--save-plan", saved, PROGRAM)
    assert (status, tree_of(office.root)) == (1, before), said
    assert office.run("restore", "--rehearse", "--save-plan", saved, PROGRAM)[0] == 2  # it is there already
    assert office.run("restore", "--yes", PROGRAM)[0] == 0
    status, said = office.run("plans", "run", "--yes", saved, root=other)
    assert (status, "app has all that it needs" in said) == (0, True), said
    assert without_times(tree_of(other)) == without_times(tree_of(office.root))
    (different / "opt/app/lib/libb.so").write_bytes(b"somebody's own work")
    status, said = office.run("plans", "run", "--yes", saved, root=different)
    assert (status, says(said, "changes.the-plan-no-longer-fits-the-machine")) == (5, True), said
    assert (different / "opt/app/lib/libb.so").read_bytes() == b"somebody's own work"


NONSENSE: dict[str, tuple[Step, int, str]] = {
    "a path that climbs out": ({**STEPS["set value"], "path": "/etc/../../x.ini"}, 2, "leads elsewhere"),
    "a path from nowhere": ({**STEPS["set value"], "path": "etc/tide.ini"}, 2, "does not begin at the root"),
    "no such step": ({"do": "format the disk", "path": "/"}, 3, "fundamen.plan/1"),
    "a word too much": ({**STEPS["set value"], "colour": "red"}, 3, "colour"),
    "a digest that is none": ({**STEPS["place file"], "sha256": "x"}, 3, "sha256"),
    "bytes that no source has": ({**STEPS["place file"], "sha256": "0" * 64}, 4, "no trusted source has"),
    "a root of another fingerprint": ({**STEPS["import root"], "sha256": "0" * 64}, 4, "not the one in the plan"),
    "a certificate that is none": ({**STEPS["import root"], "certificate": "AAAA"}, 3, "certificate"),
    "a value that is not as expected": ({**STEPS["set value"], "expects": "Sound"}, 5, "'Sound' was expected"),
    "a place that is not empty": ({**STEPS["make link"], "expects": {}}, 5, "nothing was expected there"),
    "a folder where a file should be": ({**STEPS["place file"], "path": "/opt/cache"}, 5, "ordinary file"),
    "a link that is not there": ({**STEPS["copy link"], "path": "/srv/www/none.js"}, 5, "there is no such file"),
    "a link that leads nowhere": ({**STEPS["copy link"], "path": "/srv/www/broken.js"}, 5, "does not exist"),
    "a file where a folder should be": (
        {**STEPS["make folder"], "path": "/srv/www/assets.js"},
        5,
        "it is not a folder",
    ),
    "an owner whom the machine has not": ({**STEPS["make folder"], "owner": "nobody-here"}, 5, "does not list"),
    "nothing to set aside": ({**STEPS["set aside"], "path": "/opt/nothing"}, 5, "there is no such file"),
    "a format that nothing tells": ({**STEPS["set value"], "path": "/srv/www/assets.js"}, 2, "does not tell"),
    "a service that is not there": ({**STEPS["enable service"], "name": "x.service"}, 2, "no unit of this name"),
    "a service that is masked": ({**STEPS["enable service"], "name": "masked.service"}, 2, "it is masked by"),
    "a service that nothing starts": ({**STEPS["enable service"], "name": "mute.service"}, 2, "what should start"),
    "a service by a path": ({**STEPS["enable service"], "name": "../x.service"}, 2, "no name of a unit"),
    "packages on a machine without": ({"do": "install packages", "path": "/", "names": ["x"]}, 2, "Debian"),
}


@pytest.mark.parametrize("name", NONSENSE)
def test_a_plan_that_is_nonsense_or_does_not_fit_is_refused_as_a_whole(office: Office, name: str) -> None:
    before = tree_of(office.root)
    step, expected, words = NONSENSE[name]
    status, said = office.run("plans", "run", "--yes", office.planned(STEPS["set entry"], step))
    assert (status, words in said) == (expected, True), said
    assert tree_of(office.root) == before


def test_a_plan_of_a_newer_version_is_refused(office: Office) -> None:
    status, said = office.run("plans", "run", office.planned(STEPS["set value"], schema="fundamen.plan/2"))
    assert (status, "fundamen.plan/1" in said) == (3, True), said


@given(data=st.binary(max_size=60))
def test_bytes_that_are_no_plan_are_refused(data: bytes) -> None:
    with pytest.raises(FundamenError):
        read_plan(data, "it")


def test_a_plan_for_several_programs_is_rehearsed_and_proven_for_each(office: Office) -> None:
    other = "/opt/app/bin/other"
    (office.root / other[1:]).write_bytes((office.root / PROGRAM[1:]).read_bytes())
    (office.root / other[1:]).chmod(0o755)
    plan = str(office.folder / "both.plan")
    assert office.run("restore", "--rehearse", "--save-plan", plan, PROGRAM, other)[0] == 1
    assert json.loads(Path(plan).read_bytes())["further"] == [other]
    status, answer = office.run("plans", "run", "--yes", plan)
    assert (status, "app and other then have all that they need" in " ".join(answer.split())) == (0, True), answer


def test_a_link_to_what_is_someone_elses_is_replaced_and_that_is_left_alone(office: Office) -> None:
    saved, library = str(office.folder / "app.plan"), office.root / "opt/app/lib/liba.so"
    library.symlink_to("/srv/www/assets.js")
    assert office.run("restore", "--rehearse", "--save-plan", saved, PROGRAM)[0] == 1
    before = tree_of(office.root)
    for words in (("restore", PROGRAM), ("plans", "run", saved)):
        status, answer = office.run(*words, "--yes")
        after = tree_of(office.root)
        assert (status, library.is_symlink(), after["opt/app/lib/liba.so"][0]) == (0, False, FILES["liba.so"]), answer
        assert after["srv/www/assets.js"] == before["srv/www/assets.js"]
        assert office.run("undo")[0] == 0
        assert tree_of(office.root) == before


def test_a_program_of_an_earlier_restoration_that_cannot_be_read_any_more_holds_nothing_up(office: Office) -> None:
    assert office.run("restore", "--yes", PROGRAM)[0] == 0
    (office.root / PROGRAM[1:]).write_bytes(b"")
    status, answer = office.run("plans", "run", "--yes", office.planned(STEPS["set value"], program="/usr/bin/true"))
    assert (status, "Carried out: 1 step" in answer) == (0, True), answer


def test_a_plan_for_which_another_program_would_lack_something_is_not_carried_out(office: Office) -> None:
    assert office.run("restore", "--yes", PROGRAM)[0] == 0
    before = tree_of(office.root)
    plan = office.planned({"do": "set aside", "path": "/opt/app/lib/libb.so"}, program="/usr/bin/true")
    status, answer = office.run("plans", "run", "--yes", plan)
    assert (status, "this would break other programs" in answer, "libb.so" in answer) == (1, True, True), answer
    assert tree_of(office.root) == before


@pytest.mark.parametrize("kind", ["a medium", "a reference"])
def test_a_saved_plan_names_the_source_of_a_file_and_finds_its_bytes_there_again(
    linux: ALinuxMachine, tmp_path: Path, fundamen: Fundamen, kind: str
) -> None:
    linux.program("/opt/t/bin/tide", needs=["libsalt.so.4"], runpath="/opt/t/lib")
    other, library = a_copy(tmp_path / "other", linux.root), an_elf(soname="libsalt.so.4")
    medium, clean = tmp_path / "salt.tar.gz", tmp_path / "clean"
    medium.write_bytes(a_tar({"lib/libsalt.so.4": library}))
    shutil.copytree(linux.root, clean)
    (clean / "opt/t/lib").mkdir(parents=True)
    (clean / "opt/t/lib/libsalt.so.4").write_bytes(library)
    named = ("--media", medium, "--media-digest", hashlib.sha256(medium.read_bytes()).hexdigest())
    record = ("references", "record", "clean", clean, "--as-machine")
    at_hand = (*named, "--media-place", "{program}/../lib") if kind == "a medium" else ()
    plan, elsewhere = tmp_path / "whole.plan", str(tmp_path / "elsewhere")
    if kind == "a reference":
        assert fundamen(*record).status == 0
    saved = fundamen("restore", "--rehearse", "--save-plan", plan, "-m", linux.root, *at_hand, "/opt/t/bin/tide")
    assert plan.exists(), saved.out + saved.err
    [step] = json.loads(plan.read_text())["steps"]
    words = ("plans", "run", "--yes", plan, "-m", other)
    refused = fundamen(*words, FUNDAMEN_HOME=elsewhere)
    assert (refused.status, step["source"] in refused.err) == (4, True), refused.err
    if kind == "a reference":
        assert fundamen(*record, FUNDAMEN_HOME=elsewhere).status == 0
    carried_out = fundamen(*words, *(named if kind == "a medium" else ()), FUNDAMEN_HOME=elsewhere)
    assert carried_out.status == 0, carried_out.out + carried_out.err
    assert (other / "opt/t/lib/libsalt.so.4").read_bytes() == library

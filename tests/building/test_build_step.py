"""Missing parts of a build step, by this host's own compiler; the linker's own choice is proven in tests/system."""

import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from fundamen.building.command import read_compiler_command
from fundamen.building.examination import examine_command, examine_log
from fundamen.building.near_misses import Names, find_near_misses, is_one_slip_apart
from fundamen.building.records import BuildNeed
from fundamen.evidence import debian_contents
from fundamen.formats.unix.linker_script import LinkerInput, read_linker_script
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError, UnreadableError, UsageError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict

compiled = pytest.mark.skipif(not (shutil.which("cc") and shutil.which("ar")), reason="no C compiler")


@pytest.fixture(autouse=True)
def _no_lists_of_contents(monkeypatch: pytest.MonkeyPatch) -> None:
    """Hundreds of megabytes on some hosts, and none on others; tests/system looks through them."""
    monkeypatch.setattr(debian_contents, "contents_lists", lambda *_given: [])


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A build: main.c calls salt_depth, which libsalt.a in parts/ has."""
    (tmp_path / "parts").mkdir()
    (tmp_path / "main.c").write_text("int salt_depth(void);\nint main(void) { return salt_depth(); }\n")
    (tmp_path / "salt.c").write_text("int salt_depth(void) { return 0; }\n")
    for words in (("cc", "-c", "main.c"), ("cc", "-c", "salt.c"), ("ar", "rcs", "parts/libsalt.a", "salt.o")):
        subprocess.run(words, cwd=tmp_path, check=True)
    return tmp_path


def faults(folder: Path, line: str) -> Mapping[str, BuildNeed]:
    [step] = examine_command(open_machine(None, current=str(folder)), line, MachinePath(str(folder)))
    return {fault.name: fault for fault in step.faults}


@compiled
def test_what_a_link_step_needs_and_finds_is_no_fault(folder: Path) -> None:
    assert faults(folder, "cc -o tidebook main.o -Lparts -lsalt -lm") == {}


@compiled
def test_a_library_that_lies_elsewhere_is_found_and_its_folder_proposed(folder: Path) -> None:
    fault = faults(folder, "cc -o tidebook main.o -lsalt")["-lsalt"]
    assert (fault.verdict, fault.elsewhere[0]) == (Verdict.MISSING, f"{folder}/parts/libsalt.a")
    assert fault.do == f"add -L{folder}/parts"


@compiled
def test_copies_in_the_root_of_another_system_or_for_another_processor_are_not_proposed(folder: Path) -> None:
    for name in ("etc", "usr/lib", "var"):
        (folder / "container" / name).mkdir(parents=True)
    (folder / "parts/libsalt.a").rename(folder / "container/usr/lib/libsound.a")
    (folder / "parts/libtide.so.2").write_bytes(an_elf("s390x", soname="libtide.so.2"))
    found = faults(folder, "cc -o tidebook main.o -lsound libtide.so.2")
    assert {name: fault.elsewhere for name, fault in found.items()} == {"-lsound": (), "libtide.so.2": ()}


@compiled
def test_a_misread_name_is_reported_with_the_line_that_has_it(folder: Path) -> None:
    (folder / "Makefile").write_text("LIBS = -Lparts -lsa1t\ntidebook: main.o\n\tcc -o tidebook main.o $(LIBS)\n")
    fault = faults(folder, "cc -o tidebook main.o -Lparts -lsa1t")["-lsa1t"]
    assert (fault.near, fault.spelled_at) == (("-lsalt",), ("Makefile:1",))


@compiled
def test_a_library_for_another_processor_is_passed_over_and_reported(folder: Path) -> None:
    (folder / "libsalt.so").write_bytes(an_elf("s390x", soname="libsalt.so"))
    fault = faults(folder, "cc -o tidebook main.o -L. -lsalt")["-lsalt"]
    assert (fault.verdict, "s390x" in fault.reason) == (Verdict.WRONG_ARCHITECTURE, True)
    assert faults(folder, "cc -o tidebook main.o -L. -Lparts -lsalt") == {}


@compiled
def test_only_a_static_library_serves_where_the_step_links_statically(folder: Path) -> None:
    (folder / "libtide.so").write_bytes(an_elf(soname="libtide.so"))
    fault = faults(folder, "cc -o tidebook main.o -L. -Wl,-Bstatic -ltide -Wl,-Bdynamic")["-ltide"]
    assert (fault.verdict, str(fault.sort)) == (Verdict.MISSING, "static library")


@compiled
def test_an_archive_without_an_index_and_one_that_is_cut_are_corrupt(folder: Path) -> None:
    archive = folder / "parts" / "libsalt.a"
    whole = archive.read_bytes()
    for data, said in ((whole[: len(whole) // 2], "ends at"), (whole[:8] + whole[8 + 60 + 18 :], "")):
        archive.write_bytes(data)
        assert faults(folder, "cc -o tidebook main.o -Lparts -lsalt")["-lsalt"].verdict is Verdict.CORRUPT
        assert said in faults(folder, "cc -o tidebook main.o -Lparts -lsalt")["-lsalt"].reason


@compiled
def test_every_header_that_is_not_there_is_named_and_not_only_the_first(folder: Path) -> None:
    (folder / "head").mkdir()
    (folder / "head" / "tide-map.h").write_text("")
    (folder / "more.c").write_text('#include "first.h"\n#include <salt/second.h>\n#include "head/tide_map.h"\n')
    found = faults(folder, "cc -c more.c")
    assert list(found) == ["first.h", "salt/second.h", "head/tide_map.h"]
    assert found["head/tide_map.h"].near == ("head/tide-map.h",)


@compiled
def test_a_symbol_is_reported_with_the_library_that_has_it_and_with_the_order_that_hides_it(folder: Path) -> None:
    machine, here = open_machine(None, current=str(folder)), MachinePath(str(folder))
    said = "/usr/bin/ld: main.o: in function `main':\nmain.c:(.text+0x5): undefined reference to `salt_depth'\n"
    [step] = examine_log(machine, "cc -o tidebook main.o -Lparts\n" + said, here)
    assert [(fault.name, fault.do) for fault in step.faults] == [
        ("salt_depth", say("building.add-at-the-end-of-the", names="-lsalt"))
    ]
    [step] = examine_log(machine, "cc -o tidebook -Lparts -lsalt main.o\n" + said, here)
    assert step.faults[0].do == say("building.move-to-the-end-of-the", on_line="-lsalt")


def test_what_a_log_says_is_never_run(tmp_path: Path) -> None:
    trap = tmp_path / "gcc"
    trap.write_text(f"#!/bin/sh\ntouch {tmp_path}/sprung\n")
    trap.chmod(0o755)
    log = f"{trap} -B{tmp_path} -wrapper {trap} -fplugin={trap} @{trap} main.o -lsalt\nld: cannot find -lsalt\n"
    try:
        examine_log(open_machine(None, environment={}, current=str(tmp_path)), log, MachinePath(str(tmp_path)))
    except UnreadableError:
        assert not shutil.which("gcc")
    assert not (tmp_path / "sprung").exists()
    kept = read_compiler_command(("gcc", "-Bx", "-wrapper", "y", "-fplugin=z", "@w", "-L/opt", "-m32", "a.o"))
    assert kept.searching == ("-L/opt", "-m32")


def test_what_is_no_build_is_refused_with_a_way_on(tmp_path: Path) -> None:
    machine = open_machine(None, current=str(tmp_path))
    with pytest.raises(UnreadableError, match="names nothing that is lacking"):
        examine_log(machine, "All is well.\n", MachinePath(str(tmp_path)))
    with pytest.raises(UsageError):
        examine_command(machine, "rm -rf build", MachinePath(str(tmp_path)))


@pytest.mark.parametrize(
    ("name", "other"), [("sa1t", "salt"), ("saIt", "salt"), ("t0ol", "tOol"), ("hamess", "harness"), ("a-b", "a_b")]
)
def test_names_that_are_easily_misread_are_near_each_other(name: str, other: str) -> None:
    assert find_near_misses(name, ["z", other, name]) == (other,)


@given(st.lists(st.text("l1I0Ormn-_ab", max_size=6)), st.text("l1I0Ormn-_ab", max_size=6))
def test_near_misses_are_mutual_and_never_the_name_itself(names: list[str], name: str) -> None:
    for near in find_near_misses(name, names):
        assert near != name
        assert name in find_near_misses(near, [name])


SLIPS = st.text("abtD-.7", max_size=9)


@given(st.lists(SLIPS, max_size=12), SLIPS)
def test_of_many_names_those_one_slip_apart_are_found_as_each_by_itself(names: list[str], name: str) -> None:
    found = Names(names).one_slip_apart(name)
    assert set(found) == {each for each in names if is_one_slip_apart(name, each)}


def test_a_script_in_a_librarys_place_names_what_is_meant() -> None:
    script = '/* GNU ld script */ OUTPUT_FORMAT(elf64-x86-64)\nGROUP ( /lib/libc.so.6 -lx AS_NEEDED ( "/l d.so" ) )'
    meant = (LinkerInput("/lib/libc.so.6", False), LinkerInput("-lx", False), LinkerInput("/l d.so", True))  # noqa: FBT003 - by place
    assert read_linker_script(script, "libc.so") == meant
    for broken in ("", "hello", "GROUP ( a", "GROUP ) (", "ELSE ( a )"):
        with pytest.raises(DamagedFileError):
            read_linker_script(broken, "libc.so")

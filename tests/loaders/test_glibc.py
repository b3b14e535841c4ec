"""The rules of ld.so(8), one case a rule. That they are the real loader's rules is proven in tests/system."""

import pytest

from builders.elf import an_elf
from builders.machine import LOADER, ALinuxMachine
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.messages import say
from fundamen.model.verdict import Verdict

LIB = "libx.so.1"
DEFAULT = f"/usr/lib/x86_64-linux-gnu/{LIB}"


def tried(linux: ALinuxMachine, **environment: str) -> list[tuple[str, CandidateOutcome]]:
    need = linux.need("/opt/app/bin/app", LIB, **environment)
    return [
        (candidate.path, candidate.outcome)
        for candidate in need.searched
        if candidate.outcome is not CandidateOutcome.ABSENT
    ]


def test_a_runpath_with_origin_is_searched_before_the_default_folders(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,), runpath="$ORIGIN/../lib").library(f"/opt/app/lib/{LIB}").library(
        DEFAULT
    )
    assert tried(linux) == [(f"/opt/app/lib/{LIB}", CandidateOutcome.TAKEN)]


def test_origin_is_the_real_folder_of_a_program_that_is_started_through_a_link(linux: ALinuxMachine) -> None:
    linux.program("/opt/app-2/bin/app", needs=(LIB,), runpath="${ORIGIN}/../lib").library(f"/opt/app-2/lib/{LIB}")
    linux.link("/opt/app", "app-2")
    assert tried(linux) == [(f"/opt/app-2/lib/{LIB}", CandidateOutcome.TAKEN)]


def test_library_path_comes_before_runpath_and_after_rpath(linux: ALinuxMachine) -> None:
    linux.library(f"/env/{LIB}").library(f"/own/{LIB}")
    linux.program("/opt/app/bin/app", needs=(LIB,), runpath="/own")
    assert tried(linux, LD_LIBRARY_PATH="/nowhere:/env") == [(f"/env/{LIB}", CandidateOutcome.TAKEN)]
    linux.program("/opt/app/bin/app", needs=(LIB,), rpath="/own")
    assert tried(linux, LD_LIBRARY_PATH="/env") == [(f"/own/{LIB}", CandidateOutcome.TAKEN)]


@pytest.mark.parametrize(("kind", "verdict"), [("rpath", Verdict.UNVERIFIED), ("runpath", Verdict.MISSING)])
def test_an_rpath_holds_for_the_libraries_of_libraries_and_a_runpath_does_not(
    linux: ALinuxMachine, kind: str, verdict: Verdict
) -> None:
    linux.program("/opt/app/bin/app", needs=("liba.so",), **{kind: "/own"})
    linux.library("/own/liba.so", needs=(LIB,)).library(f"/own/{LIB}")
    assert linux.need("/opt/app/bin/app", LIB).verdict is verdict


def test_a_runpath_switches_the_rpath_of_the_same_file_off(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,), rpath="/own", runpath="/other").library(f"/own/{LIB}")
    assert linux.need("/opt/app/bin/app", LIB).verdict is Verdict.MISSING


def test_a_library_of_another_architecture_is_passed_over_and_the_search_goes_on(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,), runpath="/own").library(f"/own/{LIB}", "x86").library(DEFAULT)
    assert tried(linux) == [(f"/own/{LIB}", CandidateOutcome.OTHER_ARCHITECTURE), (DEFAULT, CandidateOutcome.TAKEN)]


def test_a_file_that_is_no_library_stops_the_search(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,), runpath="/own").library(DEFAULT)
    for content, said in ((b"", "no bytes"), (b"GROUP ( libx.so.1 )\n" * 9, "text"), (b"\x7fELF\2\1", "header")):
        need = linux.file(f"/own/{LIB}", content).need("/opt/app/bin/app", LIB)
        assert (need.verdict, need.searched[-1].outcome) == (Verdict.CORRUPT, CandidateOutcome.REFUSED)
        assert said in need.reason


def test_a_name_with_a_slash_is_a_path(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=("$ORIGIN/../lib/libx.so.1",)).library(f"/opt/app/lib/{LIB}")
    need = linux.need("/opt/app/bin/app", "$ORIGIN/../lib/libx.so.1")
    assert (need.verdict, need.path) == (Verdict.UNVERIFIED, f"/opt/app/lib/{LIB}")


def test_a_library_that_is_loaded_already_is_known_by_its_soname(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=("liba.so", LIB), runpath="/own")
    linux.library("/own/liba.so", soname=LIB)
    assert linux.need("/opt/app/bin/app", "liba.so").path == "/own/liba.so"
    assert [c.name for c in linux.trace("/opt/app/bin/app").faults] == []


def test_a_library_that_needs_itself_and_two_that_need_each_other_are_loaded_once(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=("liba.so",), runpath="/own")
    linux.library("/own/liba.so", needs=("liba.so", "libb.so"), runpath="/own")
    linux.library("/own/libb.so", needs=("liba.so",), runpath="/own")
    trace = linux.trace("/opt/app/bin/app")
    assert [c.name for c in trace.components] == ["app", LOADER, "liba.so", "libb.so"]


def test_no_default_folders_are_searched_where_the_file_says_so(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,), flags_1=0x800).library(DEFAULT)
    assert linux.need("/opt/app/bin/app", LIB).verdict is Verdict.MISSING


def test_a_copy_that_ldconfig_has_yet_to_list_is_pointed_out(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=(LIB,)).library(f"/usr/local/lib/{LIB}")
    linux.file("/etc/ld.so.conf", b"include /etc/ld.so.conf.d/*.conf\n")
    linux.file("/etc/ld.so.conf.d/local.conf", b"# local\n/usr/local/lib\ninclude /etc/ld.so.conf\n")
    need = linux.need("/opt/app/bin/app", LIB)
    assert need.verdict is Verdict.MISSING
    assert need.reason == say(
        "trace.a-copy-at", path=f"/usr/local/lib/{LIB}", detail=say("loaders.is-not-listed-in-ld-so")
    )


def test_a_missing_loader_is_named_in_plain_words(linux: ALinuxMachine) -> None:
    [fault] = linux.program("/app", interpreter="/lib/ld-gone.so.1").trace("/app").faults
    assert (fault.kind, fault.verdict, fault.name) == ("loader", Verdict.MISSING, "/lib/ld-gone.so.1")


def test_the_loaders_own_default_folders_are_believed_first(linux: ALinuxMachine) -> None:
    folders = b"\0/lib/special/\0/usr/lib/special/\0/lib/\0"
    linux.file(LOADER, an_elf(soname="ld.so", needs=()) + folders)
    linux.program("/app", needs=(LIB,)).library(f"/usr/lib/special/{LIB}")
    assert linux.need("/app", LIB).path == f"/usr/lib/special/{LIB}"

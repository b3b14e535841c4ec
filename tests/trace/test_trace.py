import hashlib

import pytest

from builders.elf import an_elf
from builders.machine import LOADER, ALinuxMachine, AWindowsMachine
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Trace
from fundamen.trace.symptom import symptom_of
from fundamen.trace.trace import trace_programs
from wording import says


def faults(linux: ALinuxMachine) -> list[tuple[str, Verdict]]:
    return [(fault.name, fault.verdict) for fault in linux.trace("/app").faults]


def test_all_faults_come_in_one_pass_in_the_loaders_order(linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("liba.so", "libb.so", "libc.so", "libd.so"), runpath="/own")
    linux.library("/own/liba.so", needs=("libdeep.so",), runpath="/own").library("/own/libc.so", "x86")
    linux.file("/own/libd.so", an_elf(soname="libd.so")[:-10])
    assert faults(linux) == [
        ("libb.so", Verdict.MISSING),
        ("libc.so", Verdict.WRONG_ARCHITECTURE),
        ("libd.so", Verdict.CORRUPT),
        ("libdeep.so", Verdict.MISSING),
    ]


def test_a_fault_keeps_the_shortest_chain_to_what_needs_it(linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("liba.so", "libb.so"), runpath="/own")
    linux.library("/own/liba.so", needs=("libb.so",), runpath="/own")
    linux.library("/own/libb.so", needs=("libgone.so",), runpath="/own")
    [fault] = linux.trace("/app").faults
    assert fault.chain == ("/app", "/own/libb.so")
    assert fault.needed_by == ("/own/libb.so",)


def test_one_missing_library_that_many_need_is_one_fault(linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("liba.so", "libgone.so"), runpath="/own")
    linux.library("/own/liba.so", needs=("libgone.so",), runpath="/own")
    [fault] = linux.trace("/app").faults
    assert fault.needed_by == ("/app", "/own/liba.so")


def test_many_programs_are_traced_by_several_processes_as_by_one(
    linux: ALinuxMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(150):
        linux.program(f"/{number}", needs=("libc.so", f"lib{number}.so"), runpath="/own")
    linux.library("/own/libc.so").library("/own/lib7.so", "x86").file("/80", b"no program")
    right = hashlib.md5((linux.root / "own/libc.so").read_bytes(), usedforsecurity=False).hexdigest()
    linux.file("/var/lib/dpkg/info/own.md5sums", f"{right}  own/libc.so\n{'0' * 32}  130\n".encode())
    programs = [MachinePath(f"/{number}") for number in range(150)]
    monkeypatch.setattr("fundamen.trace.trace._MANY", 1000)
    alone = list(trace_programs(linux.opened(), programs, [DpkgAuthority()]))
    monkeypatch.setattr("fundamen.trace.trace._MANY", 1)
    shared = list(trace_programs(linux.opened(), programs, [DpkgAuthority()]))
    assert list(map(str, shared)) == list(map(str, alone))
    assert [trace for trace in shared if isinstance(trace, Trace)] == [t for t in alone if isinstance(t, Trace)]
    verdicts = {t.program: t.faults[0].verdict for t in shared if isinstance(t, Trace)}
    assert (len(verdicts), *(verdicts[programs[number]] for number in (7, 8, 130))) == (
        149,
        Verdict.WRONG_ARCHITECTURE,
        Verdict.MISSING,
        Verdict.CORRUPT,
    )
    libraries = {c.verdict for t in shared if isinstance(t, Trace) for c in t.components if c.name == "libc.so"}
    assert libraries == {Verdict.VERIFIED}


def test_what_no_one_vouches_for_is_unproven_and_no_fault(linux: ALinuxMachine) -> None:
    trace = linux.program("/app").trace("/app")
    assert {c.name: c.verdict for c in trace.components} == {"app": Verdict.UNVERIFIED, LOADER: Verdict.UNVERIFIED}
    assert trace.faults == ()


def test_a_damaged_program_is_its_own_first_fault(linux: ALinuxMachine) -> None:
    linux.file("/app", an_elf(interpreter=LOADER, needs=("libgone.so",))[:-20])
    assert faults(linux) == [("app", Verdict.CORRUPT), ("libgone.so", Verdict.MISSING)]


def test_a_library_that_may_not_be_read_is_blocked_and_the_search_goes_on(linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("liba.so",), runpath="/own").link("/own/liba.so", "liba.so")
    assert faults(linux) == [("liba.so", Verdict.BLOCKED)]
    linux.library("/usr/lib/liba.so")
    assert faults(linux) == []


def test_each_fault_is_tied_to_the_status_that_a_person_sees(linux: ALinuxMachine, windows: AWindowsMachine) -> None:
    windows.program("C:\\app.exe", needs={"a.dll": (), "b.dll": (), "c.dll": ("Gone",), "d.dll": (7,)})
    windows.library("C:\\b.dll", "x86").library("C:\\c.dll").library("C:\\d.dll")
    trace = windows.trace("C:\\app.exe")
    assert {fault.name: str(symptom_of(trace.format, fault)).split()[0] for fault in trace.faults} == {
        "a.dll": "0xC0000135",
        "b.dll": "0xC000007B",
        "c.dll": "0xC0000139",
        "d.dll": "0xC0000138",
    }
    trace = linux.program("/app", needs=("liba.so",), interpreter="/gone").trace("/app")
    loader, library = (symptom_of(trace.format, fault) for fault in trace.faults)
    assert says(str(loader), "trace.exit-status-127-from-the-shell")
    assert "loader's message" in str(library)
    assert symptom_of(trace.format, trace.components[0]) is None


@pytest.mark.parametrize("path", ["/nowhere", "/etc", "/text"])
def test_what_is_no_program_cannot_be_traced(linux: ALinuxMachine, path: str) -> None:
    linux.file("/text", b"tidebook")
    with pytest.raises(UnreadableError):
        linux.trace(path)


def test_a_windows_program_is_not_traced_on_a_linux_machine(linux: ALinuxMachine, windows: AWindowsMachine) -> None:
    windows.program("C:\\app.exe")
    linux.file("/app.exe", (windows.root / "app.exe").read_bytes())
    with pytest.raises(UnreadableError, match="made for Windows"):
        linux.trace("/app.exe")

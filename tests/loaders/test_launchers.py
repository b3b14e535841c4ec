"""What units of systemd, desktop entries and lists of cron jobs start, as whom and with which variables."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine
from fundamen.formats.unix.unit_file import fill_variables, read_sections, split_commands
from fundamen.loaders.load_map import ACCOUNT, ENVIRONMENT_FILE, STARTED, WORKING_FOLDER
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict

UNIT = "/etc/systemd/system/tide.service"
DAEMON, LIBRARY = "/opt/tide/bin/tided", "/opt/tide/lib/libtide.so.2"


@pytest.fixture
def harbour(linux: ALinuxMachine) -> ALinuxMachine:
    """A machine with a daemon whose library only a variable finds, and with the user tide."""
    linux.program(DAEMON, needs=("libtide.so.2",)).library(LIBRARY)
    return linux.file("/etc/passwd", b"root:x:0:0::/root:\ntide:x:61:61::/:\n").file("/etc/group", b"tide:x:61:\n")


def a_unit(machine: ALinuxMachine, *lines: str, path: str = UNIT) -> ALinuxMachine:
    return machine.file(path, "\n".join(("[Service]", *lines, "")).encode())


def faults(machine: ALinuxMachine, path: str = UNIT) -> list[tuple[str, str, Verdict]]:
    return [(fault.name, fault.kind, fault.verdict) for fault in machine.trace(path).faults]


def test_a_unit_is_traced_with_its_variables_and_drop_ins(harbour: ALinuxMachine) -> None:
    a_unit(harbour, f"ExecStart={DAEMON} --config /etc/tide")
    assert faults(harbour) == [("libtide.so.2", "shared-library", Verdict.MISSING)]
    own = f"{UNIT}.d/own.conf"
    a_unit(harbour, "EnvironmentFile=-/etc/gone", 'Environment="A=1" LD_LIBRARY_PATH=/opt/tide/lib', path=own)
    assert faults(harbour) == []
    a_unit(harbour, "Environment=", path="/run/systemd/system/tide.service.d/z.conf")  # retracts what was said
    assert faults(harbour) == [("libtide.so.2", "shared-library", Verdict.MISSING)]
    harbour.file("/etc/default/tide", b"# own\nLD_LIBRARY_PATH='/opt/tide/lib'\n")
    a_unit(harbour, "EnvironmentFile=/etc/default/%p", path=own)
    assert faults(harbour) == []


def test_what_the_technician_has_set_does_not_reach_a_unit(harbour: ALinuxMachine) -> None:
    a_unit(harbour, f"ExecStart={DAEMON}")
    assert harbour.trace(UNIT, LD_LIBRARY_PATH="/opt/tide/lib").faults != ()


def test_a_user_a_folder_and_a_file_that_a_unit_names_are_needed(harbour: ALinuxMachine) -> None:
    missing = ("User=gull", "WorkingDirectory=/var/lib/tide", "EnvironmentFile=/etc/default/tide")
    a_unit(harbour, *missing, "ExecStart=/opt/tide/bin/gone", "ExecStartPre=-/opt/tide/bin/check")
    found = harbour.trace(UNIT).faults
    assert [(fault.name, fault.kind) for fault in found] == [
        ("gull", ACCOUNT),
        ("/etc/default/tide", ENVIRONMENT_FILE),
        ("/var/lib/tide", WORKING_FOLDER),
        ("/opt/tide/bin/gone", STARTED),
    ]
    shown = {fault.kind: fault.gives_up_with for fault in found}
    assert shown[ACCOUNT] == say("loaders.status-of-systemd", status="217/USER")
    assert shown[STARTED] == say("loaders.status-of-systemd", status="203/EXEC")


@pytest.mark.parametrize(
    "line",
    [
        "StateDirectory=tide\nWorkingDirectory=%S/tide", "RuntimeDirectory=tide:x\nWorkingDirectory=/run/tide/in",
        "WorkingDirectory=-/gone", "EnvironmentFile=/run/tide/facts", "WorkingDirectory=/tmp/tide",
    ],
)  # fmt: skip
def test_what_is_made_as_a_unit_or_the_machine_starts_is_no_fault(harbour: ALinuxMachine, line: str) -> None:
    a_unit(harbour, line, "Environment=LD_LIBRARY_PATH=/opt/tide/lib", f"ExecStart={DAEMON}")
    assert faults(harbour) == []


def test_a_user_whom_only_a_directory_knows_is_no_fault(harbour: ALinuxMachine) -> None:
    a_unit(harbour, "User=gull", "Environment=LD_LIBRARY_PATH=/opt/tide/lib", f"ExecStart={DAEMON}")
    harbour.file("/etc/nsswitch.conf", b"passwd: files systemd [NOTFOUND=return]\n")
    assert [kind for _, kind, _ in faults(harbour)] == [ACCOUNT]
    harbour.file("/etc/nsswitch.conf", b"passwd: files sss\n")
    assert faults(harbour) == []


def test_a_program_that_is_called_like_a_unit_stays_a_program(harbour: ALinuxMachine) -> None:
    harbour.program("/opt/tide/start.service", needs=("libgone.so",))
    assert faults(harbour, "/opt/tide/start.service") == [("libgone.so", "shared-library", Verdict.MISSING)]


def test_rights_are_judged_for_the_user_of_a_unit(harbour: ALinuxMachine) -> None:
    variables = "Environment=LD_LIBRARY_PATH=/opt/tide/lib"
    a_unit(harbour, "User=tide", variables, f"ExecStart={DAEMON}")
    (harbour.root / LIBRARY[1:]).chmod(0o600)
    [fault] = harbour.trace(UNIT).faults
    assert (fault.name, fault.verdict) == ("libtide.so.2", Verdict.BLOCKED)
    a_unit(harbour, variables, f"ExecStart={DAEMON}")  # the administrator's
    assert faults(harbour) == []


def test_a_timer_leads_to_its_service_and_a_masked_unit_says_so(harbour: ALinuxMachine) -> None:
    harbour.file("/etc/systemd/system/tide.timer", b"[Timer]\nOnCalendar=daily\n")
    assert faults(harbour, "/etc/systemd/system/tide.timer") == [("tide.service", "started-unit", Verdict.MISSING)]
    a_unit(harbour, "ExecStart=/opt/gone")
    assert faults(harbour, "/etc/systemd/system/tide.timer") == [("/opt/gone", STARTED, Verdict.MISSING)]
    harbour.link("/etc/systemd/system/gull.service", "/dev/null")
    [fault] = harbour.trace("/etc/systemd/system/gull.service").faults
    assert (fault.verdict, fault.reason) == (Verdict.BLOCKED, say("loaders.it-is-masked"))


def test_a_unit_in_a_root_of_its_own_is_not_followed(harbour: ALinuxMachine) -> None:
    a_unit(harbour, "RootDirectory=/srv/root", "ExecStart=/opt/gone")
    trace = harbour.trace(UNIT)
    assert (trace.faults, trace.not_followed) == ((), say("loaders.it-runs-in-a-root-of-its-own"))


def test_a_desktop_entry_starts_its_program_without_field_codes(harbour: ALinuxMachine) -> None:
    entry = "/usr/share/applications/tide.desktop"
    head = "[Desktop Entry]\nType=Application\n"
    harbour.file(entry, f'{head}Exec=env LD_LIBRARY_PATH=/opt/tide/lib "{DAEMON}" %U\n'.encode())
    assert faults(harbour, entry) == []
    harbour.file(entry, f"{head}TryExec=tide-gone\nExec={DAEMON} %f\n".encode())
    assert faults(harbour, entry) == [
        ("tide-gone", STARTED, Verdict.MISSING),
        ("libtide.so.2", "shared-library", Verdict.MISSING),
    ]


def test_jobs_of_cron_are_started_by_their_users_with_their_path(harbour: ALinuxMachine) -> None:
    harbour.program("/opt/bin/tide-sync").program("/usr/bin/tide-clean")
    harbour.file("/etc/cron.d/tide", b"PATH=/opt/bin\n# nightly\n5 4 * * *\ttide\ttide-sync --all % text\n")
    assert faults(harbour, "/etc/cron.d/tide") == []
    harbour.file("/etc/cron.d/tide", b"@daily tide cd / && test -x /opt/x || /opt/maybe; tide-gone\n")
    assert faults(harbour, "/etc/cron.d/tide") == [("tide-gone", STARTED, Verdict.MISSING)]
    harbour.file("/var/spool/cron/crontabs/tide", b"5 4 * * * tide-clean\n")
    assert faults(harbour, "/var/spool/cron/crontabs/tide") == []
    harbour.file("/etc/cron.d/tide", b"5 4 * * * gull tide-clean\n")
    assert "gull" in harbour.trace("/etc/cron.d/tide").not_followed


def test_a_command_of_a_unit_is_taken_apart_as_systemd_does() -> None:
    line = r"""-/bin/sh -c "a \x41 ${B}" 'c d' e\sf $B ; /bin/true %n %i $$x"""
    first, second = split_commands(line, "tide@north.service")
    assert fill_variables(first, {"B": "1 2"}) == ["-/bin/sh", "-c", "a A 1 2", "c d", "e f", "1", "2"]
    assert fill_variables(second, {}) == ["/bin/true", "tide@north.service", "north", "$x"]


@given(st.text(max_size=300))
def test_any_text_is_taken_apart_or_refused(text: str) -> None:
    for values in read_sections(text).values():
        for value in values.values():
            for each in value:
                try:
                    assert all(words for words in split_commands(each, "x.service"))
                except ValueError:
                    continue


@pytest.mark.parametrize(
    "line",
    [
        "ExecStart=" + '"' * 999, "ExecStart=%q", "ExecStart=" + "\\" * 5000, "ExecStart=;;;; ;", "ExecStart=@",
        "User=" + "x" * 5000, "EnvironmentFile=/" + "y/" * 2000, "WorkingDirectory=%h", "ExecStart=$X", "A=" * 9000,
    ],
    ids=range(10),
)  # fmt: skip
def test_a_hostile_unit_is_followed_or_said_not_to_be(harbour: ALinuxMachine, line: str) -> None:
    a_unit(harbour, line)
    trace = harbour.trace(UNIT)
    assert trace.program == MachinePath(UNIT)
    assert trace.faults or trace.not_followed or len(trace.components) == 1


def test_units_that_lead_to_one_another_and_scripts_in_a_ring_come_to_an_end(harbour: ALinuxMachine) -> None:
    harbour.file("/etc/systemd/system/a.timer", b"[Timer]\nUnit=a.timer\n")
    assert faults(harbour, "/etc/systemd/system/a.timer") == [("a.timer", "started-unit", Verdict.MISSING)]
    harbour.file("/opt/ring.sh", b"#!/bin/sh\nexec /opt/ring.sh\n", 0o755).program("/bin/sh")
    a_unit(harbour, "ExecStart=/opt/ring.sh")
    assert harbour.trace(UNIT).not_followed == say("loaders.scripts-start-one-another-in-a")

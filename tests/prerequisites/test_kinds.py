"""Each kind is met, unmet or unknown as the machine really is: this host, servers on loopback, roots and volumes."""

import contextlib
import hashlib
import json
import os
import resource
import socket
import ssl
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest

from builders.machine import ALinuxMachine, AWindowsMachine
from builders.signing import SERVERS, AnIssuer
from fundamen.changes.limits import SetLimit
from fundamen.changes.settings import SetValue
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.all_kinds import AnyRequirement
from fundamen.prerequisites.answer import Answer, RequirementStanding
from fundamen.prerequisites.checking import check_requirements
from fundamen.prerequisites.requirement import CheckContext, Requirement
from fundamen.restore.for_prerequisites import plan_for
from wording import says

NOW = datetime.now(UTC)
LICENCE = b"You may read the tides.\n"
DPKG = """\
Package: zlib1g
Status: install ok installed
Architecture: amd64
Version: 1:1.2.13.dfsg-1

Package: removed
Status: deinstall ok config-files
Architecture: amd64
Version: 1.0
"""
TOOLCHAIN = {"folder": "/opt/tide", "catalogue": "/opt/tide/parts.json"}
UNIT = b"[Install]\nWantedBy=multi-user.target\n"


def a_requirement(kind: str, **facts: Any) -> Requirement:
    made: Requirement = msgspec.convert({"id": "it", "kind": kind, **facts}, AnyRequirement)
    assert made.problem() == ""
    assert made.needed
    assert made.advice
    return made


def answer(machine: Machine, kind: str, **facts: Any) -> Answer:
    """By the way that every check goes."""
    more = {"may_run": facts.pop("may_run", False), "now": facts.pop("now", NOW)}
    accepted = {hashlib.sha256(LICENCE).hexdigest()}
    asked = CheckContext(machine=machine, is_accepted=accepted.__contains__, **more)
    [checked] = check_requirements([a_requirement(kind, **facts)], asked).checked
    return checked.answer


@pytest.fixture
def here() -> Machine:
    return open_machine(None, environment=dict(os.environ), current=os.getcwd())


@pytest.fixture
def root(linux: ALinuxMachine) -> Machine:
    linux.program("/opt/tide/bin/tide", needs=["libtide.so.2"]).library("/usr/lib64/libtide.so.2")
    linux.program("/opt/tide/bin/lame", needs=["libgone.so.1"]).program("/usr/bin/tide")
    linux.file("/etc/tide.ini", b"[store]\nlimit = 128M\nparts = gauge,berth\ndebug = Off\n")
    linux.file("/etc/broken.json", b"{").file("/opt/tide/LICENCE", LICENCE).file("/opt/tide/OTHER", b"Pay.\n")
    linux.file("/var/lib/dpkg/status", DPKG.encode())
    linux.file("/etc/passwd", b"root:x:0:0::/root:/bin/sh\ntide:x:900:901::/:/bin/false\n")
    linux.file("/etc/group", b"root:x:0:\ngauge:x:902:tide,other\ntide:x:901:\n")
    linux.file("/usr/lib/systemd/system/tide.service", UNIT).file("/lib/systemd/system/idle.service", UNIT)
    linux.link("/etc/systemd/system/multi-user.target.wants/tide.service", "/usr/lib/systemd/system/tide.service")
    linux.link("/etc/systemd/system/masked.service", "/dev/null")
    linux.file("/usr/lib/sysctl.d/50-base.conf", b"kernel.sem = 250 32000 32 128\nkernel.shmmax = 1\n")
    linux.file("/etc/sysctl.d/90-tide.conf", b"kernel.shmmax = 4096\n")
    digest = hashlib.sha256(LICENCE).hexdigest()
    linux.file("/opt/tide/good.sums", f"{digest}  LICENCE\n".encode())
    linux.file("/opt/tide/bad.sums", f"{digest}  OTHER\n{digest}  gone\n".encode())
    linux.file("/opt/tide/out.sums", f"{digest}  ../../etc/passwd\n".encode())
    part = {"name": "compiler", "version": "2.1", "targets": ["x86_64"], "files": {"LICENCE": {"sha256": digest}}}
    other = part | {"name": "library", "files": {"OTHER": {"sha256": digest}, "gone": {"sha256": digest}}}
    described = {"schema": "fundamen.toolchain/1", "name": "Tide", "version": "2.1", "parts": [part, other]}
    linux.file("/opt/tide/parts.json", json.dumps(described).encode())
    linux.file("/opt/jre/release", b'JAVA_VERSION="17.0.9"\n').program("/opt/jre/bin/java")
    linux.file("/usr/share/dotnet/shared/Tide.App/8.0.1/x", b"")
    linux.library("/usr/share/dotnet/host/fxr/8.0.1/libhostfxr.so", "x86")
    linux.file("/srv/www/index", b"").link("/srv/www/home", "index").link("/srv/broken/page", "nowhere")
    linux.file("/var/cache/index", b"").file("/var/cache/source", b"").file("/run/tide.lock", b"99999999\n")
    os.utime(linux.root / "var/cache/source", (NOW.timestamp(),) * 2)
    os.utime(linux.root / "var/cache/index", (NOW.timestamp() - 60,) * 2)
    return linux.opened(TIDE_HOME="/opt/tide", TIDE_LOST="/gone", PATH="/opt/tide/bin:/usr/bin")


@pytest.mark.parametrize(
    ("kind", "facts", "standing", "found"),
    [
        ("file", {"path": "/opt/tide/LICENCE", "sha256": hashlib.sha256(LICENCE).hexdigest()}, "met", "it is a file"),
        ("file", {"path": "/opt/tide/OTHER", "sha256": hashlib.sha256(LICENCE).hexdigest()}, "unmet", "other content"),
        ("file", {"path": "/opt/tide/bin/tide", "architecture": "x86"}, "unmet", "it is for x86_64"),
        ("file", {"path": "/opt/tide/bin/tide", "architecture": "x86_64"}, "met", ""),
        ("file", {"path": "/opt/tide", "absent": True}, "unmet", "it is a folder"),
        ("file", {"path": "/opt/gone", "absent": True}, "met", "does not exist"),
        ("file", {"path": "/opt/tide"}, "unmet", "it is a folder"),
        ("program", {"path": "/opt/tide/bin/tide"}, "met", ""),
        ("program", {"path": "/opt/tide/bin/lame"}, "unmet", "libgone.so.1 (missing)"),
        ("program", {"path": "/opt/tide/LICENCE"}, "unknown", "neither a program nor a library"),
        ("package", {"name": "zlib1g", "version": ">= 1.2.3, < 2"}, "met", "1:1.2.13.dfsg-1 amd64"),
        ("package", {"name": "zlib1g", "architecture": "i386"}, "unmet", "amd64"),
        ("package", {"name": "zlib1g", "version": "< 1"}, "unmet", "1:1.2.13"),
        ("package", {"name": "removed"}, "unmet", "not installed"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "limit"], "at_least": "64M"}, "met", "128M"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "limit"], "equals": 134217728}, "met", "128M"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "limit"], "at_most": "64M"}, "unmet", "128M"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "debug"], "equals": False}, "met", "Off"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "parts"], "has": ["berth"]}, "met", "gauge,berth"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "parts"], "lacks": ["gauge"]}, "unmet", ""),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "new"], "equals": 5, "default": 5}, "met", "5"),
        ("setting", {"file": "/etc/tide.ini", "key": ["store", "new"]}, "unmet", "not there"),
        ("setting", {"file": "/etc/gone.ini", "key": ["a"], "absent": True}, "met", "no such file"),
        ("setting", {"file": "/etc/broken.json", "key": ["a"]}, "unknown", "/etc/broken.json"),
        ("registry value", {"key": "HKLM\\Software"}, "unknown", "no registry"),
        ("environment variable", {"name": "TIDE_HOME", "names_a": "folder", "writable": True}, "met", "/opt/tide"),
        ("environment variable", {"name": "TIDE_HOME", "names_a": "folder", "free": "900000T"}, "unmet", "free"),
        ("environment variable", {"name": "TIDE_LOST", "names_a": "folder"}, "unmet", "there is nothing"),
        ("environment variable", {"name": "TIDE_NEW"}, "unknown", "--env TIDE_NEW="),
        ("tool", {"name": "tide", "folder": "/opt/tide/bin"}, "met", "/opt/tide/bin/tide"),
        ("tool", {"name": "tide", "only_one": True}, "unmet", "and also as /usr/bin/tide"),
        ("tool", {"name": "tide", "folder": "/usr/bin"}, "unmet", "found as /opt"),
        ("tool", {"name": "ebb"}, "unmet", "no folder of PATH"),
        ("service", {"name": "tide.service", "enabled": True}, "met", "/usr/lib/systemd/system/tide.service"),
        ("service", {"name": "tide.service", "running": True}, "unknown", "does not run"),
        ("service", {"name": "idle.service", "enabled": True}, "unmet", "nothing has it started"),
        ("service", {"name": "masked.service"}, "unmet", "masked"),
        ("service", {"name": "gone.service"}, "unmet", "no unit of this name"),
        ("kernel setting", {"name": "kernel.sem", "field": 3, "at_least": 128}, "met", "128"),
        ("kernel setting", {"name": "kernel.shmmax", "equals": 4096}, "met", "4096"),
        ("kernel setting", {"name": "kernel.sem", "field": 9}, "unmet", "not there"),
        ("kernel setting", {"name": "kernel.shmall"}, "unknown", "only the running machine"),
        ("disk space", {"path": "/var/new/place", "at_least": "1K"}, "met", "MiB are free"),
        ("disk space", {"path": "/", "at_least": "900000T"}, "unmet", "MiB are free"),
        ("rights", {"path": "/opt/tide/LICENCE", "allows": "0644", "forbids": "0022"}, "met", "0644"),
        ("rights", {"path": "/opt/tide/LICENCE", "owner": "tide"}, "unmet", "it belongs to"),
        ("rights", {"path": "/opt/gone", "owner": "tide"}, "unmet", "does not exist"),
        ("account", {"user": "tide", "member_of": ["gauge", "tide"]}, "met", ""),
        ("account", {"user": "root", "member_of": ["gauge"]}, "unmet", "root is no member of gauge"),
        ("account", {"group": "ebb"}, "unmet", "no group ebb"),
        ("licence", {"text": "/opt/tide/LICENCE"}, "met", "was accepted"),
        ("licence", {"text": "/opt/tide/OTHER"}, "unmet", "was not accepted"),
        ("licence", {"text": "/opt/gone"}, "unknown", "there is no such file"),
        ("freshness", {"path": "/var/cache/source", "not_older_than": ["/var/cache/index"]}, "met", ""),
        (
            "freshness",
            {"path": "/var/cache/index", "not_older_than": ["/var/cache/source"]},
            "unmet",
            "was changed after",
        ),
        ("freshness", {"path": "/var/cache/index", "not_older_than": ["/gone"]}, "unknown", "No such file"),
        ("freshness", {"path": "/run/tide.lock", "is_lock": True}, "unmet", "left behind"),
        ("tree", {"folder": "/opt/tide", "manifest": "/opt/tide/good.sums"}, "met", "all 1 files"),
        ("tree", {"folder": "/opt/tide", "manifest": "/opt/tide/bad.sums"}, "unmet", "OTHER has other content"),
        ("tree", {"folder": "/opt/tide", "manifest": "/opt/tide/out.sums"}, "unknown", "outside of the folder"),
        ("links", {"folder": "/srv/www"}, "met", "all can be followed"),
        ("links", {"folder": "/srv/www", "none": True}, "unmet", "/srv/www/home"),
        ("links", {"folder": "/srv/broken"}, "unmet", "/srv/broken/page"),
        (
            "toolchain part",
            TOOLCHAIN | {"name": "compiler", "version": ">= 2", "target": "x86_64"},
            "met",
            "all 1 files",
        ),
        ("toolchain part", TOOLCHAIN | {"name": "compiler", "target": "aarch64"}, "unmet", "for x86_64"),
        ("toolchain part", TOOLCHAIN | {"name": "library"}, "unmet", "OTHER: its content is of no version"),
        ("toolchain part", TOOLCHAIN | {"name": "linker"}, "unmet", "no such part"),
        ("toolchain part", TOOLCHAIN | {"name": "x", "catalogue": "/etc/broken.json"}, "unknown", "has not the form"),
        ("runtime", {"name": "java", "version": ">= 17", "architecture": "x86_64"}, "met", "17.0.9 for x86_64"),
        ("runtime", {"name": "java", "architecture": "x86"}, "unmet", "there is only 17.0.9 for x86_64"),
        ("runtime", {"name": "Tide.App", "version": "< 9", "architecture": "x86"}, "met", "/usr/share/dotnet/shared"),
        ("runtime", {"name": "net framework"}, "unmet", "not installed"),
        ("root certificate", {"sha256": "0" * 64}, "unmet", "not there"),
        *[
            (kind, facts, "unknown", "only the running machine can tell")
            for kind, facts in (
                ("memory", {"total": 1}),
                ("process", {"name": "init"}),
                ("port", {"number": 9}),
                ("resource limit", {"name": "nofile", "at_least": 1}),
                ("clock", {"server": "127.0.0.1"}),
                ("driver", {"name": "loop"}),
                ("device", {"bus": "pci", "vendor": "1af4"}),
                ("command", {"runs": ["true"]}),
            )
        ],
    ],
)
def test_on_a_mounted_root(root: Machine, kind: str, facts: dict[str, Any], standing: str, found: str) -> None:
    got = answer(root, kind, **facts)
    assert (got.standing, found in got.found) == (standing, True), got


@pytest.mark.parametrize(
    ("kind", "facts", "standing"),
    [
        ("registry value", {"key": "HKLM\\Software\\Tide", "name": "Level", "at_least": 3}, "met"),
        ("registry value", {"key": "HKLM\\Software\\Tide", "name": "Level", "equals": 9}, "unmet"),
        ("registry value", {"key": "HKLM\\Software\\Gone", "absent": True}, "met"),
        ("service", {"name": "TideSvc", "enabled": True}, "unmet"),
        ("service", {"name": "TideSvc"}, "met"),
        ("package", {"name": "Saltgrass Runtime", "version": ">= 4"}, "met"),
        ("package", {"name": "Ebb Runtime"}, "unmet"),
        ("driver", {"name": "TideSvc", "version": ">= 4.2"}, "met"),
        ("driver", {"name": "TideSvc", "version": "< 4"}, "unmet"),
        ("driver", {"name": "GoneSvc"}, "unmet"),
        ("device", {"bus": "usb", "vendor": "1d6b", "device": "00aF", "driver": "tidesvc"}, "met"),
        ("device", {"bus": "usb", "vendor": "1d6b", "driver": "other"}, "unmet"),
        ("device", {"bus": "usb", "vendor": "1d6c"}, "unmet"),
        ("runtime", {"name": "net framework", "version": ">= 4.8", "architecture": "x86_64"}, "met"),
        ("runtime", {"name": "net framework", "version": ">= 4.8", "architecture": "x86"}, "unmet"),
        ("runtime", {"name": "visual c++", "version": ">= 14.30", "architecture": "x86"}, "met"),
        ("runtime", {"name": "visual c++", "architecture": "x86_64"}, "unmet"),
        ("account", {"user": "tide"}, "unknown"),
        ("rights", {"path": "C:\\Windows", "owner": "tide"}, "unknown"),
    ],
)
def test_on_a_volume_of_windows(windows: AWindowsMachine, kind: str, facts: dict[str, Any], standing: str) -> None:
    package = {"DisplayName": "Saltgrass Runtime", "DisplayVersion": "4.2.1"}
    uninstall: Any = {"Microsoft": {"Windows": {"CurrentVersion": {"Uninstall": {"{4}": package}}}}}
    uninstall["Microsoft"]["NET Framework Setup"] = {"NDP": {"v4": {"Full": {"Release": 528049}}}}
    width = {"x86": {"Installed": 1, "Version": "v14.36.32532"}, "x64": {"Installed": 0, "Version": "v14.36.1"}}
    uninstall["Microsoft"]["VisualStudio"] = {"14.0": {"VC": {"Runtimes": width}}}
    services: Any = {
        "TideSvc": {"Start": 3, "Type": 1, "ImagePath": "\\SystemRoot\\System32\\drivers\\tide.sys"},
        "GoneSvc": {"Start": 3, "Type": 1, "ImagePath": "System32\\drivers\\gone.sys"},
    }
    bus: Any = {"VID_1D6B&PID_00AF": {"1": {"Service": "TideSvc"}}}
    windows.registry({"Tide": {"Level": 4}, **uninstall}, {"Services": services, "Enum": {"USB": bus}})
    windows.library("C:\\Windows\\System32\\drivers\\tide.sys", version=(4, 2, 1, 0))
    windows.file("C:\\Windows\\Microsoft.NET\\Framework64\\v4.0.30319\\clr.dll", b"")
    assert answer(windows.opened(), kind, **facts).standing == standing


@pytest.mark.parametrize(
    ("kind", "facts"),
    [
        ("registry value", {"key": "HKLM\\Software\\Tide", "absent": True}),
        ("service", {"name": "TideSvc"}),
        ("package", {"name": "Saltgrass Runtime"}),
        ("driver", {"name": "TideSvc"}),
        ("device", {"bus": "usb", "vendor": "1d6b"}),
        ("runtime", {"name": "net framework"}),
    ],
)
def test_a_volume_whose_registry_cannot_be_read_tells_nothing(
    windows: AWindowsMachine, kind: str, facts: dict[str, Any]
) -> None:
    windows.file("C:\\Windows\\explorer.exe", b"")
    assert answer(windows.opened(), kind, **facts).standing == "unknown"
    for hive in ("SYSTEM", "SOFTWARE"):
        windows.file(f"C:\\Windows\\System32\\config\\{hive}", b"regf" + bytes(5000))
    assert answer(windows.opened(), kind, **facts).standing == "unknown"


def test_the_running_kernel_is_asked_and_agrees_with_its_own_files(here: Machine) -> None:
    sem = Path("/proc/sys/kernel/sem").read_text().split()
    assert (
        answer(here, "kernel setting", name="kernel.sem", field=1, equals=int(sem[1])).standing
        is RequirementStanding.MET
    )
    assert (
        answer(here, "kernel setting", name="kernel.sem", field=1, at_least=int(sem[1]) + 1).found == f"it is {sem[1]}"
    )
    assert answer(here, "kernel setting", name="kernel.gone").standing is RequirementStanding.UNMET
    soft = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    assert answer(here, "resource limit", name="nofile", at_least=soft).standing is RequirementStanding.MET
    assert answer(here, "resource limit", name="nofile", at_least="unlimited").found == f"it is {soft}"
    assert answer(here, "resource limit", name="wishes", at_least=1).standing is RequirementStanding.UNKNOWN
    assert answer(here, "memory", total="1M").standing is RequirementStanding.MET
    assert answer(here, "memory", total="900000T").standing is RequirementStanding.UNMET
    assert answer(here, "file system", path="/proc/sys", can=["links"]).found.values == {"value": "proc"}
    assert answer(here, "driver", name="no_such_driver").standing is RequirementStanding.UNMET


def test_a_plan_sets_a_field_of_the_running_kernel_and_has_all_fields_last(here: Machine) -> None:
    sem = Path("/proc/sys/kernel/sem").read_text().split()
    wanted = a_requirement("kernel setting", name="kernel.sem", field=3, at_least=int(sem[3]) + 1)
    outcome = check_requirements([wanted], CheckContext(machine=here, now=NOW))
    plan = plan_for(here, MachinePath("/usr/bin/env"), outcome, NOW).plan
    assert plan is not None
    now, later = plan.steps
    assert isinstance(now, SetLimit)
    assert isinstance(later, SetValue)
    assert (now.value, now.field) == (str(int(sem[3]) + 1), 3)
    assert later.value == " ".join([*sem[:3], now.value])


def test_processes_and_locks_are_those_that_run_now(here: Machine, tmp_path: Path) -> None:
    lock = tmp_path / "lock"
    with subprocess.Popen([sys.executable, "-c", "import sys; sys.stdin.read()"], stdin=subprocess.PIPE) as process:
        lock.write_text(str(process.pid))
        name = Path(f"/proc/{process.pid}/comm").read_text().strip()
        assert answer(here, "process", name=name).standing is RequirementStanding.MET
        assert answer(here, "process", name=name, absent=True).standing is RequirementStanding.UNMET
        names = answer(here, "freshness", path=str(lock), is_lock=True).found
        assert says(names, "prerequisites.it-names-process-which-runs", pid=process.pid)
    gone = answer(here, "freshness", path=str(lock), is_lock=True)
    assert (gone.standing, gone.found.code) == ("unmet", "prerequisites.it-names-process-which-does-not")


def test_a_command_is_run_only_with_consent_without_a_shell_and_within_its_time(here: Machine, tmp_path: Path) -> None:
    touched = tmp_path / "touched"
    runs = [sys.executable, "-c", f"open({str(touched)!r}, 'w'); print('ready; exit 1')"]
    assert answer(here, "command", runs=runs).standing is RequirementStanding.UNKNOWN
    assert not touched.exists()
    assert answer(here, "command", runs=runs, says="ready; exit 1", may_run=True).standing is RequirementStanding.MET
    assert answer(here, "command", runs=runs, status=1, may_run=True).standing is RequirementStanding.UNMET
    assert answer(here, "command", runs=["/no/such"], may_run=True).standing is RequirementStanding.UNMET
    slow = [sys.executable, "-c", "import time; time.sleep(60)"]
    assert answer(here, "command", runs=slow, seconds=0.2, may_run=True).standing is RequirementStanding.UNKNOWN


def test_a_port_is_served_refused_free_or_taken(here: Machine) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        number = server.getsockname()[1]
        assert answer(here, "port", number=number).standing is RequirementStanding.MET
        assert answer(here, "port", number=number, state="free").standing is RequirementStanding.UNMET
    assert "refused" in answer(here, "port", number=number).found
    assert answer(here, "port", number=number, state="free").standing is RequirementStanding.MET


def test_checks_that_wait_are_made_side_by_side(here: Machine) -> None:
    with contextlib.ExitStack() as stack:
        silent = [stack.enter_context(a_time_server(lambda _: b"")) for _ in range(10)]
        clocks = [a_requirement("clock", server="127.0.0.1", port=port, seconds=0.5) for port in silent]
        renamed = [msgspec.structs.replace(each, id=f"c{n}") for n, each in enumerate(clocks)]
        begin = time.perf_counter()
        outcome = check_requirements(renamed, CheckContext(machine=here, now=NOW))
    assert {each.answer.standing for each in outcome.checked} == {RequirementStanding.UNKNOWN}
    assert time.perf_counter() - begin < 10 * 0.5  # they would take that long one after another


@contextlib.contextmanager
def a_time_server(replies: Callable[[bytes], bytes]) -> Iterator[int]:
    """A server of time on loopback; gives its port. Source: RFC 5905."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as server:
        server.bind(("127.0.0.1", 0))

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    packet, client = server.recvfrom(100)
                    if reply := replies(packet):
                        server.sendto(reply, client)

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]


def a_time(away: float, stratum: int = 2) -> Callable[[bytes], bytes]:
    sent = int((NOW.timestamp() + away + 2_208_988_800) * (1 << 32))
    return lambda packet: bytes([0x24, stratum]) + bytes(22) + packet[40:48] + bytes(8) + struct.pack("!Q", sent)


def test_a_clock_is_right_by_a_server_of_time_that_may_have_none(here: Machine) -> None:
    for replies, standing in (
        (a_time(5), "met"),
        (a_time(3600), "unmet"),
        (a_time(0, stratum=0), "unknown"),
        (lambda packet: a_time(0)(packet)[:24] + bytes(24), "unknown"),  # an answer to nothing that was asked
        (lambda _: b"short", "unknown"),
    ):
        with a_time_server(replies) as port:
            assert answer(here, "clock", server="127.0.0.1", port=port, seconds=2).standing == standing


def test_a_tls_server_is_trusted_by_the_roots_of_the_machine(linux: ALinuxMachine, tmp_path: Path) -> None:
    authority = AnIssuer.root()
    server = authority.issue("localhost", purposes=[SERVERS], dns=["localhost"])
    (tmp_path / "chain.pem").write_bytes(server.pem + authority.pem)
    (tmp_path / "key.pem").write_bytes(server.key_pem)
    at = authority.certificate.not_before.replace(tzinfo=UTC)
    during = at + (authority.certificate.not_after - at) / 2
    with a_tls_server(tmp_path) as port:
        facts = {"host": "localhost", "port": port, "now": during}
        assert answer(linux.opened(), "tls endpoint", **facts).standing is RequirementStanding.UNMET
        linux.file("/etc/ssl/certs/ca-certificates.crt", authority.pem)
        assert answer(linux.opened(), "tls endpoint", **facts).standing is RequirementStanding.MET
        assert "only until" in answer(linux.opened(), "tls endpoint", **facts, days_left=99_999).found
        sha256 = hashlib.sha256(authority.der).hexdigest()
        assert answer(linux.opened(), "root certificate", sha256=sha256, now=during).standing is RequirementStanding.MET
        assert says(
            answer(linux.opened(), "root certificate", sha256=sha256, now=at.replace(year=1999)).found,
            "prerequisites.it-holds-from-to",
        )
    assert "refused" in answer(linux.opened(), "tls endpoint", **facts).found


@contextlib.contextmanager
def a_tls_server(folder: Path) -> Iterator[int]:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "chain.pem", folder / "key.pem")
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            while True:
                try:
                    connection, _ = server.accept()
                except OSError:
                    return
                with contextlib.suppress(OSError), context.wrap_socket(connection, server_side=True) as served:
                    served.recv(1)

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]
        server.shutdown(socket.SHUT_RDWR)


def test_two_parts_of_one_folder_never_answer_for_each_other(linux: ALinuxMachine) -> None:
    """Their catalogues have one title and as many files each: what was read for one is nothing to the other."""
    digest = hashlib.sha256(LICENCE).hexdigest()
    linux.file("/opt/tide/LICENCE", LICENCE).file("/opt/tide/OTHER", b"Pay.\n")
    for catalogue, name in (("one", "LICENCE"), ("two", "OTHER")):
        part = {"name": "compiler", "version": "2.1", "files": {name: {"sha256": digest}}}
        described = {"schema": "fundamen.toolchain/1", "name": "Tide", "version": "2.1", "parts": [part]}
        linux.file(f"/opt/tide/{catalogue}.json", json.dumps(described).encode())
    machine = linux.opened()
    wanted = {"folder": "/opt/tide", "name": "compiler"}
    for catalogue, standing in (("one", "met"), ("two", "unmet"), ("one", "met")):
        found = answer(machine, "toolchain part", catalogue=f"/opt/tide/{catalogue}.json", **wanted)
        assert (catalogue, str(found.standing)) == (catalogue, standing)

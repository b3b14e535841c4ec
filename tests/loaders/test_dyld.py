"""Rules of dyld that a compiler cannot lay out; each other rule has a compiled case in tests/system."""

import plistlib
from pathlib import Path

import pytest

from builders.code_signature import signed
from builders.dyld_cache import a_dyld_cache
from builders.machine import AMacMachine
from fundamen.evidence.code_signature import CodeSignatureAuthority
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.mac.macho import read_macho
from fundamen.machine.programs import find_program
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.trace import trace_program

UNIVERSAL = (Path(__file__).parent.parent / "data" / "libsaltmac.dylib").read_bytes()
[_, PART] = read_macho(MemoryBytes(UNIVERSAL)).slices
LIBRARY = UNIVERSAL[PART.offset :]  # for arm64; it needs libbuoy.dylib weakly, in the folder parts beside it
PROGRAM = LIBRARY[:12] + b"\2" + LIBRARY[13:]  # MH_EXECUTE
BUOY, APP = "@rpath/libbuoy.dylib", "/opt/app"
HARDENED, ANYBODYS = 0x10000, "com.apple.security.cs.disable-library-validation"


@pytest.mark.parametrize(
    ("team", "flags", "entitlements", "library_team", "verdict"),
    [
        ("ARDVANE001", HARDENED, (), "ARDVANE001", Verdict.UNVERIFIED),
        ("ARDVANE001", HARDENED, (), "REEDBED002", Verdict.UNTRUSTED),
        ("ARDVANE001", HARDENED, (), "", Verdict.UNTRUSTED),
        ("ARDVANE001", HARDENED, (ANYBODYS,), "REEDBED002", Verdict.UNVERIFIED),
        ("ARDVANE001", 0, (), "REEDBED002", Verdict.UNVERIFIED),
    ],
)
def test_a_hardened_program_loads_only_libraries_of_its_own_team(
    tmp_path: Path, team: str, flags: int, entitlements: tuple[str, ...], library_team: str, verdict: Verdict
) -> None:
    mac = AMacMachine(tmp_path).file(APP, signed(PROGRAM, team=team, flags=flags, entitlements=entitlements))
    need = mac.file("/opt/parts/libbuoy.dylib", signed(LIBRARY, team=library_team)).need(APP, BUOY)
    assert need.verdict is verdict


@pytest.mark.parametrize(
    ("entitlements", "is_heeded"), [((), False), (("com.apple.security.cs.allow-dyld-environment-variables",), True)]
)
def test_the_environment_counts_for_a_hardened_program_only_where_it_says_so(
    tmp_path: Path, entitlements: tuple[str, ...], *, is_heeded: bool
) -> None:
    mac = AMacMachine(tmp_path).file(APP, signed(PROGRAM, flags=HARDENED, entitlements=entitlements))
    need = mac.file("/else/libbuoy.dylib", LIBRARY).need(APP, BUOY, DYLD_LIBRARY_PATH="/else")
    assert need.path == ("/else/libbuoy.dylib" if is_heeded else None)


def test_what_the_builder_signs_is_found_unaltered_and_one_changed_byte_is_found(tmp_path: Path) -> None:
    for changed, verdict in ((0, Verdict.UNVERIFIED), (1, Verdict.CORRUPT)):
        data = bytearray(signed(PROGRAM, team="ARDVANE001"))
        data[0x4100] ^= changed
        machine = AMacMachine(tmp_path).file(APP, bytes(data), 0o755).opened()
        trace = trace_program(machine, MachinePath(APP), [CodeSignatureAuthority()])
        assert trace.components[0].verdict is verdict


def test_folders_of_the_other_volume_are_found_where_it_is_mounted(tmp_path: Path) -> None:
    mac = AMacMachine(tmp_path).file("/usr/share/firmlinks", b"/Applications\tApplications\n/usr/local\tusr/local\n")
    mac.file("/System/Volumes/Data/Applications/Tidebook", PROGRAM)
    assert mac.opened().binary(MachinePath("/applications/TIDEBOOK")).size == len(PROGRAM)


def test_without_its_cache_the_system_is_given_the_benefit_of_the_doubt_unless_it_is_an_old_one(tmp_path: Path) -> None:
    name = "/usr/lib/libSystem.B.dylib"
    for version, cached, verdict in (
        ("14.1", None, Verdict.UNVERIFIED),
        ("10.15.7", None, Verdict.MISSING),
        ("14.1", (name,), Verdict.UNVERIFIED),
        ("14.1", ("/usr/lib/libz.1.dylib",), Verdict.MISSING),
    ):
        mac = AMacMachine(tmp_path / f"{version}{cached}", version).file(APP, PROGRAM)
        if cached is not None:
            mac.file("/System/Library/dyld/dyld_shared_cache_arm64e", a_dyld_cache("arm64e", *cached))
        assert mac.need(APP, name).verdict is verdict


def test_an_application_stands_for_the_program_that_it_names(tmp_path: Path) -> None:
    plist = plistlib.dumps({"CFBundleExecutable": "Tidebook"})
    mac = AMacMachine(tmp_path).file("/Applications/Tidebook.app/Contents/Info.plist", plist)
    machine = mac.opened()
    assert find_program(machine, "/Applications/Tidebook.app") == "/Applications/Tidebook.app/Contents/MacOS/Tidebook"
    assert find_program(machine, "/Applications/Gone.app") == "/Applications/Gone.app"

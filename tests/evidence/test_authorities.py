import gzip
import hashlib
import lzma
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from fundamen.evidence import authority
from fundamen.evidence.authority import Says, Subject, remarks_of, weigh
from fundamen.evidence.catalogue import CatalogueAuthority
from fundamen.evidence.debian_contents import find_bringers
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.messages import as_said, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.package import Base, Package, PackageFile
from fundamen.model.paths import MachinePath
from fundamen.trace.bringing import with_bringers

OLD, NEW, OTHER = an_elf(soname="libx.so"), an_elf(soname="libx.so", padding=8), an_elf(soname="liby.so")


def subject(path: str, name: str = "libx.so") -> Subject:
    return Subject(MachinePath(path), name, Architecture.X86_64)


def a_package(version: str, withdrawn: str | None = None, **files: bytes) -> Package:
    return a_package_of(Platform.LINUX, version, files, withdrawn)


def a_package_of(platform: Platform, version: str, files: dict[str, bytes], withdrawn: str | None = None) -> Package:
    ending = "dll" if platform is Platform.WINDOWS else "so"
    described = tuple(
        PackageFile(f"{name}.{ending}", Base.PROGRAM, f"{name}.{ending}", len(data), hashlib.sha256(data).hexdigest())
        for name, data in files.items()
    )
    words = ("Ardvane", "Saltgrass", version, platform, Architecture.X86_64)
    return Package(*words, described, withdrawn=withdrawn)


def with_dpkg(linux: ALinuxMachine, sums: dict[str, str], diversions: str = "") -> ALinuxMachine:
    status = "".join(f"Package: {p.partition(':')[0]}\nArchitecture: amd64\nVersion: 1.2-3\n\n" for p in sums)
    linux.file("/var/lib/dpkg/status", status.encode()).file("/var/lib/dpkg/diversions", diversions.encode())
    for package, lines in sums.items():
        linux.file(f"/var/lib/dpkg/info/{package}.md5sums", lines.encode())
    return linux


def md5(data: bytes) -> str:
    return hashlib.md5(data).hexdigest()  # noqa: S324 - what dpkg records


def test_dpkg_vouches_for_a_file_however_usr_is_merged(linux: ALinuxMachine) -> None:
    linux.file("/usr/lib/libx.so.1", OLD).link("/lib", "usr/lib").link("/usr/lib/libx.so", "libx.so.1")
    with_dpkg(linux, {"libx:amd64": f"{md5(OLD)}  lib/libx.so.1\n"})
    [testimony] = DpkgAuthority().testify(linux.opened(), [subject("/lib/libx.so")]).values()
    assert (testimony.says, testimony.detail) == (Says.RIGHT, "package libx 1.2-3")


def test_dpkg_tells_a_file_that_is_not_its_packages_own(linux: ALinuxMachine) -> None:
    with_dpkg(linux.file("/usr/lib/libx.so", NEW), {"libx": f"{md5(OLD)}  usr/lib/libx.so\n"})
    [testimony] = DpkgAuthority().testify(linux.opened(), [subject("/usr/lib/libx.so")]).values()
    assert testimony.says is Says.WRONG
    assert md5(NEW)[:8] in testimony.detail


def test_dpkg_is_silent_about_files_that_it_does_not_own(linux: ALinuxMachine) -> None:
    with_dpkg(linux.file("/opt/libx.so", OLD), {"libx": f"{md5(OLD)}  usr/lib/libx.so\n"})
    assert DpkgAuthority().testify(linux.opened(), [subject("/opt/libx.so")]) == {}


def test_a_diverted_file_is_compared_with_the_package_that_it_came_from(linux: ALinuxMachine) -> None:
    linux.file("/usr/lib/libx.so", NEW).file("/usr/lib/libx.so.real", OLD)
    sums = {"libx": f"{md5(OLD)}  usr/lib/libx.so\n", "glx": f"{md5(NEW)}  usr/lib/libx.so\n"}
    with_dpkg(linux, sums, "/usr/lib/libx.so\n/usr/lib/libx.so.real\nglx\n")
    subjects = [subject("/usr/lib/libx.so"), subject("/usr/lib/libx.so.real")]
    testimonies = DpkgAuthority().testify(linux.opened(), subjects)
    assert {path: t.detail for path, t in testimonies.items() if t.says is Says.RIGHT} == {
        "/usr/lib/libx.so": "package glx 1.2-3",
        "/usr/lib/libx.so.real": "package libx 1.2-3",
    }


def catalogued(linux: ALinuxMachine, *packages: Package) -> dict[str, Says]:
    subjects = [subject("/app/libx.so"), subject("/app/liby.so", "liby.so")]
    testimonies = CatalogueAuthority("it", lambda _names: packages).testify(linux.opened(), subjects)
    return {Path(path).name: testimony.says for path, testimony in testimonies.items()}


def test_a_catalogue_vouches_for_bytes_that_it_lists_in_any_version(linux: ALinuxMachine) -> None:
    linux.file("/app/libx.so", OLD)
    assert catalogued(linux, a_package("2", libx=NEW), a_package("1", libx=OLD)) == {"libx.so": Says.RIGHT}


def test_versions_that_are_mixed_in_a_folder_are_reported_and_what_both_have_belongs_to_either(
    linux: ALinuxMachine,
) -> None:
    files = {name: an_elf(soname=f"{name}.so") for name in ("a", "b", "c", "same")}
    newer = {name: an_elf(soname=f"{name}.so", padding=8) for name in ("a", "b", "c")} | {"same": files["same"]}
    packages = [a_package_of(Platform.LINUX, "1.0", files), a_package_of(Platform.LINUX, "2.0", newer)]
    for folder, odd in (("/opt/mixed", "b"), ("/opt/whole", "")):
        for name in files:
            linux.file(f"{folder}/{name}.so", (files if name == odd else newer)[name])
    catalogue = CatalogueAuthority("it", lambda _names: packages)
    subjects = [subject(f"/opt/{where}/{name}.so", f"{name}.so") for where in ("mixed", "whole") for name in files]
    said = catalogue.testify(linux.opened(), subjects)
    assert {testimony.says for testimony in said.values()} == {Says.RIGHT}
    answer = {path: testimony.detail for path, testimony in said.items() if "mixed" in testimony.detail}
    assert answer == {
        "/opt/mixed/b.so": say("evidence.versions-are-mixed-most-of-its", title="Saltgrass 1.0", most_are_from="2.0"),
    }


def test_bytes_among_sound_companions_in_one_folder_were_altered(linux: ALinuxMachine) -> None:
    linux.file("/app/libx.so", OLD + b"!").file("/app/liby.so", OTHER)
    assert catalogued(linux, a_package("1", libx=OLD, liby=OTHER)) == {"libx.so": Says.WRONG, "liby.so": Says.RIGHT}


def test_bytes_that_may_be_another_build_are_not_called_altered(linux: ALinuxMachine) -> None:
    linux.file("/app/libx.so", NEW)
    assert catalogued(linux, a_package("1", libx=OLD)) == {"libx.so": Says.UNKNOWN}
    linux.file("/app/libx.so", OLD[:-1] + b"!")  # the same size proves nothing
    assert catalogued(linux, a_package("1", libx=OLD)) == {"libx.so": Says.UNKNOWN}


def test_a_companion_in_another_folder_proves_nothing(linux: ALinuxMachine) -> None:
    linux.file("/app/libx.so", OLD + b"!").file("/lib/liby.so", OTHER)
    packages = (a_package("1", libx=OLD, liby=OTHER),)
    subjects = [subject("/app/libx.so"), subject("/lib/liby.so", "liby.so")]
    said = CatalogueAuthority("it", lambda _names: packages).testify(linux.opened(), subjects)
    assert {path: testimony.says for path, testimony in said.items()} == {
        "/app/libx.so": Says.UNKNOWN,
        "/lib/liby.so": Says.RIGHT,
    }


def test_a_file_that_states_another_version_than_its_companion_is_not_called_altered(
    windows: AWindowsMachine,
) -> None:
    listed = {name: a_pe(name=f"{name}.dll", version=(4, 2, 0, 0)) for name in ("salt", "reed")}
    newer = a_pe(name="salt.dll", version=(4, 3, 0, 0))
    altered = listed["salt"] + b"!"
    catalogue = CatalogueAuthority("it", lambda _names: [a_package_of(Platform.WINDOWS, "4.2", listed)])
    windows.file("C:\\App\\reed.dll", listed["reed"])
    subjects = [
        Subject(MachinePath(f"C:\\App\\{name}.dll"), f"{name}.dll", Architecture.X86_64) for name in ("salt", "reed")
    ]
    for content, says in ((newer, Says.UNKNOWN), (altered, Says.WRONG)):
        windows.file("C:\\App\\salt.dll", content)
        assert catalogue.testify(windows.opened(), subjects)[subjects[0].path].says is says


@pytest.mark.parametrize(("reason", "says"), [("leaks", Says.RIGHT), ("untrusted: its key was stolen", Says.UNTRUSTED)])
def test_withdrawn_is_a_remark_and_untrusted_only_where_the_reason_says_so(
    linux: ALinuxMachine, reason: str, says: Says
) -> None:
    linux.file("/app/libx.so", OLD)
    catalogue = CatalogueAuthority("it", lambda _names: [a_package("1", withdrawn=reason, libx=OLD)])
    [testimony] = catalogue.testify(linux.opened(), [subject("/app/libx.so")]).values()
    assert testimony.says is says
    assert reason in testimony.detail + testimony.remark


def test_the_owner_of_a_file_counts_and_what_others_say_against_it_is_a_remark() -> None:
    owner = authority.Testimony("dpkg", Says.RIGHT, as_said("package libssl3"), is_owner=True)
    other = authority.Testimony("harbour-it", Says.WRONG, as_said("has other bytes"))
    assert (weigh([other, owner]), remarks_of([other, owner])) == (owner, ("harbour-it: has other bytes",))
    assert (weigh([other]), remarks_of([other])) == (other, ())


CONTENTS = """lib/x86_64-linux-gnu/libtide.so.4          libs/libtide4,otherlibs/libtide4-compat
usr/lib/x86_64-linux-gnu/salt/libtide.so.4   libs/saltgrass
usr/lib/x86_64-linux-gnu/libtide.so.4.2      libs/libtide4
usr/include/tide/berth.h\tlibdevel/libtide-dev
usr/share/doc/a file with blanks/libtide.so.4  doc/tide-doc
"""


@pytest.mark.parametrize("ending", ["", ".gz", ".xz"])
def test_the_archives_contents_lists_tell_which_package_would_bring_a_file(linux: ALinuxMachine, ending: str) -> None:
    plain = CONTENTS.encode()
    packed = {"": plain, ".gz": gzip.compress(plain), ".xz": lzma.compress(plain)}[ending]
    machine = linux.file(f"/var/lib/apt/lists/archive_main_Contents-amd64{ending}", packed).opened()
    names, folders = ("libtide.so.4", "tide/berth.h", "libtide"), ("/usr/lib/x86_64-linux-gnu", "/usr/include")
    found = find_bringers(machine, names, [Architecture.X86_64], folders)
    assert {name: [bringer.package for bringer in bringers] for name, bringers in found.items()} == {
        "libtide.so.4": ["libtide4", "libtide4-compat", "saltgrass"],
        "tide/berth.h": ["libtide-dev"],
    }
    assert find_bringers(machine, names, [Architecture.AARCH64]) == {}


def test_a_missing_library_is_reported_with_the_package_that_puts_it_where_the_loader_looks(
    linux: ALinuxMachine,
) -> None:
    linux.file("/var/lib/apt/lists/archive_main_Contents-amd64", CONTENTS.encode())
    linux.program("/opt/app", needs=("libtide.so.4", "libreed.so.1")).link("/lib", "usr/lib")
    trace = with_bringers(linux.opened(), linux.trace("/opt/app"))
    assert [(fault.name, fault.brought_by) for fault in trace.faults] == [
        ("libtide.so.4", ("libtide4", "libtide4-compat")),
        ("libreed.so.1", ()),
    ]


def test_a_contents_list_that_is_damaged_says_what_it_can_and_no_more(linux: ALinuxMachine) -> None:
    packed = gzip.compress(CONTENTS.encode())
    for length in range(len(packed)):
        machine = linux.file("/var/lib/apt/lists/archive_main_Contents-amd64.gz", packed[:length]).opened()
        found = find_bringers(machine, ["libtide.so.4"], [Architecture.X86_64])
        assert set(found) <= {"libtide.so.4"}

"""What needs no package is mended with what the machine has, and goes back exactly."""

import hashlib
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.tree import tree_of, without_times
from conftest import Fundamen
from fundamen.evidence.alternatives import find_alternative
from fundamen.evidence.certificate_bundle import bundle_of
from fundamen.evidence.debian_dependencies import find_removed_packages
from fundamen.evidence.dpkg_database import find_database_damage
from fundamen.loaders.preload_list import without_unloadable
from fundamen.machine.pam_services import modules_of
from fundamen.model.architecture import Architecture
from fundamen.model.paths import HostPath, MachinePath
from fundamen.sources.apt_lists import drop_unproven, take_over_lists
from fundamen.trace.astray import file_without_link, link_in_text

Mended = Callable[..., None]
ALTERNATIVE = (
    b"auto\n/usr/bin/tide\ntide.1\n/usr/share/man/man1/tide.1\n\n"
    b"/usr/bin/tide4\n40\n/usr/share/man/man1/tide4.1\n/usr/bin/tide9\n5\n\n\n"
)


needs_root = pytest.mark.skipif(os.geteuid() != 0, reason="folders of the administrator are made")


@pytest.fixture
def mended(fundamen: Fundamen, linux: ALinuxMachine) -> Mended:
    def mend(program: str, verdict: str, *changed: str) -> None:
        before = tree_of(linux.root)
        [found] = fundamen("trace", "-m", linux.root, program, "--json").records
        assert verdict in {each["verdict"] for each in found["components"] if each["fault"]}
        ran = fundamen("restore", "-m", linux.root, "--yes", "--no-archive", program)
        assert ran.status == 0, ran.out + ran.err
        [after] = fundamen("trace", "-m", linux.root, program, "--json").records
        assert after["faults"] == 0
        mended = without_times(tree_of(linux.root))
        differing = {path for path in {*before, *mended} if without_times(before).get(path) != mended.get(path)}
        assert not changed or {f"/{path}" for path in differing} == set(changed)
        assert fundamen("undo", "-m", linux.root).status == 0
        assert tree_of(linux.root) == before

    return mend


def test_a_copy_made_without_links_gets_its_links(mended: Mended, linux: ALinuxMachine) -> None:
    linux.program("/opt/tide/bin/tide", needs=["libebb.so.2"], runpath="$ORIGIN/../lib")
    linux.file("/opt/tide/lib/libebb.so.2.1", an_elf(soname="libebb.so.2"))
    linux.file("/opt/tide/lib/libebb.so.2", b"libebb.so.2.1")
    mended("/opt/tide/bin/tide", "corrupt", "/opt/tide/lib/libebb.so.2")


def test_an_application_that_was_moved_is_found_at_its_old_place(mended: Mended, linux: ALinuxMachine) -> None:
    linux.program("/srv/tide/bin/tide", needs=["libebb.so.2"], runpath="/opt/tide/lib")
    linux.file("/srv/tide/lib/libebb.so.2", an_elf(soname="libebb.so.2"))
    mended("/srv/tide/bin/tide", "missing")


@pytest.mark.parametrize("left", ["/etc/alternatives/tide", "/usr/bin/tide", ""])
def test_an_alternative_leads_to_a_program_that_is_there(mended: Mended, linux: ALinuxMachine, left: str) -> None:
    linux.program("/usr/bin/tide9", needs=[])
    linux.file("/var/lib/dpkg/alternatives/tide", ALTERNATIVE)
    linux.link("/etc/alternatives/tide", "/usr/bin/tide4").link("/usr/bin/tide", "/etc/alternatives/tide")
    for link in {"/etc/alternatives/tide", "/usr/bin/tide"} - {left} if left else ():
        (linux.root / link.lstrip("/")).unlink()
    found = find_alternative(linux.opened(), MachinePath("/usr/bin/tide"))
    assert found is not None
    assert found.choices == ("/usr/bin/tide9",)
    mended("/usr/bin/tide", "missing")


@needs_root
def test_the_loaders_cache_lists_what_its_settings_name(mended: Mended, linux: ALinuxMachine) -> None:
    linux.file("/etc/ld.so.conf", b"include /etc/ld.so.conf.d/*.conf\n")
    linux.file("/etc/ld.so.conf.d/tide.conf", b"/usr/local/tide\n").library("/usr/local/tide/libebb.so.2")
    linux.program("/opt/tide/bin/tide", needs=["libebb.so.2"])
    for before in (None, b"", b"no cache"):
        if before is not None:
            linux.file("/etc/ld.so.cache", before)
        mended("/opt/tide/bin/tide", "missing", "/etc/ld.so.cache")


@needs_root
def test_a_setting_of_the_loader_that_was_lost_names_the_applications_folder_again(
    mended: Mended, fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    linux.file("/etc/ld.so.conf", b"include /etc/ld.so.conf.d/*.conf\n").file("/etc/ld.so.conf.d/own.conf", b"")
    linux.program("/opt/tide/bin/tide", needs=["libebb.so.2"]).library("/opt/tide/lib/libebb.so.2")
    for name in ("lib", "usr/lib", "usr/lib64"):  # or a link there would do as well
        (linux.root / name).mkdir(parents=True, exist_ok=True)
    folder = linux.root / "opt/tide/lib"
    folder.chmod(0o777)  # anybody could put a library there that all programs would load
    assert fundamen("restore", "-m", linux.root, "--no-archive", "--rehearse", "/opt/tide/bin/tide").status == 1
    assert (linux.root / "etc/ld.so.cache").exists() is False
    folder.chmod(0o755)
    mended("/opt/tide/bin/tide", "missing", "/etc/ld.so.conf.d/tide.conf", "/etc/ld.so.cache")
    linux.library("/usr/lib64/libgull.so.1").library("/opt/tide/lib/libgull.so.1")  # another would be found then
    ran = fundamen("restore", "-m", linux.root, "--no-archive", "--yes", "/opt/tide/bin/tide")
    assert (ran.status, (linux.root / "etc/ld.so.cache").exists()) == (1, False)


def test_a_script_gets_the_line_ends_that_its_interpreter_reads(mended: Mended, linux: ALinuxMachine) -> None:
    linux.program("/bin/sh", needs=[])
    linux.file("/opt/tide.sh", b"#!/bin/sh\r\necho tide\r\n", 0o755)
    mended("/opt/tide.sh", "missing")


def test_a_program_that_no_one_may_run_may_be_run_by_anyone_who_may_read_it(
    mended: Mended, linux: ALinuxMachine
) -> None:
    linux.program("/opt/tide", needs=[])
    (linux.root / "opt/tide").chmod(0o640)
    mended("/opt/tide", "blocked")


def test_a_virtual_environment_leads_to_its_python_again(mended: Mended, linux: ALinuxMachine) -> None:
    linux.program("/usr/bin/python3.11", needs=[])
    linux.file("/opt/env/pyvenv.cfg", b"home = /usr/bin\nversion = 3.11.2\n")
    linux.link("/opt/env/bin/python3", "/usr/bin/python3.9")
    linux.file("/opt/env/bin/tide", b"#!/opt/env/bin/python3\nprint(1)\n", 0o755)
    mended("/opt/env/bin/tide", "missing", "/opt/env/bin/python3")


def test_the_bundle_of_certificates_is_made_of_the_accepted_ones(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.file("/etc/ca-certificates.conf", b"# list\ntide/b.crt\n!tide/c.crt\n../../../etc/passwd\ntide/a.crt\n")
    for name in "abc":
        linux.file(f"/usr/share/ca-certificates/tide/{name}.crt", f"CERTIFICATE {name}".encode())
    linux.file("/usr/local/share/ca-certificates/own.crt", b"CERTIFICATE own\n").file("/etc/passwd", b"root:x:0:0:::\n")
    bundle = "/etc/ssl/certs/ca-certificates.crt"
    ran = fundamen("restore", "-m", linux.root, "--yes", "--no-archive", bundle)
    assert ran.status == 0, ran.out + ran.err
    assert (linux.root / bundle[1:]).read_text() == "CERTIFICATE b\nCERTIFICATE a\nCERTIFICATE own\n"
    assert fundamen("undo", "-m", linux.root).status == 0
    assert not (linux.root / "etc/ssl").exists()


PRELOAD = "/etc/ld.so.preload"


@pytest.mark.parametrize(
    ("listed", "left"),
    [
        ("/opt/gone/libwatch.so\n", "\n"),
        ("# ours\nlibtide.so.1 /opt/gone/libwatch.so\n", "# ours\nlibtide.so.1 \n"),
        ("/opt/gone/libwatch.so:libtide.so.1 # both\n", "libtide.so.1 # both\n"),
        ("libwatch.so\n/usr/lib64/libtide.so.1\n", "/usr/lib64/libtide.so.1\n"),
        ("/etc/hosts\n/usr/lib64\n/usr/lib64/libtide.so.1", "/usr/lib64/libtide.so.1"),  # no library, and a folder
    ],
)
def test_a_list_to_preload_loses_only_what_cannot_be_loaded(
    mended: Mended, linux: ALinuxMachine, listed: str, left: str
) -> None:
    linux.library("/usr/lib64/libtide.so.1").file("/etc/hosts", b"").file(PRELOAD, listed.encode())
    assert without_unloadable(linux.opened()).decode() == left
    mended(PRELOAD, "corrupt", PRELOAD)


@pytest.mark.parametrize("broken", [b"", b"Package: tide-0\nStatus: install ok installed\ngarbage\n"])
def test_the_package_database_comes_back_from_its_backup(mended: Mended, linux: ALinuxMachine, broken: bytes) -> None:
    linux.packages({f"tide-{number}": {f"/usr/share/{number}": b"x"} for number in range(40)})
    status = linux.root / "var/lib/dpkg/status"
    status.rename(status.with_name("status-old"))
    status.write_bytes(broken)
    mended("/var/lib/dpkg/status", "corrupt")


@given(st.binary(max_size=300) | st.text("a/\n\\[]=@ 019-", max_size=100).map(str.encode))
def test_whatever_the_systems_own_files_hold_is_read_or_passed_over(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        linux = ALinuxMachine(Path(folder))
        for file in (
            "var/lib/dpkg/alternatives/tide",
            "etc/pam.d/tide",
            "var/lib/dpkg/status",
            "etc/ca-certificates.conf",
        ):
            linux.file(f"/{file}", data)
        for number in range(20):
            linux.file(f"/var/lib/dpkg/info/{number}.list", b"")
        linux.file("/usr/share/ca-certificates/a", data)
        machine = linux.opened()
        assert find_alternative(machine, MachinePath("/usr/bin/tide")) is None or b"/usr/bin/tide" in data
        assert all(isinstance(module, str) for module in modules_of(machine, "tide"))
        assert (find_database_damage(machine) is None) == (data.count(b"Package: ") >= 10)
        assert bundle_of(machine) in {b"", data, data + b"\n"}
        assert link_in_text(machine, MachinePath("/etc/pam.d/tide")) is None


@pytest.mark.parametrize(
    ("soname", "depends", "package"),
    [
        ("libtide.so.2", "libother1, libtide2 (>= 1) | other, libc6", "libtide2"),
        ("libebb2.so.14", "libother1, libebb2-14 (>= 1) | other, libc6", "libebb2-14"),
        ("libtide.so.2", "libother1, libtide2t64 (>= 1)", "libtide2t64"),
        ("libtide-2.so.4", "libother1, libtide2-4 (= 1)", "libtide2-4"),  # not quite by the policy
        ("libtide-2.so.4", "libtide-quay | libtide-shore, libother1", ""),  # one of several, which need not be there
        ("libtide-2.so.4", "libtide-2.so.4, libother1", ""),  # no package has such a name: others provide it
    ],
)
def test_a_removed_package_is_found_by_what_depends_on_it(
    linux: ALinuxMachine, soname: str, depends: str, package: str
) -> None:
    linux.packages({"tide": {"/usr/bin/tide": an_elf(needs=(soname,))}})
    status = linux.root / "var/lib/dpkg/status"
    status.write_text(status.read_text().replace("Package: tide\n", f"Package: tide\nDepends: {depends}\n"))
    found = find_removed_packages(linux.opened(), {soname: [MachinePath("/usr/bin/tide")]})
    assert found == ({soname: (package,)} if package else {})


def test_lists_of_a_root_are_taken_over_only_as_its_release_has_them(linux: ALinuxMachine, tmp_path: Path) -> None:

    listed = b"Package: tide\n"
    release = f"Origin: quay\nSHA256:\n {hashlib.sha256(listed).hexdigest()} 14 main/binary-amd64/Packages\n"
    name = "quay.example_dists_ebb_main_binary-amd64_Packages"
    linux.file("/var/lib/apt/lists/quay.example_dists_ebb_InRelease", release.encode())
    linux.file(f"/var/lib/apt/lists/{name}", listed)
    taken = take_over_lists(linux.opened(), HostPath(str(tmp_path)))
    assert taken == [name]
    assert drop_unproven(HostPath(str(tmp_path)), taken) is False
    (tmp_path / name).write_bytes(b"Package: evil\n")
    assert drop_unproven(HostPath(str(tmp_path)), taken) is True
    assert list(tmp_path.glob("quay*")) == []


def test_a_library_of_which_only_the_link_is_gone_gets_it_again(mended: Mended, linux: ALinuxMachine) -> None:
    app = "/opt/quay/bin/quay"
    linux.program(app, needs=["libquay.so.3"], runpath="$ORIGIN/../lib")
    for version in ("3.9", "3.10"):
        linux.file(f"/opt/quay/lib/libquay.so.{version}", an_elf(soname="libquay.so.3"))
    linux.file("/opt/quay/lib/libquay.so.3.11", an_elf(soname="libother.so.3"))  # not that library
    linux.file("/opt/quay/lib/libquay.so.3.12", an_elf("aarch64", soname="libquay.so.3"))
    linux.file("/opt/quay/lib/libquay.so.3.13", an_elf(soname="libquay.so.3")[:200])
    assert file_without_link(linux.opened(), MachinePath("/opt/quay/lib/libquay.so.3"), Architecture.X86_64) == (
        "/opt/quay/lib/libquay.so.3.10"
    )
    mended(app, "missing", "/opt/quay/lib/libquay.so.3")


def test_an_interpreter_that_no_one_may_run_may_be_run_again(mended: Mended, linux: ALinuxMachine) -> None:
    linux.program("/opt/quay/bin/sh", needs=[]).file("/opt/quay/run", b"#!/opt/quay/bin/sh\n", 0o755)
    (linux.root / "opt/quay/bin/sh").chmod(0o644)
    mended("/opt/quay/run", "blocked", "/opt/quay/bin/sh")

"""Remarks besides the verdicts, from versions and from the registry."""

from builders.hive import Key
from builders.machine import ALinuxMachine, AWindowsMachine
from fundamen.machine.installed import installed_packages, is_leftover
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.copies import with_copies
from fundamen.trace.path_remarks import with_path_remarks
from fundamen.trace.trace import trace_program

APP = "C:\\App\\app.exe"
GUID = "0123456789ABCDEF0123456789ABCDEF"
PACKAGE: Key = {
    "DisplayName": "Saltgrass Runtime",
    "DisplayVersion": "4.2.1",
    "Publisher": "Ardvane Instruments",
    "InstallLocation": "C:\\Saltgrass",
}


def software(**current: Key) -> Key:
    return {"Microsoft": {"Windows": {"CurrentVersion": current}}}


def by_installer(path: str) -> Key:
    data: Key = {"Components": {"ABC": {GUID: path}}, "Products": {GUID: {"InstallProperties": PACKAGE}}}
    return software(Installer={"UserData": {"S-1-5-18": data}})


def test_a_copy_of_the_other_width_that_is_passed_over_is_remarked(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",)).library("C:\\App\\x.dll", "x86").library("C:\\Windows\\System32\\x.dll")
    found = windows.need(APP, "x.dll")
    assert (found.verdict, found.remarks) == (
        Verdict.UNVERIFIED,
        (
            say(
                "trace.comes-first-and-is-passed-over",
                path="C:\\App\\x.dll",
                detail=say("loaders.is-for", architecture="x86"),
            ),
        ),
    )


def test_files_of_one_product_in_several_versions_are_remarked(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("one.dll", "two.dll", "else.dll"))
    for name, version, product in (("one", 1, "Salt"), ("two", 2, "Salt"), ("else", 3, "Reed")):
        windows.library(f"C:\\App\\{name}.dll", version=(4, version, 0, 0), product=product)
    remarks = {component.name: component.remarks for component in windows.trace(APP).components}
    assert remarks == {
        "app.exe": (),
        "one.dll": (
            say(
                "trace.it-is-from-but-versions-of", product="Salt", version="4.1.0.0", others="two.dll is from 4.2.0.0"
            ),
        ),
        "two.dll": (
            say(
                "trace.it-is-from-but-versions-of", product="Salt", version="4.2.0.0", others="one.dll is from 4.1.0.0"
            ),
        ),
        "else.dll": (),
    }


def test_a_missing_file_is_known_by_the_package_that_had_installed_it(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("salt.dll",)).registry(by_installer("C:\\Saltgrass\\bin\\SALT.dll"))
    put = {
        "title": "Saltgrass Runtime 4.2.1 by Ardvane Instruments",
        "path": "C:\\Saltgrass\\bin\\SALT.dll",
    }
    gone = say("trace.the-installer-of-put-it-at", **put, state=say("trace.nothing-is-there-now"))
    leftover = say("trace.and-the-package-folder-is-gone", said=gone, location="C:\\Saltgrass")
    assert windows.need(APP, "salt.dll").remarks == (leftover,)
    windows.library("C:\\Saltgrass\\bin\\salt.dll", "x86")
    there = say("trace.the-installer-of-put-it-at", **put, state=say("trace.it-is-still-there"))
    assert windows.need(APP, "salt.dll").remarks == (there,)


def test_a_file_that_was_counted_as_shared_is_known_by_its_place(windows: AWindowsMachine) -> None:
    shared = software(SharedDLLs={"C:\\Common\\salt.dll": 2})
    windows.program(APP, needs=("salt.dll",)).registry({"WOW6432Node": shared})
    assert windows.need(APP, "salt.dll").remarks == (
        say(
            "trace.an-installer-counted-it-as-shared",
            path="C:\\Common\\salt.dll",
            state=say("trace.nothing-is-there-now"),
        ),
    )


def test_the_installer_service_is_remarked_where_it_is_disabled_and_something_is_at_fault(
    windows: AWindowsMachine,
) -> None:
    windows.program(APP, needs=("x.dll",)).registry(system={"Services": {"msiserver": {"Start": 4}}})
    assert [remark.code for remark in windows.trace(APP).remarks] == ["trace.the-service-that-installs-packages-is"]
    windows.library("C:\\App\\x.dll")
    assert windows.trace(APP).remarks == ()


def test_installed_packages_of_both_widths_are_listed_and_leftovers_reported(windows: AWindowsMachine) -> None:
    narrow: Key = {"DisplayName": "Reed", "InstallLocation": "C:\\App"}
    listed = {**software(Uninstall={"A": PACKAGE, "B": {}}), "WOW6432Node": software(Uninstall={"C": narrow})}
    machine = windows.program(APP).registry(listed).opened()
    packages = list(installed_packages(machine.registry))
    assert [(package.title, is_leftover(machine, package)) for package in packages] == [
        ("Saltgrass Runtime 4.2.1 by Ardvane Instruments", True),
        ("Reed", False),
    ]


def test_what_is_wrong_with_path_is_remarked_on_a_program_that_it_finds(linux: ALinuxMachine) -> None:
    linux.program("/usr/bin/tide").program("/opt/bin/tide").file("/srv/bin/tide", b"", 0o644).link(
        "/tools", "usr/bin"
    ).link("/bin", "usr/bin")
    path = "/gone:/usr/bin:/bin:/tools:/usr/bin::/opt/bin:/srv/bin"
    machine = linux.opened(PATH=path)
    trace = with_path_remarks(machine, trace_program(machine, MachinePath("/usr/bin/tide")), "tide")
    assert trace.components[0].remarks == (
        say("trace.another-one-lies-at-behind-it", of_architecture=" for x86_64", path="/opt/bin/tide"),
        say("trace.is-passed-over", path="/srv/bin/tide", detail=say("loaders.no-user-may-execute-it-mode")),
    )
    assert trace.remarks == (
        say("trace.path-has-which-is", entry="/gone", more="not there"),
        say(
            "trace.path-has", entry="/tools", more="too", same=say("trace.which-is-the-same-folder-as", seen="/usr/bin")
        ),
        say("trace.path-has", entry="/usr/bin", more="", same="twice"),
        say("trace.path-has-the-entry-which-means", entry=""),
    )


def test_copies_that_lie_where_the_loader_does_not_look_are_remarked_on(linux: ALinuxMachine) -> None:
    linux.program("/opt/app/bin/app", needs=("libtide.so.4",)).library("/opt/app/unpacked/lib/libtide.so.4")
    linux.library("/opt/other/lib/libtide.so.4", "aarch64").file("/srv/libtide.so.4", b"no library")
    linux.library("/usr/local/parts/libtide.so.4").link("/opt/app/bin/round", "/opt")
    linux.file("/var/lib/dpkg/info/tide.md5sums", b"0" * 32 + b"  usr/local/parts/libtide.so.4\n")
    machine = linux.opened()
    trace = with_copies(machine, trace_program(machine, MachinePath("/opt/app/bin/app")), [])
    [fault] = trace.faults
    assert [remark.split()[4].rstrip(",") for remark in fault.remarks] == [
        "/opt/app/unpacked/lib/libtide.so.4",
        "/usr/local/parts/libtide.so.4",
    ]
    assert all("not verified" in remark for remark in fault.remarks)


def test_copies_on_a_windows_volume_are_found_whatever_the_case_of_their_names(windows: AWindowsMachine) -> None:
    windows.program("C:\\Tide\\app.exe", needs=("Salt.dll",)).library("C:\\Tide\\setup\\x64\\SALT.DLL")
    windows.library("C:\\Tide\\setup\\x86\\salt.dll", "x86")
    machine = windows.opened()
    trace = with_copies(machine, trace_program(machine, MachinePath("C:\\Tide\\app.exe")), [])
    [remark] = next(fault for fault in trace.faults if fault.name == "Salt.dll").remarks
    assert "C:\\Tide\\setup\\x64\\SALT.DLL, where its loader does not look" in remark

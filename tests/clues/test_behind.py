"""What a machine shows behind a message: commands that are gone, symbols that another copy lacks, damaged databases."""

import gzip
import json
import lzma
from typing import Any

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from conftest import Fundamen

APP = "/opt/tide/bin/tide"


@pytest.fixture
def explained(fundamen: Fundamen, linux: ALinuxMachine) -> Any:
    def explain(text: str) -> dict[str, Any]:
        ran = fundamen("clues", "-m", linux.root, "--json", "-", given=text.encode())
        found: dict[str, Any] = json.loads(ran.out)
        return found

    return explain


def test_a_command_that_is_gone_leads_to_its_package_and_the_shell_that_says_so_is_no_program(
    explained: Any, linux: ALinuxMachine
) -> None:
    linux.packages({"tidebook": {"/usr/bin/tidebook": b"gone"}}).program("/bin/bash", needs=())
    (linux.root / "usr/bin/tidebook").unlink()
    found = explained("/bin/bash: line 1: tidebook: command not found\n")
    assert found["behind"]["traced"] == ["/usr/bin/tidebook"]
    assert found["next"][-1]["text"].endswith("--rehearse /usr/bin/tidebook")


def test_a_script_that_leads_the_loader_to_a_copy_without_the_symbol_is_named(
    explained: Any, linux: ALinuxMachine
) -> None:
    linux.program(APP, needs=("libebb.so.2",)).program("/bin/sh", needs=())
    linux.file("/usr/lib/libebb.so.2", an_elf(soname="libebb.so.2", exports=("ebb",)))
    linux.file("/opt/tide/lib/libebb.so.2", an_elf(soname="libebb.so.2", exports=("flow",)))
    linux.file("/opt/tide/run", f"#!/bin/sh\nexport LD_LIBRARY_PATH=/opt/tide/lib\nexec {APP}\n".encode(), 0o755)
    found = explained(f"{APP}: symbol lookup error: {APP}: undefined symbol: ebb\n")
    assert all(path in found["behind"]["reason"]["text"] for path in ("/opt/tide/run", "/opt/tide/lib/libebb.so.2"))


def test_what_the_package_manager_says_is_about_its_database_where_that_is_damaged(
    explained: Any, linux: ALinuxMachine
) -> None:
    linux.packages({f"tide-{number}": {f"/usr/share/{number}": b"x"} for number in range(40)})
    (linux.root / "var/lib/dpkg/status").write_text("")
    found = explained("dpkg-query: package 'tide-1' is not installed and no information is available\n")
    assert found["behind"]["traced"] == ["/var/lib/dpkg/status"]


def test_a_module_of_pam_that_no_line_names_is_found_by_the_services_settings(
    explained: Any, linux: ALinuxMachine
) -> None:
    linux.packages({"tide-pam": {"/usr/lib/security/pam_tide.so": b"x", "/usr/lib/security/pam_ebb.so": b"x"}})
    linux.file("/etc/pam.d/berth", b"# all\nauth [success=1 default=ignore] pam_ebb.so quiet\n@include common\n")
    linux.file("/etc/pam.d/common", b"session required \\\n  pam_tide.so\naccount include common\n")
    (linux.root / "usr/lib/security/pam_tide.so").unlink()
    found = explained("berth: Module is unknown\n")
    assert [each["path"] for each in found["behind"]["lost"]] == ["/usr/lib/security/pam_tide.so"]


@pytest.mark.parametrize(
    ("file", "text"),
    [
        ("/usr/share/terminfo/q/quay-256", 'tide: unknown terminal "quay-256"'),
        ("/usr/lib/coders/quay.so", "tide: no decode delegate for this image format `QUAY' @ error/constitute.c"),
    ],
)
def test_a_file_that_a_message_only_implies_is_found_gone(
    explained: Any, linux: ALinuxMachine, file: str, text: str
) -> None:
    linux.packages({"tide-data": {file: b"x"}})
    (linux.root / file.lstrip("/")).unlink()
    assert [each["path"] for each in explained(f"{text}\n")["behind"]["lost"]] == [file]


TEXT = "sounder: the picture cannot be written\n"
NAMED = {"gone": True, "empty": True}


def a_sounder(linux: ALinuxMachine) -> ALinuxMachine:
    """A program, the package of its library, and one with tables on which that depends."""
    library, program = (
        an_elf(soname="libsound.so.1"),
        an_elf(needs=("libsound.so.1",), interpreter="/lib64/ld-linux-x86-64.so.2"),
    )
    linux.packages({
        "sounder": {"/usr/bin/sounder": program, "/usr/share/sounder/ebb.dat": b"ebb", "/usr/share/doc/x": b"own"},
        "libsound1": {"/usr/lib64/libsound.so.1": library, "/usr/lib64/sound/gif.so": b"a plug-in"},
        "sound-data": {"/usr/share/sound/C.utf8": b"table", "/usr/share/sound/other": b"other"},
    })  # fmt: skip
    status = linux.root / "var/lib/dpkg/status"
    text = status.read_text().replace("Package: libsound1\n", "Package: libsound1\nDepends: sound-data (>= 1)\n")
    status.write_text(text)
    return linux


@pytest.mark.parametrize(
    ("lost", "text", "expected"),
    [
        ("/usr/share/sounder/ebb.dat", TEXT, NAMED),  # of the program's own package
        ("/usr/lib64/sound/gif.so", TEXT, NAMED),  # of the package of a library that it loads
        ("/usr/share/sound/C.utf8", "sounder: the locale C.UTF-8 cannot be used\n", NAMED),  # the text is about it
        ("/usr/share/sound/other", TEXT, {"gone": False}),  # of a far package, and nothing in the text is like it
        ("/usr/share/doc/x", TEXT, {}),  # documentation
        ("/usr/share/sounder/ebb.dat", "sounder: connect to tides.example: Connection refused\n", {}),
        ("", TEXT, {}),
    ],
)  # fmt: skip
@pytest.mark.parametrize("damage", ["gone", "empty"])
def test_what_is_gone_or_empty_around_a_program_is_found(
    explained: Any, linux: ALinuxMachine, lost: str, text: str, expected: dict[str, bool], damage: str
) -> None:
    a_sounder(linux)
    if lost and damage == "empty":
        linux.file(lost, b"")
    elif lost:
        (linux.root / lost[1:]).unlink()
    behind = explained(text)["behind"] or {"lost": []}
    found = [(each["path"], each["damage"], each["is_named"]) for each in behind["lost"]]
    assert found == ([(lost, damage, expected[damage])] if damage in expected else [])


@pytest.mark.parametrize(
    "text", ["sounder: the picture cannot be written\n", "bash: line 1: 234 Segmentation fault      sounder\n"]
)
def test_data_of_a_package_that_was_altered_is_found_where_nothing_else_is(
    explained: Any, linux: ALinuxMachine, text: str
) -> None:
    a_sounder(linux).file("/usr/share/sounder/ebb.dat", b"flow")
    [lost] = explained(text)["behind"]["lost"]
    assert (lost["path"], lost["damage"]) == ("/usr/share/sounder/ebb.dat", "altered")


def test_a_setting_that_is_gone_comes_back_by_its_own_name(explained: Any, linux: ALinuxMachine) -> None:
    linux.packages({"sounder": {"/usr/bin/sounder": an_elf()}}, {"/etc/sounder.conf": b"own"})
    (linux.root / "etc/sounder.conf").unlink()
    found = explained("sounder: Could not open '/etc/sounder.conf'\n")
    assert found["next"][0]["text"].endswith("--rehearse /etc/sounder.conf")


def test_rights_that_keep_the_user_from_a_file_are_the_reason(explained: Any, linux: ALinuxMachine) -> None:
    linux.packages({"sounder": {"/usr/share/sounder/ebb.dat": b"ebb"}})
    (linux.root / "usr/share/sounder").chmod(0o700)
    found = explained("sounder: Couldn't open file /usr/share/sounder/ebb.dat\n")
    assert found["behind"]["reason"]["code"] == "clues.rights-keep-from-it"
    assert found["next"][0]["text"].endswith("--rehearse /usr/share/sounder/ebb.dat")


def test_a_file_that_is_at_fault_is_reported_once(explained: Any, linux: ALinuxMachine) -> None:
    page = b"<!DOCTYPE html><title>Sign in</title>"
    linux.packages({"libsound1": {"/usr/lib64/libsound.so.1.2": an_elf(soname="libsound.so.1")}})
    linux.file("/usr/lib64/libsound.so.1.2", page).link("/usr/lib64/libsound.so.1", "libsound.so.1.2")
    linux.program("/usr/bin/sounder", needs=("libsound.so.1",))
    text = "sounder: error while loading shared libraries: /usr/lib64/libsound.so.1: invalid ELF header\n"
    behind = explained(text)["behind"]
    assert (behind["traced"], behind["places"]) == (["/usr/bin/sounder"], [])


def pack(data: bytes, ending: str) -> bytes:
    """A list as apt may keep it."""
    return gzip.compress(data) if ending == ".gz" else lzma.compress(data) if ending == ".xz" else data


LIST = "/var/lib/apt/lists/archive.example_dists_tide_main_binary-amd64_Packages"


@pytest.mark.parametrize("packing", ["", ".gz", ".xz"])
@pytest.mark.parametrize(
    ("text", "package", "program"),
    [
        ("ModuleNotFoundError: No module named 'salt_grass.depth'\n", "python3-salt-grass", "/usr/bin/python3"),
        ("Can't locate Salt/Grass.pm in @INC (you may need to install the Salt::Grass module)\n", "libsalt-grass-perl",
         "/usr/bin/perl"),
        ("Uncaught Error: Call to undefined function tide_level() in /srv/a.php:3\n", "php-tide", "/usr/bin/php"),
        ("bash: line 1: saltgrass: command not found\n", "saltgrass", "/usr/bin/saltgrass"),
        ("ModuleNotFoundError: No module named 'salt'\n", "", ""),  # only the beginning of a package's name
        ("ModuleNotFoundError: No module named 'tide'\n", "", ""),  # a package of that name, but no module
        ("ModuleNotFoundError: No module named 'ebb'\n", "", ""),  # its package is installed
    ],
)  # fmt: skip
def test_what_was_never_installed_leads_to_the_package_that_the_archive_has(
    explained: Any, linux: ALinuxMachine, text: str, package: str, program: str, packing: str
) -> None:
    names = ("python3-salt-grass", "libsalt-grass-perl", "saltgrass", "tide", "python3-ebb", "php-tide")
    content = "".join(f"Package: {name}\nVersion: 1\nDescription: for Package: python3-salt\n\n" for name in names)
    linux.packages({
        "python3": {"/usr/bin/python3": an_elf()}, "perl": {"/usr/bin/perl": an_elf()},
        "php": {"/usr/bin/php": an_elf()}, "python3-ebb": {"/etc/ebb": b""},
    })  # fmt: skip
    linux.file(LIST + packing, pack(content.encode(), packing))
    found = explained(text)
    words = found["next"][-1]["text"].split()
    assert (words[-3:] if "--install" in words else []) == (["--install", package, program] if package else [])


def test_a_damaged_list_of_packages_says_no_more(explained: Any, linux: ALinuxMachine) -> None:
    linux.packages({"python3": {"/usr/bin/python3": an_elf()}})
    linux.file(LIST + ".gz", gzip.compress(b"Package: python3-salt\n\n" * 5000)[:-20]).file(LIST + ".xz", b"no list")
    assert explained("ModuleNotFoundError: No module named 'tide'\n")["behind"] is None


QT = 'qt.qpa.plugin: Could not load the Qt platform plugin "tide" in "" even though it was found.\n'
PLUG_IN = "/usr/lib/x86_64-linux-gnu/qt5/plugins/platforms/libqtide.so"


def test_a_plug_in_that_a_message_does_not_name_by_file_leads_to_what_it_lacks(
    explained: Any, linux: ALinuxMachine
) -> None:
    linux.file(PLUG_IN, an_elf(soname="libqtide.so", needs=("libebb.so.2",)))
    linux.file(PLUG_IN.replace("libqtide", "libqflow"), an_elf(soname="libqflow.so", needs=("libflow.so.2",)))
    found = explained(QT)
    assert found["behind"]["traced"] == [PLUG_IN]
    assert found["behind"]["reason"]["code"] == "clues.is-at-fault"
    assert found["behind"]["reason"]["text"].split()[0] == "libebb.so.2"
    linux.file("/usr/lib/x86_64-linux-gnu/libebb.so.2", an_elf(soname="libebb.so.2"))
    assert (explained(QT)["behind"] or {"traced": []})["traced"] == []


def test_a_folder_of_plug_ins_that_its_user_may_not_enter_is_named(linux: ALinuxMachine, fundamen: Fundamen) -> None:
    linux.file(PLUG_IN, an_elf(soname="libqtide.so")).file("/etc/passwd", b"quay:x:1000:1000::/:/bin/sh\n")
    folder = linux.root / PLUG_IN[1:].rpartition("/")[0]
    folder.chmod(0o700)
    ran = fundamen("clues", "-m", linux.root, "--as", "quay", "--json", "-", given=QT.encode())
    found = json.loads(ran.out)
    assert "/usr/lib/x86_64-linux-gnu/qt5/plugins/platforms" in found["behind"]["reason"]["text"]
    assert "--as quay --rehearse" in found["next"][-1]["text"]


@pytest.mark.parametrize(
    ("file", "module", "is_other"),
    [
        ("/opt/app/_tide.cpython-310-x86_64-linux-gnu.so", "_tide", True),
        ("/usr/lib/python3/dist-packages/salt/grass.cpython-39-x86_64-linux-gnu.so", "salt.grass", True),
        ("/opt/app/_tide.cpython-311-x86_64-linux-gnu.so", "_tide", False),  # of this very Python
        ("/opt/app/_tide.abi3.so", "_tide", False),
        ("/opt/app/_tidewatch.cpython-310-x86_64-linux-gnu.so", "_tide", False),
    ],
)
def test_a_module_for_another_python_is_named(
    explained: Any, linux: ALinuxMachine, file: str, module: str, *, is_other: bool
) -> None:
    linux.program("/usr/bin/python3.11").link("/usr/bin/python3", "python3.11").file(file, an_elf())
    behind = explained(f"ModuleNotFoundError: No module named '{module}'\n")["behind"]
    reason = behind["reason"] if behind is not None else None
    assert (reason is not None and reason["code"] == "clues.is-built-for-another-python") is is_other
    assert reason is None or not is_other or reason["text"].split()[0] == file

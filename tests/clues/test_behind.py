"""What a machine shows behind a message: commands that are gone, symbols that another copy lacks, damaged databases."""

import json
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

"""Two machines side by side: it works there, not here; what is installed, trusted and started; trees file by file."""

from pathlib import Path
from typing import Any

import pytest

from builders.machine import ALinuxMachine, AWindowsMachine
from builders.signing import AnIssuer
from conftest import Fundamen
from fundamen.messages import say

STATUS = "Package: libtide\nStatus: install ok installed\nArchitecture: amd64\nVersion: {}\n\n"


def compared(fundamen: Fundamen, *words: str | Path) -> dict[str, Any]:
    ran = fundamen("compare", *words, "--json")
    [record] = ran.records
    assert ran.status == (1 if record["differences"] else 0), ran.err
    found: dict[str, Any] = record
    return found


@pytest.fixture
def two(tmp_path: Path) -> tuple[ALinuxMachine, ALinuxMachine]:
    """Two machines with the same program; on the second it works."""
    machines = ALinuxMachine(tmp_path / "here"), ALinuxMachine(tmp_path / "there")
    for number, machine in enumerate(machines):
        machine.program("/bin/sh").program("/opt/tide", needs=["libtide.so.2", "libebb.so.1", "libsame.so.1"])
        machine.library("/usr/lib64/libtide.so.2", ("x86", "x86_64")[number])
        machine.library("/usr/lib64/libebb.so.1", needs=["libsame.so.1"][:number])
        machine.library("/usr/lib64/libsame.so.1").library("/usr/lib64/libother.so", needs=["libx"][:number])
        machine.file("/etc/ld.so.conf", (b"", b"# own\n/opt/tide/lib\n")[number])
        machine.file("/var/lib/dpkg/status", STATUS.format(number + 1).encode())
        unit = f"/etc/systemd/system/{('multi-user', 'graphical')[number]}.target.wants/tide.service"
        machine.link(unit, "/usr/lib/systemd/system/tide.service")
    return machines


def test_only_what_the_program_depends_on_is_reported_what_stops_it_first(
    fundamen: Fundamen, two: tuple[ALinuxMachine, ALinuxMachine]
) -> None:
    here, there = (machine.root for machine in two)
    found = compared(fundamen, here, there, "--for", "/opt/tide")
    assert [(each["name"], each["is_decisive"]) for each in found["differences"]] == [
        ("libtide.so.2", True), ("libebb.so.1", False),
    ]  # fmt: skip
    first, second = found["differences"]
    assert "wrong-architecture" in first["here"]["text"]
    assert first["there"]["text"] == "/usr/lib64/libtide.so.2 for x86_64"
    assert ", content " in second["here"]["text"] != second["there"]["text"]
    assert found["alike"] >= 2
    text = fundamen("compare", here, there, "--for", "/opt/tide").out
    assert text.startswith("2 differences, 1 of them at fault on one side alone")
    assert compared(fundamen, there, there, "--for", "/opt/tide")["differences"] == []
    alike = fundamen("compare", here, here, "--for", "/opt/tide")
    assert (alike.status, "On both, libtide.so.2 is at fault alike." in " ".join(alike.out.split())) == (1, True)


def test_a_capture_stands_for_its_machine(fundamen: Fundamen, two: tuple[ALinuxMachine, ALinuxMachine]) -> None:
    here, there = (machine.root for machine in two)
    assert fundamen("capture", "-m", there, "there.capture", "/opt/tide", "--all", "--yes").status == 0
    for words in (("--for", "/opt/tide"), ()):
        on_machine, on_capture = (
            compared(fundamen, here, there, *words),
            compared(fundamen, here, "there.capture", *words),
        )
        assert on_capture["differences"] == on_machine["differences"]


def test_what_is_installed_trusted_and_started_is_reported_for_the_machines_as_a_whole(
    fundamen: Fundamen, two: tuple[ALinuxMachine, ALinuxMachine]
) -> None:
    root = AnIssuer.root("Marram Root")
    two[1].file("/etc/ssl/certs/ca-certificates.crt", root.pem)
    found = compared(fundamen, *(machine.root for machine in two))
    answer = {
        (each["about"], each["name"].partition(" (")[0]): (each["here"]["text"], each["there"]["text"])
        for each in found["differences"]
    }
    assert answer[("package", "libtide:amd64")] == ("1", "2")
    assert answer[("service", "tide.service")] == (
        say("survey.started-by", name="multi-user.target"),
        say("survey.started-by", name="graphical.target"),
    )
    assert answer[("certificate", "Marram Root")][0] == "not there"
    assert answer[("setting", "/etc/ld.so.conf")] == ("not there", "/opt/tide/lib")


def test_trees_are_compared_file_by_file_and_wrong_words_are_refused(fundamen: Fundamen, tmp_path: Path) -> None:
    for name, files in {"a": {"x": "1", "same": "s"}, "b": {"x": "2", "y": "3", "same": "s"}}.items():
        (tmp_path / name).mkdir()
        for file, text in files.items():
            (tmp_path / name / file).write_text(text)
    found = compared(fundamen, "a", "b")
    assert [(each["name"], each["here"]["text"], each["there"]["text"]) for each in found["differences"]] == [
        ("x", say("sources.it-has-other-bytes"), say("survey.as-it-is-there")), ("y", "not there", "there"),
    ]  # fmt: skip
    assert found["alike"] == 1
    assert fundamen("compare", "a", "b", "--for", "/x").status == 2
    assert fundamen("compare", "a", "gone").status == 3


def test_services_and_the_loaders_settings_of_two_windows_volumes(fundamen: Fundamen, tmp_path: Path) -> None:
    volumes = [AWindowsMachine(tmp_path / name) for name in ("office", "quay")]
    for start, volume in zip((4, 2), volumes, strict=True):
        known = {"KnownDLLs": {"tide": "tide.dll"}} if start == 2 else {}
        volume.registry(system={
            "Services": {"Tide": {"Start": start}, "Ebb": {"Start": 3}},
            "Control": {"Session Manager": {"SafeDllSearchMode": 0, **known}},
        })  # fmt: skip
    found = compared(fundamen, *(volume.root for volume in volumes))
    answer = [
        (each["about"], each["name"], each["here"]["text"], each["there"]["text"]) for each in found["differences"]
    ]
    assert answer == [
        ("service", "Tide", "disabled", "started with the system"),
        ("setting", say("survey.known-library", name="tide"), "not there", "tide.dll"),
    ]
    assert found["gaps"] == []
    assert fundamen("capture", "-m", volumes[0].root, "whole.capture", "--all", "--yes").status == 0
    assert compared(fundamen, "whole.capture", volumes[1].root)["differences"] == found["differences"]
    without_hives = AWindowsMachine(tmp_path / "bare").root
    assert len(compared(fundamen, without_hives, volumes[1].root)["gaps"]) == 3

"""The built command: from a message to what is behind it on a machine; folders, bundles, bad input."""

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import pytest
import zstandard

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from builders.signing import NOW, APublisher
from conftest import Fundamen
from fundamen.messages import say
from fundamen.model.encoding import as_message
from fundamen.report.contracts.reading import CluesRecord
from wording import says

if TYPE_CHECKING:
    from collections.abc import Callable

MESSAGE = "tidebook: error while loading shared libraries: libtide.so.2: cannot open shared object file: No such file"
TEXT = f"09:00:00 INFO starting\n09:00:01 ERROR {MESSAGE}\n".encode()


def chained(linux: ALinuxMachine) -> ALinuxMachine:
    """A program that needs libtide.so.2, which needs libdepth.so.1, which needs libsalt.so.4."""
    linux.program("/opt/tidebook/tidebook", needs=["libtide.so.2"])
    linux.library("/usr/lib64/libtide.so.2", needs=["libdepth.so.1"])
    return linux.library("/usr/lib64/libdepth.so.1", needs=["libsalt.so.4"])


def test_a_file_is_spelled_as_it_is_and_one_fault_of_two_programs_is_shown_once(
    fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    linux.library("/usr/lib64/libtide.so.2", "x86")
    for folder in ("/usr/bin", "/opt/tidebook"):
        linux.program(f"{folder}/tidebook", needs=["libtide.so.2"])
    text = "tidebook: error while loading shared libraries: libtide.so.2: wrong ELF class: ELFCLASS32"
    ran = fundamen("clues", "-m", linux.root, "--text", text)
    traced = fundamen("clues", "-m", linux.root, "--text", text, "--json").records[0]["behind"]["traced"]
    assert sorted(traced) == ["/opt/tidebook/tidebook", "/usr/bin/tidebook"]
    assert ("libtide.so.2" in ran.out, "Libtide" in ran.out) == (True, False)
    shown = [line for line in ran.out.splitlines() if "wrong-architecture" in line]
    assert len(shown) == 1, ran.out


def test_a_message_is_explained_by_what_a_trace_finds_three_levels_down(
    fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    chained(linux)
    ran = fundamen(
        "clues",
        "--machine",
        str(linux.root),
        "--json",
        "--text",
        MESSAGE.replace("tidebook:", "/opt/tidebook/tidebook:"),
    )
    [record] = ran.records
    assert (ran.status, record["behind"]["traced"]) == (1, ["/opt/tidebook/tidebook"])
    reason = record["behind"]["reason"]
    assert (reason["code"], "libsalt.so.4" in reason["text"]) == ("clues.the-message-names-the-reason-is", True)
    assert record["decisive"]["holes"]["component"] == "libtide.so.2"
    assert record["next"][0]["text"] == f"fundamen trace --machine {linux.root} /opt/tidebook/tidebook"


def test_copies_of_a_named_component_are_listed_with_what_they_are(
    fundamen: Fundamen, windows: AWindowsMachine
) -> None:
    """The library is on the machine, only not where the program looks."""
    windows.library("C:\\Windows\\SysWOW64\\saltgrass4.dll", "x86").library("C:\\Program Files\\Old\\saltgrass4.dll")
    ran = fundamen(
        "clues", "--machine", str(windows.root), "--json", "--text",
        "The program can't start because SALTGRASS4.dll is missing from your computer.",
    )  # fmt: skip
    [record] = ran.records
    places = {place["path"]: place["architecture"] for place in record["behind"]["places"]}
    assert places == {
        "C:\\Windows\\SysWOW64\\saltgrass4.dll": "x86",
        "C:\\Program Files\\Old\\saltgrass4.dll": "x86_64",
    }


def test_the_causes_that_the_machine_bears_out_go_first_each_with_what_speaks_for_it(
    fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    linux.file("/opt/unpacked/libtide.so.2", an_elf())
    ran = fundamen("clues", "--machine", str(linux.root), "--json", "--text", MESSAGE)
    first = ran.records[0]["likely"][0]
    assert first == {
        "cause": "it lies where the loader does not look",
        "because": {"code": "clues.one-lies-at", "text": say("clues.one-lies-at", path="/opt/unpacked/libtide.so.2")},
        "borne_out": True,
    }


def test_a_misread_name_is_measured_against_what_is_on_the_machine(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.library("/usr/lib64/libsaltmath.so.1")
    ran = fundamen("clues", "--machine", str(linux.root), "--text", MESSAGE.replace("libtide.so.2", "libsa1tmath.so.1"))
    assert "Did you mean /usr/lib64/libsaltmath.so.1? The text says libsa1tmath.so.1." in " ".join(ran.out.split())


def test_a_program_that_has_all_it_needs_now_is_said_to(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    chained(linux).library("/usr/lib64/libsalt.so.4")
    ran = fundamen("clues", "--machine", str(linux.root), "-t", MESSAGE.replace("tidebook:", "/opt/tidebook/tidebook:"))
    assert "Traced now, tidebook has all that it needs to start" in ran.out


def packed(name: str) -> bytes:
    """The text in a container of that name."""
    buffer = io.BytesIO()
    if name.endswith(".zip"):
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr("logs/setup.log", TEXT)
    elif ".tar" in name:
        with tarfile.open(fileobj=buffer, mode="w:gz") as archive:
            member = tarfile.TarInfo("logs/setup.log")
            member.size = len(TEXT)
            archive.addfile(member, io.BytesIO(TEXT))
    else:
        pack: dict[str, Callable[[bytes], bytes]] = {
            "gz": gzip.compress,
            "bz2": bz2.compress,
            "xz": lzma.compress,
            "zst": zstandard.ZstdCompressor().compress,
        }
        return pack[name.rpartition(".")[2]](TEXT)
    return buffer.getvalue()


@pytest.mark.parametrize("name", ["a.zip", "a.tar.gz", "a.log.gz", "a.log.bz2", "a.log.xz", "a.log.zst"])
def test_packed_logs_and_bundles_are_read_and_damaged_ones_said_to_be(
    fundamen: Fundamen, tmp_path: Path, name: str
) -> None:
    (tmp_path / name).write_bytes(packed(name))
    [record] = fundamen("clues", "--json", "--only-read", name).records
    assert (record["decisive"]["line"], record["input"]) == (2, name + ("/logs/setup.log" if "log" not in name else ""))
    whole = packed(name)
    (tmp_path / name).write_bytes(whole[: len(whole) // 2])
    ran = fundamen("clues", "--json", "--only-read", name)
    assert (ran.status, "Traceback" in ran.err) == (3, False), ran.err
    assert "error" in ran.out


def test_of_a_folder_of_logs_the_earliest_cause_is_reported_and_what_is_no_text_is_passed_over(
    fundamen: Fundamen, tmp_path: Path
) -> None:
    (tmp_path / "logs" / "old").mkdir(parents=True)
    (tmp_path / "logs" / "a.log").write_text("2026-11-28 09:00:05 ERROR gauge: [Errno 111] Connection refused\n")
    (tmp_path / "logs" / "old" / "b.log").write_text(f"2026-11-28 09:00:01 ERROR {MESSAGE}\n")
    (tmp_path / "logs" / "c.bin").write_bytes(b"\x7fELF" + bytes(range(32)) * 9)
    ran = fundamen("clues", "--only-read", "logs")
    assert ran.status == 1
    assert ran.out.startswith("The loader does not find the library libtide.so.2")
    assert "logs/old/b.log:1  the first cause" in ran.out
    assert says(ran.err, "clues.is-no-text")


@pytest.mark.parametrize(
    ("words", "given", "status", "said"),
    [
        (("none.log",), b"", 3, "No such file or directory"),
        (("-",), b"\x7fELF" + bytes(range(32)) * 9, 3, "is no text"),
        (("-",), b"all is well\n", 0, "No line tells of a failure (1 line)."),
        (("-",), b"", 0, "The text is empty."),
        ((), TEXT, 1, "libtide.so.2"),
        (("--knowledge", "none", "-"), TEXT, 3, "none cannot be read"),
    ],
)
def test_input_gets_a_clear_answer(
    fundamen: Fundamen, words: tuple[str, ...], given: bytes, status: int, said: str
) -> None:
    ran = fundamen("clues", "--only-read", *words, given=given)
    assert (ran.status, said in ran.out + ran.err) == (status, True), ran.out + ran.err


def test_the_record_follows_its_published_schema(fundamen: Fundamen) -> None:
    ran = fundamen("clues", "--json", "--text", MESSAGE)
    record = msgspec.json.decode(ran.out, type=CluesRecord, dec_hook=as_message)
    assert (record.input, record.faults, record.likely[0].cause) == (
        "message",
        1,
        say("evidence.is-not-installed", name="its package"),
    )


def test_the_chain_of_a_named_package_is_drawn_where_it_is_not_trusted(
    fundamen: Fundamen, windows: AWindowsMachine
) -> None:
    windows.file("C:\\Temp\\setup.exe", APublisher().sign(a_pe(), stamped_at=NOW))
    log = (
        r"[9:41:5]C:\Temp\setup.exe Signature could not be verified: a certificate chain was processed, code 0x800b0109"
    )
    on = ("clues", "--machine", str(windows.root), "--text", log)
    ran = fundamen(*on)
    assert says(ran.out, "clues.is-not-accepted", name="setup.exe")
    assert "Ardvane Instruments" in ran.out
    assert f"fundamen inspect --machine {windows.root} 'C:\\Temp\\setup.exe'" in ran.out
    [record] = fundamen(*on, "--json").records
    [signed] = record["behind"]["signed"]
    assert (signed["path"], signed["publisher"]["verdict"]) == ("C:\\Temp\\setup.exe", "untrusted")
    assert record["decisive"]["codes"][0]["name"] == "CERT_E_UNTRUSTEDROOT"

"""The situations of the trade, each from its symptom to the hand-off that asks nothing back, some on to their proof."""

import hashlib
import ssl
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from builders.signing import NOW, AnIssuer, APublisher
from builders.source import ASource
from conftest import Fundamen
from wording import says


class Situation(NamedTuple):
    """A symptom, and what must come of it."""

    symptom: str
    about: str
    names: str  # a component, path or the like that must be named
    wanted: str  # in what is asked for
    first: str  # the remedy that comes first


def built(windows: AWindowsMachine) -> None:
    """Tidebook on a Windows volume: a library is missing, and a folder of the system holds the 64-bit one."""
    windows.program("C:\\Tidebook\\tidebook.exe", needs=["saltgrass4.dll", "chart.dll"])
    windows.library("C:\\Windows\\System32\\chart.dll", "x86").library("C:\\Program Files\\Old\\saltgrass4.dll")
    windows.file("C:\\Temp\\fw.exe", APublisher().sign(a_pe(), stamped_at=NOW))


SITUATIONS = {
    "S1 a library is not found": Situation(
        "tidebook.exe: The code execution cannot proceed because saltgrass4.dll was not found.",
        "missing", "saltgrass4.dll", "saltgrass4.dll for x86_64", "trace"),
    "S2 a library is there for the other width": Situation(
        r"C:\Tidebook\tidebook.exe: The application was unable to start correctly (0xc000007b).",
        "missing", "tidebook.exe", "chart.dll for x86_64. It is there for another architecture", "trace"),
    "S3 it lies where no loader looks": Situation(
        "Unable to load DLL 'saltgrass4.dll': The specified module could not be found.",
        "missing", "saltgrass4.dll", "saltgrass4.dll", "offers"),
    "S4 one of several runtimes is damaged": Situation(
        "Product: Saltgrass -- Error 1935. An error occurred during the installation of assembly 'Ardvane.Salt,"
        "version=\"4.2.1.0\",processorArchitecture=\"x86\"'. HRESULT: 0x800736B3.\nAction ended. Return value 3.",
        "corrupt", "Ardvane.Salt", "Ardvane.Salt. It is damaged", "offers"),
    "S5 a chain ends in an unknown root": Situation(
        r"C:\Temp\fw.exe Signature could not be verified: a certificate chain was processed, code 0x800b0109",
        "untrusted", "fw.exe", "ends in a root certificate that this machine does not trust", "inspect-file"),
    "S6 an optional part is switched off": Situation(
        "Error: 0x800f081f\nThe source files could not be found.",
        "missing", "", "its payload is missing", "start-anew"),
    "S7 the system's own files are damaged": Situation(
        "2026-11-28 08:00:19, Error servicing: package 7, failed to stage, HRESULT 0x80073712",
        "corrupt", "", "The store that the system's own parts come from is damaged", "repair"),
    "S8 an installer is misled by what is registered": Situation(
        "Error 0x80070666: Cannot install a product when a newer version is installed.",
        "conflict", "", "A decision which of the two that exclude each other stays", "hand-on"),
    "S9 an installer links on the spot": Situation(
        "/usr/bin/ld: cannot find -lsa1tmath: No such file or directory\ncollect2: error: ld returned 1 exit status\n"
        "make: *** [ins_tide.mk:12: links] Error 1",
        "missing", "sa1tmath", "sa1tmath. It is missing", "offers"),
    "S10 a toolchain has the wrong content": Situation(
        "breakwater: content of bin/salt-cc has the wrong hash",
        "corrupt", "salt-cc", "bin/salt-cc. It is damaged", "offers"),
    "S11 licences cannot be shown": Situation(
        "[!!] Salt platform tools\n     license status unknown",
        "setting", "", "The setting that the evidence names", "limits"),
    "S12 a plug-in has no build for this processor": Situation(
        'npm ERR! notsup Unsupported platform for saltgauge@2.1.0: wanted {"os":"linux"}',
        "wrong-architecture", "saltgauge@2.1.0", "saltgauge@2.1.0. It is there for another architecture", "offers"),
    "S13 a part of a tree has vanished": Situation(
        "fatal: repository '/srv/charts.git' does not exist",
        "missing", "/srv/charts.git", "/srv/charts.git", "start-anew"),
    "S14 an authority has no host": Situation(
        "join: certificate authority CN=Marram-CA has no host\njoin: -1240, see the second log",
        "unreachable", "", "certificate authority has no host", "wait"),
    "S15 a readiness check fails": Situation(
        "PHP version ... This application requires PHP 8.2 or higher",
        "outdated", "8.2", "The version of PHP is too old", "start-anew"),
    "S16 a scanner takes a file away": Situation(
        "09:00:04 on-access: threat detected in /opt/tidebook/lib/libtide.so.2",
        "blocked", "libtide.so.2", "/opt/tidebook/lib/libtide.so.2", "wait"),
    "S17 a driver is too old": Situation(
        "libGL error: failed to load driver: saltgl", "outdated", "saltgl", "saltgl", "offers"),
}  # fmt: skip


@pytest.mark.parametrize("name", SITUATIONS)
def test_a_situation_goes_from_its_symptom_to_a_hand_off_that_asks_nothing_back(
    fundamen: Fundamen, windows: AWindowsMachine, name: str
) -> None:
    situation = SITUATIONS[name]
    built(windows)
    fundamen("case", "open", name)
    ran = fundamen("clues", "--json", "--machine", str(windows.root), "--text", situation.symptom)
    [read] = ran.records
    assert ran.status == 1
    [ladder] = fundamen("case", "next", "--json").records
    assert (ladder["about"], ladder["next"]) == (situation.about, situation.first)
    assert situation.names in " ".join(named["text"] for named in read["named"])
    request = fundamen("handoff")
    assert (request.status, situation.wanted in " ".join(request.out.split())) == (0, True), request.out + request.err
    assert "How to check that it is done" in request.out
    remedies = [rung["remedy"] for rung in ladder["rungs"]]
    for remedy in remedies:  # nothing helps, and nothing is proposed a second time
        assert fundamen("case", "tried", remedy, "--nothing").status == 0
    assert fundamen("case", "next", "--json").records[0]["next"] is None


@pytest.mark.parametrize(
    ("name", "command"),
    [
        ("S8 an installer is misled by what is registered", "fundamen installer PACKAGE"),
        ("S10 a toolchain has the wrong content", "fundamen toolchain FOLDER --catalogue CATALOGUE"),
        ("S11 licences cannot be shown", "fundamen toolchain FOLDER --catalogue CATALOGUE"),
        ("S14 an authority has no host", "fundamen authority check ENTRY --server DIRECTORY"),
    ],
)
def test_a_symptom_leads_to_the_command_that_finds_out_all_of_it(fundamen: Fundamen, name: str, command: str) -> None:
    [read] = fundamen("clues", "--json", "--only-read", "--text", SITUATIONS[name].symptom).records
    assert command in [each["text"] for each in read["next"]]


Put = Callable[[str, bytes], Any]


def test_s1_and_s2_are_restored_for_the_right_width_proven_and_undone(
    fundamen: Fundamen, windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    built(windows)
    source = ASource(tmp_path / "it", home).published({"saltgrass4.dll": a_pe(), "chart.dll": a_pe()}, place="{system}")
    fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
    program, on = "C:\\Tidebook\\tidebook.exe", ("--machine", str(windows.root))
    fundamen("case", "open", "Tidebook does not start on the quay desk")
    message = f"{program}: The application was unable to start correctly (0xc000007b)."
    assert fundamen("clues", *on, "--text", message).status == 1
    assert fundamen("restore", "--yes", *on, program).status == 0
    assert fundamen("trace", *on, program).status == 0
    assert "Nothing any more: the latest trace finds all that the program needs." in fundamen("handoff").out
    assert says(
        fundamen("clues", *on, "--text", message).out, "clues.traced-now-has-all-that-it", program="tidebook.exe"
    )
    assert fundamen("case", "close", "--helped", "Saltgrass for 64 bits").status == 0
    assert fundamen("case", "search", "0xc000007b tidebook").out.startswith("This helped before: Saltgrass for 64 bits")
    assert fundamen("undo", *on).status == 0
    assert fundamen("trace", *on, program).status == 1


def test_s5_the_root_is_imported_by_its_fingerprint_and_the_package_is_trusted_then(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    data = Path(__file__).parent.parent / "data"
    root = (data / "ardvane-root.pem").read_text()
    linux.file("/opt/saltgrass.msi", (data / "saltgrass.msi").read_bytes())
    linux.file("/etc/ssl/certs/ca-certificates.crt", AnIssuer.root("Marram Sound Root").pem)
    (tmp_path / "root.pem").write_text(root)
    on, symptom = ("--machine", str(linux.root)), "ERROR verify of /opt/saltgrass.msi failed: CERT_E_CHAINING"
    read = fundamen("clues", *on, "--text", symptom)
    assert (read.status, says(read.out, "clues.is-not-accepted", name="saltgrass.msi")) == (1, True), read.out
    shown = fundamen("inspect", *on, "--issuer", "root.pem", "/opt/saltgrass.msi").out
    fingerprint = hashlib.sha256(ssl.PEM_cert_to_DER_cert(root)).hexdigest()
    assert fingerprint[:8] in shown.replace(" ", "")
    words = ("roots", "import", "--issuer", "root.pem", *on, "--yes", "--fingerprint", fingerprint)
    assert fundamen(*words, "/opt/saltgrass.msi").status == 0
    assert says(fundamen("clues", *on, "--text", symptom).out, "clues.is-trusted-on-this-machine-now")


@pytest.mark.parametrize("name", ["S10 the toolchain", "S13 the charts", "S17 the program's own files"])
def test_what_differs_from_a_clean_copy_is_named_and_only_that_comes_back(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path, name: str
) -> None:
    clean = tmp_path / "clean"
    for path in ("bin/salt-cc", "share/tides/north", "share/berths/quay"):
        (clean / path).parent.mkdir(parents=True, exist_ok=True)
        (clean / path).write_text(path)
        linux.file(f"/opt/breakwater/{path}", path.encode())
    linux.file("/opt/breakwater/bin/salt-cc", b"of another version").file("/opt/breakwater/own", b"own")
    (linux.root / "opt/breakwater/share/berths/quay").unlink()
    fundamen("case", "open", name)
    fundamen("clues", "--only-read", "--text", "breakwater: content of bin/salt-cc has the wrong hash")
    assert fundamen("references", "record", "clean-copy", str(clean)).status == 0
    on = ("-m", str(linux.root))
    compared = fundamen("references", "compare", *on, "clean-copy", "/opt/breakwater")
    assert (compared.status, "bin/salt-cc" in compared.out, "quay" in compared.out) == (1, True, True), compared.out
    assert fundamen("references", "restore", "--yes", *on, "clean-copy", "/opt/breakwater").status == 0
    assert (linux.root / "opt/breakwater/bin/salt-cc").read_text() == "bin/salt-cc"
    assert (linux.root / "opt/breakwater/own").read_text() == "own"
    shown = fundamen("case", "show").out
    assert all(
        command in " ".join(shown.split())
        for command in ("fundamen clues", "fundamen references compare", "fundamen references restore")
    )


def test_s14_two_logs_are_followed_of_which_one_is_not_there_yet(fundamen: Fundamen, tmp_path: Path) -> None:
    fundamen("case", "open", "the server cannot be joined")
    script = (
        "sleep 1; echo 'INFO join: contacting tides-a' > first.log; "
        "echo 'ERROR join: certificate authority CN=Marram-CA has no host' > second.log; "
        "sleep 1; echo 'join: ended' >> first.log"
    )
    with subprocess.Popen(["sh", "-c", script], cwd=tmp_path):
        ran = fundamen(
            "clues", "--only-read", "--follow", "--from-start", "--until", "join: ended", "first.log", "second.log"
        )
    assert (ran.status, ran.out.startswith("second.log:1\n")) == (1, True), ran.out
    request = fundamen("handoff", "--to", "administrator")
    evidence = "second.log:1: ERROR join: certificate authority CN=Marram-CA has no host"
    assert (request.status, evidence in " ".join(request.out.split())) == (0, True)


def test_s3_the_machine_says_where_copies_lie_and_what_they_are(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.program("/opt/tidebook/tidebook", needs=["libtide.so.2"])
    linux.file("/opt/unpacked/lib/libtide.so.2", an_elf()).library("/usr/lib32/libtide.so.2", "x86")
    ran = fundamen(
        "clues", "--json", "--machine", str(linux.root), "--text",
        "/opt/tidebook/tidebook: error while loading shared libraries: libtide.so.2: cannot open shared object file: "
        "No such file or directory",
    )  # fmt: skip
    [record] = ran.records
    places = {place["path"]: place["architecture"] for place in record["behind"]["places"]}
    assert places == {"/opt/unpacked/lib/libtide.so.2": "x86_64", "/usr/lib32/libtide.so.2": "x86"}

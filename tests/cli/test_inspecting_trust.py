"""``inspect`` on signed files, certificates, keystores and servers, through the built command."""

import errno
import os
import socket
from pathlib import Path

import pytest

from builders.machine import AWindowsMachine
from builders.pe import a_pe
from builders.signing import NOW, APublisher
from conftest import Fundamen
from fundamen.demo.stand_in import StandIn
from wording import says

DATA = Path(__file__).parent.parent / "data"
PUBLISHER = APublisher()


@pytest.mark.parametrize(
    ("names", "trusted", "status", "said"),
    [
        (("localhost",), True, 0, "shows 1 certificate, and its chain holds"),
        (("localhost",), False, 1, "neither in the file nor in this machine's stores"),
        (("elsewhere.example",), True, 1, "its certificate is for elsewhere.example"),
    ],
)
def test_a_servers_chain_is_drawn_and_judged(
    fundamen: Fundamen,
    tmp_path: Path,
    names: tuple[str, ...],
    trusted: bool,  # noqa: FBT001 - one of the cases
    status: int,
    said: str,
) -> None:
    with StandIn(tmp_path, names=names) as server:
        (tmp_path / "ca.pem").write_text(server.authority)
        environment = {"SSL_CERT_FILE": str(tmp_path / "ca.pem")} if trusted else {}
        ran = fundamen("inspect", "--server", f"localhost:{server.port}", **environment)
    assert (ran.status, said in ran.out) == (status, True), ran.out + ran.err


def test_a_server_that_is_not_there_is_reported(fundamen: Fundamen) -> None:
    with socket.create_server(("127.0.0.1", 0)) as closed:
        port = closed.getsockname()[1]
    ran = fundamen("inspect", "--server", f"127.0.0.1:{port}", "--json")
    assert (ran.status, ran.records[0]["error"]["why"]["text"]) == (3, os.strerror(errno.ECONNREFUSED))
    assert fundamen("inspect", "--server", "not a server").status == 2


def test_the_publisher_of_a_file_is_part_of_its_record(windows: AWindowsMachine, fundamen: Fundamen) -> None:
    signed = PUBLISHER.sign(a_pe(), stamped_at=NOW)
    windows.file("C:\\signed.exe", signed).file("C:\\plain.exe", a_pe())
    windows.file("C:\\altered.exe", signed[:600] + bytes([signed[600] ^ 1]) + signed[601:])
    ran = fundamen("inspect", "--json", "-m", str(windows.root), "C:\\signed.exe", "C:\\plain.exe", "C:\\altered.exe")
    assert ran.status == 1
    assert [record["publisher"]["verdict"] for record in ran.records] == ["untrusted", "unsigned", "tampered"]
    first = ran.records[0]["publisher"]
    assert (first["name"], [link["standing"] for link in first["chain"]]) == (
        "Ardvane Instruments",
        ["issuer missing", "holds"],
    )
    assert first["signatures"][0]["digest"] == first["signatures"][0]["signed_digest"]


def test_a_signature_speaks_in_a_trace_and_condemns_only_what_was_altered(
    windows: AWindowsMachine, fundamen: Fundamen
) -> None:
    signed = PUBLISHER.sign(a_pe(name="salt.dll", exports=["tide"]))
    windows.system().program("C:\\t\\tidebook.exe", needs={"salt.dll": ["tide"]}).file("C:\\t\\salt.dll", signed)
    trace = ("trace", "-m", str(windows.root), "C:\\t\\tidebook.exe")
    unknown = fundamen(*trace, "--json")
    [salt] = [each for each in unknown.records[0]["components"] if each["name"] == "salt.dll"]
    assert (unknown.status, salt["verdict"], salt["evidence"][0]["from"]) == (0, "unverified", "publisher")
    assert salt["evidence"][0]["detail"]["code"] == "trust.the-certificate-of-the-is-missing"
    windows.file("C:\\t\\salt.dll", signed[:600] + bytes([signed[600] ^ 1]) + signed[601:])
    altered = fundamen(*trace)
    assert (altered.status, says(altered.out, "trust.the-file-bytes-are-not-those")) == (1, True), altered.out


def test_a_keystore_is_read_with_its_password(fundamen: Fundamen, tmp_path: Path) -> None:
    (tmp_path / "password").write_text("changeit\n")
    ran = fundamen("inspect", str(DATA / "trust.p12"), "--password-file", "password")
    assert (ran.status, "trust.p12 is a PKCS #12 keystore with 1 certificate" in ran.out) == (1, True), ran.out
    (tmp_path / "password").write_text("wrong\n")
    assert says(
        fundamen("inspect", str(DATA / "trust.jks"), "--password-file", "password").err,
        "formats.its-password-is-another-one-or-its",
    )

"""A directory's certificate authority, against a real slapd and openssl: checked, made again, undone (S14)."""

import base64
import json
import shutil
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

from builders.served import a_free_port, served
from command import Ran
from conftest import Fundamen
from wording import says

pytestmark = [
    pytest.mark.system,
    pytest.mark.filterwarnings("ignore:(tag|type)Map is deprecated:DeprecationWarning"),  # of the library's own library
]

ENTRY, ADMIN, PASSWORD = "cn=Marram CA,dc=marram,dc=example", "cn=admin,dc=marram,dc=example", "low tide"
SLAPD = f"""\
include /etc/ldap/schema/core.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {{folder}}/slapd.pid
TLSCertificateFile {{folder}}/server.pem
TLSCertificateKeyFile {{folder}}/server.key
database mdb
suffix "dc=marram,dc=example"
rootdn "{ADMIN}"
rootpw "{PASSWORD}"
directory {{folder}}/data
"""
ENTRIES = """\
dn: dc=marram,dc=example
objectClass: organization
objectClass: dcObject
dc: marram
o: marram

dn: {entry}
objectClass: device
objectClass: pkiCA
cn: Marram CA
description: made in the year of the high dike
cACertificate;binary:: {certificate}
"""
NOW = datetime.now(UTC)


class Keys(NamedTuple):
    """An authority that ended yesterday, and the certificate of a server that it issued and that still holds."""

    folder: Path
    authority: ec.EllipticCurvePrivateKey
    old: x509.Certificate
    server: x509.Certificate


def a_certificate(
    name: str,
    key: ec.EllipticCurvePrivateKey,
    issuer: x509.Certificate | None,
    signer: ec.EllipticCurvePrivateKey,
    days: int,
) -> x509.Certificate:
    subject = x509.Name(
        [x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Marram"), x509.NameAttribute(NameOID.COMMON_NAME, name)]
    )
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.subject if issuer is not None else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - timedelta(days=900))
        .not_valid_after(NOW + timedelta(days=days))
        .add_extension(x509.BasicConstraints(ca=issuer is None, path_length=None), critical=True)
    )
    if issuer is not None:
        names = [x509.DNSName("localhost"), x509.DNSName("tides.example")]
        builder = builder.add_extension(x509.SubjectAlternativeName(names), critical=False)
    else:
        identifier = x509.SubjectKeyIdentifier.from_public_key(key.public_key())
        builder = builder.add_extension(identifier, critical=False)
    return builder.sign(signer, hashes.SHA256())


@pytest.fixture
def keys(tmp_path: Path) -> Keys:
    authority, server = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    old = a_certificate("Marram CA", authority, None, authority, days=-1)
    issued = a_certificate("localhost", server, old, authority, days=300)
    (tmp_path / "server.pem").write_bytes(issued.public_bytes(Encoding.PEM))
    form = (Encoding.PEM, PrivateFormat.PKCS8)
    (tmp_path / "server.key").write_bytes(server.private_bytes(*form, NoEncryption()))
    (tmp_path / "ca.key").write_bytes(authority.private_bytes(*form, BestAvailableEncryption(b"ebb")))
    (tmp_path / "other.key").write_bytes(server.private_bytes(*form, NoEncryption()))
    (tmp_path / "key-password").write_text("ebb\n")
    return Keys(tmp_path, authority, old, issued)


class Directory:
    """A real directory that holds the authority's entry."""

    def __init__(self, keys: Keys, fundamen: Fundamen, port: int, tls_port: int) -> None:
        self.keys, self.fundamen, self.port, self.tls_port = keys, fundamen, port, tls_port

    def authority(self, word: str, *words: str | Path) -> Ran:
        return self.fundamen(
            "authority", word, ENTRY, "--server", f"127.0.0.1:{self.port}", "--host-in", "owner", *words
        )

    def renew(self, *words: str | Path) -> Ran:
        key = ("--key", self.keys.folder / "ca.key", "--key-password", self.keys.folder / "key-password")
        return self.authority("renew", *key, "--login", ADMIN, *words)

    def restore(self, plan: str, typed: str = PASSWORD) -> Ran:
        (self.keys.folder / "password").write_text(typed + "\n")
        return self.fundamen("plans", "run", "--yes", plan, "--login-password", self.keys.folder / "password")

    def held(self) -> list[str]:
        """All that the entry holds, as the directory's own tool writes it, but for what the directory keeps itself."""
        command = [
            "/usr/sbin/slapcat",
            "-f",
            str(self.keys.folder / "slapd.conf"),
            "-a",
            "(cn=Marram CA)",
            "-o",
            "ldif-wrap=no",
        ]
        text = subprocess.run(command, check=True, capture_output=True, text=True).stdout
        own = ("entryCSN", "modif", "create", "entryUUID", "structuralObjectClass", "creators")
        return sorted(line for line in text.splitlines() if line and not line.startswith(own))

    def certificate(self) -> x509.Certificate:
        line = next(line for line in self.held() if line.startswith("cACertificate;binary::"))
        return x509.load_der_x509_certificate(base64.b64decode(line.split()[1]))


@pytest.fixture
def directory(keys: Keys, fundamen: Fundamen) -> Iterator[Directory]:
    folder, port, tls_port = keys.folder, a_free_port(), a_free_port()
    (folder / "data").mkdir()
    (folder / "slapd.conf").write_text(SLAPD.format(folder=folder))
    certificate = base64.b64encode(keys.old.public_bytes(Encoding.DER)).decode()
    (folder / "entries.ldif").write_text(ENTRIES.format(entry=ENTRY, certificate=certificate))
    slapd = shutil.which("slapd", path="/usr/sbin:/usr/bin") or ""
    config = ["-f", str(folder / "slapd.conf")]
    subprocess.run([slapd, "-Ta", *config, "-l", str(folder / "entries.ldif")], check=True, capture_output=True)
    urls = f"ldap://127.0.0.1:{port} ldaps://127.0.0.1:{tls_port}"
    with served(port, slapd, *config, "-h", urls, "-d", "0"):
        yield Directory(keys, fundamen, port, tls_port)


def openssl_verifies(certificate: Path, authority: x509.Certificate, folder: Path) -> bool:
    (folder / "trusted.pem").write_bytes(authority.public_bytes(Encoding.PEM))
    command = ["openssl", "verify", "-CAfile", str(folder / "trusted.pem"), str(certificate)]
    return subprocess.run(command, check=False, capture_output=True).returncode == 0


def test_an_ended_authority_without_a_host_is_made_again_with_its_own_key_and_can_be_undone(
    directory: Directory, keys: Keys
) -> None:
    before, server = directory.held(), f"localhost:{directory.tls_port}"
    checked = directory.authority("check", "--issued", server, "--has", "seeAlso")
    said = " ".join(checked.out.split())
    assert checked.status == 1
    assert "3 things not right: its certificate, its host, its seeAlso" in said
    assert says(said, "certificate_authorities.it-has-ended")
    assert says(said, "directories.it-names-no-host-it-has")
    assert says(said, "certificate_authorities.a-waiting-installer-must-be-started-again")
    assert not openssl_verifies(keys.folder / "server.pem", keys.old, keys.folder)

    assert directory.renew("--host", "cn=localhost,dc=marram,dc=example", "--save-plan", "plan.json").status == 0
    assert directory.held() == before  # planning changes nothing
    restored = directory.restore("plan.json")
    assert restored.status == 0, restored.out + restored.err
    assert PASSWORD not in restored.out + (keys.folder / "plan.json").read_text()
    made = directory.certificate()
    assert (made.subject, made.public_key()) == (keys.old.subject, keys.old.public_key())
    assert openssl_verifies(keys.folder / "server.pem", made, keys.folder)  # what it has issued holds again
    [record] = directory.authority("check", "--json", "--issued", server).records
    assert (record["faults"], record["host"]) == (0, "localhost")
    assert record["resuming"]["code"] == "certificate_authorities.a-waiting-installer-may-continue-choose"

    undone = directory.fundamen("undo", "--login-password", keys.folder / "password")
    assert undone.status == 0, undone.err
    assert directory.held() == before
    journal = b"".join(path.read_bytes() for path in (keys.folder / "home").rglob("*") if path.is_file())
    assert PASSWORD.encode() not in journal


def test_only_the_host_is_missing_and_anyone_who_waits_may_go_on_then(directory: Directory, keys: Keys) -> None:
    assert directory.renew("--save-plan", "first.json").status == 0
    assert directory.restore("first.json").status == 0
    [record] = directory.authority("check", "--json").records
    assert (
        record["faults"],
        record["resuming"]["code"] == "certificate_authorities.a-waiting-installer-may-continue-once",
    ) == (1, True)
    assert "--host HOST" in record["next"][0]["text"]
    host = ("--host", "cn=no-such-host.invalid,dc=marram,dc=example", "--login", ADMIN, "--save-plan", "second.json")
    assert directory.authority("renew", *host).status == 0
    assert directory.restore("second.json").status == 0
    [record] = directory.authority("check", "--json").records
    assert record["findings"][-1]["found"]["code"] == "directories.its-host-does-not-answer"
    assert record["resuming"]["code"] == "certificate_authorities.a-waiting-installer-may-continue-once"
    kept = next((keys.folder / "home").rglob("*.ldif")).read_text()
    assert f"dn: {ENTRY}\n" in kept
    assert "description: made in the year of the high dike\n" in kept


def test_what_would_lose_something_is_refused_and_changes_nothing(directory: Directory, keys: Keys) -> None:
    before = directory.held()
    other = ("--key", keys.folder / "other.key", "--login", ADMIN, "--save-plan", "other.json")
    refused = directory.authority("renew", *other)
    assert (refused.status, says(refused.err, "certificate_authorities.the-key-is-not-its-own")) == (4, True)
    assert (
        directory.authority("renew", "--key", keys.folder / "ca.key", "--login", ADMIN, "--save-plan", "x").status == 3
    )
    assert directory.renew("--save-plan", "plan.json").status == 0
    wrong = directory.restore("plan.json", "high tide")
    assert (wrong.status, says(wrong.err, "directories.it-does-not-let-in")) == (3, True), wrong.err
    unsaid = directory.fundamen("plans", "run", "--yes", "plan.json")
    assert (unsaid.status, says(unsaid.err, "cli.the-password-of-was-not-typed")) == (3, True), unsaid.err
    assert directory.held() == before
    assert directory.renew("--host", "cn=localhost,dc=marram,dc=example", "--save-plan", "later.json").status == 0
    assert directory.restore("plan.json").status == 0
    late = directory.restore("later.json")  # the certificate is no longer the one that this plan expects
    assert (late.status, says(late.err, "changes.of-has-changed-since-the-plan")) == (5, True), late.err
    plan = json.loads((keys.folder / "plan.json").read_text())
    plan["steps"][0] |= {"server": "192.0.2.1"}
    (keys.folder / "far.json").write_text(json.dumps(plan))
    far = directory.restore("far.json")
    assert (far.status, says(far.err, "directories.the-connection-is-not-encrypted")) == (4, True), far.err


def test_a_certificate_is_issued_again_with_its_names(directory: Directory, keys: Keys) -> None:
    assert directory.renew("--save-plan", "plan.json").status == 0
    assert directory.restore("plan.json").status == 0
    made = directory.certificate()
    (keys.folder / "ca.pem").write_bytes(made.public_bytes(Encoding.PEM))
    key = ("--key", keys.folder / "ca.key", "--key-password", keys.folder / "key-password")
    words = (keys.folder / "server.pem", "--authority", keys.folder / "ca.pem", *key, "--write", "new.pem")
    again = directory.fundamen("authority", "reissue", *words)
    assert again.status == 0, again.err
    issued = x509.load_pem_x509_certificate((keys.folder / "new.pem").read_bytes())
    names = [c.extensions.get_extension_for_class(x509.SubjectAlternativeName) for c in (issued, keys.server)]
    assert names[0] == names[1]
    assert issued.public_key() == keys.server.public_key()
    assert openssl_verifies(keys.folder / "new.pem", made, keys.folder)
    assert directory.fundamen("authority", "reissue", *words).status == 2  # new.pem is there already
    foreign = (keys.folder / "new.pem", "--authority", keys.folder / "server.pem", *key, "--write", "f.pem")
    assert directory.fundamen("authority", "reissue", *foreign).status == 4


def test_no_entry_and_no_directory_are_distinguished(directory: Directory) -> None:
    words = ("--server", f"127.0.0.1:{directory.port}")
    gone = directory.fundamen("authority", "check", "cn=gone,dc=marram,dc=example", *words)
    nearest = says(gone.out, "certificate_authorities.the-last-one-above-it-is", nearest="dc=marram,dc=example")
    assert (gone.status, nearest) == (1, True), gone.out + gone.err
    refused = directory.fundamen("authority", "check", ENTRY, "--server", f"127.0.0.1:{a_free_port()}")
    assert (refused.status, says(refused.err, "directories.the-directory-cannot-be-asked-title")) == (3, True)

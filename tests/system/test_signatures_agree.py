"""An independent verifier of publishers' signatures is the truth for verdicts and digests; openssl for chains."""

import os
import re
import shutil
import ssl
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from builders.pe import a_pe
from builders.prefix import a_prefix
from builders.signing import NOW, APublisher
from conftest import Fundamen
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.machine.opening import open_machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.model.errors import UnreadableError
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.chain import Issuers, Purpose, build_chain
from fundamen.trust.publisher import Publisher, SignatureStanding
from fundamen.trust.signed_file import judge_file
from wording import says

pytestmark = [pytest.mark.system, pytest.mark.xdist_group("signatures")]

REAL_FILES = Path(sys.prefix) / "windows"  # made by make test-system
_DIGEST = re.compile(r"Current (?:message digest|DigitalSignature) +: ([0-9A-F]+)")


def verifier_accepts(path: Path, anchors: Path, *options: str) -> tuple[bool, set[str]]:
    """Whether the independent verifier trusts a file's primary signature, and the digests that it takes."""
    command: list[str | Path] = ["osslsigncode", "verify", "-in", path, "-CAfile", anchors, "-TSA-CAfile", anchors]
    done = subprocess.run(
        [*command, "-ignore-cdp", "-ignore-crl", *options], capture_output=True, text=True, check=False, timeout=60
    )
    return done.returncode == 0, {digest.lower() for digest in _DIGEST.findall(done.stdout)}


def judged(data: bytes, issuers: Issuers, now: datetime) -> Publisher:
    source = MemoryBytes(data)
    return judge_file(source, read_binary(source), issuers, now)


@pytest.fixture(scope="session")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A fresh prefix, whose own roots are those that its programs trust."""
    return a_prefix(tmp_path_factory)


@pytest.fixture(scope="session")
def stores(prefix: Path) -> TrustStores:
    return read_trust_stores(open_machine(str(prefix)))


@pytest.fixture(scope="session")
def anchors(stores: TrustStores, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same roots for the independent verifier."""
    return written(
        tmp_path_factory.mktemp("anchors") / "roots.pem", [read_certificate(c.der) for c in stores.certificates]
    )


def written(path: Path, certificates: list[Certificate]) -> Path:
    path.write_text("".join(ssl.DER_cert_to_PEM_cert(each.der) for each in certificates))
    return path


def test_real_files_are_judged_as_the_independent_verifier_does(
    stores: TrustStores, anchors: Path, tmp_path: Path
) -> None:
    issuers, now = Issuers(stores), datetime.now(UTC)
    count, sha1_only = 0, 0
    for path in sorted(REAL_FILES.rglob("*")):
        if path.suffix not in {".dll", ".exe", ".pyd"} or not path.is_file():
            continue
        publisher = judged(path.read_bytes(), issuers, now)
        if publisher.verdict is SignatureStanding.UNSIGNED:
            continue
        count += 1
        accepted, digests = verifier_accepts(path, anchors)
        assert publisher.verdict is SignatureStanding.TRUSTED, f"{path.name}: {publisher.reason}"
        assert accepted, path.name
        assert {signature.digest for signature in publisher.signatures} == digests
        sha1_only += publisher.signatures[0].verdict is SignatureStanding.UNTRUSTED
        if count % 25 == 0:
            data = bytearray(path.read_bytes())
            data[600] ^= 1  # within the headers, which every signature covers
            altered = tmp_path / path.name
            altered.write_bytes(data)
            assert judged(bytes(data), issuers, now).verdict is SignatureStanding.TAMPERED
            assert not verifier_accepts(altered, anchors)[0]
    assert count >= 200
    assert sha1_only, "some have an old signature beside the one that counts"


class Signed:
    """Made-up files, signed by the independent tool with keys that openssl made."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.write("root.cnf", "basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign,cRLSign\n")
        self.write("ca.cnf", "basicConstraints=critical,CA:TRUE,pathlen:0\nkeyUsage=critical,keyCertSign,cRLSign\n")
        self.write("code.cnf", "keyUsage=critical,digitalSignature\nextendedKeyUsage=codeSigning\n")
        self.write("tls.cnf", "extendedKeyUsage=serverAuth\n")
        self.write("stamp.cnf", "extendedKeyUsage=critical,timeStamping\n")
        self.certificate("root", None, "root.cnf")
        self.certificate("ca", "root", "ca.cnf")
        self.certificate("code", "ca", "code.cnf")
        self.certificate("tls", "ca", "tls.cnf")
        self.certificate("stamp", "root", "stamp.cnf")
        self.certificate("sha1", "ca", "code.cnf", "-sha1")
        self.certificate("ec", "ca", "code.cnf", key=("-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384"))
        (folder / "tidebook.exe").write_bytes(a_pe(needs=["SALT.dll"]))
        (folder / "salt.txt").write_text("Spring tides of Marram Sound\n")
        self.run("gcab", "-c", "saltgrass.cab", "salt.txt", "tidebook.exe")
        self.write("saltgrass.wxs", PACKAGE)
        self.run("wixl", "-o", "saltgrass.msi", "saltgrass.wxs")

    def write(self, name: str, text: str) -> None:
        (self.folder / name).write_text(text)

    def run(self, *words: str) -> None:
        done = subprocess.run(words, cwd=self.folder, capture_output=True, text=True, check=False)
        assert done.returncode == 0, f"{words}: {done.stderr}{done.stdout}"

    def certificate(
        self,
        name: str,
        issuer: str | None,
        extensions: str,
        *options: str,
        key: tuple[str, ...] = ("-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048"),
    ) -> None:
        self.run("openssl", "genpkey", *key, "-out", f"{name}.key")
        subject = f"/O=Ardvane Instruments/CN=Ardvane {name}"
        self.run("openssl", "req", "-new", "-key", f"{name}.key", "-subj", subject, "-out", f"{name}.csr")
        by = ("-signkey", f"{name}.key") if issuer is None else ("-CA", f"{issuer}.pem", "-CAkey", f"{issuer}.key")
        request = ("openssl", "x509", "-req", "-in", f"{name}.csr", "-days", "400", *by)
        self.run(*request, "-CAcreateserial", "-extfile", extensions, "-out", f"{name}.pem", *options)

    def sign(self, source: str, signer: str, *options: str, into: str = "") -> Path:
        target = self.folder / (into or f"signed-{len(list(self.folder.iterdir()))}-{source}")
        chain = (self.folder / f"{signer}.pem").read_text() + (self.folder / "ca.pem").read_text()
        self.write("chain.pem", chain)
        keys = ("-certs", "chain.pem", "-key", f"{signer}.key")
        self.run("osslsigncode", "sign", *keys, *options, "-in", source, "-out", str(target))
        return target

    @property
    def root(self) -> Path:
        return self.folder / "root.pem"

    def trusted(self) -> Issuers:
        der = ssl.PEM_cert_to_DER_cert(self.root.read_text())
        return Issuers(TrustStores((StoredCertificate(der, StoreRole.ROOT, "the machine's store"),)))


PACKAGE = """<?xml version="1.0"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi"><Product Id="*" Name="Saltgrass Runtime" Version="4.2.1"
 Manufacturer="Ardvane Instruments" Language="0" UpgradeCode="7a3c9b1e-0d52-4c0b-9d0e-5a1f2b3c4d5e">
<Package InstallerVersion="200" Compressed="yes"/><Media Id="1" Cabinet="salt.cab" EmbedCab="yes"/>
<Directory Id="TARGETDIR" Name="SourceDir"><Directory Id="ProgramFilesFolder"><Directory Id="D" Name="Saltgrass">
<Component Id="C" Guid="7a3c9b1e-0d52-4c0b-9d0e-5a1f2b3c4d5f"><File Id="F" Source="tidebook.exe"/></Component>
</Directory></Directory></Directory><Feature Id="X" Level="1"><ComponentRef Id="C"/></Feature></Product></Wix>
"""


@pytest.fixture(scope="session")
def signed(tmp_path_factory: pytest.TempPathFactory) -> Signed:
    return Signed(tmp_path_factory.mktemp("signed"))


STAMPED = ("-TSA-certs", "stamp.pem", "-TSA-key", "stamp.key")
PASSED = ("-time", str(int((datetime.now(UTC) + timedelta(days=1000)).timestamp())))


@pytest.mark.parametrize("source", ["tidebook.exe", "saltgrass.cab", "saltgrass.msi"])
@pytest.mark.parametrize(
    ("signer", "options", "days"),
    [
        ("code", ("-h", "sha256"), 0),
        ("code", ("-h", "sha384", "-n", "Saltgrass Setup", "-i", "https://ardvane.example/"), 0),
        ("code", ("-h", "sha1"), 0),
        ("code", ("-h", "sha256", "-ph"), 0),
        ("code", ("-h", "sha256", "-add-msi-dse"), 0),
        ("ec", ("-h", "sha512"), 0),
        ("tls", ("-h", "sha256"), 0),
        ("code", ("-h", "sha256"), 1000),
        ("code", ("-h", "sha256", *STAMPED), 0),
        ("code", ("-h", "sha256", *STAMPED), 1000),
    ],
)
def test_files_that_the_independent_tool_signed_are_judged_as_it_does(
    signed: Signed, source: str, signer: str, options: tuple[str, ...], days: int
) -> None:
    now = datetime.now(UTC) + timedelta(days=days)
    path = signed.sign(source, signer, *options)
    publisher = judged(path.read_bytes(), signed.trusted(), now)
    accepted, digests = verifier_accepts(path, signed.root, "-time", str(int(now.timestamp())))
    assert (publisher.verdict is SignatureStanding.TRUSTED) == accepted, publisher.reason
    assert {signature.digest for signature in publisher.signatures} == digests
    assert publisher.verdict in {SignatureStanding.TRUSTED, SignatureStanding.UNTRUSTED}


def test_a_second_signature_is_judged_too(signed: Signed) -> None:
    first = signed.sign("tidebook.exe", "code", "-h", "sha1", into="first.exe")
    both = signed.sign(first.name, "code", "-h", "sha256", "-nest", into="both.exe")
    publisher = judged(both.read_bytes(), signed.trusted(), datetime.now(UTC))
    assert [each.digest_algorithm for each in publisher.signatures] == ["sha1", "sha256"]
    assert publisher.verdict is SignatureStanding.TRUSTED


@pytest.mark.parametrize("source", ["tidebook.exe", "saltgrass.cab"])
def test_every_single_changed_byte_of_a_small_signed_file_is_noticed(signed: Signed, source: str) -> None:
    path = signed.sign(source, "code", "-h", "sha256", into=f"each-{source}")
    data, issuers, now = path.read_bytes(), signed.trusted(), datetime.now(UTC)
    assert judged(data, issuers, now).verdict is SignatureStanding.TRUSTED
    unnoticed = []
    for at in range(len(data)):
        changed = data[:at] + bytes([data[at] ^ 0x20]) + data[at + 1 :]
        try:
            if judged(changed, issuers, now).verdict is SignatureStanding.TRUSTED:
                unnoticed.append(at)
        except UnreadableError:
            continue
    # What the formats leave out of the digest, and the padding and unsigned fields of the signature itself.
    altered = path.with_name(f"altered-{source}")
    for at in list(unnoticed):
        altered.write_bytes(data[:at] + bytes([data[at] ^ 0x20]) + data[at + 1 :])
        if verifier_accepts(altered, signed.root)[0]:
            unnoticed.remove(at)
    assert unnoticed == []


def test_every_stream_of_a_signed_package_is_covered(signed: Signed) -> None:
    path = signed.sign("saltgrass.msi", "code", "-h", "sha256", "-add-msi-dse", into="each.msi")
    data, issuers, now = path.read_bytes(), signed.trusted(), datetime.now(UTC)
    altered = path.with_name("altered.msi")
    for at in range(3, len(data), 2003):
        changed = data[:at] + bytes([data[at] ^ 0x20]) + data[at + 1 :]
        altered.write_bytes(changed)
        try:
            trusted = judged(changed, issuers, now).verdict is SignatureStanding.TRUSTED
        except UnreadableError:
            trusted = False
        assert not trusted or verifier_accepts(altered, signed.root)[0], f"byte {at}"


def test_the_builder_of_signed_files_is_proven(tmp_path: Path) -> None:
    publisher = APublisher()
    roots = written(tmp_path / "roots.pem", [publisher.root.certificate, publisher.clock_root.certificate])
    at = str(int(NOW.timestamp()))
    for number, facts in enumerate(({}, {"stamped_at": NOW - timedelta(days=9)}, {"countersigned_at": NOW})):
        path = tmp_path / f"{number}.exe"
        path.write_bytes(publisher.sign(a_pe(), **facts))
        assert verifier_accepts(path, roots, "-time", at)[0], facts


CHAINS = {
    "sound": ({"ca": "CA:TRUE", "leaf": ""}, 0, True),
    "not an authority": ({"ca": "CA:FALSE", "leaf": ""}, 0, False),
    "expired": ({"ca": "CA:TRUE", "leaf": ""}, 500, False),
    "path too long": ({"upper": "CA:TRUE,pathlen:0", "ca": "CA:TRUE", "leaf": ""}, 0, False),
    "name not allowed": ({"ca": "CA:TRUE\nnameConstraints=permitted;DNS:other.example", "leaf": ""}, 0, False),
    "name allowed": ({"ca": "CA:TRUE\nnameConstraints=permitted;DNS:marram.example", "leaf": ""}, 0, True),
    "may not sign": ({"ca": "CA:TRUE\nkeyUsage=digitalSignature", "leaf": ""}, 0, False),
    "unknown extension": ({"ca": "CA:TRUE\n1.2.3.4=critical,ASN1:NULL", "leaf": ""}, 0, False),
    "authority for programs": ({"ca": "CA:TRUE\nextendedKeyUsage=codeSigning", "leaf": ""}, 0, False),
    "for clients": ({"ca": "CA:TRUE", "leaf": "extendedKeyUsage=clientAuth"}, 0, False),
    "missing in the middle": ({"gone": "CA:TRUE", "ca": "CA:TRUE", "leaf": ""}, 0, False),
}


@pytest.mark.parametrize("case", CHAINS)
def test_a_chain_holds_exactly_where_openssl_says_so(signed: Signed, case: str) -> None:
    parts, days, expected = CHAINS[case]
    folder = signed.folder
    above, made = "root", []
    for part, extensions in parts.items():
        name = f"{part}-{case}".replace(" ", "-")
        text = f"basicConstraints=critical,{extensions}\n" if part != "leaf" else f"{extensions}\n"
        signed.write(f"{name}.cnf", text + ("subjectAltName=DNS:berth.marram.example\n" if part == "leaf" else ""))
        signed.certificate(name, above, f"{name}.cnf")
        above = name
        made.append(name)
    *middle, leaf = [folder / f"{name}.pem" for name in made if not name.startswith("gone")]
    moment = datetime.now(UTC) + timedelta(days=days)
    untrusted = folder / f"untrusted-{leaf.name}"
    untrusted.write_text("".join(path.read_text() for path in middle))
    command: list[str | Path] = [
        "openssl",
        "verify",
        "-purpose",
        "sslserver",
        "-CAfile",
        signed.root,
        "-untrusted",
        untrusted,
    ]
    done = subprocess.run(
        [*command, "-attime", str(int(moment.timestamp())), leaf], capture_output=True, text=True, check=False
    )
    ders = [ssl.PEM_cert_to_DER_cert(path.read_text()) for path in (*middle, leaf)]
    at_hand = signed.trusted().with_more(ders, "the file")
    chain = build_chain(read_certificate(ders[-1]), at_hand, Purpose.TLS_SERVER, moment, "the file")
    assert chain.holds == (done.returncode == 0), f"{chain.why} / {done.stderr}"
    assert chain.holds is expected


def test_sha1_in_a_chain_is_called_weak(signed: Signed) -> None:
    path = signed.sign("tidebook.exe", "sha1", "-h", "sha256", into="weak.exe")
    publisher = judged(path.read_bytes(), signed.trusted(), datetime.now(UTC))
    assert says(publisher.reason, "trust.it-is-signed-with-sha-1")


def roots_of(prefix: Path, signed: Signed) -> int:
    """How many roots a program of the prefix counts."""
    program = signed.folder / "roots.exe"
    if not program.exists():
        signed.write("roots.c", COUNT_ROOTS)
        signed.run("x86_64-w64-mingw32-gcc", "roots.c", "-o", "roots.exe", "-lcrypt32")
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all"}
    wine = "/usr/lib/wine/wine64"
    done = subprocess.run([wine, program], env=environment, capture_output=True, text=True, check=True)
    subprocess.run(["/usr/lib/wine/wineserver64", "-w"], env=environment, check=False)
    return int(done.stdout)


COUNT_ROOTS = """
#include <windows.h>
#include <wincrypt.h>
#include <stdio.h>
int main() {
  HCERTSTORE store = CertOpenSystemStoreA(0, "ROOT");
  PCCERT_CONTEXT found = 0;
  int count = 0;
  while ((found = CertEnumCertificatesInStore(store, found))) count++;
  printf("%d\\n", count);
  return 0;
}
"""


def test_the_roots_that_a_program_of_a_prefix_counts_are_those_that_are_read(
    prefix: Path, stores: TrustStores, signed: Signed
) -> None:
    assert roots_of(prefix, signed) == len({c.der for c in stores.certificates if c.role is StoreRole.ROOT})


def test_a_root_that_is_imported_into_a_prefix_counts_for_its_programs_until_it_is_taken_out(
    prefix: Path, signed: Signed, fundamen: Fundamen
) -> None:
    machine = ("-m", str(prefix))
    count = roots_of(prefix, signed)
    fingerprint = read_certificate(ssl.PEM_cert_to_DER_cert(signed.root.read_text())).sha256
    setup = prefix / "drive_c" / "setup.exe"
    shutil.copy(signed.sign("tidebook.exe", "code", "-h", "sha256"), setup)
    refused = fundamen("inspect", *machine, "C:\\setup.exe")
    assert (refused.status, says(refused.out, "evidence.signed-by-whom-this-machine-does")) == (1, True)
    importing = ("roots", "import", "--issuer", str(signed.root), "--fingerprint", fingerprint, "--yes")
    done = fundamen(*importing, *machine, "C:\\setup.exe")
    assert done.status == 0, done.out + done.err
    assert roots_of(prefix, signed) == count + 1
    assert fundamen("inspect", *machine, "C:\\setup.exe").status == 0
    assert fundamen("undo", *machine).status == 0  # the prefix has written its registry again meanwhile
    assert roots_of(prefix, signed) == count


def test_debians_own_tool_keeps_what_was_imported_and_its_programs_trust_it(
    signed: Signed, tmp_path: Path, fundamen: Fundamen
) -> None:
    root = tmp_path / "root"
    shutil.copytree("/etc/ssl", root / "etc/ssl", symlinks=True)
    shutil.copytree("/usr/share/ca-certificates", root / "usr/share/ca-certificates")
    (root / "etc/os-release").write_text("")
    (root / "usr/lib").mkdir()
    shutil.copy("/etc/ca-certificates.conf", root / "etc")
    leaf = root / "leaf.pem"
    leaf.write_text((signed.folder / "tls.pem").read_text() + (signed.folder / "ca.pem").read_text())
    fingerprint = read_certificate(ssl.PEM_cert_to_DER_cert(signed.root.read_text())).sha256
    importing = ("roots", "import", "--issuer", str(signed.root), "--fingerprint", fingerprint, "--yes")
    done = fundamen(*importing, "-m", str(root), "/leaf.pem")
    assert done.status == 0, done.out + done.err
    certs = root / "etc/ssl/certs"
    for is_second in (False, True):
        if is_second:
            folders = ("--certsconf", "etc/ca-certificates.conf", "--certsdir", "usr/share/ca-certificates")
            local = ("--localcertsdir", "usr/local/share/ca-certificates", "--etccertsdir", "etc/ssl/certs")
            hooks = ("--hooksdir", "/nonexistent")
            command = ["update-ca-certificates", *folders, *local, *hooks]
            absolute = [str(root / word) if word.startswith(("etc/", "usr/")) else word for word in command]
            subprocess.run(absolute, check=True, capture_output=True)
        for how in (("-CAfile", f"{certs}/ca-certificates.crt"), ("-no-CAfile", "-CApath", str(certs))):
            signed.run("openssl", "verify", *how, "-untrusted", "ca.pem", "tls.pem")

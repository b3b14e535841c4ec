r"""Read the trust stores of a machine: roots, issuers, revocation lists.

Sources: OpenSSL, "X509_LOOKUP_hash_dir" and the variables SSL_CERT_FILE and SSL_CERT_DIR; what the distributions
document of where their bundles lie; for Windows "System Store Locations" (the registry's SystemCertificates keys).
"""

import base64
import json
import os
import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec

from fundamen.formats.certificates.certificate_file import read_certificates
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores

if TYPE_CHECKING:
    from fundamen.formats.certificates.stored_certificate import StoredBlob

BUNDLES = tuple(
    MachinePath(path)
    for path in (
        "/etc/ssl/certs/ca-certificates.crt",  # Debian and its kin, Arch, Alpine
        "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",  # Fedora and its kin
        "/etc/ssl/ca-bundle.pem",  # openSUSE
        "/etc/ssl/cert.pem",  # Alpine, the BSDs, macOS
    )
)
FOLDERS = (MachinePath("/etc/ssl/certs"), MachinePath("/etc/pki/tls/certs"))
ADDED = (  # what an administrator added, which counts only once the system's own tool has taken it over
    MachinePath("/usr/local/share/ca-certificates"),
    MachinePath("/etc/pki/ca-trust/source/anchors"),
)
_MOST_FILES = 5000
_MOST_LIBRARY = 16 << 20  # bytes
# A certificate and the part of it that is signed, with lengths of two bytes; it begins with version 3 or a number.
_DER_CERTIFICATE = re.compile(rb"\x30\x82(..)\x30\x82..(?:\xa0\x03\x02\x01|\x02.)", re.DOTALL)
_MACHINE_KEYS = (
    ("HKLM\\Software\\Microsoft\\SystemCertificates", "the machine's store"),
    ("HKLM\\Software\\Policies\\Microsoft\\SystemCertificates", "the policy's store"),
    ("HKLM\\Software\\Microsoft\\EnterpriseCertificates", "the enterprise's store"),
)
_USERS_KEYS = ("Software\\Microsoft\\SystemCertificates", "Software\\Policies\\Microsoft\\SystemCertificates")
_ROLES = {  # by the name in lower case: the same store is spelled ROOT and Root
    "root": StoreRole.ROOT,
    "authroot": StoreRole.ROOT,
    "smartcardroot": StoreRole.ROOT,
    "ca": StoreRole.ISSUER,
    "disallowed": StoreRole.DISTRUSTED,
}
_GIVEN_BY_WINE = "roots that wine gives"
_ROOTS_LIST = "HKLM\\Software\\Microsoft\\SystemCertificates\\AuthRoot\\AutoUpdate"
_TURNED_OFF = "HKLM\\Software\\Policies\\Microsoft\\SystemCertificates\\AuthRoot"


def read_trust_stores(machine: Machine) -> TrustStores:
    """All trust stores of a machine; what cannot be read is reported in ``gaps``."""
    if machine.platform is Platform.WINDOWS:
        return _windows_stores(machine)
    return _posix_stores(machine)


def _posix_stores(machine: Machine) -> TrustStores:
    """The bundle that programs read first; a folder of single files only where there is no bundle."""
    gaps: list[Message] = []
    found: list[StoredCertificate] = []
    looked_at: list[MachinePath] = []
    variable = machine.environment.get("SSL_CERT_FILE")
    for bundle in (*([MachinePath(variable)] if variable else []), *BUNDLES):
        if machine.look(bundle).kind is EntryKind.FILE:
            looked_at.append(bundle)
            found += _file(machine, bundle, StoreRole.ROOT, gaps)
            break
    if not found:
        for folder in _folders(machine):
            files = [path for path in _files(machine, folder, gaps) if path.endswith((".pem", ".crt", ".0"))]
            looked_at += [folder] if files else []
            found += [each for path in files for each in _file(machine, path, StoreRole.ROOT, gaps)]
    trusted = {each.der for each in found}
    for folder in ADDED:
        waiting = [
            each for path in _files(machine, folder, gaps) for each in _file(machine, path, StoreRole.ISSUER, gaps)
        ]
        found += [each for each in waiting if each.der not in trusted]
    return TrustStores(tuple(found), looked_at=tuple(looked_at), gaps=tuple(gaps))


def _folders(machine: Machine) -> tuple[MachinePath, ...]:
    variable = machine.environment.get("SSL_CERT_DIR", "")
    return (*(MachinePath(each) for each in variable.split(":") if each), *FOLDERS)


def _files(machine: Machine, folder: MachinePath, gaps: list[Message]) -> list[MachinePath]:
    try:
        names = machine.names(folder)
    except UnreadableError as error:
        gaps.append(error.why)
        return []
    return [machine.join(folder, name) for name in names[:_MOST_FILES]]


def _file(machine: Machine, path: MachinePath, role: StoreRole, gaps: list[Message]) -> Iterator[StoredCertificate]:
    if machine.look(path).kind is not EntryKind.FILE:
        return
    try:
        with machine.open(path) as source:
            held = read_certificates(source)
    except FundamenError as error:
        gaps.append(say("common.said-of", subject=path, said=error.why))
        return
    for der in held.certificates:
        yield StoredCertificate(der, role, path)


def _windows_stores(machine: Machine) -> TrustStores:
    gaps = list(machine.registry.gaps)
    found: list[StoredCertificate] = []
    lists: list[bytes] = []
    users_keys = tuple(_users_keys(machine))
    for keys, is_users in ((_MACHINE_KEYS, False), (users_keys, True)):
        for key, title in keys:
            for store in machine.registry.subkeys(key):
                role = _ROLES.get(store.lower())
                if role is None:
                    continue
                if is_users and role is StoreRole.ROOT:
                    role = StoreRole.USERS_ROOT
                for blob in _blobs(machine, (f"{key}\\{store}\\Certificates", f"{key}\\{store}\\CRLs"), gaps):
                    if blob.certificate is not None:
                        where = f"{title} {store}"
                        found.append(StoredCertificate(blob.certificate, role, where, blob.purposes))
                    if blob.revocation_list is not None:
                        lists.append(blob.revocation_list)
    if machine.is_prefix or machine.is_captured:
        found += _given_by_wine(machine, gaps)
    looked_at = tuple(
        f"{key}\\{name}" for key, _ in (*_MACHINE_KEYS, *users_keys) for name in _known_stores(machine, key)
    )
    return TrustStores(tuple(found), tuple(lists), _on_demand(machine, gaps), looked_at, tuple(gaps))


def _given_by_wine(machine: Machine, gaps: list[Message]) -> list[StoredCertificate]:
    """The roots that stand in no store of a prefix; of a capture those that were found when it was made."""
    if not machine.is_captured:
        found = [*_handed_on(gaps), *_built_in(machine, gaps)]
        encoded = [(base64.b64encode(each.der).decode(), each.where) for each in found]
        machine.keep(_GIVEN_BY_WINE, json.dumps(encoded).encode())
        return found
    kept = machine.walk_record(_GIVEN_BY_WINE)
    if kept is None:
        return []
    try:
        listed = msgspec.json.decode(kept, type=list[tuple[str, str]])
        return [StoredCertificate(base64.b64decode(der, validate=True), StoreRole.ROOT, where) for der, where in listed]
    except (ValueError, msgspec.ValidationError) as error:
        gaps.append(say("machine.the-capture-record-of-wine-own", error=error))
        return []


def _handed_on(gaps: list[Message]) -> Iterator[StoredCertificate]:
    """The roots of this host, which wine hands on to every program of a prefix."""
    path = next((bundle for bundle in BUNDLES if os.path.isfile(bundle)), None)
    if path is None:
        return
    try:
        with FileBytes(HostPath(path), path) as source:
            for der in read_certificates(source).certificates:
                yield StoredCertificate(der, StoreRole.ROOT, say("machine.this-host-which-wine-hands-on", path=path))
    except (OSError, FundamenError) as error:
        gaps.append(say("common.said-of", subject=path, said=error))


def _built_in(machine: Machine, gaps: list[Message]) -> Iterator[StoredCertificate]:
    """The roots that wine's own crypt32 carries, as they lie in its data."""
    path = MachinePath("C:\\windows\\system32\\crypt32.dll")
    try:
        data = machine.content(path, _MOST_LIBRARY)
    except UnreadableError as error:
        gaps.append(say("common.said-of", subject=path, said=error.why))
        return
    for found in re.finditer(_DER_CERTIFICATE, data):
        der = data[found.start() : found.start() + 4 + int.from_bytes(found[1], "big")]
        yield StoredCertificate(der, StoreRole.ROOT, say("machine.wine-own", path=path))


def _users_keys(machine: Machine) -> Iterator[tuple[str, str]]:
    """The keys of the stores of each user, and of whom they are."""
    users = {"HKCU": say("machine.the-user-store")}
    users |= {
        f"HKU\\{name}": say("machine.the-store-of-the-user", name=name) for name in machine.registry.subkeys("HKU")
    }
    for root, title in users.items():
        for key in _USERS_KEYS:
            yield f"{root}\\{key}", title


def _known_stores(machine: Machine, key: str) -> list[str]:
    return [name for name in machine.registry.subkeys(key) if name.lower() in _ROLES]


def _blobs(machine: Machine, keys: Iterable[str], gaps: list[Message]) -> "Iterator[StoredBlob]":
    from fundamen.formats.certificates.stored_certificate import read_stored_blob  # noqa: PLC0415 - only Windows has them

    for key in keys:
        for name, values in machine.registry.children(key):
            data = next((value for value_name, value in values.items() if value_name.lower() == "blob"), None)
            if isinstance(data, bytes):
                try:
                    yield read_stored_blob(data, name)
                except UnreadableError as error:
                    gaps.append(say("common.said-of", subject=f"{key}\\{name}", said=error.why))


def _on_demand(machine: Machine, gaps: list[Message]) -> frozenset[bytes]:
    """SHA-1 of the roots that Windows fetches by itself, from the list that it keeps of them."""
    from fundamen.formats.certificates.signed_data import read_signed_data  # noqa: PLC0415 - only Windows has one
    from fundamen.formats.certificates.trust_list import read_trust_list  # noqa: PLC0415

    data = machine.registry.value(_ROOTS_LIST, "EncodedCtl")
    if not isinstance(data, bytes) or machine.registry.value(_TURNED_OFF, "DisableRootAutoUpdate") == 1:
        return frozenset()
    try:
        return read_trust_list(read_signed_data(data, "The list of roots"), "The list of roots").subjects
    except UnreadableError as error:
        gaps.append(say("common.said-of", subject=_ROOTS_LIST, said=error.why))
        return frozenset()

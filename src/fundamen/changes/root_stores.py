r"""Where each kind of machine keeps the roots that it trusts, and what is to be written there to add one.

Sources: Debian's update-ca-certificates(8) and Fedora's update-ca-trust(8) for the files that both their tools and the
programs read; OpenSSL, X509_NAME_hash, for the names in a folder of single certificates; for Windows "System Store
Locations", the registry key ``SystemCertificates\Root``.
"""

import hashlib
import re
from collections.abc import Callable, Iterator

from fundamen.changes.base import MISSING, Work
from fundamen.changes.files import Change
from fundamen.changes.form import Form, PlanResolution, unfit
from fundamen.changes.hives import hive_change, read_hive, require_quiet, require_shut_down
from fundamen.changes.insertions import Insertion, InsertionKind, certificate_block, without
from fundamen.formats.certificates.stored_certificate import stored_blob
from fundamen.formats.windows.hive import with_values
from fundamen.formats.windows.registry_value import HiveValue, ValueType
from fundamen.formats.windows.text_hive import with_key
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.trust_stores import ADDED, BUNDLES, FOLDERS
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UntrustedError, UsageError
from fundamen.model.package import Sha256
from fundamen.model.paths import HostPath, MachinePath
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.fingerprint import group_digits
from fundamen.trust.name_hash import name_hash

Keep = Callable[[bytes], HostPath]

_MOST_BUNDLE = 64 << 20
_KEY = "Microsoft\\SystemCertificates\\Root\\Certificates\\"
_HIVE = MachinePath("\\Windows\\System32\\config\\SOFTWARE")  # on the system drive
_NOT_IN_IT = "the root is not in it"
_HASHED_NAME = re.compile(r"^[0-9a-f]{8}\.\d+$")


def plan_root_import(machine: Machine, program: MachinePath, root: Certificate, keep: Keep, now_seconds: int) -> Work:
    """Plan the steps after which a machine trusts a root; nothing is written here.

    Args:
        machine: whose store it is.
        program: for which the root is imported.
        root: the certificate.
        keep: keeps bytes of ours until they are placed.
        now_seconds: this moment, since 1970, UTC.

    Raises:
        UsageError: this machine cannot be given a root from outside, or not now; the message says how else.
        UnreadableError: its store cannot be read.
    """
    if machine.platform is Platform.LINUX:
        changes = list(_linux_changes(machine, root))
    elif machine.is_prefix:
        changes = [_prefix_change(machine, root, now_seconds)]
    elif machine.platform is Platform.WINDOWS and not machine.is_live:
        changes = [_volume_change(machine, root, now_seconds)]
    else:
        raise UsageError(
            what=say("changes.the-root-cannot-be-imported-into", shown=root.subject.shown, title=machine.title),
            why=say("changes.its-store-can-be-changed-only"),
            do=say("changes.have-an-administrator-add-it-to"),
        )
    contents = {change.sha256: keep(data) for change, data in changes}
    title = say("changes.the-root-certificate", shown=root.subject.shown)
    return Work(program, (title,), tuple(change for change, _ in changes), contents)


def _linux_changes(machine: Machine, root: Certificate) -> Iterator[tuple[Change, bytes]]:
    block, insertion = certificate_block(root.der)
    bundle = next((path for path in BUNDLES if machine.look(path).kind is EntryKind.FILE), None)
    if bundle is None:
        raise UsageError(
            what=say("changes.the-root-cannot-be-imported-into", shown=root.subject.shown, title=machine.title),
            why=say("changes.it-has-no-bundle-of-roots", bundles=BUNDLES[0]),
            do=say("changes.install-the-system-package-of-root"),
        )
    name = "".join(c if c.isalnum() else "-" for c in root.subject.shown.lower())[:60]
    added = next((folder for folder in ADDED if machine.look(folder).kind is EntryKind.FOLDER), ADDED[0])
    own = machine.join(added, f"{name}-{root.sha256[:8]}.crt")
    if not _holds(machine, own, insertion):
        yield _change(machine, own, block)
    data = machine.content(bundle, _MOST_BUNDLE)
    if without(data, insertion) == data:
        separator = b"" if data.endswith(b"\n") or not data else b"\n"
        yield _change(machine, bundle, data + separator + block, insertion)
    folder, hashed = FOLDERS[0], name_hash(root.der)
    names = [known for known in machine.names(folder) if _HASHED_NAME.match(known)]
    like = [known for known in names if known.startswith(f"{hashed}.")]
    if names and not any(_holds(machine, machine.join(folder, known), insertion) for known in like):
        yield _change(machine, machine.join(folder, _free_name(machine, folder, hashed)), block)


def _holds(machine: Machine, path: MachinePath, insertion: Insertion) -> bool:
    """Whether a file holds the root already."""
    if machine.look(path).kind is not EntryKind.FILE:
        return False
    data = machine.content(path, _MOST_BUNDLE)
    return without(data, insertion) != data


def _free_name(machine: Machine, folder: MachinePath, hashed: str) -> str:
    number = 0
    while machine.look(machine.join(folder, f"{hashed}.{number}")).kind is not EntryKind.ABSENT:
        number += 1
    return f"{hashed}.{number}"


def _prefix_change(machine: Machine, root: Certificate, now_seconds: int) -> tuple[Change, bytes]:
    require_quiet(machine)
    location = "/system.reg"
    key = f"Software\\{_KEY}{root.sha1.upper()}"
    blob = stored_blob(root.der, bytes.fromhex(root.sha1))
    changed = with_key(read_hive(machine, location), key, {"Blob": blob}, now_seconds)
    insertion = Insertion(InsertionKind.REGISTRY_KEY, key)
    return hive_change(MachinePath("system.reg"), location, changed, insertion, _NOT_IN_IT), changed


def _volume_change(machine: Machine, root: Certificate, now_seconds: int) -> tuple[Change, bytes]:
    require_shut_down(machine)
    path = machine.real(_HIVE)
    location = machine.ground.location(machine.place(path))
    key = _KEY + root.sha1.upper()
    blob = HiveValue(ValueType.BINARY, stored_blob(root.der, bytes.fromhex(root.sha1)))
    changed = with_values(read_hive(machine, location), key, {"Blob": blob}, now_seconds)
    return hive_change(path, location, changed, Insertion(InsertionKind.REGISTRY_KEY, key), _NOT_IN_IT), changed


def _change(
    machine: Machine, path: MachinePath, data: bytes, insertion: Insertion | None = None
) -> tuple[Change, bytes]:
    place = machine.real(path)
    is_there = machine.look(place).kind is not EntryKind.ABSENT
    because = _NOT_IN_IT if is_there else MISSING
    digest = hashlib.sha256(data).hexdigest()
    return Change(path=place, because=because, sha256=digest, size=len(data), insertion=insertion), data


class ImportRoot(Form, frozen=True, kw_only=True, tag="import root"):
    """A root certificate goes into the machine's store; the path is only for people."""

    certificate: bytes  # DER; in JSON as Base64
    sha256: Sha256  # the root's fingerprint, as its owner read it out

    @property
    def title(self) -> Message:
        """Title for the history."""
        return say("changes.the-root-certificate-sha256", sha256=self.sha256[:16])

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        root = read_certificate(self.certificate)
        if root.sha256 != self.sha256:
            raise UntrustedError(
                what=say("changes.the-root-is-not-imported", shown=root.subject.shown),
                why=say("changes.its-sha-256-fingerprint-is-not", group_digits=group_digits(root.sha256)),
                do=say("changes.nothing-was-changed-ask-the-author"),
            )
        program = MachinePath(resolving.program)
        work = plan_root_import(resolving.machine, program, root, resolving.means.keep, resolving.means.now_seconds)
        for each in work.steps:
            location = each.location if isinstance(each, Change) else ""
            if location in resolving.written:
                raise unfit(each.path, say("changes.a-root-is-to-go-into"))
            resolving.steps[location or resolving.machine.fold(each.path)] = each
            if location and isinstance(each, Change):
                with open(work.contents[each.sha256], "rb") as file:
                    resolving.written[location] = file.read()
        resolving.contents |= work.contents

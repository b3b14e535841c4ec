r"""Plan the removal of a root certificate from a machine's store.

Sources: as for ``root_stores``; Debian's ca-certificates.conf, where ``!`` in front of a file's name leaves it out, and
Fedora's folder ``blocklist``, so that the system's own tools do not bring the root back; OpenSSL, X509_LOOKUP_hash_dir,
which stops at the first number that no file of a hash has.
"""

import hashlib
import re
from collections.abc import Callable, Iterator

from fundamen.changes.base import Step, Work
from fundamen.changes.files import Change
from fundamen.changes.hives import hive_change, place_of_key, read_hive
from fundamen.changes.insertions import Insertion, InsertionKind, certificate_block, without
from fundamen.changes.moves import Move, free_aside
from fundamen.formats.windows import hive, text_hive
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.trust_stores import ADDED, BUNDLES, FOLDERS
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.trust.certificate import Certificate

Keep = Callable[[bytes], HostPath]

_MOST_BYTES = 64 << 20
_BECAUSE = "it trusts the root"
_KEY = "HKLM\\Software\\Microsoft\\SystemCertificates\\Root\\Certificates\\"
_CHOSEN = MachinePath("/etc/ca-certificates.conf")
_SHIPPED = "/usr/share/ca-certificates/"
_BLOCKED = MachinePath("/etc/pki/ca-trust/source/blocklist")
_HASHED = re.compile(r"^([0-9a-f]{8})\.(\d+)$")


def plan_root_removal(machine: Machine, root: Certificate, keep: Keep) -> Work:
    """Plan the steps after which a machine's own store does not have a root; nothing is written here.

    Args:
        machine: whose store it is.
        root: the certificate.
        keep: keeps bytes of ours until they are placed.

    Raises:
        UsageError: this machine's store cannot be changed from outside, or the root is not in it.
        UnreadableError: its store cannot be read.
    """
    contents: dict[str, HostPath] = {}
    steps: list[Step] = []
    if machine.platform is Platform.LINUX:
        for step, data in _linux_steps(machine, root):
            steps.append(step)
            if isinstance(step, Change):
                contents[step.sha256] = keep(data)
    elif machine.platform is Platform.WINDOWS:
        change, data = _registry_change(machine, root)
        steps.append(change)
        contents[change.sha256] = keep(data)
    if not steps:
        raise _refusal(machine, root, say("changes.it-is-not-in-a-store"))
    return Work(
        steps[0].path, (say("changes.without-the-root-certificate", shown=root.subject.shown),), tuple(steps), contents
    )


def _linux_steps(machine: Machine, root: Certificate) -> Iterator[tuple[Step, bytes]]:
    block, wanted = certificate_block(root.der)
    for folder in ADDED:
        for path in _find_holders(machine, folder, wanted):
            yield Move(path=path, because=_BECAUSE, aside=free_aside(machine, path)), b""
    for bundle in BUNDLES:
        if machine.look(bundle).kind is EntryKind.FILE:
            data = machine.content(bundle, _MOST_BYTES)
            if (changed := without(data, wanted)) != data:
                yield _change(machine, bundle, changed), changed
    yield from _single_files(machine, wanted)
    if machine.look(_CHOSEN).kind is EntryKind.FILE:
        data = machine.content(_CHOSEN, _MOST_BYTES)
        if (changed := _not_chosen(machine, data, wanted)) != data:
            yield _change(machine, _CHOSEN, changed), changed
    elif machine.look(_BLOCKED).kind is EntryKind.FOLDER and not list(_find_holders(machine, _BLOCKED, wanted)):
        path = machine.join(_BLOCKED, f"fundamen-{root.sha256[:16]}.pem")
        yield _change(machine, path, block), block


def _single_files(machine: Machine, wanted: Insertion) -> Iterator[tuple[Step, bytes]]:
    """The root's own files in the folder of single certificates; others of the same hash move up by one."""
    folder = FOLDERS[0]
    gone = [machine.paths.basename(path) for path in _find_holders(machine, folder, wanted)]
    by_hash: dict[str, list[int]] = {}
    for name in machine.names(folder):
        if found := _HASHED.match(name):
            by_hash.setdefault(found[1], []).append(int(found[2]))
    for name in gone:
        path = machine.join(folder, name)
        found = _HASHED.match(name)
        others = [number for number in by_hash[found[1]] if f"{found[1]}.{number}" not in gone] if found else []
        if found and others and max(others) > int(found[2]):
            last = machine.join(folder, f"{found[1]}.{max(others)}")
            data = machine.content(last, _MOST_BYTES)
            by_hash[found[1]].remove(max(others))
            yield _change(machine, path, data, is_entry=True), data
            path = last
        yield Move(path=path, because=_BECAUSE, aside=free_aside(machine, path)), b""


def _find_holders(machine: Machine, folder: MachinePath, wanted: Insertion) -> list[MachinePath]:
    """The files and links in a folder that hold nothing but the root."""
    if machine.look(folder).kind is not EntryKind.FOLDER:
        return []
    paths = (machine.join(folder, name) for name in machine.names(folder))
    return [machine.own_place(path) for path in paths if path not in BUNDLES and _is_only(machine, path, wanted)]


def _is_only(machine: Machine, path: MachinePath, wanted: Insertion) -> bool:
    if machine.look(path).kind is not EntryKind.FILE or machine.look(path).size > _MOST_BYTES:
        return False
    data = machine.content(path, _MOST_BYTES)
    rest = without(data, wanted)
    return rest != data and b"-----BEGIN" not in rest


def _not_chosen(machine: Machine, data: bytes, wanted: Insertion) -> bytes:
    """The list of the system's chosen roots with this one left out."""
    lines = data.split(b"\n")
    for number, line in enumerate(lines):
        name = line.decode("utf-8", "surrogateescape").strip()
        is_one = bool(name) and name[0] not in "#!" and ".." not in name.split("/")
        if is_one and _is_only(machine, MachinePath(_SHIPPED + name), wanted):
            lines[number] = b"!" + line
    return b"\n".join(lines)


def _change(machine: Machine, path: MachinePath, data: bytes, *, is_entry: bool = False) -> Change:
    """The step that gives a file other content; with ``is_entry`` it replaces a link, not its target."""
    place = path if is_entry else machine.real(path)
    location = machine.ground.location(machine.entry_place(path)) if is_entry else ""
    digest = hashlib.sha256(data).hexdigest()
    return Change(path=place, location=location, because=_BECAUSE, sha256=digest, size=len(data))


def _registry_change(machine: Machine, root: Certificate) -> tuple[Change, bytes]:
    place = place_of_key(machine, _KEY + root.sha1.upper())
    data = read_hive(machine, place.location)
    blob = place.value_in(data, "Blob")
    if blob is None:
        raise _refusal(machine, root, say("changes.it-is-not-in-the-machine"))
    changed = (text_hive if place.is_text else hive).without_key(data, place.key)
    taken_out = Insertion(InsertionKind.REGISTRY_VALUE, place.key, "Blob", new=None, old=blob.as_text())
    return hive_change(place.path, place.location, changed, taken_out, _BECAUSE), changed


def _refusal(machine: Machine, root: Certificate, why: str) -> UsageError:
    return UsageError(
        what=say("changes.the-root-is-not-removed-from", shown=root.subject.shown, title=machine.title),
        why=why,
        do=say("changes.nothing-was-changed-see-where-each"),
    )

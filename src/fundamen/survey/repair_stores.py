"""The stores that repairs are drawn from: the packages that apt keeps, and Windows's component store.

Of a kept package its form is checked: all members whole, and its content with the end that such content has. Bits that
were flipped in the middle are apt's to find, which compares the digest before it installs. Of the component store every
assembly's files are compared with what its manifest says, where the manifest can be read: newer systems keep most
of them packed by a method that is not documented, and those are counted as not looked into.
Sources: deb(5); apt.conf(5) (Dir::Cache::Archives); Microsoft's "Assembly Manifests" (file, hash, hashalg); XML-DSig,
section 4.4.3 (DigestMethod, DigestValue).
"""

import json
import re
from collections.abc import Callable, Iterator

import msgspec

from fundamen.formats.archives.debian_package import require_whole
from fundamen.formats.byte_source import digest_of_ranges
from fundamen.formats.windows.manifest import ManifestFile, read_manifest
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.architecture import Platform
from fundamen.model.encoding import as_message, to_coded
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import MachinePath

_ARCHIVES = MachinePath("/var/cache/apt/archives")
_STORE = MachinePath(r"C:\Windows\WinSxS")
_MOST_MANIFEST = 1 << 20
_KEPT_AS = "stores that repairs are drawn from"
_PACKED = b"DCM\x01"  # how a packed manifest begins
_KEPT = re.compile(r"^(?P<name>[a-z0-9][a-z0-9+.\-]+)_[^_]+_(?P<architecture>[a-z0-9\-]+)\.deb$")


class SpoiltCopy(msgspec.Struct, frozen=True):
    """Something that a repair would be drawn from, and that is damaged or gone."""

    path: str
    why: Message
    do: Message  # a command to paste, or a sentence


CountProgress = Callable[[int], None]


class _Found(msgspec.Struct, frozen=True):
    spoilt: tuple[SpoiltCopy, ...]
    gaps: tuple[Message, ...]


def check_stores(
    machine: Machine, gaps: list[Message], count_progress: CountProgress = lambda _count: None
) -> tuple[SpoiltCopy, ...]:
    """Check the stores that a machine has; of a capture what was found when it was made.

    Args:
        machine: whose.
        gaps: what could not be looked into is added.
        count_progress: called with how many more copies are done.
    """
    if machine.is_captured:
        found = _from_capture(machine)
    else:
        own_gaps: list[Message] = []
        spoilt = tuple(_check(machine, own_gaps, count_progress))
        found = _Found(spoilt, tuple(own_gaps))
        machine.keep(_KEPT_AS, json.dumps(to_coded(found)).encode())
    gaps += found.gaps
    return found.spoilt


def _from_capture(machine: Machine) -> _Found:
    data = machine.walk_record(_KEPT_AS)
    if data is None:
        return _Found((), (say("survey.the-capture-does-not-say-whether"),))
    try:
        return msgspec.convert(json.loads(data), type=_Found, dec_hook=as_message)
    except (ValueError, msgspec.ValidationError) as error:
        return _Found((), (say("survey.the-capture-record-of-the-repair", error=error),))


def _check(machine: Machine, gaps: list[Message], count_progress: CountProgress) -> Iterator[SpoiltCopy]:
    kinds = {Platform.LINUX: (_ARCHIVES, _check_kept_packages), Platform.WINDOWS: (_STORE, _check_assemblies)}
    store, check = kinds.get(machine.platform, (None, None))
    if store is None or check is None:
        return iter(())
    try:
        machine.host_path(store)
    except UnreadableError:
        gaps.append(say("survey.the-repair-stores-were-not-checked"))
        return iter(())
    return check(machine, gaps, count_progress)


def _check_kept_packages(machine: Machine, gaps: list[Message], count_progress: CountProgress) -> Iterator[SpoiltCopy]:
    for name in _names(machine, _ARCHIVES, gaps):
        named = _KEPT.match(name)
        if named is None:
            continue
        count_progress(1)
        path = machine.join(_ARCHIVES, name)
        again = say("survey.rm-apt-get-download", path=path, name=named["name"], architecture=named["architecture"])
        if named["architecture"] == "all":
            again = say("survey.rm-apt-get-download-path-name", path=path, name=named["name"])
        try:
            with FileBytes(machine.host_path(path), path) as source:
                require_whole(source)
        except DamagedFileError as error:
            yield SpoiltCopy(path, error.why, again)
        except (UnreadableError, OSError) as error:
            gaps.append(say("survey.was-not-looked-into", path=path, why=_why(error)))


def _check_assemblies(machine: Machine, gaps: list[Message], count_progress: CountProgress) -> Iterator[SpoiltCopy]:
    manifests = machine.join(_STORE, "Manifests")
    packed = 0
    for name in _names(machine, manifests, gaps):
        if not name.lower().endswith(".manifest"):
            continue
        count_progress(1)
        path = machine.join(manifests, name)
        try:
            with FileBytes(machine.host_path(path), path) as source:
                data = source.read_at(0, min(source.size, _MOST_MANIFEST))
            if data.startswith(_PACKED):
                packed += 1
                continue
            files = read_manifest(data).listed
        except DamagedFileError as error:
            yield SpoiltCopy(path, error.why, say(_REPAIR))
            continue
        except (UnreadableError, OSError) as error:
            gaps.append(say("survey.was-not-looked-into", path=path, why=_why(error)))
            continue
        folder = machine.join(_STORE, name[: -len(".manifest")])
        for file in files:
            why = _amiss(machine, machine.join(folder, file.name), file)
            if why:
                yield SpoiltCopy(machine.join(folder, file.name), why, say(_REPAIR))
    if packed:
        gaps.append(say("survey.of-the-component-store-packed-manifests", packed=packed))


_REPAIR = "survey.have-an-administrator-repair-the-store"


def _amiss(machine: Machine, path: MachinePath, file: ManifestFile) -> Message:
    """The fault of one file of an assembly; empty for none."""
    if machine.look(path).kind is not EntryKind.FILE:
        return say("survey.its-assembly-lists-it-and-it")
    if not file.algorithm:
        return UNSAID
    try:
        with FileBytes(machine.host_path(path), path) as source:
            digest = digest_of_ranges(source, file.algorithm, [(0, source.size)])
    except (UnreadableError, OSError):
        return say("survey.it-cannot-be-read")
    return UNSAID if digest.hex() == file.digest else say("survey.its-bytes-are-not-those-that")


def _why(error: UnreadableError | OSError) -> Message:
    return error.why if isinstance(error, UnreadableError) else as_said(error.strerror or str(error))


def _names(machine: Machine, folder: MachinePath, gaps: list[Message]) -> tuple[str, ...]:
    try:
        return machine.names(folder)
    except UnreadableError as error:
        gaps.append(say("survey.was-not-looked-into", path=folder, why=error.why))
        return ()

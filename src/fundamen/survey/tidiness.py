"""Find untidy states of a machine that no program suffers from yet.

Tools of one name more than once on PATH, libraries for the other word size in a system folder, one package in two
versions, certificates that have ended or soon will, installations that were not finished. Sources: POSIX, XBD 8.3
("PATH"); Debian Policy, section 6.6 (states of packages), dpkg(1); Microsoft's MoveFileEx (operations that wait for a
restart).
"""

import shlex
from collections import defaultdict
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

import msgspec

from fundamen.evidence.dpkg import all_stanzas, fields_of
from fundamen.evidence.dpkg_database import STATUS, find_database_damage
from fundamen.formats.certificates.certificate_validity import read_end
from fundamen.loaders.architectures import own_architecture
from fundamen.loaders.glibc_itself import system_folders
from fundamen.loaders.loading import system_folder
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import path_folders
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.messages import Message, as_said, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.trust_store import StoreRole

SOON = timedelta(days=60)
_UPDATES = MachinePath("/var/lib/dpkg/updates")
_SESSION_MANAGER = r"HKLM\System\CurrentControlSet\Control\Session Manager"
_IN_PROGRESS = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Installer\InProgress"
_WHOLE = {"installed", "config-files", "not-installed"}
_WIDTHS = (Architecture.X86_64, Architecture.X86, Architecture.AARCH64, Architecture.ARM)
_MOST_TOOLS = 100_000


class DoubledTool(msgspec.Struct, frozen=True):
    """A command that PATH finds in several places, as different files."""

    name: str
    first: MachinePath
    others: tuple[MachinePath, ...]


class StrayLibrary(msgspec.Struct, frozen=True):
    """A library in the system folder of another architecture."""

    path: MachinePath
    architecture: Architecture
    folder_is_for: Architecture


class EndingCertificate(msgspec.Struct, frozen=True):
    """A certificate of the machine's stores that has ended, or soon will."""

    name: str
    where: str
    ends: datetime
    has_ended: bool


class Unfinished(msgspec.Struct, frozen=True):
    """An installation that was begun and not finished."""

    what: Message
    why: Message
    do: Message  # a command to paste, or a sentence


def find_doubled_tools(machine: Machine) -> tuple[DoubledTool, ...]:
    """Commands of which PATH finds more than one file; two names of one file are no two."""
    places: dict[str, dict[MachinePath, MachinePath]] = defaultdict(dict)
    seen: set[MachinePath] = set()
    for written in path_folders(machine):
        if not machine.paths.isabs(written) or len(places) > _MOST_TOOLS:
            continue
        folder = machine.real(machine.join(written))
        if folder in seen:
            continue
        seen.add(folder)
        for name in _names(machine, folder):
            path = machine.join(folder, name)
            entry = machine.look(path)
            is_tool = name.lower().endswith(".exe") if machine.platform is Platform.WINDOWS else entry.is_executable
            if entry.kind is EntryKind.FILE and is_tool:
                places[machine.fold(name)].setdefault(machine.real(path), path)
    found = []
    for files in places.values():
        first, *others = files.values()
        if others:
            found.append(DoubledTool(machine.paths.basename(first), first, tuple(others)))
    return tuple(sorted(found, key=lambda tool: tool.name))


def find_stray_libraries(machine: Machine, executables: Sequence[MachinePath]) -> tuple[StrayLibrary, ...]:
    """Libraries that lie right in the system folder of another architecture."""
    folders = _system_folders(machine)
    found = []
    for path in executables:
        wanted = folders.get(machine.folder_of(path))
        if wanted is None:
            continue
        try:
            architecture = machine.binary(path).architecture
        except UnreadableError:
            continue
        if not architecture.serves(wanted):
            found.append(StrayLibrary(path, architecture, wanted))
    return tuple(found)


def _system_folders(machine: Machine) -> dict[MachinePath, Architecture]:
    """The system folders that are for one architecture alone; on macOS there are none."""
    owners: dict[MachinePath, list[Architecture]] = defaultdict(list)
    for width in _WIDTHS:
        if machine.platform is Platform.WINDOWS:
            owners[machine.real(system_folder(machine, width))].append(width)
        elif machine.platform is Platform.LINUX:
            for folder in {machine.real(MachinePath(each)) for each in system_folders(machine, None, width)}:
                owners[folder].append(width)
    if machine.platform is Platform.LINUX:  # lib64 is that of the machine's own programs, whichever they are
        own = own_architecture(machine)
        shared = [folder for folder, widths in owners.items() if len(widths) > 1 and folder.endswith("64")]
        owners.update({folder: [own] for folder in shared if own is not None})
    return {
        folder: widths[0]
        for folder, widths in owners.items()
        if len(widths) == 1 and machine.look(folder).kind is EntryKind.FOLDER
    }


def find_mixed_packages(machine: Machine) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Packages that are installed in more than one version, for different architectures: name, versions.

    Two builds of one library that are not of one version do not work together where programs hand files on.
    """
    versions: dict[str, dict[str, str]] = defaultdict(dict)
    for fields in map(fields_of, _stanzas(machine)):
        if fields.get("Status", "").endswith(" ok installed"):
            versions[fields.get("Package", "")][fields.get("Architecture", "")] = fields.get("Version", "")
    return tuple(
        (
            name,
            tuple(
                say("survey.for-version-architecture", version=version, architecture=architecture)
                for architecture, version in found.items()
            ),
        )
        for name, found in sorted(versions.items())
        if len(set(found.values())) > 1
    )


def find_ending_certificates(machine: Machine, now: datetime) -> tuple[EndingCertificate, ...]:
    """Roots and authorities that the machine trusts and that have ended, or will within ``SOON``; once each."""
    found: dict[bytes, EndingCertificate] = {}
    for stored in read_trust_stores(machine).certificates:
        if stored.role is StoreRole.DISTRUSTED or stored.der in found:
            continue
        try:
            ends = read_end(stored.der)
            if ends - now < SOON:
                # It brings the libraries of cryptography along, which most surveys need not wait for.
                from fundamen.trust.certificate import read_certificate  # noqa: PLC0415

                title = read_certificate(stored.der).subject.shown
                found[stored.der] = EndingCertificate(title, stored.where, ends, ends <= now)
        except DamagedFileError:
            continue
    return tuple(sorted(found.values(), key=lambda each: each.ends))


def find_unfinished(machine: Machine) -> tuple[Unfinished, ...]:
    """Installations that were not finished, and what waits for a restart."""
    if machine.platform is Platform.WINDOWS:
        return tuple(_of_windows(machine))
    return tuple(_of_dpkg(machine)) if machine.platform is Platform.LINUX else ()


def _of_database(machine: Machine) -> Iterator[Unfinished]:
    """The package database, where it is damaged."""
    damage = find_database_damage(machine)
    if damage is not None:
        do = say("survey.restore-it-from-a-backup")
        if damage.backup is not None:
            where = "" if machine.is_live else say("survey.machine", root=shlex.quote(machine.root))
            do = say("survey.fundamen-restore-rehearse", where=where, status=STATUS)
        why = say("survey.is-whole", why=damage.why, backup=damage.backup) if damage.backup is not None else damage.why
        yield Unfinished(say("survey.the-package-database"), why, do)


def _on_machine(machine: Machine, command: Message) -> Message:
    """A command as it is given here: of a mounted root it works in that root."""
    return (
        command
        if machine.is_live or machine.is_captured
        else say("survey.chroot", root=shlex.quote(machine.root), command=command)
    )


def _of_dpkg(machine: Machine) -> Iterator[Unfinished]:
    yield from _of_database(machine)
    for fields in map(fields_of, _stanzas(machine)):
        wanted, flag, state = [*fields.get("Status", "").split(), "", "", ""][:3]
        name = fields.get("Package", "")
        if flag == "reinstreq":
            again = _on_machine(machine, say("survey.apt-get-install-reinstall", name=shlex.quote(name)))
            yield Unfinished(as_said(name), say("survey.it-must-be-installed-again-an"), again)
        elif wanted and state not in _WHOLE:
            yield Unfinished(
                as_said(name),
                say("survey.it-is", state=state),
                _on_machine(machine, say("survey.dpkg-configure-pending")),
            )
    if left := [name for name in _names(machine, _UPDATES) if name.isdecimal()]:
        why = say("survey.dpkg-was-interrupted-notes-of-it", count=len(left), updates=_UPDATES)
        yield Unfinished(as_said("dpkg"), why, _on_machine(machine, say("survey.dpkg-configure-pending")))


def _of_windows(machine: Machine) -> Iterator[Unfinished]:
    pending = machine.registry.value(_SESSION_MANAGER, "PendingFileRenameOperations")
    if isinstance(pending, tuple) and any(pending):
        count = (len(pending) + 1) // 2
        yield Unfinished(
            say("survey.the-system"),
            say("survey.files-wait-to-be-moved-or", count=count),
            say("survey.restart-the-machine"),
        )
    if machine.registry.values(_IN_PROGRESS):
        why = say("survey.an-installation-was-neither-finished-nor")
        yield Unfinished(say("survey.the-installer-service"), why, say("survey.run-that-installer-again-it-then"))


def _stanzas(machine: Machine) -> list[str]:
    try:
        return all_stanzas(machine) if machine.platform is Platform.LINUX else []
    except UnreadableError:
        return []


def _names(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    try:
        return machine.names(folder)
    except UnreadableError:
        return ()

"""The operating system's own archive as a source: the packages whose files are at fault, in the installed version.

Whose file it is, the package database says; the archive's signature and each package's digest are checked by apt; the
bytes that are put in place are those of the package.
"""

import contextlib
import hashlib
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from functools import cached_property

import msgspec

from fundamen.evidence.debian_contents import DEBIAN_NAMES
from fundamen.evidence.dpkg import Owner, StatOverride, diversions_of, find_owners, stat_overrides_of
from fundamen.evidence.dpkg_files import LEFT_OUT, Records, listed_paths, unrecorded_paths
from fundamen.formats.archives.debian_package import read_debian_package, unpack_debian_package
from fundamen.formats.archives.packed import PackedFile, Readable
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.package import Base, Package, PackageFile, PackageFolder, PackageLink
from fundamen.model.paths import HostPath, MachinePath
from fundamen.sources.apt import Apt, WantedPackage
from fundamen.sources.catalogue import Catalogue, ListedCatalogue, Source, SourceKind
from fundamen.sources.layout import keep_content

NAME = "Debian's archive"
_PIECE = 1 << 18
_MOST_BINARY = 256 << 20  # bytes that are looked at for a name of their own
_BECOME_LINKS = {"var/run": "/run", "var/lock": "/run/lock"}
_INTO_USR = ("bin", "sbin", "lib", "lib32", "lib64", "libx32", "libo32")
_ARCHITECTURES = {name: architecture for architecture, name in DEBIAN_NAMES.items()}

Keep = Callable[[str, Iterable[bytes]], None]


class NewPackages(msgspec.Struct, frozen=True):
    """Packages that are not installed, fetched and checked."""

    wanted: tuple[WantedPackage, ...]
    files: tuple[HostPath, ...]  # of each
    packages: tuple[Package, ...]  # as they describe themselves
    contents: str  # the folder where the bytes lie of what the machine does not have, by their SHA-256

    def places(self) -> dict[MachinePath, HostPath]:
        """Where their files will stand -> our copy of the bytes, of those that are not there already."""
        files = [file for package in self.packages for file in package.files]
        kept = {MachinePath("/" + f.place): HostPath(os.path.join(self.contents, f.sha256)) for f in files}
        return {path: copy for path, copy in kept.items() if os.path.exists(copy)}

    def links(self) -> dict[MachinePath, str]:
        """Where their links will stand -> their targets, as they stand in them."""
        return {MachinePath("/" + link.place): link.target for p in self.packages for link in p.links}


class OsArchive:
    """The offers of the system's archive for the faults of a machine."""

    def __init__(self, machine: Machine, home: HostPath, now: datetime, note: Callable[[str], None]) -> None:
        """Prepare to ask.

        Args:
            machine: a Debian root, or this host.
            home: the folder of our own state.
            now: this moment.
            note: called with what the archive cannot give.
        """
        self._machine = machine
        self._now = now
        self._contents = os.path.join(home, "content")
        self._apt = Apt(machine, HostPath(os.path.join(home, "archive", "debian")))
        self._note = note
        self._described: dict[tuple[WantedPackage, frozenset[MachinePath]], Package | None] = {}

    @staticmethod
    def serves(machine: Machine) -> bool:
        """Whether a machine was installed from such an archive, and this host can ask it."""
        status = MachinePath("/var/lib/dpkg/status")
        is_debian = machine.platform is Platform.LINUX and machine.look(status).kind is EntryKind.FILE
        return is_debian and Apt.is_here()

    def catalogue_of(
        self, names: Iterable[str], paths: Iterable[MachinePath], architecture: Architecture
    ) -> Catalogue | None:
        """The installed packages that own files of some names or at some paths; None where there is none.

        Raises:
            UntrustedError: the archive's proofs do not hold.
        """
        asked = frozenset(paths)
        owners = [o for o in find_owners(self._machine, names, asked) if _serves(o, architecture)]
        wanted = dict.fromkeys(WantedPackage(owner.package, owner.version, owner.architecture) for owner in owners)
        self._apt.fetch_together([each for each in wanted if each.is_plain])
        packages = [package for each in wanted if (package := self._package(each, asked)) is not None]
        source = Source(NAME, "", "", self._now, kind=SourceKind.ARCHIVE)
        return (
            ListedCatalogue(source, tuple(packages), self._now + timedelta(days=1), is_owner=True) if packages else None
        )

    def new_packages(self, names: Sequence[str]) -> NewPackages:
        """The packages that would be installed with some packages: with all their dependencies that are missing.

        Raises:
            UsageError: something that is installed would be changed for it.
            UnreadableError: the archive does not have it, or cannot be reached.
            UntrustedError: the archive's proofs do not hold.
        """
        wanted = self._apt.resolve(names)
        files = tuple(self._apt.fetch(each) for each in wanted)
        packages = []
        for path in files:
            with FileBytes(path, os.path.basename(path)) as source:
                packages.append(self._describe(source))
        return NewPackages(wanted, files, tuple(packages), self._contents)

    def _package(self, wanted: WantedPackage, asked: frozenset[MachinePath]) -> Package | None:
        settings = self._settings.get(wanted.name, frozenset()) & asked
        if (wanted, settings) not in self._described:
            self._described[wanted, settings] = self._fetch_package(wanted, settings) if wanted.is_plain else None
        return self._described[wanted, settings]

    @cached_property
    def _settings(self) -> dict[str, frozenset[MachinePath]]:
        """The files of each installed package that people are meant to change."""
        try:
            packages = Records(self._machine).packages
        except UnreadableError:
            return {}
        return {package.name: frozenset(MachinePath(path) for path, _ in package.settings) for package in packages}

    def _fetch_package(self, wanted: WantedPackage, asked: frozenset[MachinePath]) -> Package | None:
        try:
            path = self._apt.fetch(wanted)
            with FileBytes(path, os.path.basename(path)) as source:
                listed = listed_paths(self._machine, wanted.name, wanted.architecture)
                return self._describe(source, listed - self._made_here(wanted, asked), asked)
        except UnreadableError as error:
            self._note(f"{error.what}: {error.why}. {error.do}")
            return None

    def _made_here(self, wanted: WantedPackage, asked: frozenset[MachinePath]) -> frozenset[str]:
        """The files of a package that have other bytes than it brings for a good reason, unless they are asked for."""
        return frozenset(
            path
            for path in unrecorded_paths(self._machine, wanted.name, wanted.architecture)
            if (place := MachinePath(path)) not in asked
            and (entry := self._machine.look(place)).kind is EntryKind.FILE
            and entry.size
            and self._machine.own_place(place) == self._machine.real(place)  # no link
        )

    def _describe(
        self, source: FileBytes, listed: frozenset[str] = frozenset(), asked: frozenset[MachinePath] = frozenset()
    ) -> Package:
        """A package's description; the bytes of what is not as it should be on the machine are kept on the way.

        Args:
            source: the package.
            listed: what it has, if it is installed: what it has no more is left out.
            asked: paths that were asked for: of settings files, only these are described.
        """
        control = read_debian_package(source)
        files: dict[str, PackageFile] = {}  # by their paths in the package
        links: list[PackageLink] = []
        folders: dict[str, PackageFolder] = {}
        diverted = {original: (to, by) for original, to, by in diversions_of(self._machine)}
        overrides = stat_overrides_of(self._machine)
        ways = self._lost_ways()
        for member, data in unpack_debian_package(source):
            packed = _apply_diversion(_apply_override(member, overrides), control.name, diverted)
            is_anothers = bool(listed) and f"/{member.path}" not in listed
            is_kept = member.path in control.settings and f"/{member.path}" not in asked
            if is_anothers or is_kept or f"/{packed.path}".startswith(LEFT_OUT):
                continue
            packed = _by_lost_way(packed, ways)
            if packed.is_folder and packed.path in ways:
                links.append(PackageLink(Base.ROOT, packed.path, ways[packed.path]))
            elif packed.is_folder:
                folder = PackageFolder(Base.ROOT, packed.path, packed.mode, packed.owner, packed.group)
                folders.setdefault(packed.path, folder)
            elif packed.link:
                links.append(PackageLink(Base.ROOT, packed.path, packed.link))
            elif not packed.same_as:
                files[member.path] = self._described_file(packed, data)
            elif packed.same_as in files:
                files[member.path] = self._further_name(packed, files[packed.same_as])
        return Package(
            publisher="Debian",
            name=control.name,
            version=control.version,
            platform=Platform.LINUX,
            architecture=_ARCHITECTURES.get(control.architecture, Architecture.ANY),
            files=tuple(files.values()),
            links=tuple(links),
            folders=tuple(folders.values()),
        )

    def _lost_ways(self) -> dict[str, str]:
        """Links to folders that packages bring as folders, and that are gone; where each leads.

        Sources: Debian Policy, section 9.1.4; for the top folders of a machine where these are links into /usr,
        file-hierarchy(7), "Compatibility Symlinks".
        """
        look, real = self._machine.look, self._machine.real
        is_merged = any(real(MachinePath(f"/{name}")) == f"/usr/{name}" for name in _INTO_USR)
        tops = {name: f"usr/{name}" for name in (_INTO_USR if is_merged else ())}
        kept = {way: to for way, to in tops.items() if look(MachinePath(f"/{to}")).kind is EntryKind.FOLDER}
        ways = _BECOME_LINKS | kept
        return {way: to for way, to in ways.items() if look(MachinePath(f"/{way}")).kind is EntryKind.ABSENT}

    def _further_name(self, packed: PackedFile, file: PackageFile) -> PackageFile:
        """A further name of a file that came before it; the bytes are those of the first, here or in the package."""
        name = file.name if file.name != file.place.rpartition("/")[2] else packed.path.rpartition("/")[2]
        if not self._stands(msgspec.structs.replace(packed, size=file.size), file.sha256):
            with contextlib.suppress(UnreadableError), self._machine.open(MachinePath(f"/{file.place}")) as source:
                content = source.read_at(0, source.size) if source.size == file.size else b""
                if hashlib.sha256(content).hexdigest() == file.sha256:
                    self._keep(file.sha256, content)
        return msgspec.structs.replace(file, name=name, place=packed.path)

    def _described_file(self, packed: PackedFile, data: Readable) -> PackageFile:
        content = data.read(_MOST_BINARY) if packed.size <= _MOST_BINARY else b""
        digest = hashlib.sha256(content)
        while not content and (piece := data.read(_PIECE)):
            digest.update(piece)
        sha256 = digest.hexdigest()
        if (content or not packed.size) and not self._stands(packed, sha256):
            self._keep(sha256, content)
        return PackageFile(
            name=_own_name(content) or packed.path.rpartition("/")[2],
            base=Base.ROOT,
            place=packed.path,
            size=packed.size,
            sha256=sha256,
            executable=bool(packed.mode & 0o111),
            mode=packed.mode,
            owner=packed.owner,
            group=packed.group,
        )

    def _stands(self, packed: PackedFile, sha256: str) -> bool:
        """Whether the machine has these bytes there already."""
        path = MachinePath("/" + packed.path)
        if self._machine.look(path).size != packed.size:
            return False
        try:
            with self._machine.open(path) as source:
                return hashlib.sha256(source.read_at(0, source.size)).hexdigest() == sha256
        except (FundamenError, OSError):
            return False

    def _keep(self, sha256: str, content: bytes) -> None:
        keep_content(self._contents, sha256, content)


def _apply_diversion(packed: PackedFile, package: str, diverted: Mapping[str, tuple[str, str]]) -> PackedFile:
    """A member of a package at the place where the machine has it. Source: dpkg-divert(1)."""
    to, by = diverted.get(f"/{packed.path}", ("", package))
    return packed if by == package else msgspec.structs.replace(packed, path=to.lstrip("/"))


def _by_lost_way(packed: PackedFile, lost: Mapping[str, str]) -> PackedFile:
    """A member of a package at the place to which a lost link to its folder led."""
    way = next((way for way in lost if packed.path.startswith(f"{way}/")), "")
    return msgspec.structs.replace(packed, path=lost[way].lstrip("/") + packed.path[len(way) :]) if way else packed


def _apply_override(packed: PackedFile, overrides: Mapping[str, StatOverride]) -> PackedFile:
    """A member of a package as it is to be here. Source: dpkg-statoverride(1)."""
    other = overrides.get(f"/{packed.path}")
    if other is None or packed.link:
        return packed
    return msgspec.structs.replace(packed, mode=other.mode, owner=other.owner, group=other.group)


def _own_name(content: bytes) -> str | None:
    if not content.startswith(b"\x7fELF"):
        return None
    try:
        return read_binary(MemoryBytes(content)).name
    except UnreadableError:
        return None


def _serves(owner: Owner, architecture: Architecture) -> bool:
    return (
        owner.architecture == "all"
        or architecture is Architecture.ANY
        or _ARCHITECTURES.get(owner.architecture) is architecture
    )

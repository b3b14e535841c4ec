"""Installation media as a source: disc images, folders, install packages, archives, and what lies in one another.

A *unit* is what a publisher hands out as one: an install package, a cabinet, an archive, or a folder of loose files.
Which unit serves is recognised by what it is, its architecture, version and language, never by what it is called.

Guarantees: nothing on the media is run; a unit counts as proven only if its own publisher's signature, or that of a
container around it, is trusted, or if the technician typed the SHA-256 of the medium (in a folder: of the file); only
the files of units that are asked for are kept, under their digests.
"""

import contextlib
import hashlib
import os
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial
from typing import IO

import msgspec

from fundamen.formats.archives.container import Container, ContainerKind, find_container
from fundamen.formats.archives.packed import PackedFile, Readable, Unpacked
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import ByteSource, MemoryBytes, SharedFile, SourceStream
from fundamen.formats.managed.cli_header import read_managed
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, Format
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.package import Package, PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.sources.catalogue import Catalogue, ListedCatalogue, Source, SourceKind
from fundamen.sources.media_identity import Proof, Stated, identify, is_for_developers, place_of_packed
from fundamen.trust.digest import digest_of

_TELLS_PLACES = {ContainerKind.MSI, ContainerKind.DEBIAN}
_MOST_NESTING = 4
_MOST_BINARY = 256 << 20  # bytes that are looked at as a program or library
_PIECE = 1 << 20
_PROGRAMS = (b"MZ", b"\x7fELF")
_MAY_HOLD_FILES = (".msi", ".cab", ".zip", ".whl", ".deb", ".tar", ".gz", ".xz", ".bz2", ".zst", ".tgz", ".exe", ".iso")

_UNSIGNED_FOLDER = Proof("", say("sources.a-folder-is-not-signed"))

Prove = Callable[[ByteSource], Proof]  # what a file's own signature proves


class _Loose(msgspec.Struct, frozen=True):
    """One file of a unit, as it was seen when the medium was looked through."""

    packed: PackedFile
    binary: Binary | None  # None where it is neither program nor library
    language: int = 0  # of its version resource; 0 where it has none
    is_for_developers: bool = False  # a debug build, or only to compile against
    sha256: str = ""  # of a program or library
    strings: dict[str, str] = {}  # likewise
    version: str = ""


class _Whole(msgspec.Struct, frozen=True):
    """A folder or container that can be gone through more than once."""

    title: str  # where it lies on the medium
    kind: ContainerKind | None  # None: a folder, or a disc image, in which every folder is a unit of its own
    source: ByteSource | None  # None: a folder
    unpack: Callable[[], Unpacked]


class _Unit(msgspec.Struct, frozen=True):
    """A unit that a publisher distributes."""

    of: _Whole
    files: tuple[_Loose, ...]
    proof: Proof


class Media:
    """The offers of the media that the technician names, for a need."""

    def __init__(
        self, paths: Sequence[HostPath], digests: Iterable[str], prove: Prove, place: str, home: HostPath, now: datetime
    ) -> None:
        """Prepare to look.

        Args:
            paths: files and folders of this host.
            digests: SHA-256 of media that the technician vouches for.
            prove: says what a file's own signature proves.
            place: where loose files belong, as ``{program}`` or ``{system}/x``; empty for the platform's usual place.
            home: the folder of our own state.
            now: this moment.
        """
        self._paths = paths
        self._digests = set(digests)
        self._prove = prove
        self._place = place
        self._contents = os.path.join(home, "content")
        self._now = now
        self._open: list[IO[bytes]] = []
        self._stated: dict[Package, Stated] = {}
        self._claimed: list[ByteSource] = []  # cabinets that belong to a package or to another one beside them
        self._units: list[_Unit] | None = None

    def catalogue_of(
        self, names: Iterable[str], _paths: Iterable[MachinePath] = (), _architecture: Architecture | None = None
    ) -> Catalogue | None:
        """The units that hold a file of one of the names, each as a package; None where there is none.

        Raises:
            UnreadableError: a medium cannot be read, or is damaged.
        """
        wanted = {name.lower() for name in names}
        packages = [
            self._package(unit, loose)
            for unit in self._all_units()
            for loose in unit.files
            if wanted & _names_of(loose)
        ]
        source = Source("the media", "", "", self._now, kind=SourceKind.MEDIA)
        return (
            ListedCatalogue(source, tuple(dict.fromkeys(packages)), self._now + timedelta(days=1)) if packages else None
        )

    def packages(self) -> tuple[Package, ...]:
        """Every unit that holds a program or a library, as a package; their bytes are kept.

        Raises:
            UnreadableError: a medium cannot be read, or is damaged.
        """
        answering = ((unit, _main_file(unit.files)) for unit in self._all_units())
        return tuple(self._package(unit, loose) for unit, loose in answering if loose is not None)

    def stated_by(self, package: Package) -> Stated | None:
        """The statements of the install package that a given one is made from; None where there is none."""
        return self._stated.get(package)

    def content_of(self, file: PackageFile) -> HostPath:
        """Where the bytes of a file of a package lie that was given before."""
        return HostPath(os.path.join(self._contents, file.sha256))

    def _all_units(self) -> list[_Unit]:
        if self._units is None:
            self._units = [unit for path in self._paths for unit in self._units_at(path)]
        return self._units

    def _units_at(self, path: HostPath) -> Iterator[_Unit]:
        if os.path.isdir(path):
            whole = _Whole(printable(path), None, None, lambda: _folder_files(path))
            yield from self._units_in(whole, _UNSIGNED_FOLDER, 0)
            return
        try:
            source = FileBytes(path, os.path.basename(path))
        except OSError as error:
            raise UnreadableError(
                what=say("sources.the-medium-cannot-be-read", path=printable(path)),
                why=error.strerror or str(error),
                do=say("sources.name-a-file-or-folder-that"),
            ) from error
        container = find_container(source)
        if container is None and source.read_at(0, 4).startswith(_PROGRAMS):
            whole = _Whole(printable(path), None, None, lambda: _single_file(path))
            yield from self._units_in(whole, _UNSIGNED_FOLDER, 0)
            return
        if container is None:
            raise UnreadableError(
                what=say("sources.the-medium-cannot-be-used", path=printable(path)),
                why=say("sources.it-is-no-disc-image-install"),
                do=say("sources.name-the-medium-itself-or-the"),
            )
        proof = self._proof_of(source)
        container, proof = self._with_cabinets(container, source, proof, partial(_beside, path))
        yield from self._units_of(container, source, os.path.basename(path), proof, 0)

    def _proof_of(self, source: ByteSource) -> Proof:
        """The proof of a file by itself: the technician's word, or its own signature."""
        if self._digests and digest_of(source) in self._digests:
            return Proof(say("sources.the-medium-has-the-sha-256"), "")
        return self._prove(source)

    def _with_cabinets(
        self, container: Container, source: ByteSource, proof: Proof, beside: Callable[[str], ByteSource | None]
    ) -> tuple[Container, Proof]:
        """An install package, or the first cabinet of a set, with the cabinets beside it.

        Its own signature does not cover them.
        """
        if container.kind not in (ContainerKind.MSI, ContainerKind.CABINET):
            return container, proof
        try:
            found = _cabinets_of(container.kind, source, beside)
        except DamagedFileError:
            return container, proof  # unpacking says so
        others = {name: cabinet for name, cabinet in found.items() if cabinet is not source}
        self._claimed += others.values()
        for name, cabinet in others.items():
            if proof.is_proven and (own := self._proof_of(cabinet)).why:
                proof = Proof("", say("sources.its-cabinet-lies-beside-it", name=printable(name), why=own.why))
        if not others:
            return container, proof
        if container.kind is ContainerKind.MSI:
            from fundamen.formats.archives.msi_files import unpack_msi  # noqa: PLC0415 - only where one is met

            return Container(ContainerKind.MSI, lambda: unpack_msi(source, found)), proof
        from fundamen.formats.archives.cabinet_files import unpack_cabinet  # noqa: PLC0415 - likewise

        return Container(ContainerKind.CABINET, lambda: unpack_cabinet(*found.values())), proof

    def _units_of(
        self, container: Container, source: ByteSource, title: str, proof: Proof, depth: int
    ) -> Iterator[_Unit]:
        kind = None if container.kind is ContainerKind.DISC_IMAGE else container.kind
        yield from self._units_in(_Whole(title, kind, source, container.unpack), proof, depth)

    def _units_in(self, whole: _Whole, proof: Proof, depth: int) -> Iterator[_Unit]:
        """The units in a folder or container: containers in it, and the loose files, together or folder by folder."""
        loose: dict[str, list[_Loose]] = {}
        containers: dict[str, tuple[Container, ByteSource]] = {}
        for packed, data in whole.unpack():
            if packed.link or packed.same_as:
                continue
            if packed.path.lower().endswith(_MAY_HOLD_FILES) and depth < _MOST_NESTING:
                inner = self._spool(packed, data)
                if (found := find_container(inner)) is not None:
                    containers[packed.path] = (found, inner)
                    continue
                loose_data: Readable = SourceStream(inner)
            else:
                loose_data = data
            folder = "" if whole.kind is not None else packed.path.rpartition("/")[0]
            loose.setdefault(folder, []).append(_look_at(packed, loose_data))
        for folder, held in loose.items():
            where = f"{whole.title}: {folder}" if folder else whole.title
            titled = msgspec.structs.replace(whole, title=where)
            vouched = tuple(each for each in held if not proof.is_proven and each.sha256 in self._digests)
            if vouched:
                yield _Unit(titled, vouched, Proof(say("sources.the-file-has-the-sha-256"), ""))
            if others := tuple(each for each in held if each not in vouched):
                yield _Unit(titled, others, proof)
        packages_first = sorted(containers.items(), key=lambda each: each[1][0].kind is not ContainerKind.MSI)
        for path, (container, source) in packages_first:
            if any(source is each for each in self._claimed):
                continue
            own = proof if proof.is_proven else self._proof_of(source)
            lying = {name.lower(): held for name, (_, held) in containers.items()}
            beside = partial(_lying_beside, lying, path.rpartition("/")[0])
            container, inside = self._with_cabinets(container, source, own, beside)  # noqa: PLW2901
            own = own if proof.is_proven else inside
            with contextlib.suppress(DamagedFileError):  # one damaged package does not hide the others
                yield from self._units_of(container, source, f"{whole.title}: {path}", own, depth + 1)

    def _spool(self, packed: PackedFile, data: Readable) -> ByteSource:
        """A file that may hold others, copied where it can be read at any place; it is gone with this process."""
        file = tempfile.TemporaryFile(dir=self._folder())  # noqa: SIM115 - open as long as we may come back to it
        self._open.append(file)
        left = packed.size
        while left > 0 and (piece := data.read(min(_PIECE, left))):
            file.write(piece)
            left -= len(piece)
        file.flush()
        return SharedFile(file, packed.path.rpartition("/")[2], packed.size - left)

    def _folder(self) -> str:
        os.makedirs(self._contents, exist_ok=True)
        return self._contents

    def _package(self, unit: _Unit, answering: _Loose) -> Package:
        """A unit as a package; the bytes of its files are kept on the way."""
        assert answering.binary is not None  # noqa: S101 - only programs and libraries answer
        identity = identify(
            unit.of.title, unit.of.kind, unit.of.source, answering.strings, answering.version, answering.language
        )
        binary = answering.binary
        platform = {Format.ELF: Platform.LINUX, Format.MACHO: Platform.MACOS}.get(binary.format, Platform.WINDOWS)
        by_path = {loose.packed.path: loose for loose in unit.files}
        # Where no package tells the places, what is below the folder of the needed file lies as it is meant to lie.
        folder = "" if unit.of.kind in _TELLS_PLACES else answering.packed.path.rpartition("/")[0]
        files = [
            self._keep_file(unit, platform, loose, folder, data)
            for packed, data in unit.of.unpack()
            if (loose := by_path.get(packed.path)) is not None
            and (not folder or packed.path.startswith(f"{folder}/"))
            and (loose.binary is None or loose.binary.architecture.is_of_set(binary.architecture))
        ]
        package = Package(
            publisher=unit.proof.publisher or identity.publisher,
            name=identity.name,
            version=identity.version,
            platform=platform,
            architecture=binary.architecture,
            files=tuple(files),
            language=identity.language,
            is_for_developers=answering.is_for_developers or is_for_developers(identity.name, unit.of.title),
            proven_by=unit.proof.how,
            unproven=None if unit.proof.is_proven else unit.proof.why,
        )
        if identity.stated is not None:
            self._stated[package] = identity.stated
        return package

    def _keep_file(self, unit: _Unit, platform: Platform, loose: _Loose, folder: str, data: Readable) -> PackageFile:
        state = hashlib.sha256()
        with tempfile.NamedTemporaryFile(dir=self._folder(), delete=False) as file:
            while piece := data.read(_PIECE):
                state.update(piece)
                file.write(piece)
        os.replace(file.name, os.path.join(self._contents, state.hexdigest()))
        base, place = place_of_packed(loose.packed.path, unit.of.kind, folder, platform, self._place)
        return PackageFile(
            name=(loose.binary.name if loose.binary else None) or loose.packed.path.rpartition("/")[2],
            base=base,
            place=place,
            size=loose.packed.size,
            sha256=state.hexdigest(),
            executable=bool(loose.packed.mode & 0o111),
        )


def _cabinets_of(
    kind: ContainerKind, source: ByteSource, beside: Callable[[str], ByteSource | None]
) -> dict[str, ByteSource]:
    """The cabinets that belong to a package or a cabinet, by their names in lower case, in their order."""
    if kind is ContainerKind.CABINET:
        from fundamen.formats.archives.cabinet import cabinets_of_set  # noqa: PLC0415 - only where one is met

        return {cabinet.name.lower(): cabinet for cabinet in cabinets_of_set(source, beside)}
    from fundamen.formats.archives.msi_files import cabinets_beside  # noqa: PLC0415 - likewise

    return {name.lower(): cabinet for name in cabinets_beside(source) if (cabinet := beside(name)) is not None}


def _beside(path: HostPath, name: str) -> ByteSource | None:
    """A cabinet that lies beside a package on this host; None where there is none of the name."""
    cabinet = HostPath(os.path.join(os.path.dirname(path), os.path.basename(name.replace("\\", "/"))))
    return FileBytes(cabinet, name) if os.path.isfile(cabinet) else None


def _lying_beside(lying: Mapping[str, ByteSource], folder: str, name: str) -> ByteSource | None:
    """The same on a medium."""
    return lying.get(f"{folder}/{name}".lstrip("/").lower())


def _folder_files(folder: HostPath) -> Iterator[tuple[PackedFile, Readable]]:
    """All files of a folder; links are not followed."""
    for parent, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(parent, name)
            if os.path.islink(path) or not os.path.isfile(path):
                continue
            relative = os.path.relpath(path, folder).replace(os.sep, "/")
            with open(path, "rb") as data:
                yield PackedFile(relative, 0o644, os.path.getsize(path)), data


def _single_file(path: HostPath) -> Iterator[tuple[PackedFile, Readable]]:
    """A program or library that is named by itself."""
    with open(path, "rb") as data:
        yield PackedFile(os.path.basename(path), 0o644, os.path.getsize(path)), data


def _look_at(packed: PackedFile, data: Readable) -> _Loose:
    """Read a loose file; only programs and libraries are read as a whole."""
    head = data.read(4)
    if not head.startswith(_PROGRAMS) or packed.size > _MOST_BINARY:
        return _Loose(packed, None)
    source = MemoryBytes(head + data.read(_MOST_BINARY), packed.path)
    try:
        binary = read_binary(source)
    except UnreadableError:
        return _Loose(packed, None)
    loose = _Loose(packed, binary, sha256=digest_of(source))
    if isinstance(binary, Pe):
        with contextlib.suppress(DamagedFileError):
            managed = read_managed(source, binary)
            is_reference = managed is not None and managed.is_reference
            loose = msgspec.structs.replace(loose, is_for_developers=is_reference)
            version = read_version(source, binary)
            if version is not None:
                return msgspec.structs.replace(
                    loose,
                    language=version.language,
                    is_for_developers=is_reference or version.is_debug,
                    strings=version.strings,
                    version=version.product_version or version.file_version or "",
                )
    return loose


def _main_file(files: Sequence[_Loose]) -> _Loose | None:
    """The file that tells what a unit is: the first program or library, of the set's main architecture."""
    answering = [loose for loose in files if _names_of(loose)]
    others = (loose for loose in answering if loose.binary and loose.binary.architecture is not Architecture.ARM64EC)
    return next(others, answering[0] if answering else None)


def _names_of(loose: _Loose) -> set[str]:
    """Names of a file in needs; only an intact program or library has any."""
    if loose.binary is None or not loose.binary.is_intact:
        return set()
    return {name.lower() for name in (loose.binary.name, loose.packed.path.rpartition("/")[2]) if name}

"""The packager's side: take a publisher's files in, describe them, and sign the catalogue.

The catalogue is a repository after The Update Framework's specification, with consistent snapshots; each role has one
ed25519 key of its own in the packager's key folder.
"""

import hashlib
import os
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import TypeVar

import msgspec
from cryptography.hazmat.primitives.serialization import load_pem_private_key
from securesystemslib.signer import CryptoSigner
from tuf.api.exceptions import RepositoryError
from tuf.api.metadata import Metadata, Root, Snapshot, TargetFile, Targets, Timestamp
from tuf.api.serialization.json import JSONSerializer

from fundamen.formats.binary import read_binary
from fundamen.formats.elf import Elf
from fundamen.machine.file_bytes import FileBytes
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, Kind
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.package import NEUTRAL, Base, Package, PackageFile
from fundamen.model.paths import HostPath, shown
from fundamen.sources.layout import METADATA, PACKAGES, content_path, place_parts, root_fingerprint
from fundamen.sources.media_identity import read_place
from fundamen.sources.writing import copy_whole, write_whole

_ROLES = ("root", "targets", "snapshot", "timestamp")
_ROOT_LIFE = timedelta(days=3650)
_MOST_FILES = 100_000

_Statement = TypeVar("_Statement", Targets, Snapshot, Timestamp)
_Signed = TypeVar("_Signed", Root, Targets, Snapshot, Timestamp)


class Identity(msgspec.Struct, frozen=True):
    """What the packager says of a package; what the files themselves say is read from them."""

    publisher: str
    name: str
    version: str
    language: str = NEUTRAL


class Publication(msgspec.Struct, frozen=True):
    """What was published, and the fingerprint that technicians are told."""

    package: Package
    fingerprint: str
    expires_at: datetime


def publish(
    location: HostPath,
    media: HostPath,
    identity: Identity,
    place: str,
    keys: HostPath,
    expires_at: datetime,
) -> Publication:
    """Take a folder of a publisher's files into a source as one package, and sign the catalogue anew.

    A source that is not there yet is made, and with it the keys.

    Args:
        location: the source's folder.
        media: the folder with the publisher's files; subfolders keep their shape below ``place``.
        identity: whose package it is.
        place: where the files belong: ``{program}``, ``{system}`` or ``{root}``, then a path, such as
            ``{program}/../lib``.
        keys: the packager's key folder.
        expires_at: when the signatures over the catalogue end.

    Raises:
        UsageError: the place is none, or the files are not for one platform and architecture.
        UnreadableError: a file or key cannot be read, or the source cannot be written.
    """
    package = describe(media, identity, place)
    try:
        for file, path in zip(package.files, _files_below(media), strict=True):
            _take_in(path, file, content_path(location, file.sha256))
        repository = _Repository(location, keys, expires_at)
        repository.add(package)
        return Publication(package, repository.fingerprint(), expires_at)
    except OSError as error:
        raise UnreadableError(
            what=f"The source {shown(location)} cannot be published to",
            why=f"{error.filename}: {error.strerror}",
            do="Make the folder writable and make sure there is room; then publish again.",
        ) from error


def describe(media: HostPath, identity: Identity, place: str) -> Package:
    """Describe a folder of a publisher's files as a package, from what the files themselves say.

    Raises:
        UsageError: there are no files, the place is none, or they are not for one platform and architecture.
    """
    base, below = read_place(place)
    files: list[PackageFile] = []
    targets: set[tuple[Platform, Architecture]] = set()
    for path in _files_below(media):
        binary = _binary(path)
        if binary is not None and binary.problems:
            raise UnreadableError(
                what=f"{shown(path)} cannot be published",
                why=f"it is damaged: {binary.problems[0].place}: {binary.problems[0].reason}",
                do="Take the publisher's files in from intact media.",
            )
        if binary is not None:
            platform = Platform.LINUX if isinstance(binary, Elf) else Platform.WINDOWS
            targets.add((platform, binary.architecture))
        files.append(_describe_file(path, binary, base, "/".join(filter(None, (below, _relative(path, media))))))
    if len(targets) > 1:  # code for any processor may lie beside code for one
        targets = {target for target in targets if target[1] is not Architecture.ANY}
    if len(targets) != 1 or len(files) > _MOST_FILES:
        found = ", ".join(sorted(f"{platform} {architecture}" for platform, architecture in targets)) or "none"
        raise UsageError(
            what=f"{shown(media)} cannot be published as one package",
            why=f"its programs and libraries must be for one platform and architecture; found: {found}",
            do="Publish each platform and architecture from a folder of its own.",
        )
    [(platform, architecture)] = targets
    return Package(
        publisher=identity.publisher,
        name=identity.name,
        version=identity.version,
        platform=platform,
        architecture=architecture,
        files=tuple(files),
        language=identity.language,
    )


def _describe_file(path: HostPath, binary: Binary | None, base: Base, place: str) -> PackageFile:
    with open(path, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    described = PackageFile(
        name=(binary.name if binary is not None else None) or os.path.basename(path),
        base=base,
        place=place,
        size=os.path.getsize(path),
        sha256=digest,
        executable=binary is not None and binary.kind is Kind.PROGRAM,
    )
    place_parts(described)
    return described


def _binary(path: HostPath) -> Binary | None:
    """The file as a program or library; None where it is neither."""
    with FileBytes(path, path) as source:
        try:
            return read_binary(source)
        except UnreadableError:
            return None


def _files_below(folder: HostPath) -> Iterator[HostPath]:
    for parent, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(parent, name)
            if os.path.isfile(path) and not os.path.islink(path):
                yield HostPath(path)


def _relative(path: HostPath, folder: HostPath) -> str:
    return os.path.relpath(path, folder).replace(os.sep, "/")


def _take_in(path: HostPath, file: PackageFile, target: HostPath) -> None:
    """Store a file's bytes under their digest, unless they are there. Raises: OSError: they have changed meanwhile."""
    if not os.path.exists(target) and copy_whole(path, target, file.size + 1) != file.sha256:
        os.unlink(target)
        raise OSError(0, "it changed while it was being published", path)


class _Repository:
    """The signed statements of a source, as its packager changes them."""

    def __init__(self, location: HostPath, keys: HostPath, expires_at: datetime) -> None:
        self._location = location
        self._folder = os.path.join(location, METADATA)
        self._expires_at = expires_at.replace(microsecond=0)
        is_new = not os.path.isdir(self._folder)
        self._signers = {role: _signer(keys, role, make=is_new) for role in _ROLES}
        if is_new:
            self._make_root()

    def fingerprint(self) -> str:
        """The fingerprint of the first root: the one that technicians trust, also after the root was renewed."""
        with open(os.path.join(self._folder, "1.root.json"), "rb") as file:
            return root_fingerprint(file.read())

    def add(self, package: Package) -> None:
        """Write a package's description and sign targets, snapshot and timestamp, in this order.

        Whoever reads meanwhile sees the old catalogue whole: the timestamp, which leads to all else, comes last.
        """
        data = msgspec.json.format(msgspec.json.encode(package), indent=1)
        path = _description_path(package)
        target = TargetFile.from_data(path, data, ["sha256"])
        parent, _, name = path.rpartition("/")
        self._write(os.path.join(PACKAGES, parent, f"{target.hashes['sha256']}.{name}"), data)

        targets = self._next("targets", Targets)
        targets.targets[path] = target
        self._write_signed(f"{targets.version}.targets.json", "targets", targets)
        snapshot = self._next("snapshot", Snapshot)
        snapshot.meta["targets.json"].version = targets.version
        self._write_signed(f"{snapshot.version}.snapshot.json", "snapshot", snapshot)
        timestamp = self._next("timestamp", Timestamp)
        timestamp.snapshot_meta.version = snapshot.version
        self._write_signed("timestamp.json", "timestamp", timestamp)

    def _make_root(self) -> None:
        root = Root(version=1, expires=self._expires_at + _ROOT_LIFE, consistent_snapshot=True)
        for role, signer in self._signers.items():
            root.add_key(signer.public_key, role)
        self._write_signed("1.root.json", "root", root)

    def _next(self, role: str, kind: type[_Statement]) -> _Statement:
        """The statement that follows the role's current one; the first where there is none."""
        name = "timestamp.json" if role == "timestamp" else self._newest(role)
        path = os.path.join(self._folder, name or "")
        if name is None or not os.path.exists(path):
            return kind(expires=self._expires_at)
        try:
            statement = Metadata[kind].from_file(path).signed  # type: ignore[valid-type]
        except RepositoryError as error:
            raise UnreadableError(
                what=f"The source {shown(self._location)} cannot be published to",
                why=f"its {role} statement cannot be read: {error}",
                do="Bring back the source's last good copy, then publish again.",
            ) from error
        assert isinstance(statement, kind)  # noqa: S101 - the file name says so, and Metadata[kind] has checked it
        statement.version += 1
        statement.expires = self._expires_at
        return statement

    def _newest(self, role: str) -> str | None:
        suffix = f".{role}.json"
        versions = [n.removesuffix(suffix) for n in os.listdir(self._folder) if n.endswith(suffix)]
        newest = max((int(version) for version in versions if version.isdigit()), default=None)
        return None if newest is None else f"{newest}{suffix}"

    def _write_signed(self, name: str, role: str, statement: _Signed) -> None:
        metadata: Metadata[_Signed] = Metadata(statement)
        metadata.sign(self._signers[role])
        self._write(os.path.join(METADATA, name), metadata.to_bytes(JSONSerializer(compact=False)))

    def _write(self, relative: str, data: bytes) -> None:
        write_whole(os.path.join(self._location, relative), data)


def _description_path(package: Package) -> str:
    words = (package.publisher, package.name, package.version)
    folder = "/".join("".join(c if c.isalnum() or c in ".-" else "-" for c in word.lower()) for word in words)
    return f"{folder}/{package.platform}-{package.architecture}-{package.language}.json"


def _signer(keys: HostPath, role: str, *, make: bool) -> CryptoSigner:
    """The key of a role, made where the source is new. Raises: UnreadableError: it is not there or is no key."""
    path = os.path.join(keys, f"{role}.pem")
    try:
        if make and not os.path.exists(path):
            os.makedirs(keys, mode=0o700, exist_ok=True)
            signer = CryptoSigner.generate_ed25519()
            with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
                file.write(signer.private_bytes)
            return signer
        with open(path, "rb") as file:
            return CryptoSigner(load_pem_private_key(file.read(), None))
    except (OSError, ValueError, TypeError) as error:
        raise UnreadableError(
            what=f"The {role} key of the source cannot be used",
            why=f"{shown(path)}: {error}",
            do="Name the folder with the keys that the source was made with: --keys FOLDER.",
        ) from error

"""The signed statements of a source, as its packager changes them.

They are a repository after The Update Framework's specification, with consistent snapshots. Each role has one or more
ed25519 keys, ``ROLE.pem``, ``ROLE-2.pem`` and so on, in the packager's key folders; as many as the root asks for must
be available to sign. The root's own keys are needed only to make a source and to change keys: they can stay offline.

Guarantee: a reader sees, while something is written, the old catalogue whole, for the timestamp, which leads to all
else, comes last.
"""

import os
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import TypeVar

import msgspec
from cryptography.hazmat.primitives.serialization import load_pem_private_key
from securesystemslib.signer import CryptoSigner
from tuf.api.exceptions import RepositoryError
from tuf.api.metadata import Metadata, Root, Snapshot, TargetFile, Targets, Timestamp
from tuf.api.serialization.json import JSONSerializer

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.package import Package
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole, written_whole
from fundamen.sources.layout import METADATA, PACKAGES, is_shard, packed_shard, read_shard, root_fingerprint, shard_path

ROLES = ("root", "targets", "snapshot", "timestamp")
_ROOT_LIFE = timedelta(days=3650)
_MOST_KEYS = 20

_Statement = TypeVar("_Statement", Targets, Snapshot, Timestamp)
_Signed = TypeVar("_Signed", Root, Targets, Snapshot, Timestamp)


class Repository:
    """One source, open for changes."""

    def __init__(
        self,
        location: HostPath,
        keys: Sequence[HostPath],
        expires_at: datetime,
        thresholds: dict[str, int] | None = None,
    ) -> None:
        """Open a source, or make it with new keys where there is none yet.

        Args:
            location: the source's folder.
            keys: the packager's key folders; new keys go into the first.
            expires_at: when the signatures over the catalogue end.
            thresholds: of a new source: how many keys each role has, all of which must sign; one where it is not
            listed.

        Raises:
            UsageError: thresholds are named for a source that is there already.
            UnreadableError: a key or statement cannot be read or written.
        """
        self._location = location
        self._keys = keys
        self._folder = os.path.join(location, METADATA)
        self._expires_at = expires_at.replace(microsecond=0)
        if not os.path.isdir(self._folder):
            self._make(thresholds or {})
        elif thresholds:
            raise UsageError(
                what=say("sources.the-keys-of-the-source-are", location=printable(location)),
                why=say("sources.how-many-keys-a-role-has"),
                do=say("sources.replace-a-key-with-fundamen-sources"),
            )

    def fingerprint(self) -> str:
        """The fingerprint of the first root: the one that technicians trust, also after the root was renewed."""
        with open(os.path.join(self._folder, "1.root.json"), "rb") as file:
            return root_fingerprint(file.read())

    def add(self, *packages: Package, because: str = "") -> None:
        """Write packages' descriptions, and sign what leads to them.

        Args:
            packages: as they are to be.
            because: why they take the place of others with the same names and versions; technicians see it.

        Raises:
            UsageError: the source has one already with other files, and no one says why it is replaced.
        """
        self._put({identity_of(package): package for package in packages}, because)

    def carry(self, documents: Mapping[str, bytes]) -> None:
        """Take documents in, each in place of the one of its path (``layout.document_path``), and sign."""
        targets = self._next("targets", Targets)
        for path, data in documents.items():
            target = TargetFile.from_data(path, data, ["sha256"])
            self._write(self._shard_file(path, target), data)
            targets.targets[path] = target
        self._sign_all(targets)

    def withdraw(self, name: str, version: str, reason: str) -> tuple[Package, ...]:
        """Mark all packages of a name and version as withdrawn, and give them as they are now.

        Raises:
            UsageError: there is none.
            UnreadableError: a description cannot be read.
        """
        targets = self._next("targets", Targets).targets
        found = [
            msgspec.structs.replace(package, withdrawn=reason)
            for path, target in targets.items()
            if is_shard(path)
            for package in self._shard(path, target)
            if package.name == name and package.version == version
        ]
        if not found:
            raise UsageError(
                what=say("sources.cannot-be-withdrawn", name=printable(name), version=printable(version)),
                why=say("sources.the-source-has-no-package-of"),
                do=say("sources.see-what-it-has-with-fundamen"),
            )
        self.add(*found)
        return tuple(found)

    def renew(self) -> None:
        """Sign the catalogue as it is for the new time."""
        self._sign_all(self._next("targets", Targets))

    def rotate(self, role: str) -> None:
        """Give a role new keys, as many as it has now; the old ones count no longer.

        The root's next version is signed with the old and the new keys of the root (specification, section 6.1). The
        statements are signed with both the old and the new keys of the role first, where the old ones are available: so
        they hold under the old root and under the new one, whichever a reader meets.
        """
        root = self._root().signed
        old = {each: self._signers(each, root) for each in ROLES if each != role or role == "root"}
        replaced = self._at_hand(role)
        new = self._make_keys(role, len(root.roles[role].keyids), replace=True)
        old[role] = [each for each in replaced if each.public_key.keyid in root.roles[role].keyids] + new
        if role != "root":
            self._sign_all(self._next("targets", Targets), old)
        for keyid in list(root.roles[role].keyids):
            root.revoke_key(keyid, role)
        for signer in new:
            root.add_key(signer.public_key, role)
        root.version += 1
        root.expires = self._expires_at + _ROOT_LIFE
        self._write_signed(f"{root.version}.root.json", root, old["root"])

    def _make(self, thresholds: dict[str, int]) -> None:
        root = Root(version=1, expires=self._expires_at + _ROOT_LIFE, consistent_snapshot=True)
        for role in ROLES:
            signers = self._make_keys(role, thresholds.get(role, 1), replace=False)
            for signer in signers:
                root.add_key(signer.public_key, role)
            root.roles[role].threshold = len(signers)
        self._write_signed("1.root.json", root, self._signers("root", root))

    def _put(self, packages: Mapping[str, Package], because: str) -> None:
        """Put packages into their shards, each in place of the one with its identity."""
        targets = self._next("targets", Targets)
        shards: dict[str, dict[str, Package]] = {}
        for identity, package in packages.items():
            shards.setdefault(shard_path(identity), {})[identity] = package
        for path, new in shards.items():
            known = targets.targets.get(path)
            old = {identity_of(each): each for each in self._shard(path, known)} if known is not None else {}
            merged = {**old, **{key: _replace_package(old.get(key), each, because) for key, each in new.items()}}
            data = packed_shard(merged[identity] for identity in sorted(merged))
            target = TargetFile.from_data(path, data, ["sha256"])
            self._write(self._shard_file(path, target), data)
            targets.targets[path] = target
        self._sign_all(targets)

    def _shard(self, path: str, target: TargetFile) -> tuple[Package, ...]:
        file_path = os.path.join(self._location, self._shard_file(path, target))
        try:
            with open(file_path, "rb") as file:
                return read_shard(file.read(), path)
        except OSError as error:
            raise _unreadable(self._location, f"{printable(file_path)}: {error.strerror}") from error

    @staticmethod
    def _shard_file(path: str, target: TargetFile) -> str:
        return os.path.join(PACKAGES, f"{target.hashes['sha256']}.{path}")

    def _sign_all(self, targets: Targets, signers: Mapping[str, Sequence[CryptoSigner]] | None = None) -> None:
        root = self._root().signed
        snapshot = self._next("snapshot", Snapshot)
        timestamp = self._next("timestamp", Timestamp)
        if signers is None:
            signers = {role: self._signers(role, root) for role in ROLES[1:]}  # all of them before anything is written
        self._write_signed(f"{targets.version}.targets.json", targets, signers["targets"])
        snapshot.meta["targets.json"].version = targets.version
        self._write_signed(f"{snapshot.version}.snapshot.json", snapshot, signers["snapshot"])
        timestamp.snapshot_meta.version = snapshot.version
        self._write_signed("timestamp.json", timestamp, signers["timestamp"])

    def _root(self) -> Metadata[Root]:
        try:
            return Metadata[Root].from_file(os.path.join(self._folder, self._newest("root") or "1.root.json"))
        except RepositoryError as error:
            raise _unreadable(self._location, say("sources.its-root-statement-cannot-be-read", error=error)) from error

    def _next(self, role: str, kind: type[_Statement]) -> _Statement:
        """The statement that follows the role's current one; the first where there is none."""
        name = "timestamp.json" if role == "timestamp" else self._newest(role)
        path = os.path.join(self._folder, name or "")
        if name is None or not os.path.exists(path):
            return kind(expires=self._expires_at)
        try:
            statement = Metadata[kind].from_file(path).signed  # type: ignore[valid-type]
        except RepositoryError as error:
            raise _unreadable(
                self._location, say("sources.its-statement-cannot-be-read", role=role, error=error)
            ) from error
        assert isinstance(statement, kind)  # noqa: S101 - the file name says so, and Metadata[kind] has checked it
        statement.version += 1
        statement.expires = self._expires_at
        return statement

    def _newest(self, role: str) -> str | None:
        suffix = f".{role}.json"
        versions = [n.removesuffix(suffix) for n in os.listdir(self._folder) if n.endswith(suffix)]
        newest = max((int(version) for version in versions if version.isdecimal()), default=None)
        return None if newest is None else f"{newest}{suffix}"

    def _signers(self, role: str, root: Root) -> list[CryptoSigner]:
        """The keys of a role that are available and count. Raises: UnreadableError: they are too few."""
        wanted = root.roles[role]
        found = [signer for signer in self._at_hand(role) if signer.public_key.keyid in wanted.keyids]
        if len(found) < wanted.threshold:
            raise UnreadableError(
                what=say("sources.the-source-cannot-be-signed", location=printable(self._location)),
                why=say(
                    "sources.its-role-asks-for-of-its",
                    role=role,
                    threshold=wanted.threshold,
                    count=len(found),
                    value="; ".join(
                        say("sources.has", folder=printable(folder), held_roles=self._held_roles(folder))
                        for folder in self._keys
                    ),
                ),
                do=say("sources.name-the-folder-with-the-source", role=role),
            )
        return found

    def _held_roles(self, folder: str) -> str:
        """The roles of which a folder has keys, in words."""
        found = [role for role in ROLES if any(os.path.dirname(path) == folder for path in self._paths_at_hand(role))]
        return say("sources.keys-of", found=", ".join(found)) if found else "no key"

    def _at_hand(self, role: str) -> list[CryptoSigner]:
        return [_read_key(path) for path in self._paths_at_hand(role)]

    def _paths_at_hand(self, role: str) -> list[str]:
        names = [f"{role}.pem", *(f"{role}-{number}.pem" for number in range(2, _MOST_KEYS))]
        paths = [os.path.join(folder, name) for folder in self._keys for name in names]
        return [path for path in paths if os.path.exists(path)]

    def _make_keys(self, role: str, count: int, *, replace: bool) -> list[CryptoSigner]:
        """New keys of a role; what replaces a key that lies there keeps it under another name."""
        signers = []
        for number in range(1, count + 1):
            name = f"{role}.pem" if number == 1 else f"{role}-{number}.pem"
            path = self._place_of(name)
            if os.path.exists(path) and not replace:
                signers.append(_read_key(path))
                continue
            signers.append(_make_key(path))
        return signers

    def _place_of(self, name: str) -> str:
        """Where a key lies, or belongs: the new one of a role lies where its old one did."""
        paths = [os.path.join(folder, name) for folder in self._keys]
        return next(filter(os.path.exists, paths), paths[0])

    def keys(self) -> dict[str, tuple[str, ...]]:
        """The key files that were found for each role."""
        return {role: tuple(self._paths_at_hand(role)) for role in ROLES}

    def _write_signed(self, name: str, statement: _Signed, signers: Sequence[CryptoSigner]) -> None:
        metadata: Metadata[_Signed] = Metadata(statement)
        for signer in signers:
            metadata.sign(signer, append=True)
        self._write(os.path.join(METADATA, name), metadata.to_bytes(JSONSerializer(compact=False)))

    def _write(self, relative: str, data: bytes) -> None:
        write_whole(os.path.join(self._location, relative), data)


def _replace_package(old: Package | None, new: Package, because: str) -> Package:
    """A package in place of another with the same identity. Raises: UsageError: other files, and no reason for it."""
    if old is None or {f.sha256 for f in old.files} == {f.sha256 for f in new.files}:
        return new
    if not because.strip():
        raise UsageError(
            what=say("sources.is-not-published", title=new.title),
            why=say("sources.the-source-has-it-already-with"),
            do=say("sources.publish-it-under-a-version-of"),
        )
    replacement = say("sources.it-takes-the-place-of-one", because=because)
    return msgspec.structs.replace(new, proven_by="; ".join(filter(None, (new.proven_by, replacement))))


def identity_of(package: Package) -> str:
    """The identity of a package; another description with the same identity replaces it."""
    words = [package.publisher, package.name, package.version, package.platform, package.architecture, package.language]
    if package.is_for_developers:
        words.append("for developers")
    return "\n".join(words)


def _make_key(path: str) -> CryptoSigner:
    try:
        os.makedirs(os.path.dirname(path), mode=0o700, exist_ok=True)
        signer = CryptoSigner.generate_ed25519()
        with written_whole(path, 0o600) as file:
            file.write(signer.private_bytes)
            if os.path.exists(path):
                os.link(path, _free(path))  # so that at no moment there is none
    except OSError as error:
        raise _unusable(path, error) from error
    return signer


def _free(path: str) -> str:
    number = 1
    while os.path.exists(f"{path}.retired-{number}"):
        number += 1
    return f"{path}.retired-{number}"


def _read_key(path: str) -> CryptoSigner:
    try:
        with open(path, "rb") as file:
            return CryptoSigner(load_pem_private_key(file.read(), None))
    except (OSError, ValueError, TypeError) as error:
        raise _unusable(path, error) from error


def _unusable(path: str, error: Exception) -> UnreadableError:
    return UnreadableError(
        what=say("sources.a-key-of-the-source-cannot"),
        why=f"{printable(path)}: {error}",
        do=say("sources.name-the-folder-with-the-keys"),
    )


def _unreadable(location: HostPath, why: str) -> UnreadableError:
    return UnreadableError(
        what=say("sources.the-source-cannot-be-changed", location=printable(location)),
        why=why,
        do=say("sources.bring-back-the-source-last-good"),
    )

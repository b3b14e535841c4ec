"""Bring a source's catalogue in, believing nothing that its signatures do not prove.

The proofs are those of The Update Framework's client workflow (specification, section 5), done by python-tuf.
"""

import os
from collections.abc import Iterator
from datetime import datetime

import msgspec
from tuf.api.exceptions import (
    BadVersionNumberError,
    DownloadError,
    DownloadHTTPError,
    DownloadLengthMismatchError,
    ExpiredMetadataError,
    LengthOrHashMismatchError,
    RepositoryError,
    UnsignedMetadataError,
)
from tuf.api.metadata import Metadata, Snapshot, Targets, Timestamp
from tuf.ngclient import Updater, UpdaterConfig
from tuf.ngclient.fetcher import FetcherInterface

from fundamen.model.errors import FundamenError, UnreadableError, UntrustedError
from fundamen.model.package import Package
from fundamen.model.paths import HostPath, shown
from fundamen.sources.layout import METADATA, PACKAGES, read_package, require_source

_PIECE = 1 << 18  # bytes
_NOT_FOUND = 404
_MOST_METADATA = 64 << 20  # bytes; a catalogue of 20,000 packages takes about 6 MB


class Verified(msgspec.Struct, frozen=True):
    """A source's catalogue, every word of it proven."""

    packages: tuple[Package, ...]
    expires_at: datetime


class _FolderFetcher(FetcherInterface):
    """Gives python-tuf the files of a folder as if they were served."""

    def _fetch(self, url: str) -> Iterator[bytes]:
        try:
            with open(url, "rb") as file:
                while piece := file.read(_PIECE):
                    yield piece
        except FileNotFoundError as error:
            raise DownloadHTTPError(f"{url} is not there", _NOT_FOUND) from error
        except OSError as error:
            raise DownloadError(f"{url}: {error.strerror}") from error


def bring_in(name: str, location: HostPath, root: bytes, state: HostPath) -> Verified:
    """Check a source's statements and descriptions from the trusted root on, and give all its packages.

    Args:
        name: the source's name, for messages.
        location: the source's folder.
        root: the root statement that the technician trusted by its fingerprint.
        state: a folder of ours, where the proven statements are kept; it is what protects from rollback.

    Raises:
        UntrustedError: a proof failed; the message says which.
        UnreadableError: the source is not there, or is not complete.
    """
    require_source(location)
    metadata, packages = os.path.join(state, METADATA), os.path.join(state, PACKAGES)
    for folder in (metadata, packages):
        os.makedirs(folder, exist_ok=True)
    try:
        updater = Updater(
            metadata_dir=metadata,
            metadata_base_url=os.path.join(location, METADATA),
            target_dir=packages,
            target_base_url=os.path.join(location, PACKAGES),
            fetcher=_FolderFetcher(),
            config=UpdaterConfig(targets_max_length=_MOST_METADATA),
            bootstrap=root,
        )
        updater.refresh()
        targets = Metadata[Targets].from_file(os.path.join(metadata, "targets.json")).signed
        descriptions = tuple(_description(updater, path) for path in sorted(targets.targets))
        return Verified(descriptions, _expiry(metadata, targets))
    except (RepositoryError, DownloadError) as error:
        raise _refusal(name, error) from error
    except OSError as error:
        raise UnreadableError(
            what=f"The source {shown(name)} cannot be brought in",
            why=f"{error.filename or state}: {error.strerror}",
            do="Make room, or make the folder writable, and try again.",
        ) from error


def _description(updater: Updater, path: str) -> Package:
    target = updater.get_targetinfo(path)
    assert target is not None  # noqa: S101 - the path was just read from the same statement
    local = updater.find_cached_target(target) or updater.download_target(target)
    with open(local, "rb") as file:
        return read_package(file.read(), path)


def _expiry(metadata: str, targets: Targets) -> datetime:
    snapshot = Metadata[Snapshot].from_file(os.path.join(metadata, "snapshot.json")).signed
    timestamp = Metadata[Timestamp].from_file(os.path.join(metadata, "timestamp.json")).signed
    return min(targets.expires, snapshot.expires, timestamp.expires)


# The most telling class first: some are subclasses of others.
_PROOFS: tuple[tuple[type[Exception], str, str], ...] = (
    (
        ExpiredMetadataError,
        "the catalogue has expired",
        "Ask the packager to sign it anew, and check this host's clock.",
    ),
    (
        UnsignedMetadataError,
        "the catalogue is not signed by the keys that its root trusts",
        "Do not use this copy. Ask the packager for an intact one.",
    ),
    (
        BadVersionNumberError,
        "the catalogue is older than the one already seen here (rollback)",
        "Do not use this copy. Ask the packager for the current one.",
    ),
    (
        LengthOrHashMismatchError,
        "a file of the catalogue was altered: its size or digest is not the signed one",
        "Do not use this copy. Ask the packager for an intact one.",
    ),
    (
        DownloadLengthMismatchError,
        "a file of the catalogue is longer than the signed size allows",
        "Do not use this copy. Ask the packager for an intact one.",
    ),
    (RepositoryError, "a signed statement cannot be read", "Do not use this copy. Ask the packager for an intact one."),
)


def _refusal(name: str, error: Exception) -> FundamenError:
    for kind, proof, do in _PROOFS:
        if isinstance(error, kind):
            return UntrustedError(what=f"The source {shown(name)} is refused", why=f"{proof} ({error})", do=do)
    return UnreadableError(
        what=f"The source {shown(name)} cannot be brought in",
        why=f"it is not complete ({error})",
        do="Copy it from the packager again, whole.",
    )

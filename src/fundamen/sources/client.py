"""Bring a source's catalogue in, believing nothing that its signatures do not prove.

The proofs are those of The Update Framework's client workflow (specification, section 5), done by python-tuf.
"""

import logging
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
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
    SlowRetrievalError,
    UnsignedMetadataError,
)
from tuf.api.metadata import Metadata, Snapshot, Targets, Timestamp
from tuf.ngclient import Updater, UpdaterConfig
from tuf.ngclient.fetcher import FetcherInterface

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError, UntrustedError
from fundamen.model.package import Package
from fundamen.model.paths import HostPath
from fundamen.sources.layout import METADATA, PACKAGES, is_shard, read_document_path, read_shard
from fundamen.sources.place import NotThereError, Pieces, SlowError, SourcePlace, UnreachableError

_LOG = logging.getLogger(__name__)

_NOT_FOUND = 404
# Bytes of a statement whose size no signature tells: read before anything in it is proven, and much larger in memory.
_MOST_UNPROVEN = 8 << 20


class Proven(msgspec.Struct, frozen=True):
    """Changes of a source's catalogue, every word proven as it is taken."""

    shards: Iterator[tuple[str, str, tuple[Package, ...]]]  # of those that are new: path, SHA-256, its packages
    gone: tuple[str, ...]  # the paths of those that are no more
    documents: Iterator[tuple[str, str, bytes]]  # of those that are new: path, SHA-256, content
    gone_documents: tuple[str, ...]
    expires_at: datetime


Take = Callable[[Proven], None]  # takes all of it over, or nothing; what the shards raise passes through it


class _PlaceFetcher(FetcherInterface):
    """Gives python-tuf the files of a place as if they were served; its addresses are paths below the source."""

    def __init__(self, place: SourcePlace) -> None:
        self._place = place

    def _fetch(self, url: str) -> Iterator[bytes]:
        try:
            pieces = self._place.open(url)
        except NotThereError as error:
            raise DownloadHTTPError(error.why, _NOT_FOUND) from error
        except SlowError as error:
            raise SlowRetrievalError(error.why) from error
        except UnreachableError as error:
            raise DownloadError(error.why) from error
        return self._give_pieces(pieces)

    @staticmethod
    def _give_pieces(pieces: Pieces) -> Iterator[bytes]:
        try:
            yield from pieces
        except SlowError as error:
            raise SlowRetrievalError(error.why) from error
        except UnreachableError as error:
            raise DownloadError(error.why) from error


def bring_in(
    name: str, places: Sequence[SourcePlace], root: bytes, state: HostPath, known: Mapping[str, str], take: Take
) -> None:
    """Check a source's statements and descriptions from the trusted root on, and hand on what is new in them.

    Args:
        name: the source's name, for messages.
        places: where the source lies; a place that fails is followed by the next.
        root: the root statement that the technician trusted by its fingerprint.
        state: a folder of ours, where the proven statements are kept; it is what protects from rollback.
        known: the shards and documents that were proven before: path -> SHA-256.
        take: takes over what is proven; shard by shard, for all of them together may be very many.

    Raises:
        UntrustedError: a proof failed, and no other place could do better; the message says which.
        UnreadableError: the source is at none of the places, or is not complete.
    """
    failures: list[FundamenError] = []
    for place in places:
        try:
            _bring_in(name, place, root, state, known, take)
        except (UntrustedError, UnreachableError) as error:
            _LOG.debug("%s does not serve: %s", place.title, error.why)
            failures.append(error)
        else:
            return
    raise next((error for error in failures if isinstance(error, UntrustedError)), failures[0])


def _bring_in(
    name: str, place: SourcePlace, root: bytes, state: HostPath, known: Mapping[str, str], take: Take
) -> None:
    metadata, packages = os.path.join(state, METADATA), os.path.join(state, PACKAGES)
    try:
        for folder in (metadata, packages):
            os.makedirs(folder, exist_ok=True)
        updater = Updater(
            metadata_dir=metadata,
            metadata_base_url=METADATA,
            target_dir=packages,
            target_base_url=PACKAGES,
            fetcher=_PlaceFetcher(place),
            config=UpdaterConfig(targets_max_length=_MOST_UNPROVEN),
            bootstrap=root,
        )
        updater.refresh()
        targets = Metadata[Targets].from_file(os.path.join(metadata, "targets.json")).signed
        digests = {path: target.hashes["sha256"] for path, target in targets.targets.items()}
        new = [path for path, digest in sorted(digests.items()) if known.get(path) != digest]
        shards = ((path, digests[path], read_shard(_content(updater, path), path)) for path in new if is_shard(path))
        documents = ((path, digests[path], _content(updater, path)) for path in new if read_document_path(path))
        gone = [path for path in known if path not in digests]
        take(
            Proven(
                shards,
                tuple(path for path in gone if is_shard(path)),
                documents,
                tuple(path for path in gone if not is_shard(path)),
                _expiry(metadata, targets),
            )
        )
    except (RepositoryError, DownloadError) as error:
        raise _refusal(name, place, error) from error
    except OSError as error:
        raise UnreadableError(
            what=say("sources.the-source-cannot-be-brought-in", name=printable(name)),
            why=f"{error.filename or state}: {error.strerror}",
            do=say("sources.make-room-or-make-the-folder"),
        ) from error


def _content(updater: Updater, path: str) -> bytes:
    target = updater.get_targetinfo(path)
    assert target is not None  # noqa: S101 - the path was just read from the same statement
    local = updater.find_cached_target(target) or updater.download_target(target)
    with open(local, "rb") as file:
        return file.read()


def _expiry(metadata: str, targets: Targets) -> datetime:
    snapshot = Metadata[Snapshot].from_file(os.path.join(metadata, "snapshot.json")).signed
    timestamp = Metadata[Timestamp].from_file(os.path.join(metadata, "timestamp.json")).signed
    return min(targets.expires, snapshot.expires, timestamp.expires)


# The most telling class first: some are subclasses of others.
_PROOFS = (  # (class, code of the reason, code of what to do)
    (
        ExpiredMetadataError,
        "sources.the-catalogue-has-expired",
        "sources.ask-the-packager-to-sign-it-again",
    ),
    (
        UnsignedMetadataError,
        "sources.the-catalogue-is-not-signed-by-the-keys",
        "sources.ask-the-packager-for-an-intact-copy",
    ),
    (
        BadVersionNumberError,
        "sources.the-catalogue-is-older",
        "sources.ask-the-packager-for-the-current-copy",
    ),
    (
        LengthOrHashMismatchError,
        "sources.a-file-of-the-catalogue-was-altered",
        "sources.ask-the-packager-for-an-intact-copy",
    ),
    (
        DownloadLengthMismatchError,
        "sources.a-file-of-the-catalogue-is-longer",
        "sources.ask-the-packager-for-an-intact-copy",
    ),
    (RepositoryError, "sources.a-signed-statement-cannot-be-read", "sources.ask-the-packager-for-an-intact-copy"),
)


def _refusal(name: str, place: SourcePlace, error: Exception) -> FundamenError:
    for kind, proof, do in _PROOFS:
        if isinstance(error, kind):
            return UntrustedError(
                what=say("sources.the-source-is-refused", name=printable(name)),
                why=say("sources.proof-refused", proof=say(proof), error=error),
                do=say(do),
            )
    if isinstance(error, SlowRetrievalError):
        do = say("sources.try-again-later-or-name-another")
    elif isinstance(error, DownloadHTTPError):
        do = say("sources.copy-it-from-the-packager-again")
    else:
        do = say("sources.see-that-this-host-reaches-it")
    return UnreachableError(
        what=say("sources.the-source-cannot-be-brought-in-from", name=printable(name), title=place.title),
        why=say("sources.it-is-not-complete", error=error) if isinstance(error, DownloadHTTPError) else str(error),
        do=do,
    )

"""The sources that the technician trusts, and what was last proven of each.

A source is trusted once, by the fingerprint of its root. What its signatures proved is kept here, so that a trace can
ask it without proving it again; a restoration always proves it again.
"""

import contextlib
import hashlib
import logging
import os
import shutil
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath
from fundamen.model.timing import log_time
from fundamen.placing.file_state import digest_of_file
from fundamen.placing.own_files import write_whole
from fundamen.sources.catalogue import Catalogue, Index, IndexedCatalogue, Source
from fundamen.sources.fetching import Received, fetch_file
from fundamen.sources.layout import (
    METADATA,
    DocumentKind,
    content_place,
    keep_content,
    read_document_path,
    require_source,
    root_fingerprint,
)
from fundamen.sources.location import is_served, open_place
from fundamen.sources.place import NotThereError, SourcePlace, read_small
from fundamen.trust.fingerprint import group_digits, read_fingerprint

_LOG = logging.getLogger(__name__)

_MOST_ROOT = 512_000  # bytes, as python-tuf
_MOST_ROOTS = 1024

if TYPE_CHECKING:
    from fundamen.sources.client import Proven


class SourceStore:
    """The folder of Fundamen's state that holds the trusted sources, one folder a source."""

    def __init__(self, home: HostPath) -> None:
        self._folder = HostPath(os.path.join(home, "sources"))
        self._contents = HostPath(os.path.join(home, "content"))

    def trust(
        self,
        location: str,
        fingerprint: str,
        name: str,
        now: datetime,
        mirrors: Sequence[str] = (),
        authority: str = "",
    ) -> Catalogue:
        """Trust a source by its fingerprint, and bring its catalogue in.

        Args:
            location: a folder of this host, or an address.
            fingerprint: as it was typed.
            name: how it is called from now on.
            now: this moment.
            mirrors: further places where the same source lies.
            authority: certificates in PEM that its servers' chains may end in, besides those that this host trusts.

        Raises:
            UsageError: the fingerprint has not the form of one, the name is taken, or an address is none.
            UntrustedError: no root of the source has this fingerprint, or another proof failed; nothing is kept.
            UnreadableError: there is no source, or it cannot be reached.
        """
        fingerprint = read_fingerprint(fingerprint)
        _require_free_name(name, self._names())
        source = Source(name, location, fingerprint, now, tuple(mirrors), authority)
        root = _root_of(source)
        folder = self._of(name)
        os.makedirs(folder)
        try:
            write_whole(os.path.join(folder, "root.json"), root)
            write_whole(os.path.join(folder, "source.json"), encode_json(source))
            return self.refresh(source)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise

    def forget(self, name: str) -> None:
        """Trust a source no longer; also one of which what is kept is damaged.

        Raises:
            UsageError: there is none of this name.
        """
        if name not in self._names():
            raise UsageError(
                what=say("sources.the-source-cannot-be-forgotten", name=printable(name)),
                why=say("sources.no-source-of-this-name-is"),
                do=say("sources.see-the-names-with-fundamen-sources"),
            )
        shutil.rmtree(self._of(name))

    def sources(self) -> tuple[Source, ...]:
        """All trusted sources, by name.

        Raises:
            UnreadableError: what we keep about one cannot be read.
        """
        return tuple(_decode_source(os.path.join(self._of(name), "source.json"), Source) for name in self._names())

    def refresh(self, source: Source) -> Catalogue:
        """Prove a source's catalogue again and keep the outcome.

        Raises:
            UntrustedError: a proof failed; what was proven before stays.
            UnreadableError: the source is not there, or is not complete.
        """
        from fundamen.sources.client import bring_in  # noqa: PLC0415 - loads python-tuf, which a trace must not

        folder = self._of(source.name)
        with open(os.path.join(folder, "root.json"), "rb") as file:
            root = file.read()
        for location in () if source.mirrors else source.locations:
            if not is_served(location):
                require_source(HostPath(location))
        index = self._index(source)

        def take(proven: "Proven") -> None:
            index.update(proven.shards, proven.gone, proven.documents, proven.gone_documents, proven.expires_at)

        with log_time(_LOG, "refreshing the source %s", source.name):
            bring_in(source.name, _places(source), root, folder, index.all_digests(), take)
        proven = self.last_proven(source)
        assert proven is not None  # noqa: S101 - it was just put there
        return proven

    def catalogues(self) -> tuple[Catalogue, ...]:
        """The last proven catalogue of every source. Raises: UnreadableError."""
        known = (self.last_proven(source) for source in self.sources())
        return tuple(catalogue for catalogue in known if catalogue is not None)

    def last_proven(self, source: Source) -> Catalogue | None:
        """The last proven catalogue of a source; None where there never was one.

        Raises:
            UnreadableError: what is kept of it cannot be read.
        """
        index = self._index(source)
        expires_at = index.expires_at()
        return IndexedCatalogue(source, index, expires_at) if expires_at is not None else None

    def documents(self, kind: DocumentKind) -> dict[tuple[str, str], bytes]:
        """The last proven documents of the sources: (source, name) -> content. Raises: UnreadableError."""
        found = {}
        for source in self.sources():
            for path, content in self._index(source).documents().items():
                if (named := read_document_path(path)) is not None and named[0] is kind:
                    found[source.name, named[1]] = content
        return found

    def drop_index(self, source: Source) -> None:
        """Delete what is kept of a source's catalogue; the next refresh makes it again. Raises: OSError."""
        with contextlib.suppress(FileNotFoundError):
            os.unlink(os.path.join(self._of(source.name), "catalogue.sqlite"))

    def _index(self, source: Source) -> Index:
        return Index(os.path.join(self._of(source.name), "catalogue.sqlite"))

    def fetch(self, source: Source, file: PackageFile, received: Received = lambda _count: None) -> HostPath:
        """Bring a package's file in, and give our own copy of it, whose digest was checked as it was written.

        What was truncated goes on from there the next time.

        Raises:
            UntrustedError: the bytes are not the signed ones.
            UnreadableError: the source does not have the file or cannot be reached, or our copy cannot be written.
        """
        local = HostPath(os.path.join(self._contents, file.sha256))
        if os.path.exists(local) and digest_of_file(local) == file.sha256:
            _LOG.debug("%s is here already, as %s", file.name, file.sha256)
            return local
        places = [(place, content_place(file.sha256)) for place in _places(source)]
        try:
            with log_time(_LOG, "bringing %s in from the source %s, %d bytes", file.name, source.name, file.size):
                fetch_file(source.name, places, file, local, received)
        except OSError as error:
            raise UnreadableError(
                what=say(
                    "sources.cannot-be-brought-in-from-the",
                    name=printable(file.name),
                    other_name=printable(source.name),
                ),
                why=f"{error.filename}: {error.strerror}",
                do=say("sources.make-room-or-make-fundamen-own"),
            ) from error
        return local

    def keep(self, data: bytes) -> HostPath:
        """Keep bytes among our own copies, and give their path. Raises: OSError."""
        return keep_content(self._contents, hashlib.sha256(data).hexdigest(), data)

    def _names(self) -> list[str]:
        try:
            return sorted(os.listdir(self._folder))
        except FileNotFoundError:
            return []

    def _of(self, name: str) -> HostPath:
        return HostPath(os.path.join(self._folder, name))


def _require_free_name(name: str, taken: Iterable[str]) -> None:
    is_plain = name.replace("-", "").replace("_", "").replace(".", "").isalnum() and not name.startswith(".")
    if name not in taken and is_plain:
        return
    why = say("sources.a-source-of-this-name-is") if name in taken else say("sources.a-name-has-letters-digits-only")
    do = say("sources.forget-it-first-fundamen-sources-forget", name=printable(name))
    raise UsageError(what=say("sources.the-source-cannot-be-named", name=printable(name)), why=why, do=do)


def _places(source: Source) -> list[SourcePlace]:
    return [open_place(location, source.authority) for location in source.locations]


def _root_of(source: Source) -> bytes:
    """The root statement that has the source's fingerprint, from the first place that can be reached.

    Raises:
        UntrustedError: none has it.
        UnreadableError: the source is at none of the places.
    """
    failure: UnreadableError | None = None
    for location, place in zip(source.locations, _places(source), strict=True):
        try:
            if not is_served(location):
                require_source(HostPath(location))
            return _root_with(place, source.fingerprint)
        except UnreadableError as error:
            failure = failure or error
    assert failure is not None  # noqa: S101 - there is a place, and it failed
    raise failure


def _root_with(place: SourcePlace, fingerprint: str) -> bytes:
    """The first root statement of a source that has a fingerprint; they are numbered from 1 on without a gap."""
    for version in range(1, _MOST_ROOTS):
        try:
            root = read_small(place, f"{METADATA}/{version}.root.json", _MOST_ROOT)
        except NotThereError:
            if version == 1:
                raise
            break
        if root_fingerprint(root) == fingerprint:
            return root
    raise UntrustedError(
        what=say("sources.the-source-is-not-trusted", title=place.title),
        # The right one is not shown: pasting it from here would check nothing.
        why=say("sources.no-root-statement-in-it-has", group_digits=group_digits(fingerprint[:16])),
        do=say("sources.ask-the-packager-over-a-second"),
    )


def _decode_source(path: str, kind: type[Source]) -> Source:
    try:
        with open(path, "rb") as file:
            return msgspec.json.decode(file.read(), type=kind)
    except (OSError, msgspec.DecodeError) as error:
        raise UnreadableError(
            what=say("sources.the-record-of-a-trusted-source-in", path=printable(path)),
            why=str(error),
            do=say("sources.forget-the-source-and-trust-it"),
        ) from error

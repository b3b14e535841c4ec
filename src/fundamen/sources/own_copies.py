"""Our own copies, which restorations draw on: checked against what they must be, and brought in again where need be.

They are the files of packages, under their digests; the packages that apt has fetched; and each source's catalogue.
"""

import os
from collections.abc import Iterator
from enum import StrEnum
from typing import TYPE_CHECKING

import msgspec

from fundamen.messages import Message, as_said, say
from fundamen.model.errors import FundamenError
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import digest_of_file
from fundamen.sources.apt import is_as_fetched
from fundamen.sources.catalogue import Source
from fundamen.sources.store import SourceStore

if TYPE_CHECKING:
    from fundamen.model.package import PackageFile

_DIGITS = 64  # of a SHA-256


class CopyOutcome(StrEnum):
    """How a copy stands after it was checked."""

    INTACT = "intact"
    REPAIRED = "repaired"
    DELETED = "deleted"  # it is fetched again when it is needed


class CheckedCopy(msgspec.Struct, frozen=True):
    """One copy."""

    name: str
    outcome: CopyOutcome
    why: Message | None = None


def check_copies(home: HostPath) -> Iterator[CheckedCopy]:
    """Check all our copies; damaged ones are brought in again from the sources, or taken away.

    Raises:
        OSError: our own folder cannot be read or written.
    """
    store = SourceStore(home)
    for source in store.sources():
        yield _catalogue(store, source)
    damaged: dict[str, HostPath] = {}
    for name, path in _files(os.path.join(home, "content")):
        if len(name) != _DIGITS:
            continue  # what is being fetched
        if digest_of_file(path) == name:
            yield CheckedCopy(name, CopyOutcome.INTACT)
        else:
            damaged[name] = path
    if damaged:
        yield from _fetch_damaged(store, damaged)
    for name, path in _files(os.path.join(home, "archive", "debian")):
        if name.endswith(".deb"):
            if is_as_fetched(path):
                yield CheckedCopy(name, CopyOutcome.INTACT)
            else:
                os.unlink(path)
                yield CheckedCopy(name, CopyOutcome.DELETED, say("sources.it-is-not-what-apt-has"))


def find_damaged(home: HostPath) -> Iterator[tuple[HostPath, Message]]:
    """Our copies that are not what they must be, and why; nothing is changed. Raises: OSError."""
    for name, path in _files(os.path.join(home, "content")):
        if len(name) == _DIGITS and digest_of_file(path) != name:
            yield path, say("sources.its-bytes-were-not-those-of")
    for name, path in _files(os.path.join(home, "archive", "debian")):
        if name.endswith(".deb") and not is_as_fetched(path):
            yield path, say("sources.it-is-not-what-apt-has")


def _catalogue(store: SourceStore, source: Source) -> CheckedCopy:
    name = say("sources.the-catalogue-of", name=source.name)
    try:
        known = store.last_proven(source)
        if known is not None:
            known.first(1)
            return CheckedCopy(name, CopyOutcome.INTACT)
        why = say("sources.there-is-none")
    except FundamenError as error:
        why = as_said(error.why)
    store.drop_index(source)
    try:
        store.refresh(source)
    except FundamenError as error:
        return CheckedCopy(
            name, CopyOutcome.DELETED, say("sources.and-it-cannot-be-brought-in", why=why, other_why=error.why)
        )
    return CheckedCopy(name, CopyOutcome.REPAIRED, why)


def _fetch_damaged(store: SourceStore, damaged: dict[str, HostPath]) -> Iterator[CheckedCopy]:
    listed: dict[str, tuple[Source, PackageFile]] = {}
    for catalogue in store.catalogues():
        for package in catalogue.packages:
            listed |= {file.sha256: (catalogue.source, file) for file in package.files if file.sha256 in damaged}
    for sha256, path in damaged.items():
        name = listed[sha256][1].name if sha256 in listed else sha256
        os.unlink(path)
        why = say("sources.no-trusted-source-lists-it")
        if sha256 in listed:
            try:
                store.fetch(*listed[sha256])
            except FundamenError as error:
                why = as_said(error.why)
            else:
                yield CheckedCopy(name, CopyOutcome.REPAIRED, say("sources.its-bytes-were-not-those-of"))
                continue
        yield CheckedCopy(name, CopyOutcome.DELETED, say("sources.its-bytes-were-not-those-of-its", why=why))


def _files(folder: str) -> Iterator[tuple[str, HostPath]]:
    for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else ():
        path = os.path.join(folder, name)
        if os.path.isfile(path):
            yield name, HostPath(path)

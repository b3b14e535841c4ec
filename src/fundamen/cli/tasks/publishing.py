"""``fundamen sources publish``: a folder of files, or what packages and media say of themselves."""

import os
from collections.abc import Sequence

import msgspec

from fundamen.cli import options
from fundamen.cli.tasks.media import publisher_judge
from fundamen.cli.tasks.toolchain_catalogue import read_catalogue
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.package import NEUTRAL
from fundamen.model.paths import HostPath
from fundamen.sources.media import Media
from fundamen.sources.publishing import (
    Given,
    Publication,
    PublishedIdentity,
    Signing,
    publish,
    publish_artefacts,
    publish_packages,
)
from fundamen.trust.fingerprint import read_fingerprint


class Said(msgspec.Struct, frozen=True):
    """Statements of the options on what is published; empty where they say nothing."""

    publisher: str
    package: str
    version: str
    language: str
    place: str
    digests: tuple[str, ...]
    artefacts: bool  # each file of a folder is a package of its own
    toolchain: str | None  # the catalogue of a clean toolchain
    vouched: str = ""  # how the packager knows unsigned files


def require_media(sheets: Sequence[str], toolchain: str | None) -> None:
    """Make sure that it is right to name no media. Raises: UsageError."""
    if not sheets or toolchain is not None:
        raise UsageError(
            what=say("cli.nothing-can-be-published"),
            why=say("cli.no-media-were-named"),
            do=say("cli.name-the-publisher-package-or-folder"),
        )


def publish_given(location: HostPath, origin: str, said: Said, signing: Signing) -> tuple[Publication, ...]:
    """Publish a folder of files as one package, or each package or artefact by itself.

    Raises:
        FundamenError: as publishing raises.
    """
    path = HostPath(os.path.abspath(origin))
    if said.toolchain is not None:
        from fundamen.toolchains.publishing import publish_toolchain  # noqa: PLC0415 - few packagers have one

        return publish_toolchain(location, path, read_catalogue(said.toolchain), signing)
    if os.path.isdir(path) or said.artefacts:
        needed = {"--publisher": said.publisher}
        if not said.artefacts:
            needed |= {"--package": said.package, "--version": said.version, "--place": said.place}
        missing = [option for option, value in needed.items() if not value]
        if missing:
            raise UsageError(
                what=say("cli.cannot-be-published", origin=printable(origin)),
                why=say("cli.the-files-do-not-say-what", missing=", ".join(missing)),
                do=say("cli.add-it-or-name-the-publisher"),
            )
        if said.artefacts:
            return publish_artefacts(location, path, said.publisher, signing)
        identity = PublishedIdentity(said.publisher, said.package, said.version, said.language or NEUTRAL, said.vouched)
        return (publish(location, path, identity, said.place, signing),)
    digests = [read_fingerprint(digest) for digest in said.digests]
    media = Media([path], digests, publisher_judge(options.this_host()), said.place, options.home(), options.now())
    given = Given(said.publisher, said.package, said.version, said.language)
    return publish_packages(location, media, given, signing)

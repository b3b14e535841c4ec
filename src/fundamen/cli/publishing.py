"""``fundamen sources publish``: a folder of files, or what packages and media say of themselves."""

import os

import msgspec

from fundamen.cli import options
from fundamen.cli.media import proving
from fundamen.model.errors import UsageError
from fundamen.model.package import NEUTRAL
from fundamen.model.paths import HostPath, shown
from fundamen.sources.media import Media
from fundamen.sources.publishing import (
    Given,
    Identity,
    Publication,
    Signing,
    publish,
    publish_artefacts,
    publish_packages,
)
from fundamen.trust.fingerprint import read_fingerprint


class Said(msgspec.Struct, frozen=True):
    """What the options say of what is published; empty where they say nothing."""

    publisher: str
    package: str
    version: str
    language: str
    place: str
    digests: tuple[str, ...]
    artefacts: bool  # each file of a folder is a package of its own


def published(location: HostPath, origin: str, said: Said, signing: Signing) -> tuple[Publication, ...]:
    """Publish a folder of files as one package, or all packages of a medium.

    Raises:
        FundamenError: as publishing raises.
    """
    path = HostPath(os.path.abspath(origin))
    if os.path.isdir(path):
        needed = {"--publisher": said.publisher}
        if not said.artefacts:
            needed |= {"--package": said.package, "--version": said.version, "--place": said.place}
        missing = [option for option, value in needed.items() if not value]
        if missing:
            raise UsageError(
                what=f"{shown(origin)} cannot be published",
                why=f"a folder of files does not say what {', '.join(missing)} would",
                do="Say it; or name the publisher's own package, which says it itself.",
            )
        if said.artefacts:
            return publish_artefacts(location, path, said.publisher, signing)
        identity = Identity(said.publisher, said.package, said.version, said.language or NEUTRAL)
        return (publish(location, path, identity, said.place, signing),)
    digests = [read_fingerprint(digest) for digest in said.digests]
    media = Media([path], digests, proving(options.this_host()), said.place, options.home(), options.now())
    given = Given(said.publisher, said.package, said.version, said.language)
    return publish_packages(location, media, given, signing)

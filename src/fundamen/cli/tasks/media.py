"""The options that name installation media, and all that is asked on demand."""

import functools
import os
from collections.abc import Sequence
from typing import Any

import click
import msgspec

from fundamen.cli import options
from fundamen.cli.helping import SharedOption
from fundamen.cli.output import Output
from fundamen.formats.byte_source import ByteSource
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.restore.on_demand import OnDemand
from fundamen.sources.media import Media, Prove
from fundamen.sources.media_identity import Proof, read_place
from fundamen.sources.os_archive import NewPackages, OsArchive
from fundamen.sources.reference import References
from fundamen.sources.reference_offers import ReferenceOffers
from fundamen.trust.fingerprint import read_fingerprint

_SECTION = "Installation media"


class Named(msgspec.Struct, frozen=True):
    """The media that the options name."""

    paths: tuple[str, ...]
    digests: tuple[str, ...]
    place: str

    @property
    def words(self) -> tuple[str, ...]:
        """The options once more, for a command to paste."""
        places = ("--media-place", self.place) if self.place else ()
        digests = (word for digest in self.digests for word in ("--media-digest", digest))
        return (*(word for path in self.paths for word in ("--media", path)), *digests, *places)


def media_options(command: options.Command) -> options.Command:
    """Give a command ``media``."""

    @click.option(
        "--media",
        "paths",
        cls=SharedOption,
        section=_SECTION,
        multiple=True,
        metavar="FILE",
        help="A disc image, folder, package or archive.",
    )
    @click.option(
        "--media-digest",
        cls=SharedOption,
        section=_SECTION,
        multiple=True,
        metavar="SHA256",
        help="The digest of a medium, as you have checked it.",
    )
    @click.option(
        "--media-place",
        cls=SharedOption,
        section=_SECTION,
        default="",
        metavar="PLACE",
        help="Where its loose files belong, such as {system}.",
    )
    @functools.wraps(command)
    def wrapper(
        paths: tuple[str, ...],
        media_digest: tuple[str, ...],
        media_place: str,
        **others: Any,  # noqa: ANN401 - whatever the command has besides
    ) -> None:
        command(media=Named(paths, media_digest, media_place), **others)

    return wrapper


def on_demand(machine: Machine, named: Named, output: Output, *, archive: bool) -> list[OnDemand]:
    """Further sources for the faults: media, the system's archive, references.

    Raises:
        UsageError: a digest or a place has not the form of one.
    """
    asked: list[OnDemand] = []
    home, now = options.home(), options.now()
    if named.paths:
        if named.place:
            read_place(named.place)
        paths = [HostPath(os.path.abspath(path)) for path in named.paths]
        digests = [read_fingerprint(digest) for digest in named.digests]
        asked.append(Media(paths, digests, publisher_judge(machine), named.place, home, now))
    if os.path.isdir(os.path.join(home, "references")):
        asked.append(ReferenceOffers(References(home).all(), machine.platform, home, now))
    if archive and OsArchive.serves(machine):
        asked.append(OsArchive(machine, home, now, output.note))
    return asked


def new_packages(machine: Machine, names: Sequence[str], output: Output) -> NewPackages | None:
    """The packages that the operating system's package manager is to install; None where none were named.

    Raises:
        UsageError: the machine has no such package manager, or would have to change what is installed.
    """
    if not names:
        return None
    if not OsArchive.serves(machine):
        raise UsageError(
            what=say("cli.cannot-be-installed-on", names=", ".join(names), title=machine.title),
            why=say("cli.it-was-not-installed-from-debian"),
            do=say("cli.install-it-there-by-the-system"),
        )
    with output.say_working("Asking the archive"):
        return OsArchive(machine, options.home(), options.now(), output.note).new_packages(names)


def publisher_judge(machine: Machine) -> Prove:
    """A judge of publishers' signatures, by the roots of the machine or of this host."""

    def prove(source: ByteSource) -> Proof:
        from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - only where media are named
        from fundamen.formats.binary import read_binary  # noqa: PLC0415
        from fundamen.trust.signed_file import judge_file  # noqa: PLC0415

        try:
            binary = read_binary(source)
        except UnreadableError:
            return Proof("", "it is not signed; give its digest with --media-digest")
        if not binary.may_be_signed:
            return Proof("", "it is not signed; give its digest with --media-digest")
        authority, reasons = PublisherAuthority(options.now()), []
        for trusting in (machine, options.this_host()):
            publisher = judge_file(source, binary, authority.issuers(trusting), options.now())
            if publisher.verdict == "trusted":
                return Proof(
                    f"the signature of {publisher.name}, whom {trusting.title} trusts", "", publisher.name or ""
                )
            reasons.append(publisher.reason or "it is not signed; give its digest with --media-digest")
        return Proof("", reasons[0])

    return prove

"""The packager's commands of ``fundamen sources``: publish, withdraw, renew, rotate."""

import os
from datetime import timedelta
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.output import Output
from fundamen.model.package import UNTRUSTED
from fundamen.model.paths import HostPath

if TYPE_CHECKING:
    from fundamen.sources.publishing import Signing


def _signing(command: options.Command) -> options.Command:
    """Give a command what every signing needs."""
    days = click.option(
        "--days", type=click.FloatRange(-3650, 3650), default=90.0, show_default=True, help="Signatures hold so long."
    )
    keys = click.option(
        "--keys", multiple=True, required=True, metavar="KEYS", help="A key folder of yours; keep it off the source."
    )
    return keys(days(command))


@click.command("publish")
@click.argument("folder")
@click.option("--from", "origin", metavar="MEDIA", help="The publisher's package, medium, or folder.")
@click.option("--publisher", default="", help="Whose package it is; where the package does not say so.")
@click.option("--package", default="", help="The package's name; likewise.")
@click.option("--version", "package_version", default="", help="The package's version; likewise.")
@click.option("--language", default="", help="Of a language pack; likewise.")
@click.option("--place", default="", help="Where loose files belong: {program}, {system} or {root}, then a path.")
@click.option("--media-digest", multiple=True, metavar="SHA256", help="Of media that nobody signed; you vouch for it.")
@click.option("--vouch", default="", metavar="REASON", help="How you know files that nobody signed; it is shown.")
@click.option("--replace", default="", metavar="REASON", help="Why it replaces what has its name and version.")
@click.option(
    "--artefacts", is_flag=True, help="Each wheel, archive or tarball of the folder is a package by its name."
)
@click.option("--toolchain", metavar="CATALOGUE", help="MEDIA is a clean toolchain; this describes it.")
@click.option("--sheet", "sheets", multiple=True, metavar="SHEET", help="A requirement sheet for the source to carry.")
@click.option("--threshold", multiple=True, metavar="ROLE=N", help="Of a new source: N keys, all of which must sign.")
@_signing
@options.output_options
def publish(
    folder: str,
    *,
    origin: str | None,
    publisher: str,
    package: str,
    package_version: str,
    language: str,
    place: str,
    media_digest: tuple[str, ...],
    vouch: str,
    replace: str,
    artefacts: bool,
    toolchain: str | None,
    sheets: tuple[str, ...],
    threshold: tuple[str, ...],
    keys: tuple[str, ...],
    days: float,
    output: Output,
) -> None:
    """Take the publisher's packages in MEDIA into the source in FOLDER, and sign the catalogue.

    An install package, an archive or a disc image says itself whose it is, in which version, for what, and where its
    files belong; its publisher's signature is checked. Of a folder of files you say all that; what lock files pin says
    its name and version itself (--artefacts). A new source is made with new keys: root, targets, snapshot, timestamp.
    The root's is needed only to make a source and to replace keys: keep it offline.

    Nothing damaged, and nothing whose publisher's signature is broken, is taken in. Programs and libraries that nobody
    has signed need --vouch. What is published is never replaced by other files, unless you say why with --replace.

    A source carries requirement sheets as well (fundamen prereqs --carried NAME), and toolchains with their catalogues.

    \b
    fundamen sources publish /srv/source --from saltgrass-4.2.1-x64.msi --keys ~/keys
    fundamen sources publish /srv/source --from media/saltgrass-4.2.1 --keys ~/keys \\
        --publisher 'Ardvane Instruments' --package 'Saltgrass Runtime' --version 4.2.1 --place '{program}/../lib' \\
        --vouch 'compared with the digests that the publisher states'
    fundamen sources publish /srv/source --sheet tidebook.toml --keys ~/keys
    fundamen sources publish /srv/source --from clean/breakwater --toolchain breakwater-2.1.0.json --keys ~/keys
    fundamen sources publish /srv/source --from wheels --artefacts --publisher 'Ardvane Instruments' --keys ~/keys
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.publishing import Said, published, require_media  # noqa: PLC0415 - loads python-tuf
    from fundamen.report.publication_text import publication_record, publication_text  # noqa: PLC0415
    from fundamen.sources.publishing import Signing  # noqa: PLC0415

    with output:
        signing = Signing(
            _folders(keys), options.now() + timedelta(days=days), options.counts("--threshold", threshold), replace
        )
        location = HostPath(os.path.abspath(folder))
        if sheets:
            _carry(location, sheets, signing, output)
        if origin is None:
            require_media(sheets, toolchain)
            return
        said = Said(publisher, package, package_version, language, place, media_digest, artefacts, toolchain, vouch)
        with output.working(f"Publishing {origin}"):
            publications = published(location, origin, said, signing)
        if output.as_json:
            for publication in publications:
                output.show_record(publication_record(publication))
        else:
            output.show(publication_text(publications, drawn=output.drawn))


def _carry(location: HostPath, sheets: tuple[str, ...], signing: "Signing", output: Output) -> None:
    from fundamen.cli.documents import sheets_to_publish  # noqa: PLC0415 - only where sheets are named
    from fundamen.sources.publishing import publish_documents  # noqa: PLC0415 - loads python-tuf
    from fundamen.trust.fingerprint import grouped  # noqa: PLC0415

    fingerprint = publish_documents(location, sheets_to_publish(sheets), signing)
    output.note(f"The source carries {', '.join(sheets)} now. Its fingerprint: {grouped(fingerprint)}")


@click.command("withdraw")
@click.argument("folder")
@click.argument("package")
@click.argument("package_version", metavar="VERSION")
@click.option("--reason", required=True, help="Why it must no longer be used; technicians see it.")
@click.option("--untrusted", is_flag=True, help="What is installed of it must not be trusted either, as after a theft.")
@_signing
@options.output_options
def withdraw(
    folder: str,
    *,
    package: str,
    package_version: str,
    reason: str,
    untrusted: bool,
    keys: tuple[str, ...],
    days: float,
    output: Output,
) -> None:
    """Withdraw PACKAGE in VERSION, for every platform, from the source in FOLDER.

    It is offered no longer, and where its files stand a trace remarks on it, with the reason; programs that use them
    stay sound. With --untrusted those files are at fault, unless the system's own packages brought them.

    \b
    fundamen sources withdraw /srv/source 'Saltgrass Runtime' 4.2.1 --reason 'wrong tides' --keys ~/keys
    fundamen sources withdraw /srv/source 'Saltgrass Runtime' 4.2.2 --untrusted --reason 'its key was stolen' --keys K
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        repository = Repository(_existing(folder), _folders(keys), options.now() + timedelta(days=days))
        for each in repository.withdraw(package, package_version, f"{UNTRUSTED if untrusted else ''}{reason}"):
            output.note(f"Withdrawn: {each.title}. {reason}")


@click.command("renew")
@click.argument("folder")
@_signing
@options.output_options
def renew(folder: str, *, keys: tuple[str, ...], days: float, output: Output) -> None:
    """Sign the catalogue of the source in FOLDER anew before its signatures end; nothing else changes.

    \b
    fundamen sources renew /srv/source --keys ~/keys --days 90
    """  # noqa: D301
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        ends = options.now() + timedelta(days=days)
        Repository(_existing(folder), _folders(keys), ends).renew()
        output.note(f"The catalogue is signed until {ends:%Y-%m-%d %H:%M} UTC.")


@click.command("rotate")
@click.argument("folder")
@click.argument("role", type=click.Choice(("root", "targets", "snapshot", "timestamp")))
@_signing
@options.output_options
def rotate(folder: str, *, role: str, keys: tuple[str, ...], days: float, output: Output) -> None:
    """Give ROLE of the source in FOLDER new keys; what is signed with the old ones is believed no longer.

    This needs the root's key. Technicians need do nothing: they follow from the root that they trust. The new key
    takes the place of the old one, in the folder where that lay; the old one stays beside it under another name.

    \b
    fundamen sources rotate /srv/source targets --keys ~/keys --keys /media/safe/root-key
    """  # noqa: D301
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        repository = Repository(_existing(folder), _folders(keys), options.now() + timedelta(days=days))
        repository.rotate(role)
        output.note(f"The {role} role has new keys; the old ones count no longer, and lie beside them as .retired.")
        for each, paths in repository.keys().items():
            output.note(f"  {each}: {', '.join(paths) or 'not in these folders'}")


def _existing(folder: str) -> HostPath:
    from fundamen.sources.layout import require_source  # noqa: PLC0415 - only for the packager

    location = HostPath(os.path.abspath(folder))
    require_source(location)
    return location


def _folders(keys: tuple[str, ...]) -> tuple[HostPath, ...]:
    return tuple(HostPath(os.path.abspath(os.path.expanduser(folder))) for folder in keys)

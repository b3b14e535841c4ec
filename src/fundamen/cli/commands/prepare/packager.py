"""The packager's commands of ``fundamen sources``: publish, withdraw, renew, rotate."""

import os
from datetime import timedelta
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.helping import SharedOption, Subcommand
from fundamen.cli.output import Output
from fundamen.model.package import UNTRUSTED
from fundamen.model.paths import HostPath

if TYPE_CHECKING:
    from fundamen.sources.publishing import Signing


def _signing_options(command: options.Command) -> options.Command:
    """Give a command what every signing needs."""
    days = click.option(
        "--days",
        cls=SharedOption,
        section="Signing",
        type=click.FloatRange(-3650, 3650),
        default=90.0,
        show_default=True,
        help="So long are the signatures valid.",
    )
    keys = click.option(
        "--keys",
        cls=SharedOption,
        section="Signing",
        multiple=True,
        required=True,
        metavar="KEYS",
        help="A folder with your keys; keep it apart from the source.",
    )
    return keys(days(command))


@click.command("publish", cls=Subcommand, short_help="Add packages to a source of your own, and sign it.")
@click.argument("folder")
@click.option("--from", "origin", metavar="MEDIA", help="The publisher's package, medium, or folder.")
@click.option("--publisher", default="", help="The publisher, where the package does not say it.")
@click.option("--package", default="", help="The package's name, likewise.")
@click.option("--version", "package_version", default="", help="The package's version, likewise.")
@click.option("--language", default="", help="The language of a language pack, likewise.")
@click.option("--place", default="", help="Where loose files belong: {program}, {system} or {root}, then a path.")
@click.option(
    "--media-digest", multiple=True, metavar="SHA256", help="The digest of unsigned media, as you have checked it."
)
@click.option("--vouch", default="", metavar="REASON", help="How you checked unsigned files; technicians see it.")
@click.option("--replace", default="", metavar="REASON", help="Why it replaces a package of the same name and version.")
@click.option("--artefacts", is_flag=True, help="MEDIA is a wheel, archive or tarball, or a folder of them.")
@click.option("--toolchain", metavar="CATALOGUE", help="MEDIA is a clean toolchain with this catalogue.")
@click.option("--sheet", "sheets", multiple=True, metavar="SHEET", help="Add a requirement sheet to the source.")
@click.option(
    "--threshold",
    cls=SharedOption,
    section="Signing",
    multiple=True,
    metavar="ROLE=N",
    help="Of a new source: N keys must all sign for ROLE.",
)
@_signing_options
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
    """Add the publisher's packages in MEDIA to the source in FOLDER, and sign it; a new source gets new keys.

    Damaged files and broken signatures are refused; unsigned programs need --vouch.

    \b
    fundamen sources publish /srv/source --from saltgrass-4.2.1-x64.msi --keys ~/keys
    fundamen sources publish /srv/source --sheet tidebook.toml --keys ~/keys
    fundamen sources publish /srv/source --from wheels --artefacts --publisher Ardvane --keys ~/keys
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.publishing import Said, publish_given, require_media  # noqa: PLC0415 - loads python-tuf
    from fundamen.report.repairing.publication_text import publication_record, publication_text  # noqa: PLC0415
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
        with output.say_working(f"Publishing {origin}"):
            publications = publish_given(location, origin, said, signing)
        if output.as_json:
            for publication in publications:
                output.show_record(publication_record(publication))
        else:
            output.show(publication_text(publications, verbose=output.verbose, drawn=output.drawn))


def _carry(location: HostPath, sheets: tuple[str, ...], signing: "Signing", output: Output) -> None:
    from fundamen.cli.tasks.documents import sheets_to_publish  # noqa: PLC0415 - only where sheets are named
    from fundamen.sources.publishing import publish_documents  # noqa: PLC0415 - loads python-tuf
    from fundamen.trust.fingerprint import group_digits  # noqa: PLC0415

    fingerprint = publish_documents(location, sheets_to_publish(sheets), signing)
    output.note(f"The source carries {', '.join(sheets)} now. Its fingerprint: {group_digits(fingerprint)}")


@click.command("withdraw", cls=Subcommand, short_help="Withdraw a package from a source.")
@click.argument("folder")
@click.argument("package")
@click.argument("package_version", metavar="VERSION")
@click.option("--reason", required=True, help="Why it must no longer be used; technicians see it.")
@click.option("--untrusted", is_flag=True, help="Installed files of it must not be trusted either.")
@_signing_options
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

    It is not offered any more, and a trace shows the reason at its files; with --untrusted those files become faults.

    \b
    fundamen sources withdraw /srv/source 'Saltgrass Runtime' 4.2.1 --reason 'wrong tides' --keys ~/keys
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        repository = Repository(_require_source_folder(folder), _folders(keys), options.now() + timedelta(days=days))
        for each in repository.withdraw(package, package_version, f"{UNTRUSTED if untrusted else ''}{reason}"):
            output.note(f"Withdrawn: {each.title}. {reason}")


@click.command("renew", cls=Subcommand, short_help="Sign a source again before its signatures expire.")
@click.argument("folder")
@_signing_options
@options.output_options
def renew(folder: str, *, keys: tuple[str, ...], days: float, output: Output) -> None:
    """Sign the catalogue of the source in FOLDER again before its signatures expire; nothing else changes.

    \b
    fundamen sources renew /srv/source --keys ~/keys --days 90
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        ends = options.now() + timedelta(days=days)
        Repository(_require_source_folder(folder), _folders(keys), ends).renew()
        output.note(f"The catalogue is signed until {ends:%Y-%m-%d %H:%M} UTC.")


@click.command("rotate", cls=Subcommand, short_help="Give a role of a source new keys.")
@click.argument("folder")
@click.argument("role", type=click.Choice(("root", "targets", "snapshot", "timestamp")))
@_signing_options
@options.output_options
def rotate(folder: str, *, role: str, keys: tuple[str, ...], days: float, output: Output) -> None:
    """Give ROLE of the source in FOLDER a new key; signatures of the old key are not believed any more.

    This needs the root's key. Technicians need do nothing. The old key stays beside the new one under another name.

    \b
    fundamen sources rotate /srv/source targets --keys ~/keys --keys /media/safe/root-key
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.sources.repository import Repository  # noqa: PLC0415 - loads python-tuf

    with output:
        repository = Repository(_require_source_folder(folder), _folders(keys), options.now() + timedelta(days=days))
        repository.rotate(role)
        output.note(f"The {role} role has new keys; the old ones count no longer, and lie beside them as .retired.")
        for each, paths in repository.keys().items():
            output.note(f"  {each}: {', '.join(paths) or 'not in these folders'}")


def _require_source_folder(folder: str) -> HostPath:
    from fundamen.sources.layout import require_source  # noqa: PLC0415 - only for the packager

    location = HostPath(os.path.abspath(folder))
    require_source(location)
    return location


def _folders(keys: tuple[str, ...]) -> tuple[HostPath, ...]:
    return tuple(HostPath(os.path.abspath(os.path.expanduser(folder))) for folder in keys)

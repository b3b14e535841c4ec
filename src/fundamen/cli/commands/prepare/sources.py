"""``fundamen sources`` and its commands."""

import os
from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.commands.prepare.packager import publish, renew, rotate, withdraw
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.media import Named, media_options, on_demand
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.sources.location import default_name, is_served
from fundamen.sources.store import SourceStore

_ARCHITECTURES = [str(a) for a in Architecture if a is not Architecture.UNKNOWN]


@click.group("sources", cls=CommandGroup)
def command() -> None:
    """Trust sources of packages and see what they offer; for packagers: publish a source.

    A source is trusted once, by a fingerprint that its owner reads out to you. Nothing that it serves is believed
    without proof.

    \b
    fundamen sources trust /media/usb/source --fingerprint '3f2a 90c1 ...'
    fundamen sources offers libsaltgrass-tide.so.4
    fundamen sources publish /srv/source --from saltgrass-4.2.1-x64.msi --keys ~/keys
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("trust", short_help="Trust a source by its fingerprint.")
@click.argument("place")
@click.option("--fingerprint", required=True, help="The SHA-256 that the packager reads out to you.")
@click.option("--name", help="A name for it; default: the folder's or the server's.")
@click.option("--mirror", multiple=True, metavar="PLACE", help="Another place of the same source; tried in turn.")
@click.option("--authority", metavar="FILE", help="Root certificates (PEM) for the server.")
@options.output_options
def trust(
    place: str, *, fingerprint: str, name: str | None, mirror: tuple[str, ...], authority: str | None, output: Output
) -> None:
    """Trust the source at PLACE, a folder or an https address, if it has the fingerprint that its owner gave you.

    \b
    fundamen sources trust /media/usb/source --fingerprint '3f2a 90c1 ...' --name harbour-it
    fundamen sources trust https://it.marram.example/source --fingerprint '3f2a ...'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415 - each command its own
    from fundamen.report.repairing.sources_text import trusted_text  # noqa: PLC0415

    with output:
        location, *mirrors = (each if is_served(each) else os.path.abspath(each) for each in (place, *mirror))
        name = name or default_name(location)
        pem = options.secret(authority, "The certificates") if authority else ""
        with output.say_working(f"Proving {location}"):
            store = SourceStore(options.home())
            catalogue = store.trust(location, fingerprint, name, options.now(), mirrors, pem)
        if output.as_json:
            output.show_record(SourcesRecord((source_part(catalogue),)))
        else:
            output.show(trusted_text(catalogue, drawn=output.drawn))


@command.command("list", short_help="List the trusted sources.")
@options.output_options
def list_(output: Output) -> None:
    """List the trusted sources with their packages, and until when their signatures are valid.

    \b
    fundamen sources list
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415
    from fundamen.report.repairing.sources_text import sources_text  # noqa: PLC0415

    with output:
        catalogues = SourceStore(options.home()).catalogues()
        if output.as_json:
            output.show_record(SourcesRecord(tuple(source_part(catalogue) for catalogue in catalogues)))
        else:
            output.show(sources_text(catalogues, options.now(), drawn=output.drawn))
        expired = any(catalogue.expires_at <= options.now() for catalogue in catalogues)
    finish(Exit.FAULT_FOUND if expired else Exit.NOTHING_AT_FAULT)


@command.command("forget", short_help="Trust a source no longer.")
@click.argument("name")
@options.output_options
def forget(name: str, output: Output) -> None:
    """Trust the source NAME no longer.

    \b
    fundamen sources forget harbour-it
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        SourceStore(options.home()).forget(name)
        output.note(f"The source {name} is trusted no longer.")


@command.command("refresh", short_help="Fetch the current catalogue of every source.")
@options.output_options
def refresh(output: Output) -> None:
    """Fetch the current catalogue of every trusted source, and check its signatures.

    \b
    fundamen sources refresh
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415
    from fundamen.report.repairing.sources_text import sources_text  # noqa: PLC0415

    with output:
        store = SourceStore(options.home())
        catalogues = [store.refresh(source) for source in store.sources()]
        if output.as_json:
            output.show_record(SourcesRecord(tuple(source_part(catalogue) for catalogue in catalogues)))
        else:
            output.show(sources_text(catalogues, options.now(), drawn=output.drawn))


@command.command("verify", short_help="Check your own copies of fetched packages.")
@options.output_options
def verify(output: Output) -> None:
    """Check your own copies of what sources have brought, and repair or delete those that are damaged.

    \b
    fundamen sources verify
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import CopiesRecord, copies_record  # noqa: PLC0415
    from fundamen.report.repairing.sources_text import copies_text  # noqa: PLC0415
    from fundamen.sources.own_copies import CopyOutcome, check_copies  # noqa: PLC0415

    with output:
        with output.say_working("Checking our own copies"):
            checked = tuple(check_copies(options.home()))
        if output.as_json:
            record: CopiesRecord = copies_record(checked)
            output.show_record(record)
        else:
            output.show(copies_text(checked, drawn=output.drawn))
        is_gone = any(each.outcome is CopyOutcome.DELETED for each in checked)
    finish(Exit.FAULT_FOUND if is_gone else Exit.NOTHING_AT_FAULT)


@command.command("offers", short_help="Show which source offers a component.")
@click.argument("need")
@click.option("--for", "architecture", type=click.Choice(_ARCHITECTURES), help="Default: that of this host.")
@click.option(
    "--version", "versions", default="", metavar="SPEC", help="The versions that will do, as '==4.2.1' or '>=4.2'."
)
@click.option("--no-archive", is_flag=True, help="Do not ask the operating system's own archive.")
@media_options
@options.machine_options
@options.output_options
def offers(
    need: str,
    *,
    architecture: str | None,
    versions: str,
    no_archive: bool,
    media: Named,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Show which trusted source offers the component NEED, best first, and why an offer may not be used.

    \b
    fundamen sources offers libsaltgrass-tide.so.4
    fundamen sources offers saltgrass.dll --machine /mnt/disk --for x86
    fundamen sources offers libsaltgrass-tide.so.4 --version '==4.2.1'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import OffersRecord, offer_part  # noqa: PLC0415
    from fundamen.report.repairing.sources_text import offers_text  # noqa: PLC0415
    from fundamen.sources.offers import find_builds, find_offers, require_specifier  # noqa: PLC0415
    from fundamen.sources.refreshing import proven_catalogues  # noqa: PLC0415

    with output:
        wanted = Architecture(architecture) if architecture else options.this_architecture()
        require_specifier(versions)
        examined, home = machine(), options.home()
        catalogues = list(proven_catalogues(SourceStore(home), output.note, options.now()))
        with output.say_working("Asking the media and the system's archive"):
            for each in on_demand(examined, media, output, archive=not no_archive):
                catalogues += filter(None, [each.catalogue_of({need}, (), wanted)])
        found = find_offers(catalogues, (need,), examined.platform, wanted, versions=versions)
        builds = find_builds(found, examined.platform, wanted)
        if output.as_json:
            output.show_record(OffersRecord(need, tuple(offer_part(offer) for offer in found), builds))
        else:
            output.show(offers_text(need, found, wanted, builds, drawn=output.drawn))
        is_offered = any(offer.is_eligible for offer in found)
    finish(Exit.NOTHING_AT_FAULT if is_offered else Exit.FAULT_FOUND)


for each in (publish, withdraw, renew, rotate):
    command.add_command(each)

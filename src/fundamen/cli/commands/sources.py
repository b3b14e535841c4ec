"""``fundamen sources`` and its commands."""

import os
from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.commands.packager import publish, renew, rotate, withdraw
from fundamen.cli.exits import Exit
from fundamen.cli.media import Named, media_options, on_demand
from fundamen.cli.output import Output, finish
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.paths import HostPath
from fundamen.sources.place import default_name, is_served
from fundamen.sources.store import SourceStore

_ARCHITECTURES = [str(a) for a in Architecture if a is not Architecture.UNKNOWN]


@click.group("sources")
def command() -> None:
    """The trusted sources: trust, list, offers; for the packager: publish.

    A source is trusted once, by a fingerprint that you get over a second way, such as the telephone. From then on
    nothing it serves is believed without proof.
    """


@command.command("trust")
@click.argument("place")
@click.option("--fingerprint", required=True, help="The SHA-256 that the packager reads out; blanks do not matter.")
@click.option("--name", help="How you want to call it; default: the folder's or the server's name.")
@click.option("--mirror", multiple=True, metavar="PLACE", help="Where the same source lies too; tried in turn.")
@click.option("--authority", metavar="FILE", help="Certificates (PEM) that the server's chain may end in.")
@options.output_options
def trust(
    place: str, *, fingerprint: str, name: str | None, mirror: tuple[str, ...], authority: str | None, output: Output
) -> None:
    """Trust the source at PLACE, a folder or an https address, if it has the fingerprint that you were told.

    \b
    fundamen sources trust /media/usb/source --fingerprint '3f2a 90c1 ...' --name harbour-it
    fundamen sources trust https://it.marram.example/source --mirror /media/usb/source --fingerprint '3f2a ...'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415 - each command its own
    from fundamen.report.sources_text import trusted_text  # noqa: PLC0415

    with output:
        location, *mirrors = (each if is_served(each) else os.path.abspath(each) for each in (place, *mirror))
        name = name or default_name(location)
        pem = options.secret(authority, "The certificates") if authority else ""
        with output.working(f"Proving {location}"):
            store = SourceStore(options.home())
            catalogue = store.trust(location, fingerprint, name, options.now(), mirrors, pem)
        if output.as_json:
            output.show_record(SourcesRecord((source_part(catalogue),)))
        else:
            output.show(trusted_text(catalogue, drawn=output.drawn))


@command.command("list")
@options.output_options
def list_(output: Output) -> None:
    """List the trusted sources with their packages, and until when their signatures hold."""
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415
    from fundamen.report.sources_text import sources_text  # noqa: PLC0415

    with output:
        catalogues = SourceStore(options.home()).catalogues()
        if output.as_json:
            output.show_record(SourcesRecord(tuple(source_part(catalogue) for catalogue in catalogues)))
        else:
            output.show(sources_text(catalogues, options.now(), drawn=output.drawn))
        expired = any(catalogue.expires_at <= options.now() for catalogue in catalogues)
    finish(Exit.FAULT_FOUND if expired else Exit.NOTHING_AT_FAULT)


@command.command("forget")
@click.argument("name")
@options.output_options
def forget(name: str, output: Output) -> None:
    """Trust the source NAME no longer."""
    with output:
        SourceStore(options.home()).forget(name)
        output.note(f"The source {name} is trusted no longer.")


@command.command("refresh")
@options.output_options
def refresh(output: Output) -> None:
    """Bring the current catalogue of every trusted source in, and check every signature in it."""
    from fundamen.report.contracts.sourcing import SourcesRecord, source_part  # noqa: PLC0415
    from fundamen.report.sources_text import sources_text  # noqa: PLC0415

    with output:
        store = SourceStore(options.home())
        catalogues = [store.refresh(source) for source in store.sources()]
        if output.as_json:
            output.show_record(SourcesRecord(tuple(source_part(catalogue) for catalogue in catalogues)))
        else:
            output.show(sources_text(catalogues, options.now(), drawn=output.drawn))


@command.command("verify")
@options.output_options
def verify(output: Output) -> None:
    """Check our own copies of what sources have brought: sound, repaired from the source, or taken away.

    Restorations draw on these copies. What is taken away is fetched anew when it is needed.

    \b
    fundamen sources verify
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import CopiesRecord, copies_record  # noqa: PLC0415
    from fundamen.report.sources_text import copies_text  # noqa: PLC0415
    from fundamen.sources.own_copies import Outcome, check_copies  # noqa: PLC0415

    with output:
        with output.working("Checking our own copies"):
            checked = tuple(check_copies(options.home()))
        if output.as_json:
            record: CopiesRecord = copies_record(checked)
            output.show_record(record)
        else:
            output.show(copies_text(checked, drawn=output.drawn))
        is_gone = any(each.outcome is Outcome.TAKEN_AWAY for each in checked)
    finish(Exit.FAULT_FOUND if is_gone else Exit.NOTHING_AT_FAULT)


@command.command("offers")
@click.argument("need")
@click.option("--for", "architecture", type=click.Choice(_ARCHITECTURES), help="Default: that of this host.")
@click.option(
    "--version", "versions", default="", metavar="SPEC", help="Which versions serve, as '==4.2.1' or '>=4.2'."
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

    On Debian the archive is asked too, for what an installed package has brought.

    \b
    fundamen sources offers libsaltgrass-tide.so.4
    fundamen sources offers saltgrass.dll --machine /mnt/disk --for x86
    fundamen sources offers libsaltgrass-tide.so.4 --for aarch64 --version '==4.2.1'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.contracts.sourcing import OffersRecord, offer_part  # noqa: PLC0415
    from fundamen.report.sources_text import offers_text  # noqa: PLC0415
    from fundamen.sources.offers import find_builds, find_offers, require_specifier  # noqa: PLC0415
    from fundamen.sources.refreshing import proven_catalogues  # noqa: PLC0415

    with output:
        wanted = Architecture(architecture) if architecture else options.this_architecture()
        require_specifier(versions)
        examined, home = machine(), options.home()
        catalogues = list(proven_catalogues(SourceStore(home), output.note, options.now()))
        with output.working("Asking the media and the system's archive"):
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


@command.command("record")
@click.argument("name")
@click.argument("folder")
@click.option("--leave-out", multiple=True, metavar="PATTERN", help="Paths that are not looked at, as 'cache/*'.")
@click.option("--as-machine", is_flag=True, help="FOLDER is the root of a clean machine; offer its files for needs.")
@options.output_options
def record(name: str, folder: str, *, leave_out: tuple[str, ...], as_machine: bool, output: Output) -> None:
    """Record what the clean FOLDER holds as the reference NAME: to compare with, and to bring back from.

    Of a clean machine's root, programs and libraries are then also offered for what another machine lacks.

    \b
    fundamen sources record charts /srv/clean/charts --leave-out '*.pyc'
    fundamen sources compare charts /opt/charts
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.machine.opening import open_machine  # noqa: PLC0415 - each command its own
    from fundamen.sources.reference import References  # noqa: PLC0415

    with output:
        with output.working(f"Recording {folder}"):
            location = HostPath(os.path.abspath(folder))
            platform = open_machine(location).platform if as_machine else None
            baseline = References(options.home()).record(name, location, leave_out, options.now(), platform)
        output.note(f"Recorded: {name}; {location} holds {len(baseline.entries)} files and links.")


@command.command("compare")
@click.argument("name")
@click.argument("folder")
@options.machine_options
@options.output_options
def compare(name: str, folder: str, machine: Callable[[], Machine], output: Output) -> None:
    """Compare FOLDER with the reference NAME: what has vanished, what differs, what is extra, and who is at fault.

    \b
    fundamen sources compare charts /opt/charts
    """  # noqa: D301
    from fundamen.cli.reference import compared  # noqa: PLC0415
    from fundamen.report.contracts.comparing import comparison_record  # noqa: PLC0415
    from fundamen.report.reference_text import comparison_text  # noqa: PLC0415

    with output:
        examined = machine()
        path = examined.spelled(folder)
        comparison = compared(name, examined.host_path(path), output)
        if output.as_json:
            output.show_record(comparison_record(comparison))
        else:
            output.show(comparison_text(comparison, examined, path, drawn=output.drawn, is_first=True))
    finish(Exit.FAULT_FOUND if comparison.at_fault else Exit.NOTHING_AT_FAULT)


@command.command("locked")
@click.argument("lock_file", metavar="LOCKFILE")
@click.option("--artefacts", multiple=True, metavar="FOLDER", help="Where wheels, source archives or tarballs lie.")
@click.option("--for", "architecture", type=click.Choice(_ARCHITECTURES), help="Default: that of this host.")
@options.machine_options
@options.output_options
def locked(
    lock_file: str,
    *,
    artefacts: tuple[str, ...],
    architecture: str | None,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Check LOCKFILE against the files that lie there: which fit, and of those that differ, who is at fault.

    A pylock.toml, a package-lock.json, or a requirements file with hashes. The lock file has aged where a trusted
    source or a recorded reference vouches for the file that lies there; the file was altered where they vouch for the
    locked digest. Where a pinned version has no build for the processor, the versions that have one are named.

    \b
    fundamen sources locked pylock.toml --artefacts wheels --for aarch64
    fundamen restore --lock-entry saltgrass --artefacts wheels pylock.toml
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.locks import checked_lock, read_lock, show_lock  # noqa: PLC0415 - each command its own

    with output:
        examined = machine()
        path = examined.spelled(lock_file)
        _, lock = read_lock(examined, path)
        wanted = Architecture(architecture) if architecture else options.this_architecture()
        status = show_lock(path, lock, checked_lock(lock, artefacts, wanted), output)
    finish(status)


for each in (publish, withdraw, renew, rotate):
    command.add_command(each)

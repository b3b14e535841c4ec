"""``fundamen locks`` and its commands."""

from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.locks import checked_lock, read_lock, refresh_lock, show_lock
from fundamen.cli.tasks.restoring import Consent, Desk
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture

_ARCHITECTURES = [str(a) for a in Architecture if a is not Architecture.UNKNOWN]
_FOLDERS = "A folder with wheels, source archives or tarballs."


@click.group("locks", cls=CommandGroup)
def command() -> None:
    """Check the files that a lock file pins, or refresh an entry that has aged.

    A lock file is a pylock.toml, a package-lock.json, or a requirements file with hashes.

    \b
    fundamen locks check pylock.toml --artefacts wheels
    fundamen locks refresh pylock.toml saltgrass --artefacts wheels
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("check", short_help="Compare files with what a lock file pins.")
@click.argument("lock_file", metavar="LOCKFILE")
@click.option("--artefacts", multiple=True, metavar="FOLDER", help=_FOLDERS)
@click.option("--for", "architecture", type=click.Choice(_ARCHITECTURES), help="Default: that of this host.")
@options.machine_options
@options.output_options
def check(
    lock_file: str,
    *,
    artefacts: tuple[str, ...],
    architecture: str | None,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Compare the files in the folders with LOCKFILE: which fit, and whether a file was altered or the lock has aged.

    The lock has aged where a trusted source or a reference knows the file. Where a pinned version has no build for the
    processor, the versions that have one are named.

    \b
    fundamen locks check pylock.toml --artefacts wheels --for aarch64
    """  # noqa: D301
    with output:
        examined = machine()
        path = examined.absolute_path(lock_file)
        _, lock = read_lock(examined, path)
        wanted = Architecture(architecture) if architecture else options.this_architecture()
        status = show_lock(path, lock, checked_lock(lock, artefacts, wanted), output)
    finish(status)


@command.command("refresh", short_help="Pin what a source offers now; keep the old file.")
@click.argument("lock_file", metavar="LOCKFILE")
@click.argument("entry")
@click.option("--artefacts", multiple=True, metavar="FOLDER", help=_FOLDERS)
@click.option("--yes", is_flag=True, help="Do it without asking.")
@options.machine_options
@options.output_options
def refresh(
    lock_file: str,
    entry: str,
    *,
    artefacts: tuple[str, ...],
    yes: bool,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Give ENTRY of LOCKFILE the digest of the file in the folders, if a trusted source or a reference knows the file.

    \b
    fundamen locks refresh pylock.toml saltgrass --artefacts wheels
    """  # noqa: D301
    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        require_ready(examined, journal)
        desk = Desk(examined, journal, output, Consent(only_rehearse=False, yes=yes))
        status = refresh_lock(desk, examined.absolute_path(lock_file), entry, artefacts)
    finish(status)

"""``fundamen fleet``."""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from typing import Any

import click

from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.figure_writing import FIGURES
from fundamen.cli.helping import Subcommand
from fundamen.cli.options import output_options
from fundamen.cli.output import Output, finish
from fundamen.cli.writing import form_of, require_new, write_file
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.report.contracts.machines import fleet_record
from fundamen.report.drawing.figures import fleet_figure
from fundamen.report.examining.fleet_text import fleet_csv, fleet_parquet, fleet_text
from fundamen.survey.fleet import Fleet, Map, Read, read_fleet

_FEW = 16  # captures that are read without further processes
_AT_ONCE = 8  # captures that a process is given together


@click.command("fleet", cls=Subcommand)
@click.argument("folder")
@click.option("--write", "targets", multiple=True, metavar="FILE", help="As .csv, .parquet, .html, .svg or .png.")
@click.option("--scheduler", metavar="ADDRESS", help="Read them on this Dask cluster.")
@output_options
def command(folder: str, *, targets: tuple[str, ...], scheduler: str | None, output: Output) -> None:
    """Compare all machines whose captures are in FOLDER: shared faults, machines that stand out, versions.

    Make each capture with 'fundamen capture --all'.

    \b
    fundamen fleet captures
    fundamen fleet captures --write fleet.csv --write fleet.html
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        require_new(targets, _FORMS, "fleet.csv or fleet.html")
        paths = _captures(folder)
        with output.say_working(f"Reading {len(paths)} captures"), _spread(len(paths), scheduler) as spread:
            fleet = read_fleet(paths, spread)
        if not fleet.machines:
            first = fleet.refused[0]
            raise UnreadableError(
                what=say("cli.has-no-capture-of-a-whole", folder=printable(folder)),
                why=f"{printable(first.path)}: {first.why}",
                do=say("cli.have-captures-made-with-fundamen-capture"),
            )
        for target in targets:
            write_file(target, form_of(target, _FORMS)(fleet), output)
        if output.as_json:
            output.show_record(fleet_record(fleet))
        else:
            output.show(fleet_text(fleet, verbose=output.verbose, drawn=output.drawn))
        status = Exit.FAULT_FOUND if fleet.faults else Exit.NOTHING_AT_FAULT
        for bug in (each.bug for each in fleet.refused if each.bug is not None):
            output.tell(bug)
            status = exit_of(bug)
    finish(status)


def _captures(folder: str) -> list[HostPath]:
    """The files of a folder, by name. Raises: UnreadableError: it cannot be read, or has none."""
    try:
        names = sorted(os.listdir(folder))
    except OSError as error:
        raise UnreadableError(
            say("cli.cannot-be-read", path=printable(folder)),
            error.strerror or str(error),
            say("cli.name-a-folder-with-captures"),
        ) from error
    paths = [HostPath(os.path.abspath(os.path.join(folder, name))) for name in names]
    files = [path for path in paths if os.path.isfile(path)]
    if not files:
        raise UnreadableError(
            say("cli.has-no-capture", folder=printable(folder)),
            say("cli.no-file-lies-in-it"),
            say("cli.see-fundamen-capture-help"),
        )
    return files


@contextmanager
def _spread(count: int, scheduler: str | None) -> Iterator[Map]:
    """The executor of the reading: this process, several processes, or a cluster."""
    if scheduler is not None:
        with _on_cluster(scheduler) as spread:
            yield spread
    elif count <= _FEW:
        yield map
    else:
        with ProcessPoolExecutor() as pool:
            yield lambda read, paths: pool.map(read, paths, chunksize=_AT_ONCE)


@contextmanager
def _on_cluster(address: str) -> Iterator[Map]:
    try:
        from distributed import Client  # noqa: PLC0415 - an extra
    except ImportError as error:
        raise UsageError(
            what=say("cli.the-captures-cannot-be-read-on"),
            why=say("cli.the-library-for-it-is-not"),
            do=say("cli.pip-install-fundamen-cluster-or-leave"),
        ) from error
    try:
        connect: Callable[..., Any] = Client
        client = connect(address, timeout=10)
    except (OSError, ValueError, TimeoutError) as error:
        raise UnreadableError(
            what=say("cli.the-cluster-at-cannot-be-reached", address=printable(address)),
            why=str(error) or type(error).__name__,
            do=say("cli.see-that-its-scheduler-runs-and"),
        ) from error

    def spread(read: Callable[[HostPath], Read], paths: Sequence[HostPath]) -> Iterable[Read]:
        found: list[Read] = client.gather(client.map(read, paths, batch_size=_AT_ONCE, pure=False))
        return found

    with client:
        yield spread


def _drawing_of(ending: str) -> Callable[[Fleet], bytes | str]:
    return lambda fleet: FIGURES[ending](fleet_figure(fleet))


_FORMS: dict[str, Callable[[Fleet], bytes | str]] = {
    ".csv": fleet_csv,
    ".parquet": fleet_parquet,
    **{ending: _drawing_of(ending) for ending in FIGURES},
}

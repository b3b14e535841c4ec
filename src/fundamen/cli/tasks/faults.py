"""Put programs right by packages: the plan for their faults, its consent, and what came of it."""

import time
from collections.abc import Sequence
from functools import partial

import msgspec

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import require_free
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.cli.tasks.fetching import fetcher
from fundamen.cli.tasks.media import Named, new_packages, on_demand
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.model.paths import MachinePath
from fundamen.report.contracts.restoring import restore_record
from fundamen.report.repairing.restore_text import rehearsal_text, restoration_text
from fundamen.restore.launch import require_launchable
from fundamen.restore.plan import Pin
from fundamen.restore.rehearsal import Scope, rehearse
from fundamen.restore.restoration import with_launch
from fundamen.sources.refreshing import proven_catalogues
from fundamen.sources.store import SourceStore
from fundamen.trace.lost import find_program_or_lost

SETTLE_SECONDS = 0.5
LAUNCH_SECONDS = 20.0


class Launching(msgspec.Struct, frozen=True):
    """That the program is run afterwards."""

    arguments: tuple[str, ...]
    seconds: float  # how long at most


class RepairRequest(msgspec.Struct, frozen=True, kw_only=True):
    """Further options of a restoration of programs."""

    also: Sequence[str] = ()
    pins: tuple[Pin, ...] = ()
    because: str = ""
    install: Sequence[str] = ()
    media: Named = Named((), (), "")
    archive: bool = True
    save_plan: str | None = None
    launching: Launching | None = None
    settle_seconds: float = SETTLE_SECONDS
    waiting: str = ""
    follows: bool = True  # whether what scripts start is repaired with them
    again: str = ""  # how the command that performs it is written, where it is another one than ``restore``

    @property
    def words(self) -> tuple[str, ...]:
        """The options once more, without which it could not be performed."""
        installs = (word for name in self.install for word in ("--install", name))
        pins = (word for pin in self.pins for word in ("--pin", f"{pin.package}{pin.versions}"))
        return (*self.media.words, *installs, *pins, *(("--because", self.because) if self.pins else ()))


def restore_programs(desk: Desk, programs: Sequence[MachinePath], asked: RepairRequest) -> Exit:
    """Put the first program right, and the others with it, after consent, and give the exit status.

    Raises:
        FundamenError: as its steps raise.
    """
    machine, output, home = desk.machine, desk.output, options.home()
    path, *more = programs
    if asked.save_plan is not None:
        require_free(asked.save_plan)
    if asked.launching is not None:
        require_launchable(machine, path)
    store = SourceStore(home)
    with output.say_working("Proving the sources"):
        catalogues = proven_catalogues(store, output.note, options.now())
    authorities = authorities_at(home, machine.platform, options.now(), output)
    further = on_demand(machine, asked.media, output, archive=asked.archive)
    with output.say_working(f"Rehearsing the restoration of {path}"):
        new = new_packages(machine, asked.install, output)
        named = (find_program_or_lost(machine, name) for name in asked.also)
        others = [each for each in dict.fromkeys((*named, *desk.journal.programs())) if each not in programs]
        scope = Scope(more, others, asked.pins, asked.because, asked.follows, store.keep)
        rehearsal = rehearse(machine, path, catalogues, authorities, fetcher(store, output), further, new, scope)
    if asked.save_plan is not None:
        from fundamen.cli.tasks.plans import save_plan  # noqa: PLC0415 - seldom asked for

        save_plan(machine, rehearsal, asked.save_plan, output)
    if not output.as_json:
        output.show(rehearsal_text(rehearsal, machine, drawn=output.drawn))
    restoration, state = carried_through(
        desk,
        rehearsal.prepare(authorities),
        settle=partial(time.sleep, asked.settle_seconds),
        waiting=asked.waiting,
    )
    if restoration.proof is not None:
        output.remember(trace=restoration.proof.traces[0])
    if asked.launching is not None and state in {"restored", "not needed"}:
        restoration = with_launch(restoration, machine, asked.launching.arguments, asked.launching.seconds)
    if output.as_json:
        output.show_record(restore_record(restoration, state))
    else:
        text = restoration_text(
            restoration, rehearsal, machine, drawn=output.drawn, again=asked.again, options=asked.words, more=more
        )
        output.show("\n" * (state == "restored") + text)
    return exit_after(restoration)

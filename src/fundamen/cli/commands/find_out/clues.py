"""``fundamen clues``."""

import os
import sys
from collections.abc import Callable, Iterator
from functools import cache
from typing import TYPE_CHECKING, NamedTuple

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.authorities import authorities_at, given_certificates
from fundamen.clues.inputs import Text, texts_of
from fundamen.clues.reading import Reading, decisive_of, read_text
from fundamen.clues.scanning import Scanner
from fundamen.clues.text import Stream
from fundamen.knowledge.entries import Knowledge, load_knowledge
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import FundamenError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import HostPath

if TYPE_CHECKING:
    from fundamen.clues.behind import Behind


@click.command("clues", cls=Subcommand)
@click.argument("logs", nargs=-1, metavar="[LOG]...")
@click.option("--text", "-t", "messages", multiple=True, metavar="TEXT", help="A message, as it was read out to you.")
@click.option("--only-read", is_flag=True, help="Only read; do not look at the machine.")
@click.option(
    "--knowledge", multiple=True, metavar="FOLDER", help="Messages and codes of your own (docs/formats/knowledge.md)."
)
@click.option("--follow", "-f", is_flag=True, help="Wait for new lines, and show the decisive ones as they come.")
@click.option(
    "--from-start",
    cls=OnlyWith,
    only_with=("--follow",),
    is_flag=True,
    help="With --follow: read the lines that are already there, too.",
)
@click.option(
    "--until",
    "text",
    cls=OnlyWith,
    only_with=("--follow",),
    metavar="TEXT",
    default="",
    help="With --follow: end with a line that has TEXT.",
)
@click.option(
    "--until-file",
    "file",
    cls=OnlyWith,
    only_with=("--follow",),
    metavar="FILE",
    default="",
    help="With --follow: end when FILE exists.",
)
@click.option(
    "--until-exit",
    "process",
    cls=OnlyWith,
    only_with=("--follow",),
    metavar="PID",
    type=click.IntRange(1),
    default=None,
    help="With --follow: end when process PID ends.",
)
@click.option(
    "--for",
    "seconds",
    cls=OnlyWith,
    only_with=("--follow",),
    metavar="SECONDS",
    type=click.FloatRange(0),
    default=0,
    help="With --follow: end after so long.",
)
@options.machine_options
@options.output_options
def command(
    logs: tuple[str, ...],
    messages: tuple[str, ...],
    *,
    only_read: bool,
    knowledge: tuple[str, ...],
    follow: bool,
    from_start: bool,
    text: str,
    file: str,
    process: int | None,
    seconds: float,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Explain an error message or a LOG: the first cause, what it names, and what the machine has of it.

    A LOG is a file, a folder, an archive of logs, or - for standard input. Nothing is run and nothing is changed.

    \b
    fundamen clues setup.log
    fundamen clues --text 'tidebook: error while loading shared libraries: libtide.so.2'
    fundamen clues --follow --until 'Setup ended' setup.log service.log
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        logs = _require_texts(logs, messages, follow=follow)
        known = load_knowledge([*_own_folder(), *map(HostPath, knowledge)])
        scanner = Scanner(known)
        answers: list[Reading | UnreadText] = []  # one for each text that was named
        if follow:
            from fundamen.cli.tasks import following  # noqa: PLC0415 - only where it is asked for

            until = following.Until(text=text, file=file, process=process or 0, seconds=seconds)
            answers += following.follow(known, scanner, logs, until, output, from_start=from_start)
            logs = ()
        for name, stream in _texts(logs, messages):
            try:
                if isinstance(stream, FundamenError):
                    raise stream
                with Isolated(name), output.say_working(f"Reading {name}"):
                    answers.append(_read_stream(known, scanner, stream, name))
            except FundamenError as error:
                if name in logs:
                    output.tell(error)
                    answers.append(UnreadText(name, error))
                else:
                    output.note(f"Passed over: {error.what}: {error.why}")
        if follow and not output.as_json:
            output.show("\n")  # between what was called out and the summary
        status = _show_all(output, answers, machine, only_read=only_read)
    finish(status)


class UnreadText(NamedTuple):
    """A text that cannot be read."""

    name: str
    error: FundamenError


def _require_texts(logs: tuple[str, ...], messages: tuple[str, ...], *, follow: bool) -> tuple[str, ...]:
    """The logs to be read; standard input, where nothing is named and something is piped in.

    Raises:
        UsageError: there is nothing to read, or what cannot be followed.
    """
    if follow and (messages or not logs or "-" in logs):
        raise UsageError(
            what=say("cli.that-cannot-be-followed"),
            why=say("cli.only-files-can-be-also-ones"),
            do=say("cli.name-the-logs-fundamen-clues-follow"),
        )
    if logs or messages:
        return logs
    if sys.stdin.isatty():
        raise UsageError(
            what=say("cli.no-text-is-given"),
            why=say("cli.neither-a-log-nor-text-was"),
            do=say("cli.paste-the-message-fundamen-clues-text"),
        )
    return ("-",)


def _own_folder() -> list[HostPath]:
    """The organisation's own knowledge, where there is some."""
    folder = HostPath(os.path.join(options.home(), "knowledge"))
    return [folder] if os.path.isdir(folder) else []


def _texts(logs: tuple[str, ...], messages: tuple[str, ...]) -> Iterator[Text]:
    import io  # noqa: PLC0415 - beside what it serves

    for number, message in enumerate(messages, 1):
        yield (
            "message" if len(messages) == 1 else f"message {number}",
            io.BytesIO(message.encode("utf-8", "surrogateescape")),
        )
    for log in logs:
        if log == "-":
            yield "-", sys.stdin.buffer
        else:
            try:
                with Isolated(log):
                    yield from texts_of(log)
            except FundamenError as error:
                yield log, error


def _read_stream(known: Knowledge, scanner: Scanner, stream: Stream, name: str) -> Reading:
    """A text's reading; that of a large file by several processes."""
    if os.path.isfile(name):
        from fundamen.clues import large  # noqa: PLC0415 - only for a file, which may be large

        if getattr(stream, "name", None) == name and large.may_be_shared(name):
            return large.read_large(known, scanner, name)
    return read_text(known, scanner, stream, name)


def _show_all(
    output: Output, answers: list[Reading | UnreadText], opened: Callable[[], Machine], *, only_read: bool
) -> Exit:
    """Look behind what was read, and show it; of texts as JSON in the order in which they were named."""
    readings = [each for each in answers if isinstance(each, Reading)]
    machine = cache(opened)
    chosen = decisive_of(readings) if readings else None
    behind: dict[str, Behind | FundamenError | None] = {}
    if chosen is not None and not only_read:
        with output.say_working("Looking behind it on the machine"):
            behind = _look_behind(machine(), readings if output.as_json else [chosen], output)
    refused = [UnreadText(name, error) for name, error in behind.items() if isinstance(error, FundamenError)]
    for each in refused:
        output.tell(each.error)
    if output.as_json:
        for answer in answers:
            error = next((each for each in refused if each.name == answer.name), answer)
            _show_record(output, error, behind, machine)
    elif chosen is not None:
        from fundamen.report.examining.clues_text import clues_text  # noqa: PLC0415 - only where something was read

        found = _find_behind(behind, chosen.name)
        output.show(clues_text(chosen, readings, found, machine(), drawn=output.drawn, verbose=output.verbose))
    failed = [*refused, *(each for each in answers if isinstance(each, UnreadText))]
    worst = max((exit_of(each.error) for each in failed), default=Exit.NOTHING_AT_FAULT)
    if chosen is None or chosen.decisive is None:
        return worst
    output.remember(reading=chosen, behind=_find_behind(behind, chosen.name))
    return max(worst, Exit.FAULT_FOUND)


def _look_behind(
    machine: Machine, readings: list[Reading], output: Output
) -> "dict[str, Behind | FundamenError | None]":
    from fundamen.clues.behind import look_behind  # noqa: PLC0415 - only where it is looked up

    authorities = authorities_at(options.home(), machine.platform, options.now(), output)
    publishers = cache(lambda: given_certificates((), options.now()))
    found: dict[str, Behind | FundamenError | None] = {}
    for reading in readings:
        try:
            with Isolated(reading.name):
                found[reading.name] = look_behind(machine, reading, authorities, publishers)
        except FundamenError as error:
            found[reading.name] = error
    return found


def _find_behind(behind: "dict[str, Behind | FundamenError | None]", name: str) -> "Behind | None":
    found = behind.get(name)
    return None if isinstance(found, FundamenError) else found


def _show_record(
    output: Output,
    answer: Reading | UnreadText,
    behind: "dict[str, Behind | FundamenError | None]",
    machine: Callable[[], Machine],
) -> None:
    from fundamen.report.contracts.line import failure  # noqa: PLC0415 - only for JSON
    from fundamen.report.contracts.reading import CluesRecord, clues_record  # noqa: PLC0415

    if isinstance(answer, UnreadText):
        output.show_record(CluesRecord(input=answer.name, error=failure(answer.error)))
        return
    from fundamen.report.examining.clues_text import steps  # noqa: PLC0415

    found = _find_behind(behind, answer.name)
    output.show_record(clues_record(answer, found, steps(answer, found, machine())))

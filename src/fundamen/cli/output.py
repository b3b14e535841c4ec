"""Where results and messages go: results to standard output, messages about the run to standard error."""

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from types import TracebackType
from typing import Any, NoReturn, Self

import click

from fundamen.cli.exits import Exit, exit_of
from fundamen.messages import say
from fundamen.model.display import printable, shown_lines, shown_page
from fundamen.model.errors import FundamenError, InternalError, UnreadableError, UsageError

_STATUS_WIDTH = 80
_LONGEST_ANSWER = 400  # characters

_LARGE = 1 << 20  # bytes


class Output:
    """The output options of a command, and the door through which all output goes.

    Used as a context manager around a command's work: an error inside is reported in its three parts, in the form that
    the options ask for, and ends the run with its exit status.
    """

    def __init__(self, *, as_json: bool, quiet: bool, verbose: bool, facts: dict[str, Any] | None = None) -> None:
        """Begin; ``facts`` gets what the run finds out, for the case that it may be recorded in."""
        self._facts: dict[str, Any] = {} if facts is None else facts
        self.as_json = as_json
        self.quiet = quiet
        self.verbose = verbose
        self.drawn = _can_draw(sys.stdout)
        self._bug_file: str | None = None
        self._colour = False if os.environ.get("NO_COLOR") else None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _t: type[BaseException] | None, error: BaseException | None, _tb: TracebackType | None) -> None:
        if isinstance(error, OSError) and not isinstance(error, BrokenPipeError):
            error = _of_the_host(error)
        if isinstance(error, FundamenError):
            _log("failed", error)
            self._fail(error)
            sys.exit(exit_of(error))
        if isinstance(error, KeyboardInterrupt):
            click.echo("\nStopped.", err=True)  # what changes a machine undoes it, or says that it is unfinished
            sys.exit(Exit.INTERRUPTED)

    def show(self, text: str) -> None:
        """Print a result as text."""
        if text.strip() and "answer" not in self._facts:
            first = click.unstyle(text).strip().partition("\n\n")[0]
            self._facts["answer"] = " ".join(first.split())[:_LONGEST_ANSWER]
        if not self.quiet:
            click.echo(shown_page(text), nl=False, color=self._colour)

    def remember(self, **facts: Any) -> None:  # noqa: ANN401 - as cases.recording takes them
        """Keep what this run has found out for the case that it may be recorded in; what was found first stays."""
        for name, value in facts.items():
            if value:
                self._facts.setdefault(name, value)

    def expect_second_answer(self) -> None:
        """Take the next text as the answer, in place of what was shown before it, such as a plan."""
        self._facts.pop("answer", None)

    def show_record(self, record: Any) -> None:  # noqa: ANN401 - any msgspec record; naming it would import msgspec
        """Print a result as one line of JSON."""
        from fundamen.report.contracts.line import json_line  # noqa: PLC0415 - only where JSON is asked for

        click.echo(json_line(record))

    def note(self, text: str) -> None:
        """Print a message about the run."""
        _log(text)
        if not self.quiet:
            click.echo(printable(text), err=True)

    def tell(self, error: FundamenError) -> None:
        """Print an error about one input, while the others go on."""
        _log("an input failed", error)
        click.echo(_in_three_lines(error), err=True, nl=False)
        if isinstance(error, InternalError):
            self._keep(error)

    def _keep(self, error: InternalError) -> None:
        """Add a bug of ours to this run's own file, and name it."""
        self._bug_file = _kept_bug(error.details, self._bug_file)
        click.echo(f"  File: {self._bug_file}", err=True)

    def ask_consent(self, question: str) -> bool:
        """Ask for consent on standard error, so that a redirected result stays clean; no terminal means no."""
        if self.as_json or self.quiet:
            return False
        try:
            return click.confirm(shown_lines(question), default=False, err=True)
        except click.Abort:
            click.echo("", err=True)
            return False

    @contextmanager
    def progress(self, count: int, label: str) -> Iterator[Any]:
        """A progress bar on standard error, shown only to a person at a terminal; gives a function to call per step."""
        with self._bar(count, label, show_pos=True) as more:
            yield lambda _item: more(1)

    @contextmanager
    def count_up(self, count: int, label: str) -> Iterator[Any]:
        """The same for very many things: gives a function to call with how many more are done; shows an estimate."""
        with self._bar(count, label, show_eta=True) as more:
            yield more

    @contextmanager
    def _bar(self, count: int, label: str, **info: bool) -> Iterator[Any]:
        if self.as_json or self.quiet or not sys.stderr.isatty() or count == 0:
            yield lambda _count: None
            return
        full, empty = ("■", "□") if _can_draw(sys.stderr) else ("#", "_")
        with click.progressbar(
            length=count,
            label=printable(label),
            file=sys.stderr,
            fill_char=full,
            empty_char=empty,
            bar_template="%(label)s  %(bar)s  %(info)s",
            show_pos=info.get("show_pos", False),
            show_eta=info.get("show_eta", True),
        ) as bar:
            yield bar.update

    @contextmanager
    def receive_bar(self, size: int, label: str, verb: str = "Fetching") -> Iterator[Any]:
        """A progress bar over bytes of what is large enough to be waited for; gives a function to call with counts.

        Where no one is at a terminal, or the bytes are few, nothing is shown.
        """
        if self.as_json or self.quiet or not sys.stderr.isatty() or size < _LARGE:
            yield lambda _count: None
            return
        full, empty = ("■", "□") if _can_draw(sys.stderr) else ("#", "_")
        with click.progressbar(
            length=size,
            label=printable(f"{verb} {label}, {size >> 20} MiB"),
            file=sys.stderr,
            fill_char=full,
            empty_char=empty,
            bar_template="%(label)s  %(bar)s  %(info)s",
        ) as bar:
            yield bar.update

    @contextmanager
    def say_working(self, text: str) -> Iterator[None]:
        """Say on standard error what is being done, to a person at a terminal, once it takes longer than a second."""
        if self.as_json or self.quiet or not sys.stderr.isatty():
            yield
            return
        import threading  # noqa: PLC0415 - only for a person at a terminal

        done = threading.Event()
        line = printable(text)[:_STATUS_WIDTH]

        def tell() -> None:
            seconds = 0
            while not done.wait(1.0):
                seconds += 1
                click.echo(f"\r{line} ... {seconds} s", nl=False, err=True)
            if seconds:
                click.echo("\r" + " " * (len(line) + 12) + "\r", nl=False, err=True)

        teller = threading.Thread(target=tell, daemon=True)
        teller.start()
        try:
            yield
        finally:
            done.set()
            teller.join()

    def _fail(self, error: FundamenError) -> None:
        if self.as_json:
            from fundamen.report.contracts.line import ErrorRecord, failure  # noqa: PLC0415

            self.show_record(ErrorRecord(failure(error)))
        click.echo(_in_three_lines(error), err=True, nl=False)


def _log(text: str, error: BaseException | None = None) -> None:
    """Add a line to the log, where someone has asked for one: then ``logging`` has been loaded."""
    if (logging := sys.modules.get("logging")) is not None:
        details = None if error is None else (type(error), error, error.__traceback__)
        logging.getLogger("fundamen.cli").debug("%s", text if error is None else f"{text}: {error}", exc_info=details)


def finish(status: Exit) -> NoReturn:
    """End the run."""
    sys.exit(status)


def report_bug(error: Exception) -> Exit:
    """Say that Fundamen itself is at fault, and keep the traceback in a file that can be sent in."""
    name = _kept_bug(_traceback(error))
    lines = (
        f"Fundamen met a fault of its own: {type(error).__name__}: {printable(str(error))}",
        f"  Why: this is a bug; what it was doing is in {name}",
        "  Do:  send that file in. See 'fundamen history' before you change anything by hand.",
    )
    click.echo("\n".join(lines), err=True)
    return Exit.BUG


def _kept_bug(details: str, name: str | None = None) -> str:
    """Write the traceback of a bug into a new file, or append it to the named one; give the file's name."""
    import tempfile  # noqa: PLC0415 - not part of a run that goes well

    text = details.encode("utf-8", "backslashreplace")
    if name is not None:
        with open(name, "ab") as file:
            file.write(b"\n" + text)
        return name
    with tempfile.NamedTemporaryFile("wb", prefix="fundamen-bug-", suffix=".txt", delete=False) as new:
        new.write(text)
    return new.name


def _of_the_host(error: OSError) -> FundamenError:
    """A file of this host, such as our own state, about which nothing more is known."""
    return UnreadableError(
        what=say("cli.a-file-of-this-host-cannot"),
        why=f"{error.filename or 'the system says'}: {error.strerror}",
        do=say("cli.see-whether-the-folder-is-there"),
    )


def _traceback(error: BaseException) -> str:
    import traceback  # noqa: PLC0415 - not part of a run that goes well

    return "".join(traceback.format_exception(error))


def _in_three_lines(error: FundamenError) -> str:
    return shown_lines(f"{error.what}\n  Why: {error.why}\n  Do:  {error.do}\n")


def _can_draw(stream: Any) -> bool:  # noqa: ANN401 - any text stream
    try:
        "■▧".encode(getattr(stream, "encoding", None) or "ascii")
    except UnicodeEncodeError:
        return False
    return True


def require_free(*names: str | None) -> None:
    """Make sure that files can be written that are not there yet. Raises: UsageError: one is."""
    for name in names:
        if name is not None and os.path.lexists(name):
            raise UsageError(
                what=say("cli.nothing-is-written-to", name=printable(name)),
                why=say("cli.a-file-of-this-name-is"),
                do=say("cli.nothing-was-changed-name-another-file"),
            )

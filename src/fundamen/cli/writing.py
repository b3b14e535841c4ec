"""Write a trace to files, each in the form that its name asks for."""

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import TypeVar

from fundamen.cli.output import Output, require_free
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable, shown_lines
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.placing.own_files import write_whole
from fundamen.trace.records import Trace

F = TypeVar("F")


def require_writable(names: Sequence[str]) -> None:
    """Make sure that each file can be written, before anything is traced.

    Raises:
        UsageError: its name asks for no form that is known, or a file of that name is there.
    """
    require_new(names, _FORMS, "tidebook.html, tidebook.svg or tidebook.cdx.json")


def require_new(names: Sequence[str], endings: Iterable[str], example: str) -> None:
    """Make sure that each file's name ends in one of the endings, and that none is there.

    Raises:
        UsageError: one does not, or is.
    """
    endings = tuple(endings)
    for name in names:
        if not name.lower().endswith(endings):
            raise UsageError(
                what=say("cli.nothing-can-be-written-to", name=printable(name)),
                why=say("cli.its-name-ends-in-none-of", endings=", ".join(endings)),
                do=say("cli.name-it-for-example", example=example),
            )
        require_free(name)


def write_trace(trace: Trace, machine: Machine, names: Sequence[str], now: datetime, output: Output) -> None:
    """Write a trace to each of the files.

    Raises:
        UnreadableError: one cannot be written.
        UsageError: it needs a library that is not installed.
    """
    for name in names:
        write_file(name, form_of(name, _FORMS)(trace, machine, now), output)


def write_file(name: str, data: bytes | str, output: Output) -> None:
    """Write a file whole, or not at all; of text with nothing in it that is not visible.

    Raises:
        UnreadableError: it cannot be written.
    """
    try:
        write_whole(os.path.abspath(name), shown_lines(data).encode() if isinstance(data, str) else data)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.cannot-be-written", name=printable(name)),
            why=error.strerror or str(error),
            do=say("cli.name-a-file-in-a-folder"),
        ) from error
    output.note(f"Written: {name}")


def form_of(name: str, forms: Mapping[str, F]) -> F:
    """The form that a file's name asks for; ``require_new`` has looked that there is one."""
    return next(form for ending, form in forms.items() if name.lower().endswith(ending))


def _html(trace: Trace, machine: Machine, now: datetime) -> str:
    from fundamen.report.drawing.report_page import trace_page  # noqa: PLC0415 - each form only where it is asked for

    return trace_page(trace, machine, now)


def _svg(trace: Trace, machine: Machine, _now: datetime) -> str:
    from fundamen.report.drawing.picture import lay_out  # noqa: PLC0415
    from fundamen.report.drawing.picture_svg import picture_svg  # noqa: PLC0415
    from fundamen.report.examining.trace_text import answer  # noqa: PLC0415

    return picture_svg(lay_out(trace, machine), answer(trace, machine), standalone=True)


def _png(trace: Trace, machine: Machine, _now: datetime) -> bytes:
    from fundamen.report.drawing.picture import lay_out  # noqa: PLC0415
    from fundamen.report.drawing.picture_png import picture_png  # noqa: PLC0415
    from fundamen.report.examining.trace_text import answer  # noqa: PLC0415

    return picture_png(lay_out(trace, machine), answer(trace, machine))


def _dot(trace: Trace, machine: Machine, _now: datetime) -> str:
    from fundamen.report.drawing.trace_files import trace_dot  # noqa: PLC0415

    return trace_dot(trace, machine)


def _bom(trace: Trace, machine: Machine, now: datetime) -> bytes:
    from fundamen.report.drawing.trace_files import trace_bom  # noqa: PLC0415

    return trace_bom(trace, machine, now)


_FORMS: dict[str, Callable[[Trace, Machine, datetime], bytes | str]] = {
    ".html": _html,
    ".svg": _svg,
    ".png": _png,
    ".dot": _dot,
    ".cdx.json": _bom,
}

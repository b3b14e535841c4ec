"""Write figures to files, each in the form that its name asks for."""

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, TypeVar

from fundamen.cli.output import Output
from fundamen.cli.writing import form_of, require_new, write_file

if TYPE_CHECKING:  # what draws is only imported where something is to be drawn
    from fundamen.report.drawing.charts import Figure

T = TypeVar("T")
Forms = Mapping[str, Callable[[T], bytes | str]]


def _html(figure: "Figure") -> str:
    from fundamen.report.drawing.charts import charts_page  # noqa: PLC0415 - each form only where it is asked for

    return charts_page(figure)


def _svg(figure: "Figure") -> str:
    from fundamen.report.drawing.charts import charts_svg  # noqa: PLC0415

    return charts_svg(figure)


def _png(figure: "Figure") -> bytes:
    from fundamen.report.drawing.charts_png import charts_png  # noqa: PLC0415

    return charts_png(figure)


FIGURES: Forms["Figure"] = {".html": _html, ".svg": _svg, ".png": _png}


def require_writable_figures(names: Sequence[str], example: str) -> None:
    """Make sure that each file can be written, before anything is read. Raises: UsageError."""
    require_new(names, FIGURES, example)


def write_figures(figure: Callable[[], "Figure"], names: Sequence[str], output: Output) -> None:
    """Draw a figure, where any file is asked for, and write it to each.

    Raises:
        UnreadableError: one cannot be written.
        UsageError: it needs a library that is not installed.
    """
    drawn = figure() if names else None
    for name in names:
        assert drawn is not None  # noqa: S101 - there are names
        write_file(name, form_of(name, FIGURES)(drawn), output)

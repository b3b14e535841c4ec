"""Figures of bars: laid out once, drawn as SVG, as a page of HTML, or (``charts_png``) as PNG.

Parts of a bar are distinguished by form (filled, striped, hollow); colour only repeats it.
"""

from collections.abc import Iterator, Sequence
from enum import StrEnum
from html import escape
from textwrap import wrap

import msgspec

from fundamen.model.display import printable
from fundamen.report.drawing.picture_svg import BAD, INK, QUIET

WIDTH = 960  # of a figure, in pixels
PAPER, LINE = "#fffefb", "#d9dcd8"
_LABEL, _ROW, _THICK, _MARGIN = 380, 28, 16, 16
_ROOM = WIDTH - _LABEL - 130  # of the longest bar
_LONGEST_NAME = 50  # characters
_TITLE = 96  # characters of a line of the title
_LETTER = 7  # the width of one in a legend, about


class Bar(msgspec.Struct, frozen=True):
    """One thing with its numbers."""

    name: str
    detail: str  # a word behind the bar
    counts: tuple[int, ...]  # one for each kind of its chart


class Chart(msgspec.Struct, frozen=True):
    """Bars that are measured by one measure."""

    title: str
    kinds: tuple[str, ...]  # up to three: what the parts of each bar count
    bars: tuple[Bar, ...]  # in the order in which they are drawn


class PageTable(msgspec.Struct, frozen=True):
    """A table below the charts of a page."""

    title: str
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


class Figure(msgspec.Struct, frozen=True):
    """All that is drawn."""

    title: str  # the answer, as a sentence
    charts: tuple[Chart, ...]
    tables: tuple[PageTable, ...] = ()


class Fill(StrEnum):
    """How a part of a bar is distinguished from the others."""

    FILLED = "filled"
    STRIPED = "striped"
    HOLLOW = "hollow"


class Box(msgspec.Struct, frozen=True):
    """A rectangle, in pixels from the upper left corner."""

    x: float
    y: float
    width: float
    height: float
    fill: Fill


class Text(msgspec.Struct, frozen=True):
    """A line of text; ``x`` and ``y`` are of where its base line begins, or ends."""

    x: float
    y: float
    text: str
    size: int = 13
    ink: str = INK
    ends_there: bool = False
    is_bold: bool = False


class Axis(msgspec.Struct, frozen=True):
    """The upright line that bars begin at."""

    x: float
    top: float
    bottom: float


Shape = Box | Text | Axis
_FILLS = tuple(Fill)


def height_of(figure: Figure) -> int:
    """How high the figure is, in pixels."""
    return _top(figure) + sum(64 + _ROW * max(len(chart.bars), 1) for chart in figure.charts)


def shapes(figure: Figure) -> Iterator[Shape]:
    """All that is drawn, placed."""
    for number, line in enumerate(wrap(figure.title, _TITLE)):
        yield Text(_MARGIN, 30 + 23 * number, line, size=17, is_bold=True)
    top = _top(figure)
    for chart in figure.charts:
        yield from _place_shapes(chart, top)
        top += 64 + _ROW * max(len(chart.bars), 1)


def _top(figure: Figure) -> int:
    """Where the first chart begins, below the title."""
    return 27 + 23 * len(wrap(figure.title, _TITLE))


def _place_shapes(chart: Chart, top: int) -> Iterator[Shape]:
    yield Text(_MARGIN, top + 20, chart.title, size=14, is_bold=True)
    first = top + 54
    yield from _legend(chart, top + 42)
    yield Axis(_LABEL, first - 6, first + _ROW * max(len(chart.bars), 1) - 6)
    if not chart.bars:
        yield Text(_LABEL + 10, first + 13, "none", ink=QUIET)
    most = max((sum(bar.counts) for bar in chart.bars), default=1) or 1
    for number, bar in enumerate(chart.bars):
        y = first + number * _ROW
        name = bar.name if len(bar.name) <= _LONGEST_NAME else f"...{bar.name[3 - _LONGEST_NAME :]}"
        yield Text(_LABEL - 10, y + 13, name, ends_there=True)
        x = float(_LABEL)
        for fill, count in zip(_FILLS, bar.counts, strict=False):
            if count:
                width = max(_ROOM * count / most, 2.0)
                yield Box(x, y, width, _THICK, fill)
                x += width
        yield Text(x + 8, y + 13, f"{sum(bar.counts)} {bar.detail}".rstrip(), ink=QUIET, size=12)


def _legend(chart: Chart, base: int) -> Iterator[Shape]:
    x = float(_LABEL)
    for fill, kind in zip(_FILLS, chart.kinds, strict=False):
        yield Box(x, base - 9, 10, 10, fill)
        yield Text(x + 16, base, kind, size=12, ink=QUIET)
        x += 16 + _LETTER * len(kind) + 20


def charts_svg(figure: Figure) -> str:
    """The figure as a file of its own."""
    height = height_of(figure)
    drawn = "\n".join(map(_draw_shape, shapes(figure)))
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" width="{WIDTH}" height="{height}" '
        f'role="img" aria-labelledby="figure-title" font-family="ui-sans-serif, Helvetica, Arial, sans-serif">\n'
        f'<title id="figure-title">{escape(printable(figure.title))}</title>'
        f'<defs><pattern id="stripes" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        f'<rect width="3" height="6" fill="{BAD}"/>'
        f'</pattern></defs><rect width="100%" height="100%" fill="{PAPER}"/>\n{drawn}\n</svg>\n'
    )


def _draw_shape(shape: Shape) -> str:
    if isinstance(shape, Axis):
        return f'<path d="M{shape.x:g} {shape.top:g}V{shape.bottom:g}" stroke="{LINE}"/>'
    if isinstance(shape, Box):
        paint = {Fill.FILLED: BAD, Fill.STRIPED: "url(#stripes)", Fill.HOLLOW: "none"}[shape.fill]
        return (
            f'<rect x="{shape.x:.1f}" y="{shape.y:g}" width="{shape.width:.1f}" height="{shape.height:g}" '
            f'fill="{paint}" stroke="{BAD}"/>'
        )
    anchor = ' text-anchor="end"' if shape.ends_there else ""
    weight = ' font-weight="bold"' if shape.is_bold else ""
    return (
        f'<text x="{shape.x:.1f}" y="{shape.y:g}" font-size="{shape.size}" fill="{shape.ink}"{anchor}{weight}>'
        f"{escape(printable(shape.text))}</text>"
    )


def charts_page(figure: Figure) -> str:
    """The figure with its tables, as a page of HTML that needs nothing else."""
    return (
        f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>{escape(printable(figure.title))}</title>"
        f"<style>body{{font:15px/1.5 ui-sans-serif,Helvetica,Arial,sans-serif;color:{INK};background:#f7f6f2;"
        f"margin:2rem auto;max-width:62rem;padding:0 1rem}}"
        f"svg{{width:100%;height:auto;border:1px solid {LINE};box-sizing:border-box}}"
        f"h2{{font-size:1rem;margin:2rem 0 .3rem}}table{{border-collapse:collapse;width:100%}}"
        f"td,th{{text-align:left;padding:.3rem .6rem .3rem 0;border-bottom:1px solid {LINE};vertical-align:top;"
        f"overflow-wrap:break-word}}td:first-child,td:last-child{{overflow-wrap:anywhere}}"
        f"</style></head><body>{charts_svg(figure)}{''.join(map(_table, figure.tables))}</body></html>\n"
    )


def _table(table: PageTable) -> str:
    head = "".join(f"<th scope='col'>{escape(each)}</th>" for each in table.heads)
    rows = "".join(f"<tr>{_cells(row)}</tr>" for row in table.rows)
    return f"<h2>{escape(table.title)}</h2><table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table>"


def _cells(row: Sequence[str]) -> str:
    return "".join(f"<td>{escape(printable(cell))}</td>" for cell in row)

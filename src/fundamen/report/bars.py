"""A figure of bars, as SVG: how many are affected by each thing, the most first."""

from collections.abc import Sequence
from html import escape

import msgspec

from fundamen.model.paths import shown
from fundamen.report.picture_svg import BAD, INK, QUIET

_WIDTH, _LABEL, _ROW, _TOP = 900, 360, 30, 56
_THICK = 16  # of a bar
_LONGEST_NAME = 46  # characters
_PAPER, _LINE = "#fffefb", "#d9dcd8"


class Bar(msgspec.Struct, frozen=True):
    """One thing with its number."""

    name: str
    detail: str  # a word beside the name
    count: int


def bars_svg(title: str, unit: str, bars: Sequence[Bar]) -> str:
    """The figure as a file of its own.

    Args:
        title: what it shows, as a sentence.
        unit: what is counted, in the plural.
        bars: the longest first.
    """
    most = max((bar.count for bar in bars), default=1) or 1
    height = _TOP + _ROW * max(len(bars), 1) + 16
    room = _WIDTH - _LABEL - 90
    parts = []
    for number, bar in enumerate(bars):
        y = _TOP + number * _ROW
        length = max(room * bar.count / most, 2)
        name = bar.name if len(bar.name) <= _LONGEST_NAME else f"...{bar.name[3 - _LONGEST_NAME :]}"
        parts.append(
            f'<text x="{_LABEL - 10}" y="{y + 13}" font-size="13" fill="{INK}" text-anchor="end">'
            f"{escape(shown(name))}</text>"
            f'<rect x="{_LABEL}" y="{y}" width="{length:.1f}" height="{_THICK}" fill="{BAD}"/>'
            f'<text x="{_LABEL + length + 8:.1f}" y="{y + 13}" font-size="13" fill="{INK}">{bar.count}'
            f'<tspan fill="{QUIET}"> {escape(shown(bar.detail))}</tspan></text>'
        )
    axis = f'<line x1="{_LABEL}" y1="{_TOP - 8}" x2="{_LABEL}" y2="{height - 12}" stroke="{_LINE}"/>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDTH} {height}" width="{_WIDTH}" height="{height}" '
        f'role="img" aria-labelledby="bars-title" font-family="ui-sans-serif, Helvetica, Arial, sans-serif">\n'
        f'<title id="bars-title">{escape(shown(title))}</title><rect width="100%" height="100%" fill="{_PAPER}"/>'
        f'<text x="16" y="26" font-size="16" font-weight="bold" fill="{INK}">{escape(shown(title))}</text>'
        f'<text x="{_LABEL}" y="{_TOP - 14}" font-size="12" fill="{QUIET}">{escape(unit)}</text>'
        f"{axis}{''.join(parts)}</svg>\n"
    )


def bars_page(title: str, unit: str, bars: Sequence[Bar], rows: Sequence[Sequence[str]], heads: Sequence[str]) -> str:
    """The figure with a table, as a page of HTML that needs nothing else."""
    cells = "".join("<tr>" + "".join(f"<td>{escape(shown(cell))}</td>" for cell in row) + "</tr>" for row in rows)
    head = "".join(f"<th scope='col'>{escape(each)}</th>" for each in heads)
    return (
        f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>{escape(shown(title))}</title><style>"
        f"body{{font:15px/1.5 ui-sans-serif,Helvetica,Arial,sans-serif;color:{INK};background:#f7f6f2;margin:2rem auto;"
        f"max-width:60rem;padding:0 1rem}}svg{{max-width:100%;height:auto;border:1px solid {_LINE}}}"
        f"table{{border-collapse:collapse;margin-top:1.5rem;width:100%}}"
        f"td,th{{text-align:left;padding:.3rem .6rem;border-bottom:1px solid {_LINE};vertical-align:top;"
        f"overflow-wrap:anywhere}}"
        f"</style></head><body>{bars_svg(title, unit, bars)}<table><thead><tr>{head}</tr></thead><tbody>{cells}</tbody>"
        f"</table></body></html>\n"
    )

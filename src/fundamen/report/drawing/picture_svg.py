"""Draw a program's dependencies as SVG: form and word give the verdict, colour only repeats it."""

from collections.abc import Callable
from html import escape

from fundamen.model.display import printable
from fundamen.model.verdict import Verdict
from fundamen.report.drawing.picture import NODE_HEIGHT, NODE_WIDTH, WIDTH, Edge, Picture, PictureNode

INK, QUIET, GOOD, BAD = "#20262b", "#56616a", "#2f5d43", "#8f3517"
_PAPER, _FAULT_PAPER, _LINE = "#fffefb", "#fbeee8", "#b9c0c4"
_SIDE = 13  # of a mark, in pixels


def picture_svg(picture: Picture, title: str, *, standalone: bool = False) -> str:
    """The picture as one element.

    Args:
        picture: laid out.
        title: what it shows, for those who do not see it.
        standalone: whether it becomes a file of its own.
    """
    parts = [_edge(picture, edge) for edge in picture.edges] + [_box(node) for node in picture.nodes]
    name_space = ' xmlns="http://www.w3.org/2000/svg"' if standalone else ""
    return (
        f'<svg{name_space} viewBox="0 0 {WIDTH} {picture.height:g}" width="{WIDTH}" height="{picture.height:g}" '
        f'role="img" aria-labelledby="picture-title" font-family="ui-sans-serif, Helvetica, Arial, sans-serif">\n'
        f'<title id="picture-title">{escape(printable(title))}</title>\n' + "\n".join(parts) + "\n</svg>\n"
    )


def mark_svg(verdict: Verdict, x: float = 0, y: float = 0) -> str:
    """The mark of a verdict: the same forms as in the terminal."""
    ink = GOOD if verdict is Verdict.VERIFIED else BAD if verdict.is_fault else QUIET
    s = _SIDE
    frame = f'<rect x="{x:g}" y="{y:g}" width="{s}" height="{s}" fill="none" stroke="{ink}" stroke-width="1.5"/>'
    return _MARKS[verdict](frame, x, y, ink)


def _filled_square(frame: str, x: float, y: float, ink: str) -> str:
    return frame + f'<rect x="{x:g}" y="{y:g}" width="{_SIDE}" height="{_SIDE}" fill="{ink}"/>'


def _empty(frame: str, _x: float, _y: float, _ink: str) -> str:
    return frame.replace("/>", ' stroke-dasharray="3 2"/>')


def _half(frame: str, x: float, y: float, ink: str) -> str:
    return frame + f'<rect x="{x:g}" y="{y:g}" width="{_SIDE / 2:g}" height="{_SIDE}" fill="{ink}"/>'


def _corner(frame: str, x: float, y: float, ink: str) -> str:
    return frame + f'<path d="M{x:g} {y:g}h{_SIDE}L{x:g} {y + _SIDE:g}z" fill="{ink}"/>'


def _inner(frame: str, x: float, y: float, ink: str) -> str:
    return frame + f'<rect x="{x + 4:g}" y="{y + 4:g}" width="{_SIDE - 8}" height="{_SIDE - 8}" fill="{ink}"/>'


def _lines(*paths: str) -> Callable[[str, float, float, str], str]:
    def drawn(frame: str, x: float, y: float, ink: str) -> str:
        strokes = "".join(f"M{x:g} {y:g}m{path}" for path in paths)
        return frame + f'<path d="{strokes}" fill="none" stroke="{ink}" stroke-width="1.5"/>'

    return drawn


_LEVEL = ("0 4.3h13", "0 8.7h13")
_UPRIGHT = ("4.3 0v13", "8.7 0v13")
_MARKS: dict[Verdict, Callable[[str, float, float, str], str]] = {
    Verdict.VERIFIED: _filled_square,
    Verdict.UNVERIFIED: _lines(*_LEVEL),
    Verdict.MISSING: _empty,
    Verdict.WRONG_ARCHITECTURE: _half,
    Verdict.CORRUPT: _lines("0 6.5l6.5 6.5", "0 0l13 13", "6.5 0l6.5 6.5"),
    Verdict.OUTDATED: _lines(*_UPRIGHT),
    Verdict.UNTRUSTED: _lines(*_LEVEL, *_UPRIGHT),
    Verdict.SHADOWED: _corner,
    Verdict.BLOCKED: _inner,
}


def _box(node: PictureNode) -> str:
    is_there = node.verdict is not Verdict.MISSING
    dashes = "" if is_there else ' stroke-dasharray="6 4"'
    line, paper, width = (BAD, _FAULT_PAPER, 2) if node.is_fault else (_LINE, _PAPER, 1)
    x, y = node.x, node.y
    word = BAD if node.is_fault else GOOD if node.verdict is Verdict.VERIFIED else QUIET
    return (
        f"<g><title>{escape(printable(node.title))}</title>"
        f'<rect x="{x:g}" y="{y:g}" width="{NODE_WIDTH}" height="{NODE_HEIGHT}" fill="{paper}" stroke="{line}" '
        f'stroke-width="{width}"{dashes}/>{mark_svg(node.verdict, x + 9, y + 9)}'
        f'<text x="{x + 29:g}" y="{y + 20:g}" font-size="12" fill="{INK}">{escape(printable(node.name))}</text>'
        f'<text x="{x + 29:g}" y="{y + 36:g}" font-size="11" fill="{word}">{node.verdict}'
        f'<tspan fill="{QUIET}"> {escape(printable(node.detail))}</tspan></text></g>'
    )


def _edge(picture: Picture, edge: Edge) -> str:
    (x1, y1), (x2, y2) = picture.nodes[edge.start].bottom, picture.nodes[edge.end].top
    bend = max(18.0, (y2 - y1) / 2) if y2 > y1 else 40.0
    ink, width = (BAD, 2.5) if edge.is_to_cause else (_LINE, 1)
    return (
        f'<path d="M{x1:g} {y1:g}C{x1:g} {y1 + bend:g} {x2:g} {y2 - bend:g} {x2:g} {y2:g}" fill="none" '
        f'stroke="{ink}" stroke-width="{width}"/>'
    )

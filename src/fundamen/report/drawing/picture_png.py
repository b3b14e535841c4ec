"""The picture of what a program depends on, as PNG, drawn by matplotlib from the same layout as the SVG."""

import io
from collections.abc import Callable
from typing import Any

from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.verdict import Verdict
from fundamen.report.drawing.picture import NODE_HEIGHT, NODE_WIDTH, WIDTH, Picture
from fundamen.report.drawing.picture_svg import BAD, GOOD, INK, QUIET

_DOTS = 100  # an inch; a pixel of the layout is one dot, doubled when it is saved
_HATCHES = {
    Verdict.UNVERIFIED: "--",
    Verdict.CORRUPT: "\\\\\\",
    Verdict.OUTDATED: "||",
    Verdict.UNTRUSTED: "++",
    Verdict.SHADOWED: "xx",
    Verdict.BLOCKED: "oo",
    Verdict.WRONG_ARCHITECTURE: "///",
}


def sheet_for(width: float, height: float, paper: str) -> tuple[Any, Any]:
    """A figure of so many pixels, and its axes, on which a pixel is one from the upper left corner.

    Raises:
        UsageError: matplotlib is not installed.
    """
    try:
        from matplotlib.figure import Figure  # noqa: PLC0415 - loaded only where a figure is asked for
    except ImportError as error:
        raise UsageError(
            what="No PNG can be drawn",
            why="matplotlib is not installed",
            do="pip install 'fundamen[figures]', or write an .svg, which needs nothing.",
        ) from error
    figure = Figure(figsize=(width / _DOTS, height / _DOTS), dpi=_DOTS, facecolor=paper)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    return figure, axes


def png_of(save: Callable[..., object], title: str) -> bytes:
    """The file of a figure that knows how to be saved, each pixel of the layout doubled."""
    data = io.BytesIO()
    save(data, format="png", dpi=_DOTS * 2, metadata={"Title": printable(title)})
    return data.getvalue()


def picture_png(picture: Picture, title: str) -> bytes:
    """The bytes of the file. Raises: UsageError: matplotlib is not installed."""
    figure, axes = sheet_for(WIDTH, picture.height, "#f7f6f2")
    from matplotlib.patches import FancyArrowPatch, Rectangle  # noqa: PLC0415 - it is installed, or the sheet was not

    for edge in picture.edges:
        axes.add_patch(
            FancyArrowPatch(
                picture.nodes[edge.start].bottom,
                picture.nodes[edge.end].top,
                arrowstyle="-",
                color=BAD if edge.is_to_cause else "#b9c0c4",
                linewidth=2 if edge.is_to_cause else 0.8,
                shrinkA=0,
                shrinkB=0,
            )
        )
    for node in picture.nodes:
        line = BAD if node.is_fault else GOOD if node.verdict is Verdict.VERIFIED else QUIET
        style = "--" if node.verdict is Verdict.MISSING else "-"
        paper = "#fbeee8" if node.is_fault else "#fffefb"
        axes.add_patch(
            Rectangle((node.x, node.y), NODE_WIDTH, NODE_HEIGHT, facecolor=paper, edgecolor=line, linestyle=style)
        )
        axes.add_patch(
            Rectangle(
                (node.x + 9, node.y + 9),
                13,
                13,
                facecolor=line if node.verdict is Verdict.VERIFIED else "none",
                edgecolor=line,
                linestyle=style,
                hatch=_HATCHES.get(node.verdict),
            )
        )
        axes.text(node.x + 29, node.y + 15, plain(node.name), fontsize=8, color=INK, va="center")
        axes.text(node.x + 29, node.y + 33, plain(f"{node.verdict} {node.detail}"), fontsize=7, color=line, va="center")
    return png_of(figure.savefig, title)


def plain(text: str) -> str:
    """Text that matplotlib does not take for a formula."""
    return printable(text).replace("$", r"\$")

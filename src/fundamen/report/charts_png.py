"""A figure of bars as PNG, drawn by matplotlib from the same layout as the SVG."""

import io

from fundamen.model.errors import UsageError
from fundamen.model.paths import shown
from fundamen.report.charts import LINE, PAPER, WIDTH, Axis, Box, Figure, Fill, height_of, shapes
from fundamen.report.picture_png import plain
from fundamen.report.picture_svg import BAD

_DOTS = 100  # an inch; a pixel of the layout is one dot, doubled when it is saved
_POINTS = 0.72  # of a pixel of the layout


def charts_png(figure: Figure) -> bytes:
    """The bytes of the file. Raises: UsageError: matplotlib is not installed."""
    try:
        from matplotlib.figure import Figure as Sheet  # noqa: PLC0415 - loaded only where a figure is asked for
        from matplotlib.patches import Rectangle  # noqa: PLC0415
    except ImportError as error:
        raise UsageError(
            what="No PNG can be drawn",
            why="matplotlib is not installed",
            do="pip install 'fundamen[figures]', or write an .svg, which needs nothing.",
        ) from error
    height = height_of(figure)
    sheet = Sheet(figsize=(WIDTH / _DOTS, height / _DOTS), dpi=_DOTS, facecolor=PAPER)
    axes = sheet.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, WIDTH)
    axes.set_ylim(height, 0)
    axes.axis("off")
    for shape in shapes(figure):
        if isinstance(shape, Axis):
            axes.plot((shape.x, shape.x), (shape.top, shape.bottom), color=LINE, linewidth=1)
        elif isinstance(shape, Box):
            axes.add_patch(
                Rectangle(
                    (shape.x, shape.y),
                    shape.width,
                    shape.height,
                    facecolor=BAD if shape.fill is Fill.FILLED else "none",
                    edgecolor=BAD,
                    hatch="////" if shape.fill is Fill.STRIPED else None,
                )
            )
        else:
            axes.text(
                shape.x,
                shape.y,
                plain(shape.text),
                fontsize=shape.size * _POINTS,
                color=shape.ink,
                ha="right" if shape.ends_there else "left",
                va="baseline",
                weight="bold" if shape.is_bold else "normal",
            )
    data = io.BytesIO()
    sheet.savefig(data, format="png", dpi=_DOTS * 2, metadata={"Title": shown(figure.title)})
    return data.getvalue()

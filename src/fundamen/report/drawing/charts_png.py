"""A figure of bars as PNG, drawn by matplotlib from the same layout as the SVG."""

from fundamen.report.drawing.charts import LINE, PAPER, WIDTH, Axis, Box, Figure, Fill, height_of, shapes
from fundamen.report.drawing.picture_png import plain, png_of, sheet_for
from fundamen.report.drawing.picture_svg import BAD

_POINTS = 0.72  # of a pixel of the layout


def charts_png(figure: Figure) -> bytes:
    """The bytes of the file. Raises: UsageError: matplotlib is not installed."""
    sheet, axes = sheet_for(WIDTH, height_of(figure), PAPER)
    from matplotlib.patches import Rectangle  # noqa: PLC0415 - it is installed, or the sheet was not

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
    return png_of(sheet.savefig, figure.title)

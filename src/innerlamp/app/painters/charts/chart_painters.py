"""How charts are drawn: histogram, probability, scatter, correlation, boxes. Each painter fills a plot and returns words about it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from ....core.compute.statistics import relations
from ....core.errors import InputError
from ....core.items.legend import position
from ...theme.plain import axis_words
from ..kit.colours import class_colour, colour_at, table
from ..kit.flat import label
from .chart_data import ChartData
from .line_charts import paint_along, paint_control, paint_curves

FloatArray = NDArray[np.float64]
PERCENTILES = (50, 90, 95, 98)
_MOST_POINTS = 20_000


def paint_histogram(plot: pg.PlotItem, d: ChartData) -> str:
    known = np.isfinite(d.x)
    if not known.any():
        return "No values."
    edges = np.histogram_bin_edges(d.x[known], bins=min(60, max(10, int(np.sqrt(known.sum())))))
    counts, _ = np.histogram(d.x[known], edges)
    middle = 0.5 * (edges[:-1] + edges[1:])
    places = position(d.x_legend, 10.0**middle if d.log else middle)
    colours = [colour_at(d.x_legend, float(p)) for p in np.nan_to_num(places)]
    plot.addItem(
        pg.BarGraphItem(
            x0=edges[:-1], x1=edges[1:], height=counts, brushes=colours, pen=pg.mkPen(d.theme.line, width=0.5)
        )
    )
    if (known & d.chosen).any():
        few, _ = np.histogram(d.x[known & d.chosen], edges)
        plot.addItem(
            pg.BarGraphItem(
                x0=edges[:-1],
                x1=edges[1:],
                height=few,
                brush=QColor(d.theme.lit),
                pen=pg.mkPen(d.theme.text, width=0.8),
            )
        )
    _percentile_lines(plot, d.x[known], d, float(counts.max()))
    plot.setLabel("left", "Rows")
    return f"{int(known.sum()):,} values" + _class_counts(d)


def _class_counts(d: ChartData) -> str:
    # With class breaks: how many rows fall in each class, from the lowest.
    if d.x_legend.scale != "classes" or not d.x_legend.breaks:
        return ""
    known = d.x_raw[np.isfinite(d.x_raw)]
    counts = np.bincount(np.searchsorted(d.x_legend.breaks, known, "right"), minlength=len(d.x_legend.breaks) + 1)
    return "; in classes " + " · ".join(f"{c:,}" for c in counts)


def _percentile_lines(plot: pg.PlotItem, values: FloatArray, d: ChartData, top: float) -> None:
    for k, percent in enumerate(PERCENTILES):
        at = float(np.percentile(values, percent))
        plot.addItem(pg.InfiniteLine(at, 90, pen=pg.mkPen(d.theme.faint, width=1, style=Qt.PenStyle.DashLine)))
        plot.addItem(
            label(f"{percent} %", at, top * (1.0 - 0.08 * k), d.theme.faint, 20, (0.0, 0.0)), ignoreBounds=True
        )


def paint_probability(plot: pg.PlotItem, d: ChartData) -> str:
    values, scores = relations.probability_places(d.x)
    if not len(values):
        return "No values."
    step = max(1, len(values) // _MOST_POINTS)
    places = np.nan_to_num(position(d.x_legend, 10.0**values if d.log else values))
    colours = table(d.x_legend.ramp)[(places[::step] * 255).astype(int)]
    plot.addItem(_points(values[::step], scores[::step], colours, 4.0))
    if d.chosen.any():
        order = np.argsort(np.where(np.isfinite(d.x), d.x, np.inf), kind="stable")[: len(values)]
        hit = d.chosen[order]
        plot.addItem(_points(values[hit], scores[hit], np.array(QColor(d.theme.lit).getRgb()), 6.0))
    axis = plot.getAxis("left")
    from scipy.special import ndtri

    axis.setTicks([[(float(ndtri(p / 100)), f"{p:g}") for p in (0.1, 1, 5, 20, 50, 80, 95, 99, 99.9)]])
    plot.setLabel("left", "Below (%)")
    for percent in PERCENTILES:
        plot.addItem(pg.InfiniteLine(float(np.percentile(values, percent)), 90, pen=pg.mkPen(d.theme.line, width=1)))
    return f"{len(values):,} values" + _class_counts(d)


def paint_scatter(plot: pg.PlotItem, d: ChartData) -> str:
    good = np.flatnonzero(np.isfinite(d.x) & np.isfinite(d.y))
    if not len(good):
        return "No pairs."
    shown = good[:: max(1, len(good) // _MOST_POINTS)]
    if d.classes is not None and d.class_legend is not None:
        colours = np.array([class_colour(d.class_legend, c).getRgb() for c in d.classes[shown]], dtype=np.uint8)
    else:
        places = np.nan_to_num(position(d.x_legend, d.x_raw[shown]))
        colours = table(d.x_legend.ramp)[(places * 255).astype(int)]
    plot.addItem(_points(d.x[shown], d.y[shown], colours, 5.0))
    hit = good[d.chosen[good]]
    if len(hit):
        hit = hit[:: max(1, len(hit) // _MOST_POINTS)]
        plot.addItem(_points(d.x[hit], d.y[hit], np.array(QColor(d.theme.lit).getRgb()), 7.0))
    plot.setLabel("left", axis_words(d.y_label))
    try:
        line = relations.regression(d.x, d.y)
    except InputError:
        return f"{len(good):,} pairs"
    ends = np.array([d.x[good].min(), d.x[good].max()])
    plot.addItem(pg.PlotCurveItem(ends, line.intercept + line.slope * ends, pen=pg.mkPen(d.theme.text, width=1.5)))
    by_rank, _ = relations.correlations([d.x, d.y], by_rank=True)
    of_logs = " of logs" if d.log else ""
    return f"{line.count:,} pairs{of_logs}: r {line.correlation:.2f}, by rank {by_rank[0, 1]:.2f}, y = {line.intercept:.3g} + {line.slope:.3g} x"


def _points(x: FloatArray, y: FloatArray, colours: NDArray[np.integer], size: float) -> pg.ScatterPlotItem:
    if colours.ndim == 1:
        return pg.ScatterPlotItem(x, y, size=size, pen=None, brush=pg.mkBrush(*(int(v) for v in colours)))
    kinds, inverse = np.unique(colours, axis=0, return_inverse=True)
    brushes = [pg.mkBrush(*(int(v) for v in kind)) for kind in kinds]
    return pg.ScatterPlotItem(x, y, size=size, pen=None, brush=[brushes[k] for k in inverse.ravel()])


def paint_correlation(plot: pg.PlotItem, d: ChartData, by_rank: bool = False) -> str:
    names = list(d.columns)
    if len(names) < 2:
        return "Two number columns are needed."
    matrix, count = relations.correlations(list(d.columns.values()), by_rank)
    place = np.nan_to_num((matrix + 1.0) / 2.0)
    rgba = table("split")[(place * 255).astype(int)].copy()
    rgba[~np.isfinite(matrix)] = 0
    image = pg.ImageItem(rgba[::-1], axisOrder="row-major", autoLevels=False)
    image.setRect(0, 0, len(names), len(names))
    plot.addItem(image)
    for i in range(len(names)):
        for j in range(len(names)):
            if np.isfinite(matrix[i, j]):
                dark = abs(matrix[i, j]) > 0.6
                ink = "#FFFFFF" if dark else "#222222"
                plot.addItem(
                    label(f"{matrix[i, j]:.2f}", j + 0.5, len(names) - i - 0.5, ink, 5, (0.5, 0.5)), ignoreBounds=True
                )
    plot.getAxis("bottom").setTicks([[(k + 0.5, _short(name, len(names))) for k, name in enumerate(names)]])
    plot.getAxis("left").setTicks([[(len(names) - k - 0.5, name) for k, name in enumerate(names)]])
    plot.setLabel("left", "")
    kind = "Spearman (ranks)" if by_rank else "Pearson of logs" if d.log else "Pearson"
    return f"{kind}; {int(count.min()):,}–{int(count.max()):,} pairs"


def paint_boxes(plot: pg.PlotItem, d: ChartData) -> str:
    if d.classes is None or d.class_legend is None:
        return "Choose classes in 'by', such as the rock."
    names = [n for n in d.class_legend.classes if (d.classes == n).any()]
    shown = 0
    for k, name in enumerate(names):
        made = relations.box(d.x[d.classes == name])
        if made is None:
            continue
        shown += 1
        colour = class_colour(d.class_legend, name)
        ink = pg.mkPen(d.theme.text, width=1.0)
        plot.addItem(
            pg.BarGraphItem(
                x0=[k - 0.3], x1=[k + 0.3], y0=[made.quarter], y1=[made.three_quarters], brush=colour, pen=ink
            )
        )
        for x, y in (
            ([k - 0.3, k + 0.3], [made.median] * 2),
            ([k, k], [made.low, made.quarter]),
            ([k, k], [made.three_quarters, made.high]),
        ):
            plot.addItem(pg.PlotCurveItem(np.array(x, dtype=float), np.array(y), pen=pg.mkPen(d.theme.text, width=1.6)))
        if len(made.outliers):
            few = made.outliers[:: max(1, len(made.outliers) // 400)]
            plot.addItem(pg.ScatterPlotItem(np.full(len(few), float(k)), few, size=3, pen=None, brush=colour))
        plot.addItem(label(f"{made.count:,}", k, made.three_quarters, d.theme.faint, 20, (0.5, 1.0)), ignoreBounds=True)
    plot.getAxis("bottom").setTicks([[(float(k), _short(str(n), len(names))) for k, n in enumerate(names)]])
    plot.setLabel("left", axis_words(d.x_label))
    return f"{shown} classes; whiskers at 1.5 box lengths"


def _short(name: str, count: int) -> str:
    # Names stand side by side: the more there are, the less room each has.
    most = max(4, 44 // max(count, 1))
    return name if len(name) <= most else name[: most - 1] + "…"


PAINTERS: dict[str, Callable[[pg.PlotItem, ChartData], str]] = {
    "Histogram": paint_histogram,
    "Probability": paint_probability,
    "Scatter": paint_scatter,
    "Correlation": paint_correlation,
    "By rank": lambda plot, d: paint_correlation(plot, d, by_rank=True),
    "Boxes": paint_boxes,
    "Curves": paint_curves,
    "Along": paint_along,
    "Control": paint_control,
}

"""Charts in an order: control samples in order of analysis, and values along a hole or a line."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from ....core.compute.geometry.lines import distance_along
from ....core.errors import InputError
from ....core.importing.control_series import series_of
from ....core.items.legend import position
from ...theme.plain import axis_words
from ..kit.colours import class_colour, colour_at
from ..kit.flat import label
from .chart_data import ChartData

_CURVES = 12
_LINES = {
    "strong": Qt.PenStyle.SolidLine,
    "plain": Qt.PenStyle.SolidLine,
    "dotted": Qt.PenStyle.DotLine,
    "dashed": Qt.PenStyle.DashLine,
}


def _marks(plot: pg.PlotItem, x: np.ndarray, y: np.ndarray, good: np.ndarray, bad: np.ndarray, d: ChartData) -> None:
    """Dots where a result is as it should be, larger crosses where it is not."""
    for mask, colour, size, symbol in ((good, d.theme.text, 5, "o"), (bad, d.theme.bad, 9, "x")):
        pen, brush = pg.mkPen(colour, width=1.2), pg.mkBrush(colour)
        plot.addItem(pg.ScatterPlotItem(x[mask], y[mask], size=size, symbol=symbol, pen=pen, brush=brush))


def paint_control(plot: pg.PlotItem, d: ChartData) -> str:
    """Results of one kind of control sample, with the limits that they are judged by."""
    if d.holes is None:
        return "The set has no control samples: bring their table in with the holes."
    try:
        of = series_of(d.holes, d.attribute, d.group, d.x_label)
    except InputError as error:
        return f"{error}"
    log = d.log and of.by_grade
    good = np.isfinite(of.x) & np.isfinite(of.y) & ((of.x > 0) & (of.y > 0) if log else True)

    def at(values: np.ndarray) -> np.ndarray:
        return np.log10(np.where(values > 0, values, np.nan)) if log else values

    for rule in of.rules:
        ink = d.theme.text if rule.weight == "strong" else d.theme.faint
        plot.addItem(pg.InfiniteLine(rule.value, 0, pen=pg.mkPen(ink, width=1.2, style=_LINES[rule.weight])))
        plot.addItem(label(rule.words, 1.0, rule.value, d.theme.faint, 20, (0.0, 1.0)), ignoreBounds=True)
    if of.joined:
        plot.addItem(pg.PlotCurveItem(of.x, of.y, pen=pg.mkPen(d.theme.line, width=1.2), connect="finite"))
    for x, y, weight in of.curves:
        pen = (
            pg.mkPen(d.theme.lit, width=2)
            if weight == "lit"
            else pg.mkPen(d.theme.faint, width=1, style=_LINES[weight])
        )
        plot.addItem(pg.PlotCurveItem(at(x), at(y), pen=pen, connect="finite"))
    _marks(plot, at(of.x), at(of.y), good & ~of.bad, good & of.bad, d)
    middle = float(np.mean((of.y[good].min(), of.y[good].max()))) if good.any() else 0.0
    for k, name in enumerate(of.names):
        if of.bad[k] or len(of.names) <= 12:
            plot.addItem(
                label(
                    name, float(of.x[k]), float(of.y[k]), d.theme.faint, 20, (0.5, 1.2 if of.y[k] < middle else -0.2)
                ),
                ignoreBounds=True,
            )
    plot.setLabel("left", axis_words(of.y_label))
    plot.setLabel("bottom", axis_words(of.x_label))
    return of.words


def paint_curves(plot: pg.PlotItem, d: ChartData) -> str:
    """Rows joined in the order of the attribute across, one curve for each class, named where it ends."""
    good = np.isfinite(d.x) & np.isfinite(d.y)
    if not good.any():
        return "No pairs."
    names = d.classes if d.classes is not None else np.full(len(d.x), "", dtype=object)
    kinds = sorted({str(n) for n in names[good]})
    if len(kinds) > _CURVES:
        return f"{len(kinds)} classes are too many for curves; choose others in 'by'."
    for kind in kinds:
        rows = np.flatnonzero(good & (names == kind))
        rows = rows[np.argsort(d.x[rows], kind="stable")]
        ink = class_colour(d.class_legend, kind) if d.class_legend is not None else QColor(d.theme.text)
        style = Qt.PenStyle.SolidLine if kinds.index(kind) % 2 == 0 else Qt.PenStyle.DashLine
        x, y = d.x[rows], d.y[rows]
        plot.addItem(pg.PlotCurveItem(x, y, pen=pg.mkPen(ink, width=1.8, style=style), name=kind))
        plot.addItem(pg.ScatterPlotItem(x, y, size=6, pen=None, brush=pg.mkBrush(ink)))
        if kind:
            plot.addItem(label(kind, float(x[-1]), float(y[-1]), ink.name(), 20, (1.0, 1.0)), ignoreBounds=True)
    hit = np.flatnonzero(good & d.chosen)
    if len(hit):
        plot.addItem(pg.ScatterPlotItem(d.x[hit], d.y[hit], size=9, pen=None, brush=pg.mkBrush(d.theme.lit)))
    plot.setLabel("left", axis_words(d.y_label))
    return f"{int(good.sum()):,} rows in {len(kinds)} curves" if kinds != [""] else f"{int(good.sum()):,} rows"


def paint_along(plot: pg.PlotItem, d: ChartData) -> str:
    """Values down one hole (depth downward) or along one line, each interval as a bar of its length."""
    table = d.table
    if table is None or not d.group:
        return "Choose a hole or a line in 'of'."
    column = "hole" if "hole" in table.columns else "line"
    rows = np.flatnonzero((table[column].astype(str) == d.group).to_numpy())
    values = d.x[rows]
    if not np.isfinite(values).any():
        return f"{d.group} has no values."
    colours = [colour_at(d.x_legend, float(p)) for p in np.nan_to_num(position(d.x_legend, d.x_raw[rows]))]
    colours = [QColor(d.theme.lit) if d.chosen[r] else c for r, c in zip(rows, colours, strict=True)]
    known = np.isfinite(values)
    base = min(0.0, float(np.nanmin(values))) if not d.log else float(np.nanmin(values)) - 0.1
    thin = pg.mkPen(d.theme.line, width=0.4)
    if "from_m" in table.columns:
        top, stop = (-table[c].to_numpy(float)[rows][known] for c in ("from_m", "to_m"))
        plot.addItem(
            pg.BarGraphItem(
                x0=np.full(known.sum(), base),
                x1=values[known],
                y0=stop,
                y1=top,
                brushes=[c for c, k in zip(colours, known, strict=True) if k],
                pen=thin,
            )
        )
    else:
        along = (
            -table["depth_m"].to_numpy(float)[rows]
            if "depth_m" in table.columns
            else distance_along(table["x"].to_numpy(float)[rows], table["y"].to_numpy(float)[rows])
        )
        x, y = (values, along) if "depth_m" in table.columns else (along, values)
        order = np.argsort(along)
        plot.addItem(pg.PlotCurveItem(x[order], y[order], pen=pg.mkPen(d.theme.faint, width=1), connect="finite"))
        plot.addItem(
            pg.ScatterPlotItem(
                x[known],
                y[known],
                size=5,
                pen=None,
                brush=[pg.mkBrush(c) for c, k in zip(colours, known, strict=True) if k],
            )
        )
    if column == "hole":
        low, high = plot.getViewBox().childrenBounds()[1] or (0.0, 0.0)
        step = max(10.0 ** np.floor(np.log10(max(high - low, 1.0))), 1.0) / 2
        marks = np.arange(0.0, -low + step, step)
        plot.getAxis("left").setTicks([[(-float(m), f"{m:g}") for m in marks]])
        plot.setLabel("left", "Depth along hole (m)")
        plot.setLabel("bottom", axis_words(d.x_label))
    else:
        plot.setLabel("left", axis_words(d.x_label))
        plot.setLabel("bottom", "Distance along line (m)")
    return f"{int(known.sum()):,} values of {d.group}"

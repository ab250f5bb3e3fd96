"""Charts in an order: control samples in order of analysis, and values along a hole or a line."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from ....core.compute.geometry.lines import distance_along
from ....core.compute.statistics import quality
from ....core.importing import control_charts
from ....core.items.holes import HoleSet
from ....core.items.legend import position
from ...theme.plain import axis_words
from ..kit.colours import class_colour, colour_at
from ..kit.flat import label
from .chart_data import ChartData

BLANKS, PAIRS = "blanks", "duplicates"
_CURVES = 12


def groups_of_controls(holes: HoleSet) -> list[str]:
    """What a control chart can show of a set: its standards, blanks, duplicates."""
    if not len(holes.controls):
        return []
    kinds = set(holes.controls["type"])
    return [
        *control_charts.standards(holes),
        *([BLANKS] if "blank" in kinds else []),
        *([PAIRS] if "duplicate" in kinds else []),
    ]


def _rule(plot: pg.PlotItem, value: float, words: str, d: ChartData, style: Qt.PenStyle, strong: bool = False) -> None:
    ink = d.theme.text if strong else d.theme.faint
    plot.addItem(pg.InfiniteLine(value, 0, pen=pg.mkPen(ink, width=1.2, style=style)))
    plot.addItem(label(words, 0.0, value, d.theme.faint, 20, (0.0, 1.0)), ignoreBounds=True)


def _run_of(plot: pg.PlotItem, values: np.ndarray, bad: np.ndarray, d: ChartData) -> None:
    at = np.arange(1.0, len(values) + 1)
    plot.addItem(pg.PlotCurveItem(at, values, pen=pg.mkPen(d.theme.line, width=1.2), connect="finite"))
    _marks(plot, at, values, ~bad, bad, d)


def _marks(plot: pg.PlotItem, x: np.ndarray, y: np.ndarray, good: np.ndarray, bad: np.ndarray, d: ChartData) -> None:
    """Dots where a result is as it should be, larger crosses where it is not."""
    for mask, colour, size, symbol in ((good, d.theme.text, 5, "o"), (bad, d.theme.bad, 9, "x")):
        pen, brush = pg.mkPen(colour, width=1.2), pg.mkBrush(colour)
        plot.addItem(pg.ScatterPlotItem(x[mask], y[mask], size=size, symbol=symbol, pen=pen, brush=brush))


def paint_control(plot: pg.PlotItem, d: ChartData) -> str:
    """Results of one kind of control sample in order of analysis, with the limits that they are judged by."""
    holes, name = d.holes, d.attribute
    if holes is None or not len(holes.controls):
        return "The set has no control samples: bring their table in with the holes."
    if name not in holes.controls.columns:
        return f"The control samples have no {name}."
    if d.group == PAIRS:
        return _paint_pairs(plot, d, holes)
    if d.group == BLANKS:
        rows = control_charts.in_order(holes.controls)
        values = rows[rows["type"] == "blank"][name].to_numpy(float)
        level, high = quality.check_blanks(values, control_charts.detection_limit(holes, name))
        _rule(plot, level, f"{level:.3g}: five times the detection limit", d, Qt.PenStyle.DashLine, True)
        _run_of(plot, values, high, d)
        words = f"{len(values)} blanks, {int(high.sum())} above the limit"
    else:
        rows, check = control_charts.standard_rows(holes, d.group, name)
        values = rows[name].to_numpy(float)
        centre, sd = check.accepted, check.deviation
        _rule(plot, centre, f"{'accepted' if check.given else 'median'} {centre:.4g}", d, Qt.PenStyle.SolidLine, True)
        for times, style in ((2, Qt.PenStyle.DotLine), (3, Qt.PenStyle.DashLine)):
            for sign in (-1, 1):
                _rule(plot, centre + sign * times * sd, f"{'+' if sign > 0 else '−'}{times} deviations", d, style)
        _run_of(plot, values, check.outside | check.biased, d)
        if check.chance < 0.01 and len(values) > 1:
            middle, slope = float(np.median(values)), check.drift * sd
            ends = np.array([1.0, len(values)])
            plot.addItem(
                pg.PlotCurveItem(ends, middle + slope * (ends - ends.mean()), pen=pg.mkPen(d.theme.lit, width=2))
            )
        drift = (
            f"drifts {abs(check.drift) * len(values):.1f} deviations {'up' if check.drift > 0 else 'down'}"
            if check.chance < 0.01
            else "no drift"
        )
        words = f"{len(values)} results: bias {check.bias_percent:+.1f} %, {int(check.outside.sum())} beyond 3 deviations, {drift}"
    plot.setLabel("left", axis_words(d.x_label))
    plot.setLabel("bottom", "Order of analysis")
    return words


def _paint_pairs(plot: pg.PlotItem, d: ChartData, holes: HoleSet) -> str:
    pairs = control_charts.duplicate_pairs(holes, d.attribute)
    first, second = pairs["first"].to_numpy(float), pairs["second"].to_numpy(float)
    good = np.isfinite(first) & np.isfinite(second)
    if d.log:
        good &= (first > 0) & (second > 0)
        first, second = np.log10(np.where(good, first, 1.0)), np.log10(np.where(good, second, 1.0))
    if not good.any():
        return "No duplicate has its original among the samples."
    bad = (pairs["half_difference"].to_numpy(float) > 25.0) & good
    _marks(plot, first, second, good & ~bad, bad, d)
    ends = np.array([min(first[good].min(), second[good].min()), max(first[good].max(), second[good].max())])
    plot.addItem(pg.PlotCurveItem(ends, ends, pen=pg.mkPen(d.theme.faint, width=1)))
    plot.setLabel("left", axis_words(f"Duplicate {d.x_label}"))
    plot.setLabel("bottom", axis_words(f"Original {d.x_label}"))
    _, spread = quality.check_duplicates(pairs["first"].to_numpy(float), pairs["second"].to_numpy(float))
    return f"{int(good.sum())} pairs, coefficient of variation {spread:.1f} %, {int(bad.sum())} apart by more than 25 %"


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

"""Columns beside the holes of a section: strips, patterns, bars, curves, values, ticks, not reaching into the next hole."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pyqtgraph as pg
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainterPath, QPolygonF

from ....core.items.attributes import Attribute
from ....core.items.holes import HoleSet, table_with
from ....core.items.legend import Legend, position
from ..kit import flat
from ..kit.colours import class_colour, shown
from ..kit.line_pieces import LinePieces
from ..kit.unit_areas import Piece, UnitAreas
from ..kit.views import SectionView
from ..logs.tracks import CURVES
from .intervals import Near, aside, codes, intervals_near

FloatArray = np.ndarray


def columns_beside(
    ctx: Any, view: SectionView, item: HoleSet, room: dict[str, FloatArray], index: pd.Index
) -> list[pg.GraphicsObject]:
    """Draw all columns of the view's look for the holes in the corridor; ``room`` (`rooms`) is by the holes of an index."""
    out: list[pg.GraphicsObject] = []
    both = len({b.hand for b in view.beside}) > 1  # neighbours share the room between them
    for number, one in enumerate(view.beside):
        hit = table_with(item, one.attribute)
        if hit is None:
            continue
        by = intervals_near(view, hit[1])
        legend = ctx.legend(one.attribute, item)
        by = by.only(shown(legend, hit[1][one.attribute].to_numpy()[by.rows]))
        if not len(by.rows):
            continue
        free = room[one.hand][codes(hit[1], index)[by.rows]]
        free = np.clip((0.48 if both else 0.9) * free - one.offset, 0.0, None)
        width = np.minimum(one.width, free)
        place = _Placed(by, aside(by, view.exaggeration, -1.0 if one.hand == "left" else 1.0), one.offset)
        good = width > 0.5
        known = item.attributes.get(one.attribute, Attribute())
        rows = hit[1].iloc[by.rows]
        out += _DRAW[one.way](ctx, legend, rows, one.attribute, place, width, good, number, known)
    return out


class _Placed:
    """Intervals as they are seen, and places beside them at right angles."""

    def __init__(self, by: Near, step: FloatArray, offset: float) -> None:
        self.start, self.stop, self.aside, self.offset = by.start, by.stop, step, offset

    def at(self, ends: FloatArray, away: FloatArray | float) -> FloatArray:
        """Places beside ends (n, 2), so many metres beyond the offset."""
        return np.asarray(ends + self.aside * (self.offset + np.asarray(away, dtype=float).reshape(-1, 1)))

    def boxes(self, wide: FloatArray) -> FloatArray:
        """Corners (n, 4, 2) of boxes along the intervals, so many metres wide."""
        return np.stack(
            [self.at(self.start, 0.0), self.at(self.start, wide), self.at(self.stop, wide), self.at(self.stop, 0.0)],
            axis=1,
        )


def _intervals(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    return _strips(p, width, good, legend, rows[name].to_numpy())


def _bars(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    values = rows[name].to_numpy(float)
    share = np.nan_to_num(position(legend, values))
    return _strips(p, width * share, good & np.isfinite(values) & (share > 0.01), legend, values)


def _strips(
    p: _Placed, wide: FloatArray, good: FloatArray, legend: Legend, values: FloatArray
) -> list[pg.GraphicsObject]:
    # A strip is a line along the hole, as wide as it is on the ground at this moment's scale: drawn as polygons.
    return list(flat.coloured_boxes(p.boxes(wide)[good], legend, values[good], 9.4))


def _curve(
    ctx: Any,
    legend: Legend,
    rows: pd.DataFrame,
    name: str,
    p: _Placed,
    width: FloatArray,
    good: FloatArray,
    number: int,
    *_: Any,
) -> list[pg.GraphicsObject]:
    values = rows[name].to_numpy(float)
    colour = QColor(CURVES[number % len(CURVES)])
    soft = QColor(colour)
    soft.setAlpha(70)
    out: list[pg.GraphicsObject] = []
    middle = 0.5 * (p.start + p.stop)
    away = p.at(middle, width * np.nan_to_num(position(legend, values)))
    base = p.at(middle, 0.0)
    hole, deep = rows["hole"].astype(str).to_numpy(), rows["from_m"].to_numpy(float)
    for one in dict.fromkeys(hole.tolist()):
        mine = np.flatnonzero((hole == one) & good & np.isfinite(values))
        mine = mine[np.argsort(deep[mine], kind="stable")]
        if len(mine) < 2:
            continue
        edge = np.concatenate([away[mine], base[mine][::-1], away[mine[:1]]])
        area = pg.PlotCurveItem(edge[:, 0], edge[:, 1], pen=None, brush=soft, fillLevel="enclosed")
        line = pg.PlotCurveItem(away[mine, 0], away[mine, 1], pen=pg.mkPen(colour, width=1.3))
        area.setZValue(9.2)
        line.setZValue(9.4)
        out += [area, line]
    return out


def _values(
    ctx: Any,
    legend: Legend,
    rows: pd.DataFrame,
    name: str,
    p: _Placed,
    width: FloatArray,
    good: FloatArray,
    number: int,
    known: Attribute,
) -> list[pg.GraphicsObject]:
    column = rows[name].to_numpy()
    middle = p.at(0.5 * (p.start + p.stop), 0.5 * np.minimum(width, 10.0))
    words = [
        "" if pd.isna(v) else known.said(float(v)) if isinstance(v, float | np.floating | np.integer) else str(v)
        for v in column[good].tolist()
    ]
    x, z = middle[good].T
    return [flat.Labels(words, x, z, ctx.theme.text, ctx.theme.canvas, 12.2, above=0.0)]


def _patterns(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    corners = p.boxes(width)
    words = rows[name].to_numpy(dtype=object)
    known = good & np.array([not pd.isna(w) and str(w) != "" for w in words.tolist()], dtype=bool)
    texts = np.array([str(w) for w in words.tolist()], dtype=object)
    out: list[pg.GraphicsObject] = []
    for word in dict.fromkeys(texts[known].tolist()):
        path = QPainterPath()
        for quad in corners[known & (texts == word)].tolist():
            path.addPolygon(QPolygonF([QPointF(x, z) for x, z in (*quad, quad[0])]))
        pattern = legend.patterns.get(word, "plain")
        piece = Piece(word.encode(), path, path.boundingRect())
        out.append(UnitAreas([piece], class_colour(legend, word), pattern, 9.4, opacity=255))
    return out


def _ticks(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    """Marks across, where an interval begins and ends; of classes only where they change."""
    hole, start, stop = (rows[c].to_numpy() for c in ("hole", "from_m", "to_m"))
    first, last = good.copy(), good.copy()
    values = rows[name].to_numpy(dtype=object)
    if rows[name].dtype.kind not in "fiu" and len(rows) > 1:
        told = np.array([np.nan if pd.isna(v) else str(v) for v in values.tolist()], dtype=object)
        goes_on = (hole[1:] == hole[:-1]) & (np.abs(start[1:] - stop[:-1]) < 1e-3) & (told[1:] == told[:-1])
        first[1:] &= ~goes_on
        last[:-1] &= ~goes_on
    ends = np.concatenate([p.at(p.start, 0.0)[first], p.at(p.stop, 0.0)[last]])
    tips = np.concatenate([p.at(p.start, width)[first], p.at(p.stop, width)[last]])
    ink = [QColor(ctx.theme.text)]
    return [LinePieces(ink, np.zeros(len(ends), dtype=np.int64), ends, tips, 1.2, 9.45)] if len(ends) else []


_DRAW = {
    "intervals": _intervals,
    "patterns": _patterns,
    "bars": _bars,
    "curve": _curve,
    "values": _values,
    "ticks": _ticks,
}

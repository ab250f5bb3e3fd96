"""Columns beside the holes of a section: strips, bars, curves and values, left or right, not reaching into the next hole."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pyqtgraph as pg
from PySide6.QtGui import QColor

from ...core.compute.drilling.beside import room_beside
from ...core.items.attributes import Attribute
from ...core.items.holes import HoleSet, table_with
from ...core.items.legend import Legend, position
from ...core.items.section_look import Beside
from . import flat
from .colours import shown
from .log_tracks import CURVES
from .views import SectionView

FloatArray = np.ndarray


def columns_beside(ctx: Any, view: SectionView, item: HoleSet, beside: tuple[Beside, ...]) -> list[pg.GraphicsObject]:
    """Draw all columns of a look for the holes in the corridor."""
    s = item.stations
    along, _, near = view.near(s["x"].to_numpy(float), s["y"].to_numpy(float))
    code, names = pd.factorize(s["hole"].to_numpy()[near])
    left, right = room_beside(code, along[near], s["z"].to_numpy(float)[near])
    room = {"left": pd.Series(left, index=names), "right": pd.Series(right, index=names)}
    out: list[pg.GraphicsObject] = []
    for number, one in enumerate(beside):
        hit = table_with(item, one.attribute)
        if hit is None:
            continue
        rows = hit[1]
        _, _, inside = view.near(rows["x"].to_numpy(float), rows["y"].to_numpy(float))
        values = rows[one.attribute]
        legend = ctx.legend(one.attribute, item)
        keep = inside & shown(legend, values.to_numpy())
        rows = rows[keep]
        if not len(rows):
            continue
        free = room[one.hand].reindex(rows["hole"]).fillna(np.inf).to_numpy(float)
        both = any(b.hand != one.hand for b in beside)  # neighbours share the room between them
        free = np.clip((0.48 if both else 0.9) * free - one.offset, 0.0, None)
        width = np.minimum(one.width, free)
        place = _Placed(view, rows, -1.0 if one.hand == "left" else 1.0, one.offset)
        good = width > 0.5
        known = item.attributes.get(one.attribute, Attribute())
        out += _DRAW[one.way](ctx, legend, rows, one.attribute, place, width, good, number, known)
    return out


class _Placed:
    """Intervals as they are seen, and places beside them at right angles."""

    def __init__(self, view: SectionView, rows: pd.DataFrame, sign: float, offset: float) -> None:
        which = (
            view.plane.nearest_piece(rows["x"].to_numpy(float), rows["y"].to_numpy(float)) if view.plane.bends else None
        )
        ends = []
        for k in (0, 1):
            a, _ = view.plane.to_plane(rows[f"x{k}"].to_numpy(float), rows[f"y{k}"].to_numpy(float), which)
            ends.append(np.column_stack([a, rows[f"z{k}"].to_numpy(float)]))
        self.start, self.stop = ends
        scale = np.array([1.0, view.exaggeration])
        run = (self.stop - self.start) * scale
        size = np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)
        aside = np.column_stack([-run[:, 1], run[:, 0]]) / size[:, None]
        aside *= np.where(aside[:, :1] * sign < 0, -1.0, 1.0)
        self.aside, self.offset = aside / scale, offset

    def at(self, ends: FloatArray, away: FloatArray | float) -> FloatArray:
        """Places beside ends (n, 2), so many metres beyond the offset."""
        return np.asarray(ends + self.aside * (self.offset + np.asarray(away, dtype=float).reshape(-1, 1)))


def _intervals(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    # A strip is a line along the hole, as wide as it is on the ground at this moment's scale: drawn as polygons.
    corners = np.stack([p.at(p.start, 0.0), p.at(p.start, width), p.at(p.stop, width), p.at(p.stop, 0.0)], axis=1)
    return list(flat.coloured_boxes(corners[good], legend, rows[name].to_numpy()[good], 9.4))


def _bars(
    ctx: Any, legend: Legend, rows: pd.DataFrame, name: str, p: _Placed, width: FloatArray, good: FloatArray, *_: Any
) -> list[pg.GraphicsObject]:
    values = rows[name].to_numpy(float)
    share = np.nan_to_num(position(legend, values))
    long = width * share
    good = good & np.isfinite(values) & (share > 0.01)
    corners = np.stack([p.at(p.start, 0.0), p.at(p.start, long), p.at(p.stop, long), p.at(p.stop, 0.0)], axis=1)
    return list(flat.coloured_boxes(corners[good], legend, values[good], 9.4))


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


_DRAW = {"intervals": _intervals, "bars": _bars, "curve": _curve, "values": _values}

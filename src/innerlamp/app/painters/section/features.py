"""Maps on a section: where their lines cross it, and what was drawn in space near it."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QGraphicsItem

from ....core.compute.geometry.planes import in_corridor
from ....core.compute.geometry.sampling import bilinear
from ....core.items.attributes import in_role, plain_number
from ....core.items.base import Item
from ....core.items.features import NOTE, POINT, Features, in_space, is_closed, part_vertices, segment_starts
from ....core.items.legend import Legend
from ....core.items.picture import Picture
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit import flat
from ..kit.colours import class_colour, colour_values, shown
from ..kit.views import SectionView

# Opacity of what was drawn on sections beside this one, and how many corridors it may lie away.
GHOST, REACH = 0.35, 3.0


def paint_features(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    """Strokes through the ground where lines of the map cross the section, and lines, outlines and notes in space near it."""
    assert isinstance(item, Features)
    dem = ctx.ground()
    if not len(item.vertices):
        return []
    above = None
    if dem is not None:
        v = item.vertices
        above = v[:, 2] - bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, v[:, 0], v[:, 1])
    there = in_space(item, above)
    out = _drawn(ctx, view, entry, item, there) if there.any() else []
    return out + _crossings(ctx, view, entry, item, ~there)


def _legend(ctx: Sight, entry: Entry, item: Features) -> tuple[str, Legend | None]:
    attribute = ctx.attribute_of(entry)
    return attribute, ctx.legend(attribute, item) if attribute in item.table.columns else None


def _crossings(
    ctx: Sight, view: SectionView, entry: Entry, item: Features, parts: np.ndarray
) -> list[pg.GraphicsObject]:
    dem = ctx.ground()
    if dem is None or not parts.any():
        return []
    x, y = item.vertices[:, 0], item.vertices[:, 1]
    first = segment_starts(item)
    first = first[parts[np.searchsorted(item.starts, first, "right") - 1]]
    found_at, found = [], []
    for piece, start in zip(view.plane.pieces, view.plane.corners[:-1].tolist(), strict=True):
        along, off = piece.to_plane(x, y)
        hit = first[(off[first] > 0) != (off[first + 1] > 0)]
        at = along[hit] + (off[hit] / (off[hit] - off[hit + 1])) * (along[hit + 1] - along[hit])
        good = (at >= 0) & (at <= piece.length)
        found_at.append(at[good] + start)
        found.append(hit[good])
    at, hit = np.concatenate(found_at), np.concatenate(found)
    if not len(at):
        return []
    x, y = view.plane.to_map(at)
    z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y)
    row = item.owner[np.searchsorted(item.starts, hit, "right") - 1]
    start, stop = np.column_stack([at, z - 14.0]), np.column_stack([at, z + 14.0])
    attribute, legend = _legend(ctx, entry, item)
    if legend is None:
        pieces = np.stack([start, stop], axis=1).reshape(-1, 2)
        return [flat.plain_pieces(pieces, QColor(ctx.theme.text), 2.0, 6)]
    return list(flat.coloured_pieces(start, stop, legend, item.table[attribute].to_numpy()[row], 2.5, 6))


def _drawn(ctx: Sight, view: SectionView, entry: Entry, item: Features, parts: np.ndarray) -> list[pg.GraphicsObject]:
    attribute, legend = _legend(ctx, entry, item)
    values = item.table[attribute].to_numpy() if legend is not None else None
    keep = shown(legend, values) if legend is not None and values is not None else np.ones(len(item.table), bool)
    near: dict[bool, list[tuple[np.ndarray, int, bool]]] = {True: [], False: []}
    notes: list[tuple[float, float, str]] = []
    notes_at: list[tuple[float, float, str]] = []  # levels of contours
    level = in_role(item.attributes, "level")
    out: list[pg.GraphicsObject] = []
    for part in np.flatnonzero(parts).tolist():
        v, row = part_vertices(item, part), int(item.owner[part])
        along, off = view.plane.to_plane(v[:, 0], v[:, 1])
        inside = bool(np.any(in_corridor(off, view.corridor, view.side)))
        if not keep[row] or (not inside and np.abs(off).min() > REACH * view.corridor):
            continue
        if along.max() < 0 or along.min() > view.plane.length:
            continue
        path = np.column_stack([along, v[:, 2]])
        if item.part_types[part] == POINT:
            words = str(item.table[NOTE].iloc[row]) if NOTE in item.table.columns else ""
            if inside:
                notes.append((float(along[0]), float(v[0, 2]), words))
            continue
        near[inside].append((path, row, is_closed(v)))
    for inside, paths in near.items():
        made: list[pg.GraphicsObject] = []
        for path, row, closed in paths:
            colour = QColor(ctx.theme.text)
            if legend is not None and values is not None:
                colour = (
                    class_colour(legend, values[row])
                    if legend.classes
                    else QColor(*colour_values(legend, np.array([float(values[row])]))[0, :3].tolist())
                )
            made += _path(path, colour, inside and closed and not level)
            if level and inside:
                top = path[int(np.argmax(path[:, 1]))]
                notes_at.append((float(top[0]), float(top[1]), plain_number(float(item.table[level].iloc[row]))))
        for graphic in made:
            QGraphicsItem.setOpacity(graphic, 1.0 if inside else GHOST)
        out += made
    if notes_at:
        x, z = (np.array([n[k] for n in notes_at], dtype=float) for k in (0, 1))
        out.append(flat.Labels([n[2] for n in notes_at], x, z, ctx.theme.text, ctx.theme.canvas, 12.8, above=0.0))
    if notes:
        x, z = (np.array([n[k] for n in notes], dtype=float) for k in (0, 1))
        out += flat.markers(x, z, None, None, 7, 13, "d", QColor(ctx.theme.text))
        out.append(flat.Labels([n[2] for n in notes], x, z, ctx.theme.text, ctx.theme.canvas, 13.5))
    return out


def _path(path: np.ndarray, colour: QColor, filled: bool) -> list[pg.GraphicsObject]:
    curve = pg.PlotCurveItem(path[:, 0], path[:, 1], pen=pg.mkPen(colour.darker(115), width=2.2))
    curve.setZValue(8)
    if filled:
        soft = QColor(colour)
        soft.setAlpha(70)
        curve.setBrush(soft)
        curve.setFillLevel("enclosed")
    return [curve]


def paint_picture(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    """The strip of a picture that the section passes: a band of its colours on the ground."""
    assert isinstance(item, Picture)
    dem = ctx.ground()
    if dem is None:
        return []
    count = int(np.clip(view.plane.length / max(abs(item.affine[0]) + abs(item.affine[1]), 1e-6), 50, 2000))
    along = (np.arange(count) + 0.5) * view.plane.length / count
    x, y = view.plane.to_map(along)
    a, b, c, d, e, f = item.affine
    det = a * e - b * d
    col, row = ((e * (x - c) - b * (y - f)) / det, (a * (y - f) - d * (x - c)) / det)
    rows, columns = item.pixels.shape[:2]
    z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y)
    inside = (col >= 0) & (col < columns) & (row >= 0) & (row < rows) & np.isfinite(z)
    rgba = np.zeros((count, 4), np.uint8)
    rgba[inside] = item.pixels[row[inside].astype(int), col[inside].astype(int)]
    inside &= rgba[:, 3] > 0
    out: list[pg.GraphicsObject] = []
    half = 0.5 * view.plane.length / count
    # Few pens draw many pieces: colours go in steps of 32.
    step = (rgba[:, :3] // 32).astype(int)
    code = np.where(inside, step[:, 0] * 64 + step[:, 1] * 8 + step[:, 2], -1)
    for one in np.unique(code[code >= 0]).tolist():
        mine = code == one
        colour = QColor(*rgba[mine, :3].mean(axis=0).round().astype(int).tolist())
        ends = np.stack(
            [
                np.column_stack([along[mine] - half, z[mine] + 7.0]),
                np.column_stack([along[mine] + half, z[mine] + 7.0]),
            ],
            axis=1,
        )
        out.append(flat.plain_pieces(ends.reshape(-1, 2), colour, 5.0, 4))
    return out

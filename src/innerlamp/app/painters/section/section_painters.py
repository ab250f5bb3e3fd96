"""How each kind of item is drawn on a vertical section: x is distance along the line, y is elevation."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pyqtgraph as pg
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QGraphicsItem

from ....core.compute.geometry.orientations import plane_normal, section_traces
from ....core.compute.geometry.planes import cut_surface
from ....core.compute.geometry.sampling import bilinear
from ....core.items.attributes import orientation
from ....core.items.base import Item
from ....core.items.electrodes import ElectrodeSurvey
from ....core.items.fields import BlockModel, Grid, Surface
from ....core.items.holes import INTERCEPTS, HoleSet, readings_with, table_with
from ....core.items.legend import Legend, position
from ....core.items.points import PointSet, SurveyLines, TargetSet
from ....core.numbers import round_length
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit import flat
from ..kit.cell_colours import cell_colours
from ..kit.colours import coded, shown
from ..kit.fading import clearness
from ..kit.line_pieces import LinePieces
from ..kit.true_units import areas, on_section, true_contacts
from ..kit.views import SectionView
from ..map.map_painters import marks, surface_colour, surface_shown, target_colours, targets_shown
from .intervals import FADING, STATION, Near, aside, codes, intervals_near, places, rooms
from .sides import columns_beside

BAR_METRES = 34.0
MOST_DEPTHS = 60  # holes along which depths are written
MOST_MOVING = 4_000  # intervals beside which nothing is drawn while the section is dragged
TICK_METRES = 16.0  # length of a plane's trace
BAR_START = 4.0  # metres from the trace


def paint_grid(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Grid)
    count = int(np.clip(view.plane.length / item.dx * 2, 50, 4000))
    along = np.linspace(0.0, view.plane.length, count)
    x, y = view.plane.to_map(along)
    values = bilinear(item.values, item.x0, item.y0, item.dx, item.dy, x, y)
    if item.is_ground:
        curve = pg.PlotCurveItem(along, values, pen=pg.mkPen(ctx.theme.text, width=1.6), connect="finite")
        curve.setZValue(5)
        return [curve]
    # A grid of values is a coloured band that rides on the ground.
    dem = ctx.ground()
    if dem is None:
        return []
    z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y) + 7.0
    start = np.column_stack([along[:-1], z[:-1]])
    stop = np.column_stack([along[1:], z[1:]])
    good = np.isfinite(values[:-1]) & np.isfinite(z[:-1]) & np.isfinite(z[1:])
    return list(
        flat.coloured_pieces(start[good], stop[good], ctx.legend(item.attribute, item), values[:-1][good], 5.0, 4)
    )


def _near(view: SectionView, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    along, _, inside = view.near(x, y)
    return along, inside


def paint_points(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, PointSet)
    x, y, z = (item.table[c].to_numpy(float) for c in "xyz")
    along, near = _near(view, x, y)
    z = z.copy()
    missing = near & ~np.isfinite(z)
    dem = ctx.ground()
    if dem is not None and missing.any():
        z[missing] = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x[missing], y[missing])
    rows = np.flatnonzero(near & np.isfinite(z))
    ticks = _plane_ticks(ctx, view, entry, item, along[rows], z[rows], rows)
    if ticks is not None:
        return ticks
    out = marks(ctx, entry, item, ctx.attribute_of(entry), along[rows], z[rows], rows)
    for each in out:
        each.setZValue(each.zValue() + 4.0)
    if item.content == "piercings" and not entry.style.label_by and "label" in item.table.columns:
        words = item.table["label"].astype(str).to_numpy()[rows].tolist()
        out.append(flat.Labels(words, along[rows], z[rows], ctx.theme.text, ctx.theme.canvas, 13))
    return out


def _plane_ticks(
    ctx: Sight, view: SectionView, entry: Entry, item: PointSet, along: np.ndarray, z: np.ndarray, rows: np.ndarray
) -> list[pg.GraphicsObject] | None:
    """Planes as ticks with their apparent dip in the section; None for points without an orientation."""
    names = orientation(item.attributes)
    if names is None or item.content != "structures":
        return None
    t = item.table.iloc[rows]
    normal = plane_normal(t[names[0]].to_numpy(float), np.nan_to_num(t[names[1]].to_numpy(float)))
    trace = section_traces(normal, view.plane.azimuth_at(along))
    attribute = ctx.attribute_of(entry)
    legend = ctx.legend(attribute, item) if attribute in t.columns else None
    good = np.isfinite(trace).all(axis=1)
    if legend is not None:
        good &= shown(legend, t[attribute].to_numpy())
    at = np.column_stack([along, z])
    start, stop = (at + sign * TICK_METRES * trace for sign in (-0.5, 0.5))
    if legend is None:
        pieces = np.stack([start[good], stop[good]], axis=1).reshape(-1, 2)
        return [flat.plain_pieces(pieces, QColor(ctx.theme.text), 2.0, 11)]
    return list(flat.coloured_pieces(start[good], stop[good], legend, t[attribute].to_numpy()[good], 2.4, 11))


def paint_lines(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, SurveyLines)
    x, y, z = (item.table[c].to_numpy(float) for c in "xyz")
    along, near = _near(view, x, y)
    rows = np.flatnonzero(near & np.isfinite(z))
    attribute = ctx.attribute_of(entry)
    legend = ctx.legend(attribute, item) if attribute in item.table.columns else None
    values = item.table[attribute].to_numpy()[rows] if legend else None
    return list(flat.markers(along[rows], z[rows], legend, values, 5, 3, "o", QColor(ctx.theme.faint)))


def paint_holes(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, HoleSet)
    s = item.stations
    index = pd.Index(item.collars["hole"].astype(str))
    (sx, sy, z), hole = places(s, STATION), codes(s, index)
    along, near = _near(view, sx, sy)
    same = (hole[1:] == hole[:-1]) & near[1:] & near[:-1]
    if view.plane.bends:  # a hole that passes from one straight piece to the next is drawn on each
        which = view.plane.nearest_piece(sx, sy)
        same &= which[1:] == which[:-1]
    az = np.column_stack([along, z])
    out: list[pg.GraphicsObject] = [
        flat.plain_pieces(
            np.stack([az[:-1][same], az[1:][same]], axis=1).reshape(-1, 2), QColor(ctx.theme.text), 1.0, 9
        )
    ]
    attribute = ctx.attribute_of(entry)
    hit = table_with(item, attribute)
    wide = table_with(item, entry.style.size_by)
    near_by = None
    if hit is not None:
        near_by = intervals_near(view, hit[1])
        values = hit[1][attribute].to_numpy()[near_by.rows]
        legend = ctx.legend(attribute, item)
        out += _faded(near_by.third, legend, values, near_by.start, near_by.stop, 5.0, 10)
    beside = wide[1] if wide is not None else hit[1] if hit is not None else None
    measured = entry.style.size_by if wide is not None else attribute
    if view.moving and near_by is not None and len(near_by.rows) > MOST_MOVING:
        return out
    if view.beside:
        out += columns_beside(ctx, view, item, rooms(len(index), hole, along, z, near), index)
    elif beside is not None and not ctx.legend(measured, item).classes:
        same_table = near_by is not None and hit is not None and beside is hit[1]
        by = near_by if same_table and near_by is not None else intervals_near(view, beside)
        free = rooms(len(index), hole, along, z, near)["right"][codes(beside, index)[by.rows]]
        grades = beside[measured].to_numpy(float)[by.rows]
        out += _bars(by, grades, ctx.legend(measured, item), view.exaggeration, free)
    if view.depths:
        out += _depths(ctx, view, s["depth_m"].to_numpy(float), hole, along, z, near)
    out += _intercept_words(ctx, view, item)
    spots = readings_with(item, attribute) if hit is None else None
    if spots is not None:
        along, inside = _near(view, spots[1]["x"].to_numpy(float), spots[1]["y"].to_numpy(float))
        at = spots[1][inside]
        out += flat.markers(
            along[inside], at["z"].to_numpy(float), ctx.legend(attribute, item), at[attribute].to_numpy(), 5, 10
        )
    collars = item.collars
    a, inside = _near(view, collars["x"].to_numpy(float), collars["y"].to_numpy(float))
    rows_in = np.flatnonzero(inside)
    out.append(
        flat.Labels(
            collars["hole"].astype(str).to_numpy()[rows_in].tolist(),
            a[rows_in],
            collars["z"].to_numpy(float)[rows_in],
            ctx.theme.text,
            ctx.theme.canvas,
            12,
        )
    )
    return out


def _faded(
    third: np.ndarray,
    legend: Legend,
    values: np.ndarray,
    start: np.ndarray,
    stop: np.ndarray,
    width: float,
    z: float,
) -> list[pg.GraphicsObject]:
    """Line pieces in the colours of values, fainter the farther they lie off the section."""
    colours, code = coded(legend, values)
    out: list[pg.GraphicsObject] = []
    for step, opacity in enumerate(FADING):
        mine = np.flatnonzero((third == step) & (code >= 0))
        if len(mine):
            graphic = LinePieces(colours, code[mine], start[mine], stop[mine], width, z)
            QGraphicsItem.setOpacity(graphic, opacity)
            out.append(graphic)
    return out


def _depths(
    ctx: Sight,
    view: SectionView,
    depth: np.ndarray,
    hole: np.ndarray,
    along: np.ndarray,
    z: np.ndarray,
    near: np.ndarray,
) -> list[pg.GraphicsObject]:
    """Round depths along the holes in the corridor, as close as a tenth of the longest of them asks for."""
    mine = np.flatnonzero(near)
    if not len(mine):
        return []
    step = round_length(max(float(depth[mine].max()) / 10.0, 1.0))
    words, x, y = [], [], []
    for one in np.unique(hole[mine]).tolist()[:MOST_DEPTHS]:
        k = mine[hole[mine] == one]
        marks = step * np.arange(np.ceil(depth[k].min() / step - 1e-9), np.floor(depth[k].max() / step + 1e-9) + 1)
        words += [f"{d:g}" for d in marks.tolist() if d > 0]
        marks = marks[marks > 0]
        x.append(np.interp(marks, depth[k], along[k]))
        y.append(np.interp(marks, depth[k], z[k]))
    at = np.concatenate(x), np.concatenate(y)
    return [flat.Labels(words, *at, ctx.theme.faint, ctx.theme.canvas, 11.8, left=8.0)]


def _intercept_words(ctx: Sight, view: SectionView, item: HoleSet) -> list[pg.GraphicsObject]:
    """Length and grade of significant intercepts to the left of their holes."""
    table = item.tables.get(INTERCEPTS)
    if table is None or "label" not in table.columns:
        return []
    along, inside = _near(view, table["x"].to_numpy(float), table["y"].to_numpy(float))
    words = table["label"].astype(str).to_numpy()[inside].tolist()
    z = table["z"].to_numpy(float)[inside]
    return [flat.Labels(words, along[inside], z, ctx.theme.text, ctx.theme.canvas, 12.5, left=6.0)]


def paint_electrodes(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    """Readings below the middle of their electrodes, at their median depth of investigation."""
    assert isinstance(item, ElectrodeSurvey)
    t = item.table
    along, near = _near(view, t["x"].to_numpy(float), t["y"].to_numpy(float))
    z = t["z"].to_numpy(float)
    rows = np.flatnonzero(near & np.isfinite(z))
    attribute = ctx.attribute_of(entry)
    legend = ctx.legend(attribute, item) if attribute in t.columns else None
    values = t[attribute].to_numpy()[rows] if legend else None
    out: list[pg.GraphicsObject] = list(flat.markers(along[rows], z[rows], legend, values, 6, 3, "s"))
    e = item.electrodes
    at, by = _near(view, e["x"].to_numpy(float), e["y"].to_numpy(float))
    out += flat.markers(at[by], e["z"].to_numpy(float)[by], None, None, 4, 6, "t", QColor(ctx.theme.text))
    return out


def _bars(
    by: Near, values: np.ndarray, legend: Legend, exaggeration: float, room: np.ndarray
) -> list[pg.GraphicsObject]:
    # A bar for each interval, drawn at right angles to the hole as it appears, as long as the legend's position;
    # all of a hole are shorter where they would reach the next one.
    longest = np.clip(0.8 * room - BAR_START, 2.0, BAR_METRES)
    place = np.nan_to_num(position(legend, values))
    middle, shift = 0.5 * (by.start + by.stop), aside(by, exaggeration)
    end = middle + shift * (BAR_START + longest[:, None] * place[:, None])
    good = np.isfinite(values) & (place > 0.02) & shown(legend, values)
    start = middle + shift * BAR_START
    return _faded(by.third[good], legend, values[good], start[good], end[good], 1.6, 9.5)


def paint_surface(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Surface)
    if not surface_shown(ctx, item):
        return []
    pieces = cut_surface(item.vertices, item.triangles, view.plane).reshape(-1, 2)
    return [flat.plain_pieces(pieces, surface_colour(ctx, item), 2.0, 7)]


def paint_blocks(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, BlockModel)
    attribute = ctx.attribute_of(entry)
    if attribute not in item.properties:
        return []
    contacts = true_contacts(item, attribute)
    if contacts is not None:
        found = on_section(item, contacts, view.plane, view.moving)
        return [] if found is None else list(areas(found, contacts.units, ctx.legend(attribute, item), -10.0))
    mesh = item.mesh
    step = float(min(mesh.u.min(), mesh.v.min())) / 4.0
    count = int(np.clip(view.plane.length / step, 10, 2000))
    along = (np.arange(count) + 0.5) * view.plane.length / count
    x, y = view.plane.to_map(along)
    cut = mesh.cut(x, y, 1500)
    values = cut.values(item.properties[attribute])
    rgba = cell_colours(item, attribute, ctx.legend(attribute, item), values, hide_below=True)
    clear = clearness(item, attribute, entry.style, cut)
    if clear is not None:
        rgba[..., 3] = (rgba[..., 3] * np.where(cut.k >= 0, clear, 1.0)).astype(np.uint8)
    return [flat.image(rgba, 0.0, cut.low, view.plane.length, cut.high - cut.low, -10, 0.8)]


def paint_targets(ctx: Sight, view: SectionView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, TargetSet)
    t = targets_shown(ctx, entry, item)
    along, near = _near(view, t["x"].to_numpy(float), t["y"].to_numpy(float))
    rows = np.flatnonzero(near)
    z = t["z"].to_numpy(float)
    colours = target_colours(ctx, entry, item, t)
    out: list[pg.GraphicsObject] = []
    for row in rows:
        out += flat.markers(along[row : row + 1], z[row : row + 1] + 26.0, None, None, 13, 14, "o", colours[row])
        stem = pg.PlotCurveItem(
            [along[row], along[row]], [z[row], z[row] + 26], pen=pg.mkPen(ctx.theme.text, width=1.2)
        )
        stem.setZValue(13)
        out += [
            stem,
            flat.label(str(t["rank"].iloc[row]), along[row], z[row] + 26, ctx.theme.text, 15, (0.5, 0.5), bold=True),
        ]
    return out

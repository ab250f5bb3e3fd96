"""How each kind of item is drawn in 3D. A painter returns actors; coordinates are relative to the scene's origin.

Scenes are kept light: surfaces are thinned to what a pane can show, tubes have few sides.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from PySide6.QtGui import QColor
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkRenderingCore import vtkBillboardTextActor3D, vtkProp3D

from ....core.compute.geometry.orientations import disks, plane_normal
from ....core.compute.geometry.sampling import bilinear
from ....core.compute.gridding.shading import ground_shade, hillshade
from ....core.items.attributes import orientation
from ....core.items.base import Item
from ....core.items.electrodes import ElectrodeSurvey
from ....core.items.features import NOTE, POINT, Features, segment_starts
from ....core.items.fields import Grid
from ....core.items.holes import HoleSet, readings_with, table_with
from ....core.items.legend import position
from ....core.items.picture import Picture
from ....core.items.points import PointSet, SurveyLines, TargetSet
from ....core.items.style import Style
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit.colours import ABSENT, bins, colour_values, shown
from ..kit.hole_values import on_intervals
from ..kit.views import SceneView
from ..map.map_painters import label_words, sizes_of, target_colours, targets_shown
from .actors import actor, sheet
from .areas import draped_areas, filled_outlines
from .markers import classes_of, solids
from .models import contour_lines, own_relief
from .polydata import MOST_TRIANGLES, colour_cells, colour_points, polydata, set_normals

FloatArray = NDArray[np.float64]
MOST_LABELS = 16
TUBE, THIN, WIDE = 5.0, 1.5, 11.0  # metres: radius of holes, and of the least and the highest value that widens them
MOST_POINT_LABELS = 60
MOST_TUBES = 30_000  # intervals beyond which holes are lines: nobody could tell tubes apart
MOST_MOVING = 20_000  # of them while the scene is turned


def rgb_of(colour: QColor) -> tuple[int, int, int]:
    """Return red, green, blue 0..255 of a colour."""
    return colour.red(), colour.green(), colour.blue()


def paint_grid(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, Grid)
    dem = item if item.is_ground else ctx.ground()
    if dem is None:
        return []
    if item.is_ground and view.draped:
        return []  # the value grids are draped over the ground and stand for it
    ny, nx = item.values.shape
    step = max(1, int(np.ceil(np.sqrt(2.0 * nx * ny / MOST_TRIANGLES))))
    x, y = item.x[::step], item.y[::step]
    values = item.values[::step, ::step]
    gx, gy = np.meshgrid(x, y)
    z = values if item.is_ground else bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, gx, gy)
    if item.is_ground:
        level = np.nan_to_num(95 + 160 * ground_shade(z, item.dx * step, item.dy * step)).astype(np.uint8)
        rgba = np.stack([level, level, (level * 0.94).astype(np.uint8), np.full(level.shape, 255, np.uint8)], axis=-1)
        known = np.isfinite(z)
    else:
        rgba = colour_values(ctx.legend(item.attribute, item), values, hide_below=True)
        known = np.isfinite(z) & (rgba[..., 3] > 0)
        rgba = rgba.copy()
        shade = hillshade(z, item.dx * step, item.dy * step)
        rgba[..., :3] = (rgba[..., :3] * np.nan_to_num(0.55 + 0.6 * shade)[..., None]).clip(0, 255).astype(np.uint8)
    if not item.is_ground:
        z = z + entry.style.raised
        if entry.style.form == "own relief":
            z = own_relief(values, z, float(max(np.ptp(x), np.ptp(y))), ctx.legend(item.attribute, item))
    mesh = sheet(gx, gy, z, known, origin)
    colour_points(mesh, rgba.reshape(-1, 4)[:, :3])
    out: list[vtkProp3D] = [actor(mesh, opacity=0.55 if item.is_ground else 0.7, shaded=False)]
    if item.is_ground and entry.style.every > 0:
        out += contour_lines(mesh, entry.style.every, origin[2], QColor(ctx.theme.text), 1.0)
    return out


def paint_points(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, PointSet)
    t, style = item.table, entry.style
    if item.content == "structures" and orientation(item.attributes) is not None:
        return _disks(ctx, origin, entry, item)
    sizes = sizes_of(item, style, 6.0)
    out: list[vtkProp3D] = []
    if style.shape_by in t.columns:
        out += _shaped(ctx, origin, entry, item, sizes)
        sizes = np.zeros(len(t))
    # Points of one actor have one size: sizes go in steps.
    grades = np.where(sizes > 0, np.maximum(np.rint(sizes / 3.0) * 3.0, 2.0), 0.0) if style.size_by else sizes
    for grade in np.unique(grades[grades > 0]):
        out += _cloud(ctx, origin, entry, item, t[grades == grade], float(grade))
    if style.label_by in t.columns:
        out += _point_labels(ctx, origin, entry, item)
    return out


def _shaped(ctx: Sight, origin: FloatArray, entry: Entry, item: PointSet, sizes: FloatArray) -> list[vtkProp3D]:
    """Points as small solids, a shape for each class of a column."""
    t = item.table
    at = _on_ground(ctx, t)
    attribute = ctx.attribute_of(entry)
    rgb = np.tile(np.array(rgb_of(QColor(ctx.theme.text)), np.uint8), (len(t), 1))
    good = np.isfinite(at).all(axis=1) & (sizes > 0)
    if attribute in t.columns:
        rgb = _colours(ctx, item, attribute, t[attribute].to_numpy())
        good &= shown(ctx.legend(attribute, item), t[attribute].to_numpy())
    if not good.any():
        return []
    radius = 0.4 * _disk_radius(at[good]) * sizes / 6.0
    shape = classes_of(t[entry.style.shape_by])
    return list(solids(at[good] - origin, rgb[good], shape[good], radius[good]))


def _disks(ctx: Sight, origin: FloatArray, entry: Entry, item: PointSet) -> list[vtkProp3D]:
    """Planes as disks that lie as they were measured, about as wide as readings stand apart."""
    names = orientation(item.attributes)
    assert names is not None
    t = item.table
    dip, to = (t[n].to_numpy(float) for n in names)
    at = _on_ground(ctx, t)
    there = np.isfinite(at).all(axis=1) & np.isfinite(dip) & (np.isfinite(to) | (dip == 0))
    attribute = ctx.attribute_of(entry)
    if attribute in t.columns:
        there &= shown(ctx.legend(attribute, item), t[attribute].to_numpy())
    rows = np.flatnonzero(there)
    if not len(rows):
        return []
    sides = 14 if len(rows) * 12 <= MOST_TRIANGLES else 6
    corners = disks(at[rows] - origin, plane_normal(dip[rows], np.nan_to_num(to[rows])), _disk_radius(at[rows]), sides)
    mesh = polydata(corners.reshape(-1, 3), faces=np.arange(len(rows) * sides).reshape(-1, sides))
    if attribute not in t.columns:
        return [actor(mesh, QColor(ctx.theme.text))]
    return [actor(colour_cells(mesh, _colours(ctx, item, attribute, t[attribute].to_numpy()[rows])))]


def _disk_radius(at: FloatArray) -> float:
    from scipy.spatial import cKDTree

    if len(at) < 2:
        return 20.0
    sample = at[np.linspace(0, len(at) - 1, min(len(at), 2000)).astype(int)]
    apart, _ = cKDTree(sample).query(sample, k=2)
    return float(np.clip(0.9 * np.median(apart[:, 1]), 8.0, 60.0))


def _point_labels(ctx: Sight, origin: FloatArray, entry: Entry, item: PointSet) -> list[vtkProp3D]:
    """Words at points: where there are many, at those with the highest values."""
    t, style = item.table, entry.style
    words = label_words(t[style.label_by], style.label_from)
    attribute = ctx.attribute_of(entry)
    there = shown(ctx.legend(attribute, item), t[attribute].to_numpy()) if attribute in t else np.ones(len(t), bool)
    rows = np.array([k for k, word in enumerate(words) if word and there[k]], dtype=np.int64)
    if len(rows) > MOST_POINT_LABELS and t[style.label_by].dtype.kind in "fiu":
        rows = rows[np.argsort(-t[style.label_by].to_numpy(float)[rows], kind="stable")]
    xyz = _on_ground(ctx, t)
    rows = rows[np.isfinite(xyz[rows]).all(axis=1)][:MOST_POINT_LABELS]
    ink = QColor(ctx.theme.text)
    return [text(words[k], tuple((xyz[k] - origin + [0.0, 0.0, 6.0]).tolist()), ink, 10) for k in rows.tolist()]


def paint_lines(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, SurveyLines)
    return _cloud(ctx, origin, entry, item, item.table, 3.0)


def paint_electrodes(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, ElectrodeSurvey)
    e = item.electrodes
    xyz, line = e[["x", "y", "z"]].to_numpy(float) - origin, e["line"].to_numpy()
    first = np.flatnonzero(line[1:] == line[:-1])
    wire = actor(
        polydata(xyz + np.array([0.0, 0.0, 1.0]), lines=np.column_stack([first, first + 1])),
        QColor(ctx.theme.text),
        shaded=False,
    )
    wire.GetProperty().SetLineWidth(2.0)
    return [wire, *_cloud(ctx, origin, entry, item, item.table, 5.0)]


def paint_picture(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    """The picture draped over the ground, or flat at the scene's origin without one."""
    origin = view.origin
    assert isinstance(item, Picture)
    a, b, c, d, e, f = item.affine
    rows, columns = item.pixels.shape[:2]
    step = max(1, int(np.ceil(np.sqrt(2.0 * rows * columns / (6 * MOST_TRIANGLES)))))
    col, row = np.meshgrid(np.arange(0, columns, step) + 0.5, np.arange(0, rows, step) + 0.5)
    x, y = a * col + b * row + c, d * col + e * row + f
    dem = ctx.ground()
    z = np.full(x.shape, origin[2])
    known = np.ones(x.shape, dtype=bool)
    if dem is not None:
        z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y) + 1.5
        known = np.isfinite(z)
    rgba = item.pixels[::step, ::step]
    known &= rgba[..., 3] > 0
    mesh = sheet(x, y, z, known, origin)
    return [actor(colour_points(mesh, np.ascontiguousarray(rgba.reshape(-1, 4)[:, :3])), shaded=False)]


def _on_ground(ctx: Sight, table: pd.DataFrame) -> FloatArray:
    """Places (n, 3) of rows; those without an elevation lie on the ground."""
    xyz = table[["x", "y", "z"]].to_numpy(float).copy()
    missing = ~np.isfinite(xyz[:, 2])
    dem = ctx.ground()
    if dem is not None and missing.any():
        xyz[missing, 2] = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, xyz[missing, 0], xyz[missing, 1]) + 2.0
    return xyz


def _cloud(
    ctx: Sight, origin: FloatArray, entry: Entry, item: Item, table: pd.DataFrame, size: float
) -> list[vtkProp3D]:
    xyz = _on_ground(ctx, table)
    good = np.isfinite(xyz).all(axis=1)
    if not good.any():
        return []
    attribute = ctx.attribute_of(entry)
    rgb = np.tile(np.array(rgb_of(QColor(ctx.theme.text)), dtype=np.uint8), (len(xyz), 1))
    if attribute in table.columns:
        rgb = _colours(ctx, item, attribute, table[attribute].to_numpy())
        good &= shown(ctx.legend(attribute, item), table[attribute].to_numpy())
    mesh = colour_points(polydata(xyz[good] - origin, vertices=True), rgb[good])
    return [actor(mesh, point_size=size, shaded=False)]


def _colours(ctx: Sight, item: Item, attribute: str, values: np.ndarray) -> NDArray[np.uint8]:
    out = np.tile(np.array(ABSENT[:3], dtype=np.uint8), (len(values), 1))
    for colour, mask in bins(ctx.legend(attribute, item), values):
        out[mask] = rgb_of(colour)
    return out


def paint_holes(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, HoleSet)
    s = item.stations
    xyz, hole = s[["x", "y", "z"]].to_numpy(float) - origin, s["hole"].to_numpy()
    same = hole[1:] == hole[:-1]
    first = np.flatnonzero(same)
    bare = polydata(xyz, lines=np.column_stack([first, first + 1]))
    out: list[vtkProp3D] = [actor(bare, QColor(ctx.theme.text), shaded=False)]
    attribute = ctx.attribute_of(entry)
    hit = table_with(item, attribute)
    wide = table_with(item, entry.style.size_by) if hit is not None else None
    if hit is not None:
        table = hit[1] if wide is None else wide[1]
        start, stop = (
            table[["x0", "y0", "z0"]].to_numpy(float) - origin,
            table[["x1", "y1", "z1"]].to_numpy(float) - origin,
        )
        values = on_intervals(item, table, attribute)
        assert values is not None
        keep = shown(ctx.legend(attribute, item), values)
        radius = np.full(len(table), TUBE)
        if wide is not None:
            legend, grade = ctx.legend(entry.style.size_by, item), table[entry.style.size_by].to_numpy(float)
            keep &= shown(legend, grade)
            radius = THIN + (WIDE - THIN) * np.nan_to_num(position(legend, grade))
        rgb = _colours(ctx, item, attribute, values[keep])
        shape = _shapes(item, entry.style, table)[keep]
        out += _intervals(entry.style, table[keep], start[keep], stop[keep], rgb, radius[keep], shape)
    spots = readings_with(item, attribute) if hit is None else None
    if spots is not None:
        at = spots[1][shown(ctx.legend(attribute, item), spots[1][attribute].to_numpy())]
        rgb = _colours(ctx, item, attribute, at[attribute].to_numpy())
        out.append(
            actor(
                colour_points(polydata(at[["x", "y", "z"]].to_numpy(float) - origin, vertices=True), rgb),
                point_size=5.0,
            )
        )
    collars = item.collars
    if len(collars) <= MOST_LABELS:
        colour = QColor(ctx.theme.text)
        for row in range(len(collars)):
            x, y, z = (float(collars[c].iloc[row]) - origin[k] for k, c in enumerate("xyz"))
            out.append(text(str(collars["hole"].iloc[row]), (x, y, z + 12.0), colour, 10))
    return out


def _shapes(item: HoleSet, style: Style, table: pd.DataFrame) -> NDArray[np.int64]:
    """Numbers of the markers' shapes, of all intervals: a class keeps its shape whatever else is shown."""
    told = on_intervals(item, table, style.shape_by) if style.form == "markers" and style.shape_by else None
    return classes_of(pd.Series(told)) if told is not None else np.zeros(len(table), dtype=np.int64)


def _intervals(
    style: Style,
    rows: pd.DataFrame,
    start: FloatArray,
    stop: FloatArray,
    rgb: NDArray[np.uint8],
    radius: FloatArray,
    shape: NDArray[np.int64],
) -> list[vtkProp3D]:
    """Intervals of holes as tubes, as lines, or as markers at their middles with a shape for each class of a column."""
    if style.form == "lines" or (not style.form and len(start) > MOST_TUBES):
        fine = _line_actor(start, stop, rgb, "fine")
        if len(start) <= MOST_MOVING:
            return [fine]
        # While the scene is turned each hole is drawn in fewer, longer pieces, each in the colour of its first interval.
        code = rows["hole"].cat.codes.to_numpy() if isinstance(rows["hole"].dtype, pd.CategoricalDtype) else None
        if code is None:
            code = pd.factorize(rows["hole"])[0]
        every = -(-len(start) // MOST_MOVING)
        first = np.arange(0, len(start), every)
        last = np.minimum(first + every - 1, len(start) - 1)
        last = np.where(code[last] == code[first], last, first)
        coarse = _line_actor(start[first], stop[last], rgb[first], "coarse")
        coarse.VisibilityOff()
        return [fine, coarse]
    if style.form == "markers":
        return list(solids(0.5 * (start + stop), rgb, shape, 1.3 * radius))
    return [actor(_tubes(start, stop, rgb, radius))]


def _line_actor(start: FloatArray, stop: FloatArray, rgb: NDArray[np.uint8], detail: str) -> vtkProp3D:
    """Intervals as lines; `detail` tells whether they are for a scene at rest (fine) or one that moves (coarse)."""
    ends = np.stack([start, stop], axis=1).reshape(-1, 3)
    lines = np.arange(2 * len(start)).reshape(-1, 2)
    out = actor(colour_cells(polydata(ends, lines=lines), rgb), shaded=False)
    out.GetProperty().SetLineWidth(3.0)
    out.detail = detail
    return out


def _tubes(start: FloatArray, stop: FloatArray, rgb: NDArray[np.uint8], radius: FloatArray) -> vtkPolyData:
    # Five-sided tubes built at once: a filter run for each interval would take seconds.
    sides = 5
    along = stop - start
    along /= np.maximum(np.linalg.norm(along, axis=1), 1e-9)[:, None]
    helper = np.where(np.abs(along[:, 2:3]) < 0.9, [[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]])
    u = np.cross(along, helper)
    u /= np.linalg.norm(u, axis=1)[:, None]
    v = np.cross(along, u)
    angle = 2 * np.pi * np.arange(sides) / sides
    unit = np.cos(angle)[None, :, None] * u[:, None, :] + np.sin(angle)[None, :, None] * v[:, None, :]
    ring = radius[:, None, None] * unit
    points = np.concatenate([start[:, None, :] + ring, stop[:, None, :] + ring], axis=1)
    n = len(start)
    base = (np.arange(n) * 2 * sides)[:, None]
    k = np.arange(sides)
    quad = np.stack([base + k, base + (k + 1) % sides, base + sides + (k + 1) % sides, base + sides + k], axis=-1)
    mesh = polydata(points.reshape(-1, 3), faces=quad.reshape(-1, 4))
    set_normals(mesh, np.concatenate([unit, unit], axis=1).reshape(-1, 3))
    return colour_cells(mesh, np.repeat(rgb, sides, axis=0))


def paint_features(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    """Lines, outlines and areas of rock units, laid on the ground where they have no elevation of their own."""
    origin = view.origin
    assert isinstance(item, Features)
    areas = draped_areas(ctx, entry, item, origin)
    xyz = item.vertices.copy()
    missing = ~np.isfinite(xyz[:, 2])
    dem = ctx.ground()
    if dem is not None and missing.any():
        xyz[missing, 2] = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, xyz[missing, 0], xyz[missing, 1]) + 3.0
    first = segment_starts(item)
    first = first[np.isfinite(xyz[first, 2]) & np.isfinite(xyz[first + 1, 2])]
    if not len(first):
        return _notes(ctx, item, origin)
    attribute = ctx.attribute_of(entry)
    row = item.owner[np.searchsorted(item.starts, first, "right") - 1]
    coloured = attribute in item.table.columns
    count = len(item.table)
    keep = np.ones(count, dtype=bool)
    each = np.tile(np.array(rgb_of(QColor(ctx.theme.text)), np.uint8), (count, 1))
    if coloured:
        keep = shown(ctx.legend(attribute, item), item.table[attribute].to_numpy())
        each = _colours(ctx, item, attribute, item.table[attribute].to_numpy())
        first, row = first[keep[row]], row[keep[row]]
    areas += filled_outlines(item, each, keep, origin)
    mesh = polydata(np.where(np.isfinite(xyz), xyz, origin) - origin, lines=np.column_stack([first, first + 1]))
    if coloured:
        out = actor(colour_cells(mesh, each[row]), shaded=False)
    else:
        out = actor(mesh, QColor(ctx.theme.text), shaded=False)
    out.GetProperty().SetLineWidth(1.6)
    return [*areas, out, *_notes(ctx, item, origin)]


def _notes(ctx: Sight, item: Features, origin: FloatArray) -> list[vtkProp3D]:
    """Words of notes that stand in space."""
    if NOTE not in item.table.columns:
        return []
    ink, out = QColor(ctx.theme.text), []
    for part in np.flatnonzero(item.part_types == POINT)[:MOST_POINT_LABELS].tolist():
        at, words = item.vertices[item.starts[part]], str(item.table[NOTE].iloc[item.owner[part]])
        if words and np.isfinite(at).all():
            out.append(text(words, tuple((at - origin).tolist()), ink, 11))
    return out


def paint_targets(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin = view.origin
    assert isinstance(item, TargetSet)
    out: list[vtkProp3D] = []
    table = targets_shown(ctx, entry, item)
    xyz = table[["x", "y", "z"]].to_numpy(float) - origin
    count = len(xyz)
    points = np.concatenate([xyz, xyz + np.array([0.0, 0.0, 60.0])])
    stems = polydata(points, lines=np.column_stack([np.arange(count), np.arange(count) + count]))
    out.append(actor(stems, QColor(ctx.theme.text), shaded=False))
    rgb = np.array([rgb_of(c) for c in target_colours(ctx, entry, item, table)], dtype=np.uint8).reshape(-1, 3)
    heads = colour_points(polydata(xyz + np.array([0.0, 0.0, 60.0]), vertices=True), rgb)
    out.append(actor(heads, point_size=8.0, shaded=False))
    for row in range(count):
        out.append(
            text(
                str(table["rank"].iloc[row]),
                tuple(xyz[row] + [0.0, 0.0, 70.0]),
                QColor(ctx.theme.text),
                12,
                bold=True,
            )
        )
    return out


def text(
    words: str, place: tuple[float, ...], colour: QColor, size: int, bold: bool = False
) -> vtkBillboardTextActor3D:
    """Return words that always face the viewer."""
    out = vtkBillboardTextActor3D()
    out.SetInput(words)
    out.SetPosition(*place)
    prop = out.GetTextProperty()
    prop.SetColor(colour.redF(), colour.greenF(), colour.blueF())
    prop.SetFontSize(size)
    prop.SetBold(bold)
    prop.SetJustificationToCentered()
    return out

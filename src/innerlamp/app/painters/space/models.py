"""Surfaces and block models in 3D: solid or as wires, with contour lines, as bands of values, slices and isosurfaces."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonDataModel import VTK_HEXAHEDRON, vtkPlane, vtkPolyData, vtkUnstructuredGrid
from vtkmodules.vtkFiltersCore import vtkContourFilter, vtkCutter
from vtkmodules.vtkRenderingCore import vtkProp3D

from ....core.compute.geometry.orientations import dip_and_direction, plane_normal
from ....core.geometry.mesh import DrapedMesh, face_corners
from ....core.items.base import Item
from ....core.items.fields import BlockModel, Surface
from ....core.items.legend import Legend, position
from ....core.items.picture import Picture
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit.cell_colours import cell_colours, shown_units, units_drawn
from ..kit.colours import class_colour, colour_at
from ..kit.fading import clearness, towards
from ..kit.true_units import bodies_of
from ..kit.views import SceneView
from ..map.map_painters import surface_colour, surface_shown
from .actors import actor, texture_of
from .polydata import MOST_TRIANGLES, colour_cells, named, polydata, smooth_normals, thinned

if TYPE_CHECKING:
    from ....core.compute.geology.bodies.solids import Solids

FloatArray = NDArray[np.float64]
MOST_LEVELS, MOST_PICTURE = 400, 2048
RELIEF = 0.12  # height of a grid's own relief, as a share of its larger side


def contour_lines(mesh: vtkPolyData, every: float, base: float, colour: QColor, width: float) -> list[vtkProp3D]:
    """Return the lines of a mesh at multiples of so many metres of elevation; `base` is the elevation of its zero."""
    points = vtk_to_numpy(mesh.GetPoints().GetData())
    z = points[:, 2].astype(float) + base
    used = z[np.unique(vtk_to_numpy(mesh.GetPolys().GetConnectivityArray()))] if mesh.GetNumberOfPolys() else z[:0]
    if not len(used):
        return []
    first, last = int(np.ceil(used.min() / every)), int(np.floor(used.max() / every))
    if last < first or last - first > MOST_LEVELS:
        return []
    bare = vtkPolyData()
    bare.SetPoints(mesh.GetPoints())
    bare.SetPolys(mesh.GetPolys())
    bare.GetPointData().SetScalars(named(z, "elevation"))
    cut = vtkContourFilter()
    cut.SetInputData(bare)
    cut.SetNumberOfContours(last - first + 1)
    for number, k in enumerate(range(first, last + 1)):
        cut.SetValue(number, k * every)
    cut.Update()
    lines = vtkPolyData()
    lines.SetPoints(cut.GetOutput().GetPoints())
    lines.SetLines(cut.GetOutput().GetLines())
    if not lines.GetNumberOfLines():
        return []
    out = actor(lines, colour, shaded=False)
    out.GetProperty().SetLineWidth(width)
    return [out]


def own_relief(values: FloatArray, z: FloatArray, side: float, legend: Legend) -> FloatArray:
    """Return elevations of a grid that stands above all of its ground as high as its values are, by its legend's scale."""
    known = z[np.isfinite(z)]
    base = float(known.max()) if len(known) else 0.0
    return np.asarray(base + RELIEF * side * position(legend, values))


def paint_surface(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin, style = view.origin, entry.style
    assert isinstance(item, Surface)
    if len(item.triangles) == 0 or not surface_shown(ctx, item):
        return []
    mesh = thinned(polydata(item.vertices - origin, faces=item.triangles), MOST_TRIANGLES)
    colour = surface_colour(ctx, item)
    body = actor(smooth_normals(mesh), colour)
    out: list[vtkProp3D] = [body]
    if style.form == "with a picture" and (picture := lit_picture(ctx)) is not None:
        out = draped(mesh, picture, origin, colour)
    if style.form == "wire":
        body.GetProperty().SetRepresentationToWireframe()
        body.GetProperty().LightingOff()
    elif style.form == "with edges":
        body.GetProperty().EdgeVisibilityOn()
        edge = colour.darker(170)
        body.GetProperty().SetEdgeColor(edge.redF(), edge.greenF(), edge.blueF())
    if style.every > 0:
        out += contour_lines(mesh, style.every, float(origin[2]), QColor(ctx.theme.text), 1.5)
    return out


def picture_entry(ctx: Sight) -> Entry | None:
    """Return the picture that surfaces carry: the uppermost that is lit, else the last one of the project."""
    lit = [e for e in ctx.lit_entries() if e.kind == "picture"]
    return next(iter([*reversed(lit), *reversed([e for e in ctx.entries() if e.kind == "picture"])]), None)


def lit_picture(ctx: Sight) -> Picture | None:
    """Return that picture once it is read."""
    entry = picture_entry(ctx)
    item = ctx.item(entry.id) if entry is not None else None
    return item if isinstance(item, Picture) else None


def draped(mesh: vtkPolyData, picture: Picture, origin: FloatArray, colour: QColor) -> list[vtkProp3D]:
    """Return a mesh of triangles with a picture on it, straight from above, and what lies beside the picture plain."""
    points = vtk_to_numpy(mesh.GetPoints().GetData()).astype(float)
    faces = vtk_to_numpy(mesh.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    a, b, c, d, e, f = picture.affine
    rows, columns = picture.pixels.shape[:2]
    east, north = points[:, 0] + origin[0] - c, points[:, 1] + origin[1] - f
    turn = a * e - b * d
    col, row = (e * east - b * north) / turn, (a * north - d * east) / turn
    on = (col >= 0) & (col <= columns) & (row >= 0) & (row <= rows)
    inside = on[faces].all(axis=1)
    out: list[vtkProp3D] = []
    if inside.any():
        skin = polydata(points, faces=faces[inside])
        places = np.column_stack([col / columns, 1.0 - row / rows])
        skin.GetPointData().SetTCoords(named(places.astype(np.float32), "picture"))
        body = actor(smooth_normals(skin), QColor("#FFFFFF"))
        step = max(1, -(-max(rows, columns) // MOST_PICTURE))
        body.SetTexture(texture_of(np.ascontiguousarray(picture.pixels[::step, ::step][::-1])))
        out.append(body)
    if not inside.all():
        out.append(actor(smooth_normals(polydata(points, faces=faces[~inside])), colour))
    return out


def paint_blocks(ctx: Sight, view: SceneView, entry: Entry, item: Item) -> list[vtkProp3D]:
    origin, style = view.origin, entry.style
    assert isinstance(item, BlockModel)
    attribute = ctx.attribute_of(entry)
    if attribute not in item.properties:
        return []
    values = item.properties[attribute]
    legend = ctx.legend(attribute, item)
    known = values[np.isfinite(values)]
    if known.size == 0:
        return []
    if attribute in item.names:
        return _units(ctx, view, entry, item, attribute, legend)
    # Without a cut-off of the user's, the highest two percent are shown: a full block hides everything.
    # An upright sheet, such as a long section, hides nothing.
    least = float(known.min()) if 1 in item.shape[:2] else float(np.percentile(known, 98))
    cutoff = legend.cutoff if legend.cutoff is not None else least
    if style.form == "isosurface" and min(item.shape) > 1:
        return _isosurface(item, values, cutoff, legend, origin)
    if style.form == "slice at a plane":
        middle, normal = plane_in(item, style.plane)
        shown = values if legend.cutoff is None else np.where(values >= legend.cutoff, values, np.nan)
        mesh, cells = _cut_at(item, shown, middle, normal, origin)
        return [actor(colour_cells(mesh, _shades(ctx, entry, item, legend, cells)))] if len(cells) else []
    if style.form == "slices":
        corners, cells = _slices(item, values, style.slices, origin)
        if legend.cutoff is not None:
            keep = values[tuple(cells.T)] >= legend.cutoff
            corners, cells = corners.reshape(-1, 4, 3)[keep].reshape(-1, 3), cells[keep]
    else:
        with np.errstate(invalid="ignore"):
            low, high = (legend.low, legend.high) if style.form == "band of the ramp" else (cutoff, np.inf)
            if style.form == "band of the ramp" and legend.cutoff is not None:
                low = max(low, legend.cutoff)
            shown = np.isfinite(values) & (values >= low) & (values <= high)
        corners, cells = _outer_faces(item, shown, origin)
    if not len(cells):
        return []
    mesh = polydata(corners, faces=np.arange(len(corners)).reshape(-1, 4))
    return [actor(colour_cells(mesh, _shades(ctx, entry, item, legend, cells)))]


def _units(
    ctx: Sight, view: SceneView, entry: Entry, item: BlockModel, attribute: str, legend: Legend
) -> list[vtkProp3D]:
    """Units in their colours: as bodies, or as slices."""
    if entry.style.form not in ("slice at a plane", "slices"):
        bodies = bodies_of(item, attribute)
        if bodies is not None:
            return _bodies(bodies, item.names[attribute], legend, view.origin)
    shown = shown_units(item, attribute, legend)
    values = np.where(shown, item.properties[attribute], np.nan)
    if entry.style.form == "slice at a plane":
        whole = np.where(
            np.isin(item.named(attribute, item.properties[attribute]), list(legend.hidden)),
            np.nan,
            item.properties[attribute],
        )
        mesh, cells = _cut_at(item, whole, *plane_in(item, entry.style.plane), view.origin)
    elif entry.style.form == "slices":
        corners, cells = _slices(item, item.properties[attribute], entry.style.slices, view.origin)
        keep = cell_colours(item, attribute, legend, item.properties[attribute][tuple(cells.T)])[:, 3] > 0
        corners, cells = corners.reshape(-1, 4, 3)[keep].reshape(-1, 3), cells[keep]
        mesh = polydata(corners, faces=np.arange(len(corners)).reshape(-1, 4))
    else:
        corners, cells = _outer_faces(item, np.isfinite(values), view.origin)
        mesh = polydata(corners, faces=np.arange(len(corners)).reshape(-1, 4))
    return [actor(colour_cells(mesh, _shades(ctx, entry, item, legend, cells)))] if len(cells) else []


def _bodies(bodies: Solids, names: tuple[str, ...], legend: Legend, origin: FloatArray) -> list[vtkProp3D]:
    """Closed bodies of units, smooth but at their edges; the background only where nothing else would be drawn."""
    out: list[vtkProp3D] = []
    for unit in units_drawn(names, legend):
        places, triangles = bodies.of(unit)
        if len(triangles):
            mesh = polydata(places - origin, faces=triangles)
            out.append(actor(smooth_normals(mesh, 40.0), class_colour(legend, names[unit])))
    return out


def _shades(
    ctx: Sight, entry: Entry, item: BlockModel, legend: Legend, cells: NDArray[np.integer]
) -> NDArray[np.uint8]:
    """Colours (n, 3) of cells (n, 3), those that the readings can't see in the haze."""
    attribute, index = ctx.attribute_of(entry), tuple(cells.T)
    rgb = cell_colours(item, attribute, legend, item.properties[attribute][index].astype(float))[:, :3]
    clear = clearness(item, attribute, entry.style)
    return rgb if clear is None else towards(rgb, clear[index], QColor(ctx.theme.canvas))


def _isosurface(
    item: BlockModel, values: FloatArray, level: float, legend: Legend, origin: FloatArray
) -> list[vtkProp3D]:
    """The surface of one value between the middles of cells, in the colour of that value."""
    from scipy.ndimage import map_coordinates
    from skimage.measure import marching_cubes

    known = np.isfinite(values)
    low = float(values[known].min())
    if not low < level < float(values[known].max()):
        return []
    vertices, faces, *_ = marching_cubes(np.where(known, values, low).astype(np.float32), level)
    centres = item.mesh.centres().reshape(*item.shape, 3)
    at = np.stack([map_coordinates(centres[..., k], vertices.T, order=1, mode="nearest") for k in range(3)], axis=1)
    mesh = thinned(polydata(at - origin, faces=faces.astype(np.int64)), MOST_TRIANGLES)
    colour = colour_at(legend, float(position(legend, np.array([level]))[0]))
    return [actor(smooth_normals(mesh), colour)]


def plane_in(item: BlockModel, plane: tuple[float, float, float]) -> tuple[FloatArray, FloatArray]:
    """Return a place on the plane of a style in a model (east, north, up, metres), and its upward unit normal."""
    dip, towards, off = plane
    normal = plane_normal(np.array([dip]), np.array([towards]))[0]
    b = item.bounds
    middle = 0.5 * np.array([b[0] + b[1], b[2] + b[3], b[4] + b[5]])
    return middle + off * normal, normal


def plane_as_style(item: BlockModel, place: FloatArray, normal: FloatArray) -> tuple[float, float, float]:
    """Return a plane through a place as the style of a model has it."""
    up = normal if normal[2] >= 0 else -normal
    dip, towards = dip_and_direction(up[None, :])
    d, t = round(float(dip[0]), 4), round(float(towards[0]), 4)
    middle, unit = plane_in(item, (d, t, 0.0))
    return d, t, round(float((place - middle) @ unit), 2)


def _cut_at(
    item: BlockModel, values: FloatArray, place: FloatArray, normal: FloatArray, origin: FloatArray
) -> tuple[vtkPolyData, NDArray[np.integer]]:
    """The faces at which a plane cuts the known cells of a model, and the cell (n, 3) of each."""
    cells = np.argwhere(np.isfinite(values))
    away = (item.mesh.centres(cells) - place) @ normal if len(cells) else np.empty(0)
    u, v, (low, high) = item.mesh.u, item.mesh.v, item.mesh.levels(*cells.T)
    reach = 0.5 * np.sqrt(u[cells[:, 0]] ** 2 + v[cells[:, 1]] ** 2 + (high - low) ** 2)
    cells = cells[np.abs(away) <= reach]
    if not len(cells):
        return vtkPolyData(), cells
    corners = item.mesh.corners(cells)[:, np.concatenate([face_corners(2, 0), face_corners(2, 1)])] - origin
    bricks = vtkUnstructuredGrid()
    shape = polydata(corners.reshape(-1, 3), faces=np.arange(8 * len(cells)).reshape(-1, 8))
    bricks.SetPoints(shape.GetPoints())
    bricks.SetCells(VTK_HEXAHEDRON, shape.GetPolys())
    bricks.GetCellData().SetScalars(named(np.arange(len(cells), dtype=float), "cell"))
    plane, cut = vtkPlane(), vtkCutter()
    plane.SetOrigin(*(place - origin).tolist())
    plane.SetNormal(*normal.tolist())
    cut.SetCutFunction(plane)
    cut.SetInputData(bricks)
    cut.GenerateTrianglesOff()
    cut.Update()
    made: vtkPolyData = cut.GetOutput()
    number = made.GetCellData().GetScalars()
    return made, cells[vtk_to_numpy(number).astype(np.int64)] if number is not None else cells[:0]


def _slices(
    item: BlockModel, values: FloatArray, shares: tuple[float, float, float], origin: FloatArray
) -> tuple[FloatArray, NDArray[np.integer]]:
    """Corners (4 n, 3) and cells (n, 3) of one layer of cells along each axis."""
    quads, found = [], []
    for axis, share in enumerate(shares):
        layer = int(np.clip(share * item.shape[axis], 0, item.shape[axis] - 1))
        there = np.zeros(item.shape, dtype=bool)
        index: list[slice | int] = [slice(None)] * 3
        index[axis] = layer
        there[tuple(index)] = np.isfinite(values[tuple(index)])
        cells = np.argwhere(there)
        if len(cells):
            whole = item.mesh.corners(cells)
            quads.append(0.5 * (whole[:, face_corners(axis, 0)] + whole[:, face_corners(axis, 1)]) - origin)
            found.append(cells)
    if not quads:
        return np.empty((0, 3)), np.empty((0, 3), dtype=np.int64)
    return np.concatenate(quads).reshape(-1, 3), np.concatenate(found)


def _outer_faces(
    item: BlockModel, shown: NDArray[np.bool_], origin: FloatArray
) -> tuple[FloatArray, NDArray[np.integer]]:
    # Corners (4 n, 3) and cell (n, 3) of each cell face that borders on a cell that is not shown.
    # Neighbours of a draped mesh do not lie side by side: all their sides are drawn.
    draped = isinstance(item.mesh, DrapedMesh)
    padded = np.pad(shown, 1)
    quads, found = [], []
    for axis in range(3):
        for side in (0, 1):
            neighbour = np.roll(padded, 1 if side == 0 else -1, axis=axis)[1:-1, 1:-1, 1:-1]
            cells = np.argwhere(shown if draped and axis < 2 else shown & ~neighbour)
            if len(cells) == 0:
                continue
            quads.append(item.mesh.corners(cells)[:, face_corners(axis, side)] - origin)
            found.append(cells)
    if not quads:
        return np.empty((0, 3)), np.empty((0, 3), dtype=np.int64)
    return np.concatenate(quads).reshape(-1, 3), np.concatenate(found)

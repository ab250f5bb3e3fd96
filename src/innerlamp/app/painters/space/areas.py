"""Areas of rock units in 3D: the picture that the map draws of them, laid on the ground."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPainter
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkFiltersCore import vtkAppendPolyData, vtkTriangleFilter
from vtkmodules.vtkRenderingCore import vtkActor

from ....core.compute.geometry.sampling import bilinear
from ....core.compute.gridding.shading import hillshade
from ....core.items.attributes import are_contours
from ....core.items.features import LINE, RING, Features, is_closed, part_vertices
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit.unit_areas import UnitAreas
from ..kit.views import MapView
from ..map.map_painters import paint_features
from .actors import actor, sheet, texture_of
from .polydata import colour_cells, colour_points, polydata

MOST_PIXELS = 1536  # along the longer side
MOST_NODES = 8_000
ABOVE = 2.0  # metres over the ground, so that neither shimmers through the other


def draped_areas(ctx: Sight, entry: Entry, item: Features, origin: NDArray[np.float64]) -> list[vtkActor]:
    """Areas coloured by a class that have no elevation of their own; none without a ground to lie on."""
    attribute, dem = ctx.attribute_of(entry), ctx.ground()
    if dem is None or attribute not in item.table.columns or not ctx.legend(attribute, item).classes:
        return []
    if not (item.part_types == RING).any() or np.isfinite(item.vertices[:, 2]).any():
        return []
    areas = [each for each in paint_features(ctx, MapView(), entry, item) if isinstance(each, UnitAreas)]
    if not areas:
        return []
    box = areas[0].boundingRect()
    for area in areas[1:]:
        box = box.united(area.boundingRect())
    west, east = max(box.left(), dem.x[0]), min(box.right(), dem.x[-1])
    south, north = max(box.top(), dem.y[0]), min(box.bottom(), dem.y[-1])
    if east <= west or north <= south:
        return []
    pixel = max(east - west, north - south) / MOST_PIXELS
    image = QImage(
        max(round((east - west) / pixel), 1), max(round((north - south) / pixel), 1), QImage.Format.Format_RGBA8888
    )
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(1.0 / pixel, 1.0 / pixel)  # the first row of a texture is its south
    painter.translate(-west, -south)
    for area in areas:
        area.opacity, area.pattern = 255, "plain"  # strokes would be specks from afar
        area.draw(painter)
    painter.end()
    wide = (east - west) / (north - south)
    ny = max(int(np.sqrt(MOST_NODES / wide)), 2)
    x, y = np.meshgrid(np.linspace(west, east, max(int(ny * wide), 2)), np.linspace(south, north, ny))
    z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y) + ABOVE
    mesh = sheet(x, y, z, np.isfinite(z), origin)
    shade = np.nan_to_num(0.62 + 0.45 * hillshade(z, x[0, 1] - x[0, 0], y[1, 0] - y[0, 0]), nan=1.0)
    grey = (255 * shade).clip(0, 255).astype(np.uint8).ravel()
    colour_points(mesh, np.stack([grey] * 3, axis=1))
    at = np.stack([(x - west) / (east - west), (y - south) / (north - south)], axis=-1).reshape(-1, 2)
    places = numpy_to_vtk(np.ascontiguousarray(at, dtype=np.float32), deep=True)
    mesh.GetPointData().SetTCoords(places)
    out = actor(mesh, shaded=False)
    pixels = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    out.SetTexture(texture_of(pixels[:, : image.width() * 4].reshape(image.height(), image.width(), 4)))
    return [out]


def filled_outlines(
    item: Features, rgb: NDArray[np.uint8], shown: NDArray[np.bool_], origin: NDArray[np.float64]
) -> list[vtkActor]:
    """What is drawn in space and ends where it begins, as areas; colours (n, 3) and whether it is shown by feature."""
    if are_contours(item.attributes):
        return []
    gather, counts, colours = vtkAppendPolyData(), 0, []
    for part in np.flatnonzero(item.part_types == LINE).tolist():
        v, row = part_vertices(item, part), int(item.owner[part])
        if not shown[row] or not np.isfinite(v).all() or not is_closed(v):
            continue
        flat = vtkTriangleFilter()  # outlines may have hollows
        flat.SetInputData(polydata(v[:-1] - origin, faces=np.arange(len(v) - 1)[None, :]))
        flat.Update()
        mesh = flat.GetOutput()
        gather.AddInputData(mesh)
        counts += 1
        colours.append(np.repeat(rgb[row][None, :], mesh.GetNumberOfCells(), axis=0))
    if not counts:
        return []
    gather.Update()
    return [actor(colour_cells(gather.GetOutput(), np.concatenate(colours)), opacity=0.5, shaded=False)]

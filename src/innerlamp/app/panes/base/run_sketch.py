"""What an open form would work on, in each pane: the outline of its cells, and the readings that it takes."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from vtkmodules.vtkRenderingCore import vtkProp3D

from ....core.geometry.mesh import Mesh
from ...context.context import Context
from ...painters.kit.views import SectionView
from ...painters.space.actors import actor
from ...painters.space.polydata import polydata
from .plot import MetrePlot

FloatArray = NDArray[np.float64]
_MOST = 20_000  # readings that are shown


def plan_outline(mesh: Mesh) -> FloatArray:
    """Return the corners (5, 2) of the plan of a mesh, the first again at the end, in metres."""
    x, y = mesh.plan_edges
    p = np.array([x[0], x[-1], x[-1], x[0], x[0]])
    q = np.array([y[0], y[0], y[-1], y[-1], y[0]])
    return np.column_stack(mesh.to_map(p, q))


def section_outline(mesh: Mesh, view: SectionView, count: int = 400) -> FloatArray:
    """Return the outline (n, 2) along a section and up of what it cuts of a mesh; empty where it passes it by."""
    along = np.linspace(0.0, view.plane.length, count)
    i, j = mesh.columns(*view.plane.to_map(along))
    rows = np.flatnonzero(i >= 0)
    if len(rows) < 2:
        return np.empty((0, 2))
    low, _ = mesh.levels(i[rows], j[rows], np.zeros(len(rows), dtype=np.int64))
    _, high = mesh.levels(i[rows], j[rows], np.full(len(rows), mesh.shape[2] - 1))
    there = np.concatenate([rows, rows[::-1], rows[:1]])
    return np.column_stack([along[there], np.concatenate([high, low[::-1], high[:1]])])


def box_edges(mesh: Mesh) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return points (n, 3) and edges (m, 2) of the box of a mesh: its upper rim follows the tops of the columns."""
    nx, ny, nz = mesh.shape
    i = np.concatenate([np.arange(nx), np.full(ny, nx - 1), np.arange(nx)[::-1], np.zeros(ny, dtype=int)])
    j = np.concatenate([np.zeros(nx, dtype=int), np.arange(ny), np.full(nx, ny - 1), np.arange(ny)[::-1]])
    corners = mesh.corners(np.column_stack([i, j, np.full(len(i), nz - 1)]))
    lower = mesh.corners(np.column_stack([i, j, np.zeros(len(i), dtype=int)]))
    # Of each column on the rim the outermost place: the middle of the plan pushed to its edge.
    outer = plan_outline(mesh)[:-1]
    x, y = mesh.plan_edges
    p = np.concatenate([0.5 * (x[1:] + x[:-1]), np.full(ny, x[-1]), 0.5 * (x[1:] + x[:-1])[::-1], np.full(ny, x[0])])
    q = np.concatenate([np.full(nx, y[0]), 0.5 * (y[1:] + y[:-1]), np.full(nx, y[-1]), 0.5 * (y[1:] + y[:-1])[::-1]])
    rim = np.column_stack([*mesh.to_map(p, q), corners[..., 2].max(axis=1)])
    base = float(lower[..., 2].min())
    count = len(rim)
    at = [0, nx, nx + ny, 2 * nx + ny]
    feet = np.column_stack([outer, np.full(4, base)])
    heads = np.column_stack([outer, rim[at, 2]])
    ring = np.column_stack([np.arange(count), np.roll(np.arange(count), -1)])
    floor = count + np.array([[0, 1], [1, 2], [2, 3], [3, 0], [0, 4], [1, 5], [2, 6], [3, 7]])
    return np.vstack([rim, feet, heads]), np.vstack([ring, floor])


class FlatSketch:
    """The sketch on the map or on the section."""

    def __init__(self, ctx: Context, plot: MetrePlot) -> None:
        self.ctx = ctx
        pen = pg.mkPen(ctx.theme.text, width=1.4, style=Qt.PenStyle.DashLine)
        self.outline = pg.PlotCurveItem(pen=pen)
        ink = QColor(ctx.theme.text)
        ink.setAlpha(150)
        self.readings = pg.ScatterPlotItem(size=1.8, pen=None, brush=pg.mkBrush(ink))
        for each, z in ((self.outline, 34), (self.readings, 33)):
            each.setZValue(z)
            plot.addItem(each, ignoreBounds=True)

    def show(self, view: SectionView | None = None) -> None:
        """Show what the form would work on from above, or on a section with the readings of its corridor."""
        sketch = self.ctx.sketch
        if sketch is None:
            self.outline.setData([], [])
            self.readings.setData([], [])
            return
        places = sketch.places[:: max(1, len(sketch.places) // _MOST)]
        if view is None:
            at = plan_outline(sketch.mesh)
            dots = places[:, :2]
        else:
            at = section_outline(sketch.mesh, view)
            along, _, inside = view.near(places[:, 0], places[:, 1])
            dots = np.column_stack([along, places[:, 2]])[inside]
        self.outline.setData(at[:, 0], at[:, 1])
        self.readings.setData(dots[:, 0], dots[:, 1])


def in_scene(ctx: Context, origin: FloatArray) -> list[vtkProp3D]:
    """Return what shows the sketch in 3D."""
    sketch = ctx.sketch
    if sketch is None:
        return []
    scale = np.array([1.0, 1.0, ctx.exaggeration])
    points, edges = box_edges(sketch.mesh)
    frame = actor(polydata((points - origin) * scale, lines=edges), QColor(ctx.theme.text), shaded=False)
    frame.GetProperty().SetLineWidth(1.5)
    places = sketch.places[:: max(1, len(sketch.places) // _MOST)]
    dots = actor(
        polydata((places - origin) * scale, vertices=True), QColor(ctx.theme.text), point_size=1.6, shaded=False
    )
    return [frame, dots]

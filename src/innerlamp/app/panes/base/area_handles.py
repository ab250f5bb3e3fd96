"""The area that an open form asks for: drawn and reshaped on the map, on the section and in 3D."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent
from vtkmodules.vtkRenderingCore import vtkProp3D

from ...context.context import Area, Context
from ...painters.kit.views import SectionView
from ...painters.space.actors import actor
from ...painters.space.polydata import polydata
from ...scene.sight import Sight
from .plot import MetrePlot

FloatArray = NDArray[np.float64]
Corners = tuple[tuple[float, float], ...]
_GRAB = 11.0  # pixels


def tidy(places: FloatArray) -> Corners:
    """Return corners in whole metres, as people would type them."""
    return tuple((float(x), float(y)) for x, y in np.round(np.asarray(places, dtype=float)).tolist())


def edges_cut(corners: Corners, view: SectionView) -> list[tuple[float, int]]:
    """Return where a section cuts the outline of an area: metres along it, and the number of the edge's first corner."""
    at = np.array(corners)
    along, off = view.plane.to_plane(at[:, 0], at[:, 1])
    found = []
    for k in range(len(at)):
        n = (k + 1) % len(at)
        if (off[k] > 0) != (off[n] > 0):
            share = off[k] / (off[k] - off[n])
            place = float(along[k] + share * (along[n] - along[k]))
            if 0.0 <= place <= view.plane.length:
                found.append((place, k))
    return sorted(found)


class MapArea:
    """On the map: clicks draw it; corners, edges and the whole are dragged; a click on an edge makes a corner."""

    def __init__(self, ctx: Context, plot: MetrePlot) -> None:
        self.ctx, self.plot = ctx, plot
        self.roi: Any = None
        self._moving = False
        self._clicks: list[tuple[float, float]] = []
        self.line = pg.PlotCurveItem(pen=pg.mkPen(ctx.theme.lit, width=2))
        self.line.setZValue(44)
        plot.addItem(self.line, ignoreBounds=True)

    @property
    def drawing(self) -> bool:
        """Whether clicks on the map are corners of the area."""
        return self.ctx.area is not None and self.ctx.area.drawing

    def show(self) -> None:
        """Show the area as it is now."""
        if self._moving:
            return
        area = self.ctx.area
        corners = area.corners if area is not None else ()
        if area is None or not area.drawing:
            self._clicks = []
        self.line.setData(*(np.array(self._clicks).T if self._clicks else ([], [])))
        if self.roi is not None and (len(corners) < 3 or len(self.roi.getHandles()) != len(corners)):
            self.plot.removeItem(self.roi)
            self.roi = None
        if len(corners) < 3:
            return
        self._moving = True
        if self.roi is None:
            pen = {"pen": pg.mkPen(self.ctx.theme.lit, width=2), "hoverPen": pg.mkPen(self.ctx.theme.lit, width=3.2)}
            self.roi = pg.PolyLineROI(
                list(corners), closed=True, movable=True, handlePen=pg.mkPen(self.ctx.theme.text, width=1.5), **pen
            )
            self.roi.setZValue(36)
            self.roi.sigRegionChanged.connect(self._dragged)
            self.plot.addItem(self.roi, ignoreBounds=True)
        else:
            self.roi.setPos(0, 0)
            for handle, (x, y) in zip(self.roi.getHandles(), corners, strict=True):
                self.roi.movePoint(handle, QPointF(x, y), finish=False, coords="parent")
        self._moving = False

    def _dragged(self) -> None:
        if self._moving or self.roi is None:
            return
        at = [self.roi.mapToParent(handle.pos()) for handle in self.roi.getHandles()]
        self._moving = True
        self.ctx.set_area(Area(tidy(np.array([(p.x(), p.y()) for p in at]))))
        self._moving = False

    def clicked(self, x: float, y: float, double: bool) -> None:
        """Take a click as the next corner; a double click ends."""
        near = 4.0 * self.plot.metres_per_pixel()[0]  # the second click of a double one is no corner of its own
        if not self._clicks or np.hypot(x - self._clicks[-1][0], y - self._clicks[-1][1]) > near:
            self._clicks.append((x, y))
        if double and len(self._clicks) >= 3:
            self.finish()
        else:
            self.line.setData(*np.array(self._clicks).T)

    def finish(self) -> None:
        """Make what was clicked the area; fewer than three corners are none."""
        corners, self._clicks = tidy(np.array(self._clicks)) if len(self._clicks) >= 3 else (), []
        self.ctx.set_area(Area(corners))

    def key(self, event: QEvent) -> bool:
        """Take the keys that end drawing: Enter with what was clicked, Escape without; returns whether it was one."""
        if not self.drawing or not isinstance(event, QKeyEvent):
            return False
        if event.key() == Qt.Key.Key_Escape:
            self._clicks = []
        elif event.key() not in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            return False
        if event.type() == QEvent.Type.KeyPress:
            self.finish()
        return True


class SectionArea:
    """On the section: an upright line where it cuts an edge of the area; dragging it moves the edge along the section."""

    def __init__(self, ctx: Context, plot: MetrePlot) -> None:
        self.ctx, self.plot = ctx, plot
        self.lines: list[tuple[pg.InfiniteLine, int]] = []
        self._view: SectionView | None = None
        self._moving = False
        self._from: tuple[Corners, float] = ((), 0.0)

    def show(self, view: SectionView | None) -> None:
        """Show the edges that a section cuts."""
        self._view = view
        if self._moving:
            return
        for line, _ in self.lines:
            self.plot.removeItem(line)
        self.lines = []
        area = self.ctx.area
        if area is None or len(area.corners) < 3 or view is None:
            return
        for place, edge in edges_cut(area.corners, view):
            line = pg.InfiniteLine(
                place, 90, movable=True, pen=pg.mkPen(self.ctx.theme.lit, width=2),
                hoverPen=pg.mkPen(self.ctx.theme.lit, width=3.4),
            )  # fmt: skip
            line.setZValue(36)
            line.sigDragged.connect(lambda moved, edge=edge, start=place: self._dragged(moved, edge, start))
            line.sigPositionChangeFinished.connect(lambda _: self._let_go())
            self.plot.addItem(line, ignoreBounds=True)
            self.lines.append((line, edge))

    def _dragged(self, line: pg.InfiniteLine, edge: int, start: float) -> None:
        area = self.ctx.area
        if area is None or self._view is None:
            return
        if not self._moving:
            self._moving, self._from = True, (area.corners, start)
        corners, begun = self._from
        here, there = (np.column_stack(self._view.plane.to_map(np.array([v]))) for v in (begun, float(line.value())))
        at = np.array(corners)
        at[[edge, (edge + 1) % len(at)]] += there - here
        self.ctx.set_area(Area(tidy(at)))

    def _let_go(self) -> None:
        if self._moving:
            self._moving = False
            self.show(self._view)


class SceneArea:
    """In 3D: the outline on the ground with a handle at each corner and one in the middle that moves the whole."""

    def __init__(self, ctx: Context, sight: Sight) -> None:
        self.ctx, self.sight = ctx, sight
        self.held = -1
        self._from: tuple[FloatArray, FloatArray] | None = None  # corners, and where the grip was

    def places(self) -> FloatArray:
        """Corners and the middle (n + 1, 3) on the ground; empty without an area."""
        area = self.ctx.area
        if area is None or len(area.corners) < 3:
            return np.empty((0, 3))
        xy = np.array([*area.corners, np.mean(area.corners, axis=0)])
        z = np.array([self.ctx.ground_at(x, y) for x, y in xy.tolist()])
        usual = float(np.nanmean(z)) if np.isfinite(z).any() else self._level()
        return np.column_stack([xy, np.where(np.isfinite(z), z, usual)])

    def _level(self) -> float:
        sketch = self.ctx.sketch
        return float(np.median(sketch.places[:, 2])) if sketch is not None else 0.0

    def graphics(self, colour: QColor) -> list[vtkProp3D]:
        """Return what shows it in the scene."""
        at = self.places()
        if not len(at):
            return []
        scene = self.sight.in_scene(at)
        count = len(at) - 1
        ring = np.column_stack([np.arange(count), np.roll(np.arange(count), -1)])
        outline = actor(polydata(scene, lines=ring), colour, shaded=False)
        outline.GetProperty().SetLineWidth(2.5)
        dots = actor(polydata(scene, vertices=True), colour, point_size=13, shaded=False)
        dots.GetProperty().SetRenderPointsAsSpheres(True)
        return [outline, dots]

    def grab(self, point: QPoint) -> bool:
        """Take the handle under a pixel; returns whether there is one."""
        at = self.places()
        self.held = -1
        if not len(at):
            return False
        away = np.linalg.norm(self.sight.pixels(at) - [point.x(), point.y()], axis=1)
        if not np.isfinite(away).any() or np.nanmin(away) > _GRAB:
            return False
        self.held, self._from = int(np.nanargmin(away)), (at, at[int(np.nanargmin(away))])
        return True

    def drag(self, point: QPoint, done: bool) -> None:
        """Put the held handle under a pixel, at its own level."""
        if self._from is not None:
            at, grip = self._from
            to = self.sight.line(point).on_plane(grip, np.array([0.0, 0.0, 1.0]))
            if to is not None:
                corners = at[:-1, :2].copy()
                shift = (to - grip)[:2]
                if self.held == len(corners):
                    corners += shift
                else:
                    corners[self.held] += shift
                self.ctx.set_area(Area(tidy(corners)))
        if done:
            self.held, self._from = -1, None

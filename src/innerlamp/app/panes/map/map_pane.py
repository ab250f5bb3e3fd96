"""The map: everything that is lit seen from above, and the section line that is dragged there."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QPushButton

from ....core.compute.geometry.planes import SectionPlane
from ....core.items.features import Features
from ....core.items.holes import HoleSet
from ....core.project.records import Notice
from ...context.context import Context, Cursor, Selection
from ...painters.kit.flat import faded, label
from ...painters.kit.views import MapView
from ...painters.layers import Layers
from ...painters.map.contour_lines import level_of
from ..base.area_handles import MapArea
from ..base.pane import Pane
from ..base.picking import Picker
from ..base.plot import MetrePlot, Ruler
from ..base.run_sketch import FlatSketch
from ..base.selection import selected_places
from ..drawing.draw_tool import DrawTool, feature_paths
from .local_lines import LocalLines


class MapPane(Pane):
    """Plan view, grid north up."""

    kind: ClassVar[str] = "map"
    title: ClassVar[str] = "Map"

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.plot = MetrePlot(ctx, "Easting (m)", "Northing (m)")
        self.body.addWidget(self.plot)
        self.local_lines = LocalLines(self.plot, ctx)
        self.ruler = Ruler(self.plot, ctx, north=True)
        self.across = QPushButton("Draw section")
        self.across.setCheckable(True)
        self.across.setToolTip(
            "Click two ends of a section on the map; Shift+click bends it there and goes on: a fence (S)"
        )
        self.tools.addWidget(self.across)
        self.drawing = QPushButton("Draw")
        self.drawing.setCheckable(True)
        self.drawing.setToolTip("Draw and edit polygons, lines and points of a map (D)")
        self.tools.addWidget(self.drawing)
        self.draw_tool = DrawTool(ctx, self.plot, self.feature_at, lambda: self.drawing.setChecked(False))
        self.body.insertWidget(0, self.draw_tool)
        self.drawing.toggled.connect(self.draw_tool.open)
        self.across.toggled.connect(lambda _: self._clicks.clear())
        self.layers = Layers(self.plot.addItem, self.plot.removeItem, faded)
        self._cross = [pg.InfiniteLine(angle=a, pen=pg.mkPen(ctx.theme.lit, width=1)) for a in (0, 90)]
        self._marked = pg.ScatterPlotItem(size=13, symbol="o", brush=None, pen=pg.mkPen(ctx.theme.lit, width=2.4))
        self._marked.setZValue(40)
        self.plot.addItem(self._marked)
        for line in self._cross:
            line.setZValue(39)
            line.hide()
            self.plot.addItem(line, ignoreBounds=True)
        self._outline = pg.PlotCurveItem(pen=pg.mkPen(ctx.theme.lit, width=3))
        self._outline.setZValue(38)
        self.plot.addItem(self._outline, ignoreBounds=True)
        self.picker = Picker()
        self._corridor = pg.PlotCurveItem(pen=pg.mkPen(ctx.theme.lit, width=1, style=Qt.PenStyle.DashLine))
        self._corridor.setZValue(30)
        self.plot.addItem(self._corridor, ignoreBounds=True)
        self._ends = [label(name, 0, 0, ctx.theme.text, 32, (0.5, 0.5), bold=True) for name in ("A", "B")]
        for text in self._ends:
            self.plot.addItem(text, ignoreBounds=True)
        self.area, self.sketch = MapArea(ctx, self.plot), FlatSketch(ctx, self.plot)
        self._off += [
            ctx.area_changed.connect(self.area.show),
            ctx.sketch_changed.connect(self.sketch.show),
            ctx.grid_changed.connect(self.local_lines.show_grid),
        ]
        self.area.show()
        self.sketch.show()
        self.handle: pg.LineSegmentROI | pg.PolyLineROI | None = None
        self._clicks: list[tuple[float, float]] = []  # of a section that is being drawn
        self._moving = False
        self._fitted = False
        self.plot.scene().sigMouseMoved.connect(self._mouse_moved)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self.plot.installEventFilter(self)
        self.redraw()

    # ---- drawing

    def draw(self) -> None:
        self.layers.update(self.ctx, MapView(), self.ctx.lit_entries())
        self._draw_section()
        self.show_selection(self.ctx.selection)
        if not self._fitted and self.layers and not self.ctx.reading:
            self._fitted = True
            self.fit()

    def drawn_items(self) -> list[str]:
        """Ids of the items on the map."""
        return self.layers.items()

    def on_project(self) -> None:
        self.layers.clear()
        self._fitted = False
        self.redraw()

    def on_theme(self) -> None:
        self.plot.dress()
        self.ruler.update()
        self.redraw()

    def fit(self) -> None:
        boxes = np.array([e.bounds for e in self.ctx.lit_entries()] or [e.bounds for e in self.ctx.entries()])
        boxes = boxes[np.isfinite(boxes[:, :4]).all(axis=1)] if len(boxes) else boxes
        if len(boxes):
            self.plot.setRange(
                xRange=(boxes[:, 0].min(), boxes[:, 1].max()),
                yRange=(boxes[:, 2].min(), boxes[:, 3].max()),
                padding=0.02,
            )

    def go_to(self, x: float, y: float, z: float) -> None:
        (x0, x1), (y0, y1) = self.plot.viewRange()
        wide, high = min(x1 - x0, 1500.0), min(y1 - y0, 1500.0)
        self.plot.setRange(xRange=(x - wide / 2, x + wide / 2), yRange=(y - high / 2, y + high / 2), padding=0)

    # ---- section line

    def on_section(self) -> None:
        self._draw_section()

    def _draw_section(self) -> None:
        plane = self.ctx.section
        if plane is None:
            self._corridor.setData([], [])
            if self.handle is not None:
                self.plot.removeItem(self.handle)
                self.handle = None
            for text in self._ends:
                text.hide()
            return
        places = plane.places
        if self.handle is not None and not self._moving and len(self.handle.getHandles()) != len(places):
            self.plot.removeItem(self.handle)
            self.handle = None
        if self.handle is None:
            self.handle = self._handle_for(places)
        elif not self._moving:
            self._moving = True
            self.handle.setPos(0, 0)
            for point, (x, y) in zip(self.handle.getHandles(), places.tolist(), strict=True):
                self.handle.movePoint(point, QPointF(x, y), finish=False, coords="parent")
            self._moving = False
        w, side = self.ctx.corridor, self.ctx.corridor_side
        left, right = (0.0 if side == "in front" else w), (0.0 if side == "behind" else w)  # behind lies left of A to B
        around = np.concatenate([plane.beside(left), plane.beside(-right)[::-1]])
        self._corridor.setData(*np.concatenate([around, around[:1]]).T)
        out = np.diff(places, axis=0)[[0, -1]]
        out /= np.maximum(np.hypot(*out.T), 1e-9)[:, None]
        gap = 0.03 * plane.length
        for text, (x, y) in zip(self._ends, (places[0] - gap * out[0], places[-1] + gap * out[1]), strict=True):
            text.setPos(x, y)
            text.show()

    def _handle_for(self, places: np.ndarray) -> pg.LineSegmentROI | pg.PolyLineROI:
        """What the section is dragged by: its ends, and the bends of a fence."""
        dress = {
            "pen": pg.mkPen(self.ctx.theme.lit, width=2.2),
            "hoverPen": pg.mkPen(self.ctx.theme.lit, width=3.4),
            "handlePen": pg.mkPen(self.ctx.theme.text, width=1.5),
        }
        at = [tuple(place) for place in places.tolist()]
        handle = pg.LineSegmentROI(at, **dress) if len(at) == 2 else pg.PolyLineROI(at, closed=False, **dress)
        handle.setZValue(31)
        handle.sigRegionChanged.connect(self._dragged)
        self.plot.addItem(handle, ignoreBounds=True)
        return handle

    def _dragged(self) -> None:
        if self._moving or self.handle is None:
            return
        at = [self.handle.mapToParent(h.pos()) for h in self.handle.getHandles()]
        places = np.array([(p.x(), p.y()) for p in at])
        if len(places) < 2 or (np.hypot(*np.diff(places, axis=0).T) < 1.0).any():
            return
        self._moving = True
        self.ctx.set_section(SectionPlane.along(places))
        self._moving = False

    # ---- mouse and keys

    def _mouse_moved(self, position: QPointF) -> None:
        x, y = self.plot.place_of(position)
        self.draw_tool.moved(x, y)
        self.ctx.point_at(x, y, self.ctx.ground_at(x, y), self.kind)

    def _clicked(self, event: object) -> None:
        x, y = self.plot.place_of(event.scenePos())  # type: ignore[attr-defined]
        self.ctx.clicked.emit(x, y, self.kind)
        if self.area.drawing:
            if event.button() == Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
                self.area.clicked(x, y, bool(event.double()))  # type: ignore[attr-defined]
            return
        if self.drawing.isChecked():
            if event.button() == Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
                held = event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)  # type: ignore[attr-defined]
                self.draw_tool.clicked(x, y, bool(event.double()), bool(held))  # type: ignore[attr-defined]
            return
        if self.across.isChecked():
            bend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)  # type: ignore[attr-defined]
            if not self._clicks or np.hypot(x - self._clicks[-1][0], y - self._clicks[-1][1]) > 1.0:
                self._clicks.append((x, y))
            if len(self._clicks) < 2 or bend:
                self.ctx.say("Section: click its other end; Shift+click bends it there and goes on.")
                return
            self.ctx.set_section(SectionPlane.along(np.array(self._clicks)))
            self.across.setChecked(False)
            return
        self._pick(x, y)

    def _pick(self, x: float, y: float) -> None:
        """Select the row nearest to a place, within ten pixels, of what is lit."""
        within = 10.0 * self.plot.metres_per_pixel()[0]
        best: tuple[float, Selection] | None = None
        for entry in self.ctx.lit_entries():
            item = self.ctx.item(entry.id)
            table = item.collars if isinstance(item, HoleSet) else getattr(item, "table", None)
            if isinstance(item, Features):
                row = self.feature_at(entry.id, x, y)
                if row is not None and best is None:
                    best = (0.9 * within, Selection(entry.id, "", (row,)))
                continue
            if table is None or not len(table):
                continue
            hit = self.picker.row_at(entry, table, x, y, within)
            if hit is not None and (best is None or hit[0] < best[0]):
                best = (hit[0], Selection(entry.id, "collar" if isinstance(item, HoleSet) else "", (hit[1],)))
        if best is not None:
            self.ctx.select_item(best[1].item)
            self.ctx.select_rows(best[1])

    def feature_at(self, item: str, x: float, y: float) -> int | None:
        """Return the row of the feature under a place: the smallest polygon, or a line or point within ten pixels."""
        entry = self.ctx.entry(item)
        features = self.ctx.item(item)
        if entry is None or not isinstance(features, Features) or level_of(features):
            return None
        return self.picker.feature_at(entry, features, x, y, 10.0 * self.plot.metres_per_pixel()[0])

    def show_cursor(self, cursor: Cursor) -> None:
        show = np.isfinite(cursor.x) and cursor.source != self.kind
        for line, value in zip(self._cross, (cursor.y, cursor.x), strict=True):
            line.setVisible(bool(show))
            if show:
                line.setValue(value)

    def on_selected(self, item: str) -> None:
        self.show_selection(self.ctx.selection)

    def show_selection(self, selection: Selection) -> None:
        xyz = selected_places(self.ctx, selection)
        self._marked.setData(x=xyz[:, 0], y=xyz[:, 1])
        item = self.ctx.item(selection.item) if selection.item in self.ctx.lit else None
        paths = feature_paths(item, selection.rows) if isinstance(item, Features) else []
        xy = np.concatenate(paths) if paths else np.empty((0, 2))
        joined = np.ones(len(xy), dtype=np.int32)
        joined[np.cumsum([len(p) for p in paths], dtype=np.int64) - 1] = 0
        self._outline.setData(xy[:, 0], xy[:, 1], connect=joined if len(xy) else "all")
        self.draw_tool.selection_changed()

    def on_items(self, notice: Notice) -> None:
        super().on_items(notice)
        self.draw_tool.on_items(tuple(notice.added))

    def on_loaded(self, item: str) -> None:
        super().on_loaded(item)
        if item == self.draw_tool.map.currentData():
            self.draw_tool.on_items()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        # Ctrl+Z is the window's too: while a sketch has clicks it takes these back.
        if event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress) and (
            self.area.key(event) or self.draw_tool.key(event)
        ):
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            (x0, x1), (y0, y1) = self.plot.viewRange()
            step = {
                Qt.Key.Key_Left: (-0.1, 0),
                Qt.Key.Key_Right: (0.1, 0),
                Qt.Key.Key_Up: (0, 0.1),
                Qt.Key.Key_Down: (0, -0.1),
            }.get(Qt.Key(event.key()))
            if step:
                self.plot.getViewBox().translateBy(x=step[0] * (x1 - x0), y=step[1] * (y1 - y0))
                return True
            if event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
                factor = 1.25 if event.key() == Qt.Key.Key_Minus else 0.8
                self.plot.getViewBox().scaleBy((factor, factor))
                return True
            if event.key() == Qt.Key.Key_Home:
                self.fit()
                return True
            if event.key() in (Qt.Key.Key_S, Qt.Key.Key_D):
                (self.across if event.key() == Qt.Key.Key_S else self.drawing).toggle()
                return True
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.Leave:
            self.show_cursor(self.ctx.cursor)
        return False

    def close_pane(self) -> None:
        super().close_pane()
        self.plot.close()

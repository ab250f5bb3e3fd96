"""The section: a vertical plane through everything that is lit, with what lies in its corridor."""

from __future__ import annotations

import time
from typing import ClassVar

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPointF, Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from ....core.compute.geometry.planes import SectionPlane, in_corridor, proposed_exaggeration
from ....core.items.features import Features
from ....core.items.fields import Surface
from ....core.items.holes import HoleSet, table_with
from ....core.numbers import number_or_none
from ....core.project.records import Entry, Notice
from ...context.context import Context, Cursor, Selection
from ...painters.kit.flat import faded
from ...painters.kit.views import SectionView
from ...painters.layers import Layers
from ...theme.plain import Label
from ..base.area_handles import SectionArea
from ..base.boxes import exaggeration_box, show_exaggeration
from ..base.pane import Pane, overlay
from ..base.plot import MetrePlot, Ruler
from ..base.run_sketch import FlatSketch
from ..base.selection import selected_places
from .above import SectionAbove
from .draw import SectionDraw
from .looks import LookMenu
from .places import PlaceMenu
from .sizes import SectionSizes

_MOTION = 0.2  # seconds within which two moves are one drag


_FILLS = ("holes", "surface")  # kinds that a section is framed by


class SectionPane(Pane):
    """A vertical section; left is A of the section line on the map, right is B."""

    kind: ClassVar[str] = "section"
    title: ClassVar[str] = "Section"
    delay: ClassVar[int] = 55

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.plot = MetrePlot(ctx, "Distance from A (m)", "Elevation (m)")
        self.above = SectionAbove(ctx, self.plot)
        self.body.addWidget(self.above)
        self.body.addWidget(self.plot, 1)
        self.ruler = Ruler(self.plot, ctx, north=False)
        self.caption = overlay(self.plot)
        self.caption.move(66, 6)
        words = Label("± m")
        words.setToolTip("Corridor: half width of the slab that is drawn on the section")
        self.width_box = QLineEdit()
        self.width_box.setFixedWidth(44)
        self.width_box.setToolTip("Half width of the slab on both sides that is drawn on the section, in metres")
        self.width_box.editingFinished.connect(self._width_set)
        words.setBuddy(self.width_box)
        pair = QWidget()  # the words go where the box goes
        beside = QHBoxLayout(pair)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.setSpacing(4)
        beside.addWidget(words)
        beside.addWidget(self.width_box)
        self.tools.addWidget(pair)
        self.vertical = exaggeration_box(ctx)
        self.tools.addWidget(self.vertical)
        self.placing = PlaceMenu(ctx, self.step)
        self.tools.addWidget(self.placing)
        self.looks = LookMenu(ctx)
        self.tools.addWidget(self.looks)
        self.drawing = QPushButton("Draw")
        self.drawing.setCheckable(True)
        self.drawing.setToolTip("Draw lines, outlines and notes on the section; they live in space (D)")
        self.tools.addWidget(self.drawing)
        self.sizing = QPushButton("Sizes")
        self.sizing.setCheckable(True)
        self.sizing.setToolTip(
            "Scale, extents and vertical exaggeration as numbers: change one and see the others follow"
        )
        self.tools.addWidget(self.sizing)
        self.sizes = SectionSizes(ctx, self.plot)
        self.body.insertWidget(0, self.sizes)
        self.sizing.toggled.connect(self.sizes.open)
        self.draw_tool = SectionDraw(ctx, self.plot, self._seen, lambda: self.drawing.setChecked(False))
        self.body.insertWidget(0, self.draw_tool)
        self.drawing.toggled.connect(self._draw_toggled)
        self.layers = Layers(self.plot.addItem, self.plot.removeItem, faded)
        self._cross = [pg.InfiniteLine(angle=a, pen=pg.mkPen(ctx.theme.lit, width=1)) for a in (0, 90)]
        for line in self._cross:
            line.setZValue(39)
            line.hide()
            self.plot.addItem(line, ignoreBounds=True)
        self._marked = pg.ScatterPlotItem(size=13, symbol="o", brush=None, pen=pg.mkPen(ctx.theme.lit, width=2.4))
        self._marked.setZValue(40)
        self.plot.addItem(self._marked)
        self.area, self.sketch = SectionArea(ctx, self.plot), FlatSketch(ctx, self.plot)
        self._off += [ctx.area_changed.connect(self._show_run), ctx.sketch_changed.connect(self._show_run)]
        self._moving, self._moved = False, 0.0  # whether it is being dragged, and when it moved last
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(220)
        self._rest.timeout.connect(self._come_to_rest)
        self._bends: list[pg.InfiniteLine] = []  # of a fence
        self._plane: SectionPlane | None = None
        self._untouched = True  # whether the pane shows the part that it chose itself
        self.plot.getViewBox().sigRangeChangedManually.connect(self._touched)
        self.plot.scene().sigMouseMoved.connect(self._mouse_moved)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self.plot.installEventFilter(self)
        self._hint = Label("No section yet. Choose 'Draw section' on the map and click its two ends.")
        self._hint.setObjectName("empty")
        self._hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._hint.setWordWrap(True)
        self._hint.setMargin(16)
        self.body.addWidget(self._hint)
        self.redraw()

    def draw(self) -> None:
        plane, ctx = self.ctx.section, self.ctx
        self._hint.setVisible(plane is None)
        self.plot.setVisible(plane is not None)
        if not self.width_box.hasFocus():
            self.width_box.setText(f"{ctx.corridor:g}")
        show_exaggeration(self.vertical, ctx)
        if plane is None:
            self.layers.clear()
            self.above.show_for(None)
            self.caption.hide()
            return
        fresh = plane != self._plane and not ctx.reading
        frame = self._frame(plane) if fresh and self._differs(plane) else None
        self._plane = plane if fresh else self._plane
        if frame is not None:
            size = self.plot.getViewBox().rect()
            ctx.view.proposed_exaggeration = proposed_exaggeration(
                frame[1] - frame[0], frame[3] - frame[2], size.width(), size.height()
            )
        factor = ctx.section_exaggeration
        self.plot.getViewBox().setAspectLocked(True, 1.0 / factor)
        self.layers.update(ctx, self._view(plane), ctx.lit_entries())
        self._draw_bends(plane)
        self.above.show_for(self._view(plane))
        self.caption.setText(
            (
                f"Fence of {len(plane.pieces)} pieces, A → B {plane.azimuth:03.0f}°"
                if plane.bends
                else f"A → B {plane.azimuth:03.0f}°, looking {plane.view_azimuth:03.0f}°"
            )
            + f"   vertical ×{factor:g}"
            + ("" if ctx.corridor_side == "both sides" else f"   {ctx.corridor_side} only")
        )
        self.caption.adjustSize()
        self.caption.show()
        if frame is not None:
            self._show_frame(frame)
        self.show_selection(ctx.selection)
        self.draw_tool.show_sketch()
        self._show_run()

    def _show_run(self) -> None:
        """Show the area and the cells that an open form would work on."""
        view = self._seen()
        self.area.show(view)
        if view is not None:
            self.sketch.show(view)

    def _draw_bends(self, plane: SectionPlane) -> None:
        for line in self._bends:
            self.plot.removeItem(line)
        pen = pg.mkPen(self.ctx.theme.faint, width=1, style=Qt.PenStyle.DashLine)
        self._bends = [pg.InfiniteLine(float(at), 90, pen=pen) for at in plane.corners[1:-1]]
        for line in self._bends:
            line.setZValue(1)
            self.plot.addItem(line, ignoreBounds=True)

    def drawn_count(self) -> int:
        """How many graphics are on the section."""
        return len(self.layers.graphics())

    def on_project(self) -> None:
        self._plane = None
        self.layers.clear()
        self.redraw()

    def on_section(self) -> None:
        now = time.monotonic()
        self._moving, self._moved = now - self._moved < _MOTION, now
        if self._moving:
            self._rest.start()
        self.redraw()

    def _come_to_rest(self) -> None:
        self._moving = False
        self.redraw()

    @property
    def settled(self) -> bool:
        return super().settled and not self._rest.isActive()

    def on_theme(self) -> None:
        self.plot.dress()
        self.above.dress()
        self.redraw()

    def _view(self, plane: SectionPlane) -> SectionView:
        ctx = self.ctx
        return SectionView(
            plane,
            ctx.corridor,
            ctx.section_exaggeration,
            ctx.corridor_side,
            ctx.section_look.beside,
            ctx.section_look.depths,
            self._moving,
        )

    def _seen(self) -> SectionView | None:
        return None if self.ctx.section is None else self._view(self.ctx.section)

    def _draw_toggled(self, on: bool) -> None:
        if on and self.ctx.section is None:
            self.drawing.setChecked(False)
            self.ctx.say("Draw a section on the map first.", "look")
        else:
            self.draw_tool.open(on)

    def on_items(self, notice: Notice) -> None:
        super().on_items(notice)
        self.draw_tool.on_items(tuple(notice.added))
        if self._untouched and any(e.kind in _FILLS for e in self.ctx.lit_entries() if e.id in notice.added):
            self._plane = None  # what came in shall be seen as it will be when the project is opened next

    def on_loaded(self, item: str) -> None:
        super().on_loaded(item)
        if self.draw_tool.isVisible():
            self.draw_tool.on_items((item,))

    def _differs(self, plane: SectionPlane) -> bool:
        """Whether a section is another one than the one before, not only moved aside."""
        return self._plane is None or abs(self._plane.length - plane.length) > 1.0

    def _touched(self, *_: object) -> None:
        self._untouched = False

    def fit(self) -> None:
        """Let what lies on the section fill the pane: holes and shells where there are any, else the ground along the line."""
        self._plane = None
        self.draw()

    def _show_frame(self, frame: tuple[float, float, float, float]) -> None:
        left, right, low, high = frame
        self.plot.setRange(xRange=(left, right), yRange=(low, high), padding=0.03)
        self._untouched = True

    def _frame(self, plane: SectionPlane) -> tuple[float, float, float, float]:
        """Left, right, lowest and highest of what fills the pane."""
        places = [p for p in (self._places_of(e, plane) for e in self.ctx.lit_entries()) if len(p)]
        if places:
            along, z = np.concatenate(places).T
            margin = max(0.06 * float(np.ptp(along)), 20.0)
            left, right = max(float(along.min()) - margin, 0.0), min(float(along.max()) + margin, plane.length)
        else:
            left, right = 0.0, plane.length
        low, high = self._elevations(plane, left, right)
        if places:
            low = float(np.nanmin([low, z.min()]))
            high = float(np.nanmax([high, z.max()]))
        if not (np.isfinite(low) and np.isfinite(high)):
            low, high = 0.0, 100.0
        # The names of holes stand above the ground, and caption and ruler above them.
        high += max(0.10, min(70.0 / max(self.plot.height() - 40.0, 1.0), 0.4)) * max(high - low, 50.0)
        return left, right, low, max(high, low + 50.0)

    def _places_of(self, entry: Entry, plane: SectionPlane) -> np.ndarray:
        """Distance along the section and elevation of what a hole set or a shell has in the corridor, shape (n, 2)."""
        item = self.ctx.item(entry.id)
        if isinstance(item, HoleSet):
            xyz = item.stations[["x", "y", "z"]].to_numpy(float)
        elif isinstance(item, Surface) and item.closed:
            xyz = item.vertices
        else:
            return np.empty((0, 2))
        along, _, inside = self._view(plane).near(xyz[:, 0], xyz[:, 1])
        near = inside & np.isfinite(xyz[:, 2])
        return np.column_stack([along[near], xyz[near, 2]])

    def _elevations(self, plane: SectionPlane, left: float, right: float) -> tuple[float, float]:
        """Lowest and highest ground along a part of the section; without a ground the extent of what is lit."""
        x, y = plane.to_map(np.linspace(left, right, 60))
        ground = np.array([self.ctx.ground_at(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)])
        if np.isfinite(ground).any():
            return float(np.nanmin(ground)), float(np.nanmax(ground))
        bounds = np.array([e.bounds[4:6] for e in self.ctx.lit_entries()] or [(np.nan, np.nan)], dtype=float)
        good = bounds[np.isfinite(bounds).all(axis=1)]
        return (float(good[:, 0].min()), float(good[:, 1].max())) if len(good) else (np.nan, np.nan)

    def _width_set(self) -> None:
        text = self.width_box.text().strip()
        width = number_or_none(text) or 0.0
        if not 0.1 <= width <= 50_000:
            self.ctx.say(f"The corridor must be from 0.1 to 50 000 m, not '{text}'.", "bad")
            self.width_box.setText(f"{self.ctx.corridor:g}")
        elif width != self.ctx.corridor:
            self.ctx.set_corridor(width)

    def _mouse_moved(self, position: QPointF) -> None:
        if self.ctx.section is not None:
            along, z = self.plot.place_of(position)
            x, y = self.ctx.section.to_map(np.array([along]))
            self.draw_tool.moved(along, z)
            self.ctx.point_at(float(x[0]), float(y[0]), z, self.kind)

    def _clicked(self, event: object) -> None:
        """Select the interval nearest to the click among the lit holes in the corridor."""
        plane = self.ctx.section
        if plane is None:
            return
        along, z = self.plot.place_of(event.scenePos())  # type: ignore[attr-defined]
        if self.drawing.isChecked():
            self.draw_tool.clicked(along, z, bool(event.double()))  # type: ignore[attr-defined]
            return
        dx, dy = self.plot.metres_per_pixel()
        best: tuple[float, Selection] | None = None
        for entry in self.ctx.lit_entries():
            item = self.ctx.item(entry.id)
            name, table = "", getattr(item, "table", None)
            if isinstance(item, Features):
                row = self.draw_tool.drawing_at(entry.id, along, z)
                if row is not None and best is None:
                    best = (9.0, Selection(entry.id, "", (row,)))
                continue
            if isinstance(item, HoleSet):
                hit = table_with(item, self.ctx.attribute_of(entry))
                if hit is None:
                    continue
                name, table = hit
            if table is None or not len(table) or not {"x", "y", "z"} <= set(table.columns):
                continue
            a, _, inside = self._view(plane).near(table["x"].to_numpy(float), table["y"].to_numpy(float))
            away = np.hypot((a - along) / dx, (table["z"].to_numpy(float) - z) / dy)
            away[~inside] = np.inf
            if not np.isfinite(away).any():
                continue
            row = int(np.nanargmin(away))
            if away[row] < 12 and (best is None or away[row] < best[0]):
                best = (float(away[row]), Selection(entry.id, name, (row,)))
        if best is not None:
            self.ctx.select_item(best[1].item)
            self.ctx.select_rows(best[1])

    def show_cursor(self, cursor: Cursor) -> None:
        plane = self.ctx.section
        show = plane is not None and np.isfinite(cursor.x) and cursor.source != self.kind
        if show and plane is not None:
            along, off = plane.to_plane(np.array([cursor.x]), np.array([cursor.y]))
            show = bool(
                in_corridor(off, self.ctx.corridor, self.ctx.corridor_side)[0] and 0 <= along[0] <= plane.length
            )
            if show:
                self._cross[1].setValue(float(along[0]))
                if np.isfinite(cursor.z):
                    self._cross[0].setValue(cursor.z)
        self._cross[1].setVisible(bool(show))
        self._cross[0].setVisible(bool(show and np.isfinite(cursor.z)))

    def on_selected(self, item: str) -> None:
        self.show_selection(self.ctx.selection)

    def show_selection(self, selection: Selection) -> None:
        xyz = selected_places(self.ctx, selection)
        if self.ctx.section is None or not len(xyz):
            self._marked.setData([], [])
            return
        along, off = self.ctx.section.to_plane(xyz[:, 0], xyz[:, 1])
        near = in_corridor(off, max(self.ctx.corridor, 1.0), self.ctx.corridor_side)
        self._marked.setData(along[near], xyz[near, 2])

    def go_to(self, x: float, y: float, z: float) -> None:
        """Move the section, keeping its direction, so that its middle lies at a place."""
        plane = self.ctx.section
        if plane is None:
            self.ctx.set_section(SectionPlane(x - 400, y, x + 400, y))
            return
        dx, dy = x - 0.5 * (plane.x0 + plane.x1), y - 0.5 * (plane.y0 + plane.y1)
        self.ctx.set_section(plane.moved(dx, dy))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        # Ctrl+Z is the window's too: while a sketch has clicks it takes these back.
        if event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress) and self.draw_tool.key(event):
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_D:
                self.drawing.toggle()
                return True
            step = {Qt.Key.Key_PageUp: 1.0, Qt.Key.Key_PageDown: -1.0}.get(Qt.Key(event.key()))
            if step and self.ctx.section is not None:
                self.step(step)
                return True
            if event.key() == Qt.Key.Key_Home:
                self.fit()
                return True
            if event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
                factor = 1.25 if event.key() == Qt.Key.Key_Minus else 0.8
                self.plot.getViewBox().scaleBy((factor, factor))
                return True
        return False

    def step(self, direction: float) -> None:
        """Go to the next section of the series: as far as the corridor is wide, behind (1) or in front (-1)."""
        plane, width = self.ctx.section, self.ctx.corridor
        if plane is None:
            return
        d = direction * width * (2.0 if self.ctx.corridor_side == "both sides" else 1.0)
        self.ctx.set_section(plane.stepped(d))

    def close_pane(self) -> None:
        super().close_pane()
        self._rest.stop()
        self.above.close_all()
        self.plot.close()

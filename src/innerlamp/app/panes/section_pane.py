"""The section: a vertical plane through everything that is lit, with what lies in its corridor."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPointF, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QMenu, QToolButton, QWidget

from ...core.compute.geometry.axis_sets import mean_axis
from ...core.compute.geometry.orientations import plane_normal
from ...core.compute.geometry.planes import SIDES, SectionPlane, about, in_corridor, proposed_exaggeration, turned
from ...core.items.attributes import orientation
from ...core.items.fields import Surface
from ...core.items.holes import HoleSet, table_with
from ...core.items.points import PointSet
from ...core.numbers import number_or_none
from ...core.project.records import Entry
from ..context import Context, Cursor, Selection
from ..painters.flat import faded
from ..painters.layers import Layers
from ..painters.views import SectionView
from .base import Pane, overlay
from .boxes import exaggeration_box, show_exaggeration
from .plot import MetrePlot, Ruler
from .selection import selected_places


class SectionPane(Pane):
    """A vertical section; left is A of the section line on the map, right is B."""

    kind: ClassVar[str] = "section"
    title: ClassVar[str] = "Section"
    delay: ClassVar[int] = 55

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.plot = MetrePlot(ctx, "Distance from A (m)", "Elevation (m)")
        self.body.addWidget(self.plot)
        self.ruler = Ruler(self.plot, ctx, north=False)
        self.caption = overlay(self.plot)
        self.caption.move(66, 6)
        words = QLabel("± m")
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
        self.placing = QToolButton()
        self.placing.setText("Place")
        self.placing.setToolTip(
            "Through a hole, across or along what is selected, from the other side, to one side only"
        )
        self.placing.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.placing)
        menu.aboutToShow.connect(lambda: self._place_menu(menu))
        self.placing.setMenu(menu)
        self.tools.addWidget(self.placing)
        self.layers = Layers(self.plot.addItem, self.plot.removeItem, faded)
        self._cross = [pg.InfiniteLine(angle=a, pen=pg.mkPen(ctx.theme.lit, width=1)) for a in (0, 90)]
        for line in self._cross:
            line.setZValue(39)
            line.hide()
            self.plot.addItem(line, ignoreBounds=True)
        self._marked = pg.ScatterPlotItem(size=13, symbol="o", brush=None, pen=pg.mkPen(ctx.theme.lit, width=2.4))
        self._marked.setZValue(40)
        self.plot.addItem(self._marked)
        self._plane: SectionPlane | None = None
        self.plot.scene().sigMouseMoved.connect(self._mouse_moved)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self.plot.installEventFilter(self)
        self._hint = QLabel("No section yet. Choose 'Draw section' on the map and click its two ends.")
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
        self.caption.setText(
            f"A → B {plane.azimuth:03.0f}°, looking {plane.view_azimuth:03.0f}°   vertical ×{factor:g}"
            + ("" if ctx.corridor_side == "both sides" else f"   {ctx.corridor_side} only")
        )
        self.caption.adjustSize()
        self.caption.show()
        if frame is not None:
            self._show_frame(frame)
        self.show_selection(ctx.selection)

    def drawn_count(self) -> int:
        """How many graphics are on the section."""
        return len(self.layers.graphics())

    def on_project(self) -> None:
        self._plane = None
        self.layers.clear()
        self.redraw()

    def on_section(self) -> None:
        self.redraw()

    def on_theme(self) -> None:
        self.plot.dress()
        self.redraw()

    def _view(self, plane: SectionPlane) -> SectionView:
        ctx = self.ctx
        return SectionView(plane, ctx.corridor, ctx.section_exaggeration, ctx.corridor_side)

    def _differs(self, plane: SectionPlane) -> bool:
        """Whether a section is another one than the one before, not only moved aside."""
        return self._plane is None or abs(self._plane.length - plane.length) > 1.0

    def fit(self) -> None:
        """Let what lies on the section fill the pane: holes and shells where there are any, else the ground along the line."""
        self._plane = None
        self.draw()

    def _show_frame(self, frame: tuple[float, float, float, float]) -> None:
        left, right, low, high = frame
        self.plot.setRange(xRange=(left, right), yRange=(low, high), padding=0.03)

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
            self.ctx.point_at(float(x[0]), float(y[0]), z, self.kind)

    def _clicked(self, event: object) -> None:
        """Select the interval nearest to the click among the lit holes in the corridor."""
        plane = self.ctx.section
        if plane is None:
            return
        along, z = self.plot.place_of(event.scenePos())  # type: ignore[attr-defined]
        dx, dy = self.plot.metres_per_pixel()
        best: tuple[float, Selection] | None = None
        for entry in self.ctx.lit_entries():
            item = self.ctx.item(entry.id)
            name, table = "", getattr(item, "table", None)
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
        self.ctx.set_section(SectionPlane(plane.x0 + dx, plane.y0 + dy, plane.x1 + dx, plane.y1 + dy))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
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

    # ---- where it lies

    def _place_menu(self, menu: QMenu) -> None:
        """What can be done with the section, by what is there and selected."""
        menu.clear()
        plane = self.ctx.section
        hole = self._selected_hole()
        self._offer(
            menu, f"Through {hole[0]}" if hole else "Through the selected hole", self._through_hole, hole is not None
        )
        strike = self._strike()
        self._offer(menu, "Along the strike of the selected planes", lambda: self._along(0.0), strike is not None)
        self._offer(menu, "Across the selected planes", lambda: self._along(90.0), strike is not None)
        menu.addSeparator()
        there = plane is not None
        self._offer(menu, "From the other side", lambda: self._turn(180.0), there)
        self._offer(menu, "Turned by a right angle", lambda: self._turn(90.0), there)
        self._offer(menu, "One corridor back (Page Down)", lambda: self.step(-1.0), there)
        self._offer(menu, "One corridor on (Page Up)", lambda: self.step(1.0), there)
        menu.addSeparator()
        for side in SIDES:
            action = menu.addAction(f"Corridor on {side}" if side == "both sides" else f"Corridor {side} only")
            action.setCheckable(True)
            action.setChecked(side == self.ctx.corridor_side)
            action.triggered.connect(lambda _=False, s=side: self.ctx.set_corridor_side(s))

    def _offer(self, menu: QMenu, words: str, act: Callable[[], None], possible: bool) -> None:
        action = menu.addAction(words)
        action.setEnabled(possible)
        action.triggered.connect(lambda _=False: act())

    def _selected_hole(self) -> tuple[str, float, float, float, float] | None:
        """Name, place, azimuth (degrees) and plan length (m) of the hole of the selected row."""
        selection = self.ctx.selection
        item = self.ctx.item(selection.item) if selection.item and selection.rows else None
        if not isinstance(item, HoleSet):
            return None
        named = {"": item.collars, "collar": item.collars, **item.tables, **item.readings}
        table = named.get(selection.table)
        if table is None or selection.rows[0] >= len(table):
            return None
        name = str(table["hole"].iloc[selection.rows[0]])
        path = item.stations[(item.stations["hole"].astype(str) == name).to_numpy()]
        if not len(path):
            return None
        x, y = path["x"].to_numpy(float), path["y"].to_numpy(float)
        dx, dy = float(x[-1] - x[0]), float(y[-1] - y[0])
        here = self.ctx.section
        steep = np.hypot(dx, dy) < 1.0
        azimuth = (
            (here.azimuth if here is not None else 90.0) if steep else float(np.degrees(np.arctan2(dx, dy)) % 360.0)
        )
        return name, float(0.5 * (x[0] + x[-1])), float(0.5 * (y[0] + y[-1])), azimuth, float(np.hypot(dx, dy))

    def _through_hole(self) -> None:
        hole = self._selected_hole()
        if hole is not None:
            _, x, y, azimuth, plan = hole
            length = max(self.ctx.section.length if self.ctx.section is not None else 0.0, 2.0 * plan, 200.0)
            self.ctx.set_section(about(x, y, azimuth, length))

    def _strike(self) -> float | None:
        """Strike in degrees of the mean of the selected planes, or of those of the selected item."""
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry is not None else None
        names = orientation(item.attributes) if isinstance(item, PointSet) else None
        if not isinstance(item, PointSet) or names is None:
            return None
        rows = self.ctx.selection.rows if self.ctx.selection.item == self.ctx.selected else ()
        t = item.table.iloc[list(rows)] if rows else item.table
        dip, to = t[names[0]].to_numpy(float), t[names[1]].to_numpy(float)
        good = np.isfinite(dip) & np.isfinite(to)
        if not good.any():
            return None
        mean = mean_axis(plane_normal(dip[good], to[good]))
        return float((np.degrees(np.arctan2(mean[0], mean[1])) + 90.0) % 180.0)

    def _along(self, turn: float) -> None:
        strike, here = self._strike(), self.ctx.section
        entry = self.ctx.entry(self.ctx.selected)
        if strike is None or entry is None:
            return
        west, east, south, north = entry.bounds[:4]
        x, y = 0.5 * (west + east), 0.5 * (south + north)
        length = max(float(np.hypot(east - west, north - south)), 200.0)
        if here is not None and not np.isfinite([x, y]).all():
            x, y, length = 0.5 * (here.x0 + here.x1), 0.5 * (here.y0 + here.y1), here.length
        self.ctx.set_section(about(x, y, strike + turn, length))

    def _turn(self, degrees: float) -> None:
        if self.ctx.section is not None:
            self.ctx.set_section(turned(self.ctx.section, degrees))

    def step(self, direction: float) -> None:
        """Go to the next section of the series: as far as the corridor is wide, behind (1) or in front (-1)."""
        plane, width = self.ctx.section, self.ctx.corridor
        if plane is None:
            return
        d = direction * width * (2.0 if self.ctx.corridor_side == "both sides" else 1.0)
        ux, uy = (plane.x1 - plane.x0) / plane.length, (plane.y1 - plane.y0) / plane.length
        self.ctx.set_section(SectionPlane(plane.x0 - uy * d, plane.y0 + ux * d, plane.x1 - uy * d, plane.y1 + ux * d))

    def close_pane(self) -> None:
        super().close_pane()
        self.plot.close()

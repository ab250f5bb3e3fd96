"""Drawing on the section: lines, outlines and notes that live in space, and snap to intervals and to each other."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QPushButton

from ....core.items import feature_keys
from ....core.items.features import Features, in_space, part_vertices
from ...context.context import Context, Selection
from ...painters.kit.views import SectionView
from ..base.plot import MetrePlot
from ..drawing.draw_tool import Corners
from ..drawing.space_draw import NO_PLACES, SHAPES, SNAP_PIXELS, Place, SpaceDraw

MODES = (*SHAPES, "corners")
_TIP = "line, outline: click places, double-click or Enter ends. note: click where it stands. corners: drag them, Delete removes one"


class SectionDraw(SpaceDraw):
    """The row of drawing controls over a section, and what they do there."""

    def __init__(
        self, ctx: Context, plot: MetrePlot, view: Callable[[], SectionView | None], leave: Callable[[], None]
    ) -> None:
        super().__init__(ctx, "section", MODES, _TIP, leave)
        self.plot, self._view = plot, view
        self._held: tuple[float, float, float] | None = None  # the corner that was clicked last
        self._known: tuple[object, np.ndarray, np.ndarray] = (None, NO_PLACES, np.empty((0, 2)))
        for name, tip, act in (
            ("Set", "Give the selected drawings this unit", self.set_value),
            ("Remove", "Remove the selected drawings", self.remove),
        ):
            self.buttons[name] = QPushButton(name)
            self.buttons[name].setToolTip(tip)
            self.buttons[name].clicked.connect(act)
            self._row.addWidget(self.buttons[name])
        self._row.addStretch(1)
        lit = ctx.theme.lit
        self.line = pg.PlotCurveItem(pen=pg.mkPen(lit, width=2))
        self.dots = pg.ScatterPlotItem(
            size=7, symbol="s", pen=pg.mkPen(lit, width=1.5), brush=pg.mkBrush(ctx.theme.panel)
        )
        self.target = pg.ScatterPlotItem(size=15, symbol="o", pen=pg.mkPen(lit, width=2), brush=None)
        self.corners = Corners(self)
        for z, each in ((44, self.line), (45, self.dots), (46, self.target), (45, self.corners)):
            each.setZValue(z)
            plot.addItem(each, ignoreBounds=True)

    def begin(self) -> None:
        self._held = None
        self.ctx.say("Draw: click on the section. Double-click or Enter ends, Ctrl+Z takes a click back, Esc leaves.")
        self.plot.setFocus()

    def mode_changed(self) -> None:
        for name in ("Set", "Remove"):
            self.buttons[name].setVisible(self.mode.currentText() == "corners")
        super().mode_changed()

    # ---- snapping

    def known(self) -> tuple[np.ndarray, np.ndarray]:
        """Places to snap to in the corridor: in space (n, 3), and on the section (n, 2)."""
        view = self._view()
        if view is None:
            return NO_PLACES, np.empty((0, 2))
        key = (view, self.lit_key())
        if key != self._known[0]:
            xyz = self.lit_places()
            along, _, inside = view.near(xyz[:, 0], xyz[:, 1])
            self._known = (key, xyz[inside], np.column_stack([along[inside], xyz[inside, 2]]))
        return self._known[1], self._known[2]

    def place(self, along: float, z: float) -> Place:
        """Where a click goes: to an interval's end or a corner that is near, else on the section."""
        dx, dy = self.plot.metres_per_pixel()
        xyz, at = self.known()
        at = np.concatenate([at, np.array([p.at for p in self.sketch]).reshape(-1, 2)])
        xyz = np.concatenate([xyz, np.array([p.xyz for p in self.sketch]).reshape(-1, 3)])
        if len(at):
            away = np.hypot((at[:, 0] - along) / dx, (at[:, 1] - z) / dy)
            best = int(np.argmin(away))
            if away[best] <= SNAP_PIXELS:
                x, y, height = xyz[best].tolist()
                return Place((float(at[best, 0]), float(at[best, 1])), (x, y, height), True)
        return self._plain(along, z)

    def _plain(self, along: float, z: float) -> Place:
        view = self._view()
        assert view is not None
        x, y = view.plane.to_map(np.array([along]))
        return Place((along, z), (float(x[0]), float(y[0]), z))

    # ---- mouse

    def moved(self, along: float, z: float) -> None:
        """Show where a click would go to."""
        if self.isVisible() and self.mode.currentText() != "corners" and self._view() is not None:
            self.show_sketch(self.place(along, z))

    def clicked(self, along: float, z: float, double: bool) -> None:
        """Take a click on the section."""
        if self._view() is None:
            return
        if self.mode.currentText() == "corners":
            self._click_corner(along, z)
        else:
            self.take(self.place(along, z), double)

    def _own(self) -> tuple[np.ndarray, np.ndarray]:
        """Corners of the drawing in the corridor: in space (n, 3), and on the section (n, 2)."""
        item, view = self.item(), self._view()
        if item is None or view is None:
            return NO_PLACES, np.empty((0, 2))
        parts = [part_vertices(item, int(k)) for k in np.flatnonzero(in_space(item))]
        xyz = np.unique(np.concatenate([NO_PLACES, *parts]), axis=0)
        along, _, inside = view.near(xyz[:, 0], xyz[:, 1])
        return xyz[inside], np.column_stack([along[inside], xyz[inside, 2]])

    def _click_corner(self, along: float, z: float) -> None:
        xyz, at = self._own()
        dx, dy = self.plot.metres_per_pixel()
        away = np.hypot((at[:, 0] - along) / dx, (at[:, 1] - z) / dy)
        self._held = None
        if len(away) and away.min() <= SNAP_PIXELS:
            x, y, height = xyz[int(np.argmin(away))].tolist()
            self._held = (x, y, height)
        chosen = str(self.drawing.currentData() or "")
        row = self.drawing_at(chosen, along, z)
        self.ctx.select_rows(Selection(chosen, "", () if row is None else (row,)))
        self.show_sketch()

    def drawing_at(self, item: str, along: float, z: float) -> int | None:
        """Return the row of what is drawn within some pixels of a place on the section."""
        features, view = self.ctx.item(item) if item else None, self._view()
        if not isinstance(features, Features) or view is None:
            return None
        dx, dy = self.plot.metres_per_pixel()
        best: tuple[float, int | None] = (8.0, None)
        for part in np.flatnonzero(in_space(features)).tolist():
            v = part_vertices(features, part)
            a, _, inside = view.near(v[:, 0], v[:, 1])
            if inside.any():
                away = _distance(np.column_stack([(a - along) / dx, (v[:, 2] - z) / dy]))
                if away < best[0]:
                    best = (away, int(features.owner[part]))
        return best[1]

    def drag(self, start: tuple[float, float], to: tuple[float, float], done: bool) -> None:
        """Show a corner on its way; on the last call put it there."""
        xyz, at = self._own()
        there = self.place(*to)
        if np.hypot(there.at[0] - start[0], there.at[1] - start[1]) < 1e-6:  # it would snap to itself
            there = self._plain(*to)
        self.line.setData([start[0], there.at[0]], [start[1], there.at[1]])
        self.target.setData([there.at[0]], [there.at[1]])
        if done and len(at):
            here = xyz[int(np.argmin(np.hypot(*(at - start).T)))]
            values = dict(zip(("x", "y", "z", "to_x", "to_y", "to_z"), (*here.tolist(), *there.xyz), strict=True))
            self.run("move-in-space", {"action": "move", **values})
            self.line.setData([], [])
            self.target.setData([], [])

    # ---- doing it

    def acts(self, event: QKeyEvent) -> dict[Qt.Key, Callable[[], None]]:
        out = super().acts(event)
        if self._held is not None:
            out[Qt.Key.Key_Delete] = self.remove_corner
        return out

    def _meant(self) -> list[str]:
        """Keys of the selected drawings."""
        chosen, item = self.ctx.selection, self.item()
        mine = item is not None and chosen.item == self.drawing.currentData()
        return feature_keys.texts(item, chosen.rows) if mine and item is not None else []

    def set_value(self) -> None:
        """Give the selected drawings the unit of the box."""
        self.run(
            "edit-features",
            {"meant": self._meant(), "column": self.column(), "value": self.value.currentText().strip()},
        )

    def remove(self) -> None:
        """Take the selected drawings out."""
        self.run("edit-features", {"action": "remove", "meant": self._meant()})

    def remove_corner(self) -> None:
        """Remove the corner that was clicked last."""
        if self._held is not None:
            self.run("move-in-space", {"action": "remove", **dict(zip("xyz", self._held, strict=True))})
            self._held = None

    def show_sketch(self, ahead: Place | None = None) -> None:
        """Draw what was clicked, where the next click would go, and the corners that can be dragged."""
        at = np.array([p.at for p in self.sketch]).reshape(-1, 2)
        self.dots.setData(at[:, 0], at[:, 1])
        if ahead is not None and len(at):
            at = np.vstack([at, ahead.at])
            if self.mode.currentText() == "outline" and len(at) > 2:
                at = np.vstack([at, at[0]])
        self.line.setData(at[:, 0], at[:, 1])
        snapped = ahead is not None and ahead.snapped
        self.target.setData([ahead.at[0]], [ahead.at[1]]) if snapped and ahead is not None else self.target.setData(
            [], []
        )
        editing = self.isVisible() and self.mode.currentText() == "corners"
        xyz, own = self._own() if editing else (NO_PLACES, np.empty((0, 2)))
        held = np.array([self._held is not None and tuple(p) == self._held for p in xyz.tolist()], dtype=bool)
        theme = self.ctx.theme
        self.corners.setData(
            x=own[:, 0],
            y=own[:, 1],
            pen=pg.mkPen(theme.text, width=1),
            brush=[pg.mkBrush(theme.lit if h else theme.panel) for h in held],
        )


def _distance(path: np.ndarray) -> float:
    """Pixels from the origin to a path (n, 2); of a single place to it."""
    if len(path) == 1:
        return float(np.hypot(*path[0]))
    a, b = path[:-1], path[1:]
    run = b - a
    t = np.clip(-(a * run).sum(axis=1) / np.maximum((run**2).sum(axis=1), 1e-12), 0.0, 1.0)
    return float(np.hypot(*(a + t[:, None] * run).T).min())

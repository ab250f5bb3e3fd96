"""Drawing on the map with the mouse: sketches that snap, corners that are dragged, lines that split."""

from __future__ import annotations

import weakref
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QPushButton, QWidget

from ....core.compute.geometry.sketching import Snap, boxes_of, followed, snap
from ....core.errors import LampError
from ....core.items import feature_keys
from ....core.items.attributes import are_contours
from ....core.items.features import POINT, Features, part_vertices
from ....core.items.signs import LINE_SIGNS
from ...context.context import Context, Selection
from ..base.plot import MetrePlot

MODES = ("polygon", "line", "point", "split", "corners")
_SNAP_PIXELS = 9.0  # pixels within which a click snaps


@dataclass
class Sketch:
    """What has been clicked so far: each step adds one or more corners, so that one step back undoes one click."""

    steps: list[list[Snap]] = field(default_factory=list)
    undone: list[list[Snap]] = field(default_factory=list)

    @property
    def corners(self) -> list[Snap]:
        return [corner for step in self.steps for corner in step]


class Draggable(Protocol):
    """What is told when a corner is dragged."""

    def drag(self, start: tuple[float, float], to: tuple[float, float], done: bool) -> None:
        """Show a corner on its way; on the last call put it there."""


class Corners(pg.ScatterPlotItem):  # type: ignore[misc]  # the library has no types
    """Corners of boundaries that can be dragged."""

    def __init__(self, tool: Draggable) -> None:
        super().__init__(size=8, symbol="s", pxMode=True)
        self.tool = weakref.proxy(tool)  # the scene outlives the pane for a while
        self.held: tuple[float, float] | None = None
        self.setZValue(45)

    def mouseDragEvent(self, event: Any) -> None:  # noqa: N802 - pyqtgraph's name
        if event.button() != Qt.MouseButton.LeftButton:
            event.ignore()
            return
        if event.isStart():
            hit = self.pointsAt(event.buttonDownPos())
            self.held = (hit[0].pos().x(), hit[0].pos().y()) if len(hit) else None
        if self.held is None:
            event.ignore()
            return
        event.accept()
        at = event.pos()
        self.tool.drag(self.held, (at.x(), at.y()), bool(event.isFinish()))
        if event.isFinish():
            self.held = None


class DrawTool(QWidget):
    """The row of drawing controls over a map, and what they do there."""

    def __init__(
        self,
        ctx: Context,
        plot: MetrePlot,
        feature_at: Callable[[str, float, float], int | None],
        leave: Callable[[], None],
    ) -> None:
        super().__init__()
        self.ctx, self.plot, self.feature_at, self._leave = ctx, plot, feature_at, leave
        self.sketch = Sketch()
        self.current: tuple[float, float] | None = None
        self._paths: tuple[object, list[np.ndarray], np.ndarray] = (None, [], np.empty((0, 4)))
        grid = QGridLayout(self)
        grid.setContentsMargins(6, 2, 6, 4)
        grid.setSpacing(4)
        self.map = QComboBox()
        self.map.setObjectName("drawMap")
        self.map.setToolTip("The map that is drawn on")
        self.map.setMinimumContentsLength(10)
        self.mode = QComboBox()
        self.mode.setObjectName("drawMode")
        self.mode.addItems(list(MODES))
        self.mode.setToolTip(
            "polygon, line, point: click corners, double-click or Enter ends. split: draw a line across. corners: drag them, double-click an edge for a new one, Delete removes one"
        )
        self.value = QComboBox()
        self.value.setObjectName("drawValue")
        self.value.setEditable(True)
        self.value.setMinimumContentsLength(8)
        self.value.setToolTip("Unit of a polygon, kind of a line; type a new one or choose")
        self.over = QComboBox()
        self.over.setObjectName("drawOver")
        self.over.addItems(["cut others", "fill gaps", "lie over"])
        self.over.setToolTip("What a new polygon does where others are already")
        self.follow = QCheckBox("follow edges")
        self.follow.setChecked(True)
        self.follow.setToolTip("Between two clicks on one boundary the sketch runs along it, so that both share it")
        self.buttons = {name: QPushButton(name) for name in ("Step back", "Finish", "Set", "Join", "Remove")}
        for name, tip in (
            ("Step back", "Take the last click back (Ctrl+Z)"),
            ("Finish", "End the sketch (Enter)"),
            ("Set", "Give the selected features this unit or kind"),
            ("Join", "Make the selected features one"),
            ("Remove", "Remove the selected features"),
        ):
            self.buttons[name].setToolTip(tip)
        grid.addWidget(self.map, 0, 0, 1, 2)
        grid.addWidget(self.mode, 0, 2)
        grid.addWidget(self.value, 0, 3, 1, 2)
        grid.addWidget(self.over, 1, 0, 1, 2)
        grid.addWidget(self.follow, 1, 2)
        for column, name in ((3, "Step back"), (4, "Finish")):
            grid.addWidget(self.buttons[name], 1, column)
        for column, name in ((0, "Set"), (2, "Join"), (3, "Remove")):
            grid.addWidget(self.buttons[name], 2, column, 1, 2 if column == 0 else 1)
        self.buttons["Step back"].clicked.connect(self.step_back)
        self.buttons["Finish"].clicked.connect(self.finish)
        self.buttons["Set"].clicked.connect(self.set_value)
        self.buttons["Join"].clicked.connect(lambda: self._run("join-features", {"meant": self._meant()}))
        self.buttons["Remove"].clicked.connect(
            lambda: self._run("edit-features", {"action": "remove", "meant": self._meant()})
        )
        self.mode.activated.connect(lambda _: self._mode_changed())
        self.map.activated.connect(lambda _: self._map_changed())
        lit = self.ctx.theme.lit
        self.line = pg.PlotCurveItem(pen=pg.mkPen(lit, width=2))
        self.dots = pg.ScatterPlotItem(
            size=7, symbol="s", pen=pg.mkPen(lit, width=1.5), brush=pg.mkBrush(self.ctx.theme.panel)
        )
        self.target = pg.ScatterPlotItem(size=15, symbol="o", pen=pg.mkPen(lit, width=2), brush=None)
        self.corners = Corners(self)
        for z, each in ((44, self.line), (45, self.dots), (46, self.target), (45, self.corners)):
            each.setZValue(z)
            plot.addItem(each, ignoreBounds=True)
        self.hide()

    # ---- state

    def open(self, on: bool) -> None:
        """Begin or end drawing."""
        self.setVisible(on)
        self.sketch = Sketch()
        if on:
            self.fill()
            self._mode_changed()
            self.ctx.say("Draw: click on the map. Double-click or Enter ends, Ctrl+Z takes a click back, Esc leaves.")
            self.plot.setFocus()
        else:
            self._show()
            self.corners.setData([], [])

    def fill(self, added: tuple[str, ...] = ()) -> None:
        """Offer the maps of the project and the values of the chosen one; one that was begun here is chosen."""
        before = self.map.currentData()
        fresh = [e.id for e in self.ctx.entries() if e.id in added and e.kind == "features"]
        if before == "" and fresh:
            before = fresh[0]
        self.map.clear()
        self.map.addItem("a new map", "")
        for entry in self.ctx.entries():
            if entry.kind == "features" and not entry.dated and not are_contours(entry.attributes):
                self.map.addItem(entry.name, entry.id)
        wanted = self.ctx.selected if before is None else before
        at = self.map.findData(wanted)
        self.map.setCurrentIndex(at if at >= 0 else min(1, self.map.count() - 1))
        self._map_changed()

    def _map_changed(self) -> None:
        item = self.item()
        words: list[str] = []
        column = self.column()
        if item is not None and column in item.table.columns:
            words = [w for w in dict.fromkeys(item.table[column].astype(str)) if w not in ("", "nan", "None")]
        if self.mode.currentText() == "line":
            words = [*LINE_SIGNS, *(w for w in words if w not in LINE_SIGNS)]
        text = self.value.currentText()
        self.value.clear()
        self.value.addItems(words)
        self.value.setCurrentText(text if text else words[0] if words else "")
        if self.map.currentData():
            self.ctx.select_item(str(self.map.currentData()))
            self.ctx.set_lit(str(self.map.currentData()))
        self._show_corners()

    def _mode_changed(self) -> None:
        mode = self.mode.currentText()
        editing = mode == "corners"
        for name in ("Step back", "Finish"):
            self.buttons[name].setVisible(not editing)
        for name in ("Set", "Join", "Remove"):
            self.buttons[name].setVisible(editing)
        self.over.setVisible(mode == "polygon")
        self.follow.setVisible(mode in ("polygon", "line"))
        self.sketch = Sketch()
        self._map_changed()
        self._show()

    def item(self) -> Features | None:
        """The map that is drawn on, once it is read."""
        found = self.ctx.item(str(self.map.currentData())) if self.map.currentData() else None
        return found if isinstance(found, Features) else None

    def column(self) -> str:
        """The column that tells a feature's unit; for lines its kind, where there is one."""
        item = self.item()
        texts = [] if item is None else [str(c) for c in item.table.columns if item.table[c].dtype.kind not in "fiub"]
        if self.mode.currentText() == "line" and "kind" in texts:
            return "kind"
        return "unit" if "unit" in texts or not texts else texts[0]

    def _rows(self) -> tuple[int, ...]:
        chosen = self.ctx.selection
        return chosen.rows if chosen.item == self.map.currentData() else ()

    def _meant(self) -> list[str]:
        """Keys of the selected features: they mean the same when an edit that is under way has moved the rows."""
        item = self.item()
        return [] if item is None else feature_keys.texts(item, self._rows())

    def on_items(self, added: tuple[str, ...] = ()) -> None:
        """The project has changed: offer its maps anew and show where corners are now."""
        self._paths = (None, [], np.empty((0, 4)))
        if self.isVisible():
            self.fill(added)

    # ---- snapping

    def paths(self) -> list[np.ndarray]:
        """All lines and rings that are lit, for snapping."""
        shown = [e for e in self.ctx.lit_entries() if e.kind == "features"]
        key = tuple((e.id, e.version, self.ctx.item(e.id) is None) for e in shown)
        if key != self._paths[0]:
            found = []
            for entry in shown:
                item = self.ctx.item(entry.id)
                if isinstance(item, Features) and not are_contours(item.attributes):
                    found += [part_vertices(item, k)[:, :2] for k in range(len(item.part_types))]
            self._paths = (key, found, boxes_of(found))
        return self._paths[1]

    def snapped(self, x: float, y: float) -> Snap:
        """Where a place of the mouse snaps to."""
        within = _SNAP_PIXELS * self.plot.metres_per_pixel()[0]
        corners = self.sketch.corners
        if corners and np.hypot(corners[0].x - x, corners[0].y - y) <= within:
            return corners[0]
        paths = self.paths()
        return snap(x, y, paths, within, self._paths[2])

    # ---- mouse

    def moved(self, x: float, y: float) -> None:
        """Show where a click would go to."""
        if not self.isVisible() or self.mode.currentText() == "corners":
            return
        there = self.snapped(x, y)
        self.target.setData([there.x], [there.y]) if there.on else self.target.setData([], [])
        self._show(there)

    def clicked(self, x: float, y: float, double: bool, more: bool) -> None:
        """Take a click on the map."""
        mode = self.mode.currentText()
        if mode == "corners":
            self._click_corner(x, y, double, more)
            return
        if double:
            self.finish()
            return
        there = self.snapped(x, y)
        corners = self.sketch.corners
        if mode == "polygon" and len(corners) > 2 and there is corners[0]:
            self.finish()
            return
        step = [there]
        last = corners[-1] if corners else None
        if (
            self.follow.isChecked()
            and last is not None
            and last.on
            and there.on
            and last.path == there.path
            and mode in ("polygon", "line")
        ):
            between = followed(self.paths()[there.path], last.position, there.position)
            step = [Snap(float(a), float(b), "corner", there.path) for a, b in between] + step
        self.sketch.steps.append(step)
        self.sketch.undone.clear()
        self._show()
        if mode == "point":
            self.finish()

    def _click_corner(self, x: float, y: float, double: bool, more: bool) -> None:
        within = _SNAP_PIXELS * self.plot.metres_per_pixel()[0]
        found = snap(x, y, self._own_paths(), within)
        if double and found.on == "edge":
            self._run("edit-corner", {"action": "add", "x": found.x, "y": found.y})
            return
        self.current = (found.x, found.y) if found.on == "corner" else None
        if found.on != "corner":
            row = self.feature_at(str(self.map.currentData()), x, y)
            rows = self._rows()
            chosen: tuple[int, ...] = () if row is None else (row,)
            if more and row is not None:
                chosen = tuple(r for r in rows if r != row) if row in rows else (*rows, row)
            self.ctx.select_rows(Selection(str(self.map.currentData()), "", chosen))
        self._show_corners()

    def drag(self, start: tuple[float, float], to: tuple[float, float], done: bool) -> None:
        """Show a corner on its way; on the last call put it there."""
        others = [p[np.hypot(*(p - start).T) > 1e-3] for p in self.paths()]
        within = _SNAP_PIXELS * self.plot.metres_per_pixel()[0]
        there = snap(*to, [p for p in others if len(p)], within)
        there = there if there.on == "corner" else Snap(to[0], to[1], "")
        near = [self._beside(p, start) for p in self._own_paths()]
        pieces = [np.array([a, (there.x, there.y)]) for group in near for a in group]
        xy = np.concatenate(pieces) if pieces else np.empty((0, 2))
        self.line.setData(xy[:, 0], xy[:, 1], connect="pairs")
        self.target.setData([there.x], [there.y])
        if done:
            self.line.setData([], [])
            self.target.setData([], [])
            self._run("edit-corner", {"action": "move", "x": start[0], "y": start[1], "to_x": there.x, "to_y": there.y})

    @staticmethod
    def _beside(path: np.ndarray, corner: tuple[float, float]) -> list[np.ndarray]:
        at = np.flatnonzero(np.hypot(*(path - corner).T) <= 1e-3)
        n = len(path)
        return [path[k + step] for k in at for step in (-1, 1) if 0 <= k + step < n]

    # ---- keys

    def key(self, event: QEvent) -> bool:
        """Take a key; returns whether it was one of ours."""
        if not self.isVisible() or not isinstance(event, QKeyEvent):
            return False
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        press = event.type() == QEvent.Type.KeyPress
        acts: dict[Qt.Key, Any] = {}
        if self.sketch.steps or (self.sketch.undone and shift):
            acts[Qt.Key.Key_Backspace] = self.step_back
            if control:
                acts[Qt.Key.Key_Z] = self.step_again if shift else self.step_back
            acts[Qt.Key.Key_Return] = acts[Qt.Key.Key_Enter] = self.finish
        if self.current is not None:
            acts[Qt.Key.Key_Delete] = self.remove_corner
        acts[Qt.Key.Key_Escape] = self.leave
        act = acts.get(Qt.Key(event.key()))
        if act is None:
            return False
        event.accept()
        if press:
            act()
        return True

    def step_back(self) -> None:
        """Take the last click back."""
        if self.sketch.steps:
            self.sketch.undone.append(self.sketch.steps.pop())
            self._show()

    def step_again(self) -> None:
        """Do the click again that was taken back."""
        if self.sketch.undone:
            self.sketch.steps.append(self.sketch.undone.pop())
            self._show()

    def leave(self) -> None:
        """Drop the sketch; without one end drawing."""
        if self.sketch.steps:
            self.sketch = Sketch()
            self._show()
        else:
            self._leave()

    # ---- doing it

    def finish(self) -> None:
        """Make the sketch a feature, or split by it."""
        mode = self.mode.currentText()
        points = [(c.x, c.y) for c in self.sketch.corners]
        points = [p for k, p in enumerate(points) if k == 0 or p != points[k - 1]]
        if not points:
            return
        if mode == "split":
            done = self._run("split-features", {"points": points, "meant": self._meant()})
        else:
            values = {
                "shape": mode,
                "points": points,
                "value": self.value.currentText().strip(),
                "column": self.column(),
                "over": self.over.currentText(),
            }
            done = self._run("draw-feature", values)
        if done:
            self.sketch = Sketch()
        self._show()

    def set_value(self) -> None:
        """Give the selected features the unit or kind of the box."""
        self._run(
            "edit-features",
            {"meant": self._meant(), "column": self.column(), "value": self.value.currentText().strip()},
        )

    def remove_corner(self) -> None:
        """Remove the corner that was clicked last."""
        if self.current is not None:
            self._run("edit-corner", {"action": "remove", "x": self.current[0], "y": self.current[1]})
            self.current = None

    def _run(self, operation: str, values: dict[str, Any]) -> bool:
        chosen = str(self.map.currentData() or "")
        try:
            self.ctx.start(operation, values, {"features": chosen} if chosen else {})
        except LampError as error:
            self.ctx.say(str(error), "bad")
            return False
        return True

    # ---- showing

    def _own_paths(self) -> list[np.ndarray]:
        item = self.item()
        if item is None:
            return []
        rows = self._rows()
        return [
            part_vertices(item, k)[:, :2] for k in range(len(item.part_types)) if not rows or int(item.owner[k]) in rows
        ]

    def _show(self, ahead: Snap | None = None) -> None:
        corners = self.sketch.corners
        xy = np.array([(c.x, c.y) for c in corners]).reshape(-1, 2)
        self.dots.setData(xy[:, 0], xy[:, 1])
        if ahead is not None and len(xy):
            xy = np.vstack([xy, (ahead.x, ahead.y)])
            if self.mode.currentText() == "polygon" and len(xy) > 2:
                xy = np.vstack([xy, xy[0]])
        self.line.setData(xy[:, 0], xy[:, 1], connect="all")
        if ahead is None:
            self.target.setData([], [])

    def _show_corners(self) -> None:
        if not self.isVisible() or self.mode.currentText() != "corners":
            self.corners.setData([], [])
            return
        item = self.item()
        paths = self._own_paths() if item is not None and (self._rows() or len(item.vertices) < 4000) else []
        xy = np.unique(np.concatenate(paths), axis=0) if paths else np.empty((0, 2))
        theme = self.ctx.theme
        now = np.zeros(len(xy), dtype=bool)
        if self.current is not None and len(xy):
            now = np.hypot(*(xy - self.current).T) <= 1e-3
        self.corners.setData(
            x=xy[:, 0],
            y=xy[:, 1],
            pen=pg.mkPen(theme.text, width=1),
            brush=[pg.mkBrush(theme.lit if k else theme.panel) for k in now],
        )

    def selection_changed(self) -> None:
        """Show the corners of what is selected."""
        self._show_corners()


def feature_paths(item: Features, rows: tuple[int, ...]) -> list[np.ndarray]:
    """Return the boundaries of some features, for marking them; a point is a path of one place."""
    return [
        part_vertices(item, k)[:, :2]
        for k in range(len(item.part_types))
        if int(item.owner[k]) in rows and item.part_types[k] != POINT
    ]

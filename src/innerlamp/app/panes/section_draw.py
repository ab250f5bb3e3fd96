"""Drawing on the section: lines, outlines and notes that live in space, and snap to intervals and to each other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from ...core.errors import LampError
from ...core.items.attributes import are_contours
from ...core.items.base import class_columns
from ...core.items.features import Features, in_space, part_vertices
from ...core.items.holes import HoleSet, table_with
from ..context import Context, Selection
from ..painters.views import SectionView
from .draw_tool import Corners
from .plot import MetrePlot

MODES = ("line", "outline", "note", "corners")
_SNAP_PIXELS = 10.0
_NONE = np.empty((0, 3))


@dataclass(frozen=True)
class Place:
    """A place of a sketch: on the section, and in space."""

    along: float
    z: float
    xyz: tuple[float, float, float]
    snapped: bool = False


class SectionDraw(QWidget):
    """The row of drawing controls over a section, and what they do there."""

    def __init__(
        self, ctx: Context, plot: MetrePlot, view: Callable[[], SectionView | None], leave: Callable[[], None]
    ) -> None:
        super().__init__()
        self.ctx, self.plot, self._view, self._leave = ctx, plot, view, leave
        self.sketch: list[Place] = []
        self._held: tuple[float, float, float] | None = None  # the corner that was clicked last
        self._known: tuple[object, np.ndarray, np.ndarray] = (None, _NONE, np.empty((0, 2)))
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 6, 4)
        row.setSpacing(4)
        self.drawing = _box("sectionDrawing", "The drawing that is added to", 8)
        self.mode = _box(
            "sectionDrawMode",
            "line, outline: click places, double-click or Enter ends. note: click where it stands. corners: drag them, Delete removes one",
            6,
        )
        self.mode.addItems(list(MODES))
        self.value = _box("sectionDrawValue", "Unit or vein that is drawn; type a new one or choose", 8)
        self.value.setEditable(True)
        self.words = QLineEdit()
        self.words.setObjectName("sectionDrawWords")
        self.words.setPlaceholderText("Words of the note")
        self.words.setToolTip("What the note says; then click where it stands")
        self.buttons = {name: QPushButton(name) for name in ("Step back", "Finish", "Set", "Remove")}
        for name, tip in (
            ("Step back", "Take the last click back (Ctrl+Z)"),
            ("Finish", "End the sketch (Enter)"),
            ("Set", "Give the selected drawings this unit"),
            ("Remove", "Remove the selected drawings"),
        ):
            self.buttons[name].setToolTip(tip)
        for each in (self.drawing, self.mode, self.value, self.words, *self.buttons.values()):
            row.addWidget(each)
        row.addStretch(1)
        self.buttons["Step back"].clicked.connect(self.step_back)
        self.buttons["Finish"].clicked.connect(self.finish)
        self.buttons["Set"].clicked.connect(self.set_value)
        self.buttons["Remove"].clicked.connect(self.remove)
        self.mode.textActivated.connect(lambda _: self._mode_changed())
        self.drawing.textActivated.connect(lambda _: self._drawing_changed())
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
        self.hide()

    # ---- state

    def open(self, on: bool) -> None:
        """Begin or end drawing."""
        self.setVisible(on)
        self.sketch = []
        self._held = None
        if on:
            self.fill()
            self._mode_changed()
            self.ctx.say(
                "Draw: click on the section. Double-click or Enter ends, Ctrl+Z takes a click back, Esc leaves."
            )
            self.plot.setFocus()
        self.show_sketch()

    def fill(self, added: tuple[str, ...] = ()) -> None:
        """Offer the drawings of the project; one that was begun here is chosen."""
        before = self.drawing.currentData()
        fresh = [e.id for e in self.ctx.entries() if e.id in added and e.kind == "features"]
        wanted = fresh[0] if before == "" and fresh else before
        self.drawing.clear()
        self.drawing.addItem("a new drawing", "")
        for entry in self.ctx.entries():
            item = self.ctx.item(entry.id) if entry.kind == "features" and not entry.dated else None
            if isinstance(item, Features) and not are_contours(entry.attributes) and in_space(item).any():
                self.drawing.addItem(entry.name, entry.id)
        at = self.drawing.findData(self.ctx.selected if wanted is None else wanted)
        self.drawing.setCurrentIndex(max(at, 0))
        self._drawing_changed()

    def item(self) -> Features | None:
        """The drawing that is added to, once it is read."""
        found = self.ctx.item(str(self.drawing.currentData())) if self.drawing.currentData() else None
        return found if isinstance(found, Features) else None

    def column(self) -> str:
        """The column that tells what a drawing is of."""
        item = self.item()
        texts = class_columns(item.table) if item is not None else []
        return "body" if "body" in texts or not texts else next((t for t in texts if t != "note"), "body")

    def _drawing_changed(self) -> None:
        item, column = self.item(), self.column()
        words = [str(w) for w in item.table[column]] if item is not None and column in item.table.columns else []
        for entry in self.ctx.lit_entries():  # units of the logs that are seen
            holes = self.ctx.item(entry.id)
            attribute = self.ctx.attribute_of(entry)
            hit = table_with(holes, attribute) if isinstance(holes, HoleSet) else None
            if hit is not None and hit[1][attribute].dtype.kind not in "fiu":
                words += [str(w) for w in hit[1][attribute].unique()]
        text = self.value.currentText()
        self.value.clear()
        self.value.addItems([w for w in dict.fromkeys(words) if w not in ("", "nan", "None")])
        self.value.setCurrentText(text or self.value.itemText(0))
        if self.drawing.currentData():
            self.ctx.select_item(str(self.drawing.currentData()))
            self.ctx.set_lit(str(self.drawing.currentData()))
        self.show_sketch()

    def _mode_changed(self) -> None:
        mode = self.mode.currentText()
        self.words.setVisible(mode == "note")
        self.value.setVisible(mode != "note")
        for name in ("Step back", "Finish"):
            self.buttons[name].setVisible(mode in ("line", "outline"))
        for name in ("Set", "Remove"):
            self.buttons[name].setVisible(mode == "corners")
        self.sketch = []
        self.show_sketch()

    def on_items(self, added: tuple[str, ...] = ()) -> None:
        """The project has changed."""
        self._known = (None, _NONE, np.empty((0, 2)))
        if self.isVisible():
            self.fill(added)

    # ---- snapping

    def known(self) -> tuple[np.ndarray, np.ndarray]:
        """Places to snap to in the corridor: in space (n, 3), and on the section (n, 2)."""
        view = self._view()
        if view is None:
            return _NONE, np.empty((0, 2))
        lit = self.ctx.lit_entries()
        key = (view, tuple((e.id, e.version, self.ctx.attribute_of(e), self.ctx.item(e.id) is None) for e in lit))
        if key != self._known[0]:
            found = [_NONE]
            for entry in lit:
                item = self.ctx.item(entry.id)
                if isinstance(item, HoleSet):
                    hit = table_with(item, self.ctx.attribute_of(entry))
                    if hit is not None:
                        found += [hit[1][[f"{c}{k}" for c in "xyz"]].to_numpy(float) for k in (0, 1)]
                elif isinstance(item, Features):
                    found += [part_vertices(item, int(k)) for k in np.flatnonzero(in_space(item))]
            xyz = np.concatenate(found)
            along, _, inside = view.near(xyz[:, 0], xyz[:, 1])
            inside &= np.isfinite(xyz[:, 2])
            self._known = (key, xyz[inside], np.column_stack([along[inside], xyz[inside, 2]]))
        return self._known[1], self._known[2]

    def place(self, along: float, z: float) -> Place:
        """Where a click goes: to an interval's end or a corner that is near, else on the section."""
        dx, dy = self.plot.metres_per_pixel()
        xyz, at = self.known()
        at = np.concatenate([at, np.array([(p.along, p.z) for p in self.sketch]).reshape(-1, 2)])
        xyz = np.concatenate([xyz, np.array([p.xyz for p in self.sketch]).reshape(-1, 3)])
        if len(at):
            away = np.hypot((at[:, 0] - along) / dx, (at[:, 1] - z) / dy)
            best = int(np.argmin(away))
            if away[best] <= _SNAP_PIXELS:
                x, y, height = xyz[best].tolist()
                return Place(float(at[best, 0]), float(at[best, 1]), (x, y, height), True)
        view = self._view()
        assert view is not None
        x, y = view.plane.to_map(np.array([along]))
        return Place(along, z, (float(x[0]), float(y[0]), z))

    # ---- mouse

    def moved(self, along: float, z: float) -> None:
        """Show where a click would go to."""
        if self.isVisible() and self.mode.currentText() != "corners" and self._view() is not None:
            self.show_sketch(self.place(along, z))

    def clicked(self, along: float, z: float, double: bool) -> None:
        """Take a click on the section."""
        mode = self.mode.currentText()
        if self._view() is None:
            return
        if mode == "corners":
            self._click_corner(along, z)
        elif double:
            self.finish()
        else:
            there = self.place(along, z)
            closes = mode == "outline" and len(self.sketch) > 2 and there.xyz == self.sketch[0].xyz
            if not closes and (not self.sketch or there.xyz != self.sketch[-1].xyz):
                self.sketch.append(there)
            self.show_sketch()
            if closes or mode == "note":
                self.finish()

    def _own(self) -> tuple[np.ndarray, np.ndarray]:
        """Corners of the drawing in the corridor: in space (n, 3), and on the section (n, 2)."""
        item, view = self.item(), self._view()
        if item is None or view is None:
            return _NONE, np.empty((0, 2))
        parts = [part_vertices(item, int(k)) for k in np.flatnonzero(in_space(item))]
        xyz = np.unique(np.concatenate([_NONE, *parts]), axis=0)
        along, _, inside = view.near(xyz[:, 0], xyz[:, 1])
        return xyz[inside], np.column_stack([along[inside], xyz[inside, 2]])

    def _click_corner(self, along: float, z: float) -> None:
        xyz, at = self._own()
        dx, dy = self.plot.metres_per_pixel()
        away = np.hypot((at[:, 0] - along) / dx, (at[:, 1] - z) / dy)
        self._held = None
        if len(away) and away.min() <= _SNAP_PIXELS:
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
        if np.hypot(there.along - start[0], there.z - start[1]) < 1e-6:  # it would snap to itself
            view = self._view()
            assert view is not None
            x, y = view.plane.to_map(np.array([to[0]]))
            there = Place(*to, (float(x[0]), float(y[0]), to[1]))
        self.line.setData([start[0], there.along], [start[1], there.z])
        self.target.setData([there.along], [there.z])
        if done and len(at):
            here = xyz[int(np.argmin(np.hypot(*(at - start).T)))]
            values = dict(zip(("x", "y", "z", "to_x", "to_y", "to_z"), (*here.tolist(), *there.xyz), strict=True))
            self._run("move-in-space", {"action": "move", **values})
            self.line.setData([], [])
            self.target.setData([], [])

    # ---- keys

    def key(self, event: QEvent) -> bool:
        """Take a key; returns whether it was one of ours."""
        if not self.isVisible() or not isinstance(event, QKeyEvent):
            return False
        acts: dict[Qt.Key, Callable[[], None]] = {Qt.Key.Key_Escape: self.leave}
        if self.sketch:
            acts[Qt.Key.Key_Backspace] = self.step_back
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                acts[Qt.Key.Key_Z] = self.step_back
            acts[Qt.Key.Key_Return] = acts[Qt.Key.Key_Enter] = self.finish
        if self._held is not None:
            acts[Qt.Key.Key_Delete] = self.remove_corner
        act = acts.get(Qt.Key(event.key()))
        if act is None:
            return False
        event.accept()
        if event.type() == QEvent.Type.KeyPress:
            act()
        return True

    def step_back(self) -> None:
        """Take the last click back."""
        if self.sketch:
            self.sketch.pop()
            self.show_sketch()

    def leave(self) -> None:
        """Drop the sketch; without one end drawing."""
        if self.sketch:
            self.sketch = []
            self.show_sketch()
        else:
            self._leave()

    # ---- doing it

    def finish(self) -> None:
        """Make the sketch a drawing in space."""
        if not self.sketch:
            return
        values = {
            "shape": self.mode.currentText(),
            "points": [p.xyz for p in self.sketch],
            "value": "" if self.mode.currentText() == "note" else self.value.currentText().strip(),
            "column": self.column(),
            "words": self.words.text().strip(),
        }
        if self._run("draw-in-space", values) or self.mode.currentText() == "note":
            self.sketch = []
        self.show_sketch()

    def _rows(self) -> list[int]:
        chosen = self.ctx.selection
        return list(chosen.rows) if chosen.item == self.drawing.currentData() else []

    def set_value(self) -> None:
        """Give the selected drawings the unit of the box."""
        self._run(
            "edit-features", {"rows": self._rows(), "column": self.column(), "value": self.value.currentText().strip()}
        )

    def remove(self) -> None:
        """Take the selected drawings out."""
        self._run("edit-features", {"action": "remove", "rows": self._rows()})

    def remove_corner(self) -> None:
        """Remove the corner that was clicked last."""
        if self._held is not None:
            self._run("move-in-space", {"action": "remove", **dict(zip("xyz", self._held, strict=True))})
            self._held = None

    def _run(self, operation: str, values: dict[str, Any]) -> bool:
        chosen = str(self.drawing.currentData() or "")
        try:
            self.ctx.start(operation, values, {"features": chosen} if chosen else {})
        except LampError as error:
            self.ctx.say(str(error), "bad")
            return False
        return True

    def show_sketch(self, ahead: Place | None = None) -> None:
        """Draw what was clicked, where the next click would go, and the corners that can be dragged."""
        at = np.array([(p.along, p.z) for p in self.sketch]).reshape(-1, 2)
        self.dots.setData(at[:, 0], at[:, 1])
        if ahead is not None and len(at):
            at = np.vstack([at, (ahead.along, ahead.z)])
            if self.mode.currentText() == "outline" and len(at) > 2:
                at = np.vstack([at, at[0]])
        self.line.setData(at[:, 0], at[:, 1])
        snapped = ahead is not None and ahead.snapped
        self.target.setData([ahead.along], [ahead.z]) if snapped and ahead is not None else self.target.setData([], [])
        editing = self.isVisible() and self.mode.currentText() == "corners"
        xyz, own = self._own() if editing else (_NONE, np.empty((0, 2)))
        held = np.array([self._held is not None and tuple(p) == self._held for p in xyz.tolist()], dtype=bool)
        theme = self.ctx.theme
        self.corners.setData(
            x=own[:, 0],
            y=own[:, 1],
            pen=pg.mkPen(theme.text, width=1),
            brush=[pg.mkBrush(theme.lit if h else theme.panel) for h in held],
        )


def _box(name: str, tip: str, length: int) -> QComboBox:
    box = QComboBox()
    box.setObjectName(name)
    box.setToolTip(tip)
    box.setMinimumContentsLength(length)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    return box


def _distance(path: np.ndarray) -> float:
    """Pixels from the origin to a path (n, 2); of a single place to it."""
    if len(path) == 1:
        return float(np.hypot(*path[0]))
    a, b = path[:-1], path[1:]
    run = b - a
    t = np.clip(-(a * run).sum(axis=1) / np.maximum((run**2).sum(axis=1), 1e-12), 0.0, 1.0)
    return float(np.hypot(*(a + t[:, None] * run).T).min())

"""Drawing in space by mouse: the row of controls, the sketch, its keys, and what becomes of it; section and 3D share it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from ....core.errors import LampError
from ....core.items.attributes import are_contours
from ....core.items.base import class_columns
from ....core.items.features import NOTE, Features, in_space, part_vertices
from ....core.items.holes import HoleSet, table_with
from ...context.context import Context

SNAP_PIXELS = 10.0
SHAPES = ("line", "outline", "note")
NO_PLACES = np.empty((0, 3))
_TIPS = {
    "Step back": "Take the last click back (Ctrl+Z)",
    "Finish": "End the sketch (Enter)",
}


@dataclass(frozen=True)
class Place:
    """A place of a sketch: where it lies on the drawing (metres of a section, pixels of a scene), and in space."""

    at: tuple[float, float]
    xyz: tuple[float, float, float]
    snapped: bool = False


class SpaceDraw(QWidget):
    """The controls, and what was clicked. A pane says where a click goes to, and shows the sketch."""

    def __init__(self, ctx: Context, name: str, modes: tuple[str, ...], tip: str, leave: Callable[[], None]) -> None:
        super().__init__()
        self.ctx, self._leave = ctx, leave
        self.sketch: list[Place] = []
        self._begun = False  # whether a new drawing is on its way: it is chosen when it comes
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(6, 2, 6, 4)
        self._row.setSpacing(4)
        self.drawing = draw_box(f"{name}Drawing", "The drawing that is added to", 8)
        self.mode = draw_box(f"{name}DrawMode", tip, 6)
        self.mode.addItems(list(modes))
        self.value = draw_box(f"{name}DrawValue", "Unit or vein that is drawn; type a new one or choose", 8)
        self.value.setEditable(True)
        self.words = QLineEdit()
        self.words.setObjectName(f"{name}DrawWords")
        self.words.setPlaceholderText("Words of the note")
        self.words.setToolTip("What the note says; then click where it stands")
        self.buttons = {name: QPushButton(name) for name in _TIPS}
        for each, tip_ in _TIPS.items():
            self.buttons[each].setToolTip(tip_)
        for widget in (self.drawing, self.mode, self.value, self.words, *self.buttons.values()):
            self._row.addWidget(widget)
        self.buttons["Step back"].clicked.connect(self.step_back)
        self.buttons["Finish"].clicked.connect(self.finish)
        self.mode.textActivated.connect(lambda _: self.mode_changed())
        self.drawing.textActivated.connect(lambda _: self._drawing_changed())
        self.hide()

    # ---- for panes to say

    def show_sketch(self, ahead: Place | None = None) -> None:
        """Draw what was clicked, and where the next click would go."""

    def begin(self) -> None:
        """Drawing has begun."""

    # ---- state

    def open(self, on: bool) -> None:
        """Begin or end drawing."""
        self.setVisible(on)
        self.sketch = []
        if on:
            self.fill()
            self.mode_changed()
            self.begin()
        self.show_sketch()

    def fill(self, added: tuple[str, ...] = ()) -> None:
        """Offer the drawings of the project; one that was begun here is chosen."""
        before = self.drawing.currentData()
        fresh = [e.id for e in self.ctx.entries() if e.id in added and e.kind == "features"]
        wanted = fresh[0] if self._begun and fresh else before
        self.drawing.clear()
        self.drawing.addItem("a new drawing", "")
        for entry in self.ctx.entries():
            item = self.ctx.item(entry.id) if entry.kind == "features" and not entry.dated else None
            if isinstance(item, Features) and not are_contours(entry.attributes) and in_space(item).any():
                self.drawing.addItem(entry.name, entry.id)
        at = self.drawing.findData(self.ctx.selected if wanted is None else wanted)
        self._begun = self._begun and (not fresh or at < 0)
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
        return "body" if "body" in texts or not texts else next((t for t in texts if t != NOTE), "body")

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

    def mode_changed(self) -> None:
        """Another shape is drawn: its controls, and a new sketch."""
        mode = self.mode.currentText()
        self.words.setVisible(mode == "note")
        self.value.setVisible(mode != "note")
        for name in _TIPS:
            self.buttons[name].setVisible(mode in ("line", "outline"))
        self.sketch = []
        self.show_sketch()

    def on_items(self, added: tuple[str, ...] = ()) -> None:
        """The project has changed."""
        if self.isVisible():
            self.fill(added)

    def lit_places(self) -> np.ndarray:
        """Places (n, 3) that clicks snap to: ends of the intervals that are seen, corners of drawings in space."""
        found = [NO_PLACES]
        for entry in self.ctx.lit_entries():
            item = self.ctx.item(entry.id)
            if isinstance(item, HoleSet):
                hit = table_with(item, self.ctx.attribute_of(entry))
                if hit is not None:
                    found += [hit[1][[f"{c}{k}" for c in "xyz"]].to_numpy(float) for k in (0, 1)]
            elif isinstance(item, Features):
                found += [part_vertices(item, int(k)) for k in np.flatnonzero(in_space(item))]
        xyz = np.concatenate(found)
        return xyz[np.isfinite(xyz).all(axis=1)]

    def lit_key(self) -> object:
        """What `lit_places` depends on."""
        lit = self.ctx.lit_entries()
        return tuple((e.id, e.version, self.ctx.attribute_of(e), self.ctx.item(e.id) is None) for e in lit)

    def take(self, there: Place, double: bool) -> None:
        """Take a click that goes to a place."""
        mode = self.mode.currentText()
        if double:
            self.finish()
            return
        closes = mode == "outline" and len(self.sketch) > 2 and there.xyz == self.sketch[0].xyz
        if not closes and (not self.sketch or there.xyz != self.sketch[-1].xyz):
            self.sketch.append(there)
        self.show_sketch()
        if closes or mode == "note":
            self.finish()

    # ---- keys

    def acts(self, event: QKeyEvent) -> dict[Qt.Key, Callable[[], None]]:
        """What keys do now."""
        out: dict[Qt.Key, Callable[[], None]] = {Qt.Key.Key_Escape: self.leave}
        if self.sketch:
            out[Qt.Key.Key_Backspace] = self.step_back
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                out[Qt.Key.Key_Z] = self.step_back
            out[Qt.Key.Key_Return] = out[Qt.Key.Key_Enter] = self.finish
        return out

    def key(self, event: QEvent) -> bool:
        """Take a key; returns whether it was one of ours."""
        if not self.isVisible() or not isinstance(event, QKeyEvent):
            return False
        act = self.acts(event).get(Qt.Key(event.key()))
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
        if self.run("draw-in-space", values) or self.mode.currentText() == "note":
            self.sketch = []
        self.show_sketch()

    def run(self, operation: str, values: dict[str, Any]) -> bool:
        chosen = str(self.drawing.currentData() or "")
        self._begun = not chosen
        try:
            self.ctx.start(operation, values, {"features": chosen} if chosen else {})
        except LampError as error:
            self.ctx.say(str(error), "bad")
            self._begun = False
            return False
        return True


def draw_box(name: str, tip: str, length: int) -> QComboBox:
    """Return a choice of a row of drawing controls."""
    box = QComboBox()
    box.setObjectName(name)
    box.setToolTip(tip)
    box.setMinimumContentsLength(length)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    return box

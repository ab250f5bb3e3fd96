"""The table of panes: linked panes in up to three rows, each of any kind, any of them filling the centre."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QVBoxLayout, QWidget

from ...core.signal import Signal
from ..context.context import Context
from ..panes.base.pane import Pane
from ..panes.table import PANES
from .pane_frame import Move, PaneFrame

DEFAULT = ("map", "scene", "section", "table")
MOST_ROWS, MOST_IN_ROW = 3, 3


class Centre(QWidget):
    """Panes in rows between splitters; two by two at first."""

    def __init__(self, ctx: Context, kinds: tuple[str, ...] = DEFAULT) -> None:
        super().__init__()
        self.ctx = ctx
        self.legend_moved: Signal[[bool]] = Signal()  # whether a pane shows the legend itself
        self.frames: list[PaneFrame] = []
        self.lines: list[QSplitter] = []
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.rows = QSplitter(Qt.Orientation.Vertical)
        self.rows.setHandleWidth(4)
        self.rows.setChildrenCollapsible(False)
        box.addWidget(self.rows)
        self.filled = -1
        self.current = 0
        for row in (kinds[:2], kinds[2:]):
            line = self._add_line(len(self.lines))
            for kind in row:
                self._add_frame(kind, line, line.count())
            line.setSizes([500] * line.count())
        self.rows.setSizes([500, 430])
        ctx.wish.connect(self.show_view)

    # ---- rows and frames

    def _add_line(self, at: int) -> QSplitter:
        line = QSplitter(Qt.Orientation.Horizontal)
        line.setHandleWidth(4)
        line.setChildrenCollapsible(False)
        self.lines.insert(at, line)
        self.rows.insertWidget(at, line)
        return line

    def _add_frame(self, kind: str, line: QSplitter, at: int) -> PaneFrame:
        frame = PaneFrame(self.ctx, kind, len(self.frames), self)
        line.insertWidget(at, frame)
        self.frames.append(frame)
        self._number()
        return frame

    def _in_rows(self) -> list[list[PaneFrame]]:
        out = []
        for line in self.lines:
            there = [line.widget(k) for k in range(line.count())]
            out.append([f for f in there if isinstance(f, PaneFrame)])
        return out

    def _number(self) -> None:
        """Number the frames as they are read: row by row from the left."""
        self.frames = [frame for row in self._in_rows() for frame in row]
        for number, frame in enumerate(self.frames):
            frame.renumber(number)
        self.current = min(self.current, len(self.frames) - 1)

    def _place_of(self, frame: PaneFrame) -> tuple[int, int]:
        return next((r, row.index(frame)) for r, row in enumerate(self._in_rows()) if frame in row)

    def moves(self, frame: PaneFrame) -> list[Move]:
        """What can be done with the place of a pane: words, what does it, and whether it is possible now."""
        rows = self._in_rows()
        r, c = self._place_of(frame)
        neighbours = {
            "left": rows[r][c - 1] if c > 0 else None,
            "right": rows[r][c + 1] if c + 1 < len(rows[r]) else None,
            "up": rows[r - 1][min(c, len(rows[r - 1]) - 1)] if r > 0 else None,
            "down": rows[r + 1][min(c, len(rows[r + 1]) - 1)] if r + 1 < len(rows) else None,
        }
        out: list[Move] = [
            ("Split to the right", partial(self.split, frame), len(rows[r]) < MOST_IN_ROW),
            ("Split below", partial(self.split, frame, True), len(rows) < MOST_ROWS),
        ]
        for way, other in neighbours.items():
            out.append((f"Move {way}", partial(self.swap, frame, other or frame), other is not None))
        out.append(("Close this pane", partial(self.close_frame, frame), len(self.frames) > 1))
        return out

    def split(self, frame: PaneFrame, below: bool = False) -> PaneFrame | None:
        """Put a new pane beside a pane, or in a row of its own below; it shows what no other does. None where there is no room."""
        self._unfill()
        rows = self._in_rows()
        r, c = self._place_of(frame)
        shown = [f.pane.kind for f in self.frames if f.pane is not None]
        kind = next((k for k in PANES if k not in shown), "map")
        if below:
            if len(rows) >= MOST_ROWS:
                return None
            heights = self.rows.sizes()
            made = self._add_frame(kind, self._add_line(r + 1), 0)
            half = heights[r] // 2
            self.rows.setSizes([*heights[:r], heights[r] - half, half, *heights[r + 1 :]])
            return made
        if len(rows[r]) >= MOST_IN_ROW:
            return None
        widths = self.lines[r].sizes()
        made = self._add_frame(kind, self.lines[r], c + 1)
        half = widths[c] // 2
        self.lines[r].setSizes([*widths[:c], widths[c] - half, half, *widths[c + 1 :]])
        return made

    def close_frame(self, frame: PaneFrame) -> None:
        """Take a pane away; the others take its place. The last one stays."""
        if len(self.frames) < 2:
            return
        self._unfill()
        r, _ = self._place_of(frame)
        frame.release()
        frame.hide()
        frame.setParent(None)
        frame.deleteLater()
        if not self.lines[r].count():
            line = self.lines.pop(r)
            line.hide()
            line.setParent(None)
            line.deleteLater()
        self._number()
        self.set_current(self.current)

    def swap(self, one: PaneFrame, other: PaneFrame) -> None:
        """Let two panes change places: what each shows."""
        if one.pane is None or other.pane is None:
            return
        first, second = one.pane.kind, other.pane.kind
        one.show_kind(second)
        other.show_kind(first)
        self.set_current(other.number)

    def _unfill(self) -> None:
        if self.filled != -1:
            self.toggle_fill(self.filled)

    # ---- views

    def show_view(self, kind: str, view: str) -> None:
        """Show a kind of pane with a view of it: where it is already, else in the last frame that is not in use."""
        frame = next((f for f in self.frames if f.pane is not None and f.pane.kind == kind), None)
        if frame is None:
            others = [f for f in reversed(self.frames) if f.number != self.current]
            frame = others[0] if others else self.frames[0]
            frame.show_kind(kind)
        if self.filled not in (-1, frame.number):
            self.toggle_fill(self.filled)
        if frame.pane is not None:
            frame.pane.show_view(view)

    def pane(self, kind: str) -> Pane | None:
        """The first pane of a kind."""
        return next((f.pane for f in self.frames if f.pane is not None and f.pane.kind == kind), None)

    def panes(self) -> list[Pane]:
        return [f.pane for f in self.frames if f.pane is not None]

    def set_current(self, number: int) -> None:
        self.current = number
        for frame in self.frames:
            frame.setProperty("current", frame.number == number)
            frame.style().unpolish(frame)
            frame.style().polish(frame)

    def toggle_fill(self, number: int) -> None:
        """Let one pane fill the centre, or show all again."""
        if number >= len(self.frames):
            return
        self.filled = -1 if self.filled == number else number
        for frame in self.frames:
            frame.setVisible(self.filled in (-1, frame.number))
            frame.fill.setChecked(self.filled == frame.number)
            frame.show_legend(self.filled == frame.number)
        for line, row in zip(self.lines, self._in_rows(), strict=True):
            line.setVisible(self.filled == -1 or any(f.number == self.filled for f in row))

    def tell_legend(self) -> None:
        """Say whether a pane shows the legend itself: it need not stand beside it as well."""
        self.legend_moved.emit(any(frame.legend is not None for frame in self.frames))

    def fit_all(self) -> None:
        for pane in self.panes():
            pane.fit()

    def close_all(self) -> None:
        for frame in self.frames:
            frame.show_legend(False)
        for pane in self.panes():
            pane.close_pane()

    # ---- remembering

    def state(self) -> dict[str, object]:
        """What to remember of the arrangement: kinds by row, and how wide and high they are."""
        kinds = [[f.pane.kind if f.pane else DEFAULT[0] for f in row] for row in self._in_rows()]
        return {"kinds": kinds, "rows": self.rows.sizes(), "lines": [line.sizes() for line in self.lines]}

    def restore(self, state: dict[str, object]) -> None:
        """Take a remembered arrangement; what does not fit is left as it is."""
        wanted = _rows_of(state.get("kinds"))
        if wanted is None:
            return
        self._unfill()
        while len(self.lines) > len(wanted):
            for frame in self._in_rows()[-1]:
                self.close_frame(frame)
        for r, kinds in enumerate(wanted):
            line = self.lines[r] if r < len(self.lines) else self._add_line(r)
            there = self._in_rows()[r]
            for frame in there[len(kinds) :]:
                self.close_frame(frame)
            for c, kind in enumerate(kinds):
                if c < len(there):
                    there[c].show_kind(kind)
                else:
                    self._add_frame(kind, line, c)
        rows: Any = state.get("rows")
        lines: Any = state.get("lines")
        if _sizes(rows, len(self.lines)):
            self.rows.setSizes([int(v) for v in rows])
        if isinstance(lines, list) and len(lines) == len(self.lines):
            for line, sizes in zip(self.lines, lines, strict=True):
                if _sizes(sizes, line.count()):
                    line.setSizes([int(v) for v in sizes])


def _rows_of(kinds: object) -> list[list[str]] | None:
    """Kinds of panes by row from what was remembered, also as earlier versions wrote it: four in one list."""
    if not isinstance(kinds, list) or not kinds:
        return None
    if all(isinstance(k, str) for k in kinds):
        kinds = [kinds[:2], kinds[2:]]
    rows = [list(row) for row in kinds if isinstance(row, list | tuple) and row]
    good = all(isinstance(k, str) and k in PANES for row in rows for k in row)
    return rows if good and rows and len(rows) <= MOST_ROWS and max(map(len, rows)) <= MOST_IN_ROW else None


def _sizes(values: Any, count: int) -> bool:
    if not isinstance(values, list) or len(values) != count:
        return False
    return all(isinstance(v, int | float) and v > 40 for v in values)

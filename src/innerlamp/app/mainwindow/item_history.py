"""How an item came to be, on its card: the import or run first, then every change of it, the newest last."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFrame, QLabel, QMenu, QSizePolicy, QVBoxLayout

from ...core.errors import LampError
from ...core.project.records import Entry, Recipe
from ...core.running.table import find_operation
from ..context.context import Context
from ..theme.plain import Label

SHOWN = 8  # steps of a long history that are listed at first


def step_words(step: Recipe) -> str:
    """Return a step in one line: what was done and with which values."""
    try:
        title = find_operation(step.operation).title
    except LampError:
        title = f"{step.operation} (not known to this version)"
    shown = {k: v for k, v in step.params.items() if v not in ("", 0.0, {}, [], None) and k != "name"}
    values = ", ".join(f"{k} {in_short(v)}" for k, v in list(shown.items())[:9])
    return f"{title} ({values})" if values else title


class HistoryList(QFrame):
    """The steps of an item; a right click on a change drops it or opens its form again."""

    def __init__(self, ctx: Context, entry: Entry) -> None:
        super().__init__()
        self.ctx, self.entry = ctx, entry
        self.setObjectName("itemHistory")
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 2, 0, 2)
        self.box.setSpacing(1)
        self.rows: list[QLabel] = []
        self._fill(full=len(entry.chain) <= SHOWN)

    def _fill(self, full: bool) -> None:
        chain = list(enumerate(self.entry.chain))
        hidden = 0 if full else len(chain) - SHOWN
        for place, step in chain if full else [chain[0], *chain[-(SHOWN - 1) :]]:
            if place and hidden and place == len(chain) - (SHOWN - 1):
                self._row(f"… {hidden} changes before", -1)
            words = step_words(step)
            self._row(words if not place else f"{place}. {words}", place)
            if step.problem:
                self._row(f"does not fit any more: {step.problem}", place, bad=True)

    def _row(self, words: str, place: int, bad: bool = False) -> None:
        row = Label(words)
        row.setObjectName("bad" if bad else "faint")
        row.setWordWrap(True)
        row.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        run = place == 0 and not bad and bool(self.entry.chain) and not self.entry.chain[0].is_edit
        if (place > 0 or run) and not self.entry.dated:
            row.setToolTip(
                "A change made to the item. Right click to drop it or to make it otherwise"
                if place
                else "The run that made the item. Right click to open its form and make it anew otherwise"
            )
            row.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            row.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            row.customContextMenuRequested.connect(lambda at, row=row, place=place: self._menu(row, place, at))
        self.rows.append(row)
        self.box.addWidget(row)

    def _menu(self, row: QLabel, place: int, at: QPoint) -> None:
        menu = QMenu(self)
        if place:
            menu.addAction("Drop this change", lambda: self.drop(place))
        menu.addAction("Open its form…", lambda: self.open(place))
        menu.exec(row.mapToGlobal(at))

    def drop(self, place: int) -> None:
        """Make the item again without one of its changes."""
        if self.ctx.session is not None:
            self.ctx.guard(self.ctx.session.desk.redo_edit, self.entry.id, place, None)

    def open(self, place: int) -> None:
        """Open the form of a change as it was made; running it there changes that step."""
        step = self.entry.chain[place]
        inputs: dict[str, Any] = {
            slot: pairs[0][0] if len(pairs) == 1 else [i for i, _ in pairs]
            for slot, pairs in step.inputs.items()
            if pairs
        }
        if step.base:
            inputs[step.base] = self.entry.id
        values: dict[str, Any] = {"@edit": place, "@item": self.entry.id, **step.params}
        self.ctx.ask.emit(step.operation, inputs, values)


def in_short(value: object) -> str:
    """Return a parameter in few letters: files by their names, long lists by their first member."""
    if isinstance(value, str):
        short = Path(value).name if "/" in value else value
        return short if len(short) <= 40 else f"{short[:39]}…"
    if isinstance(value, list) and len(value) > 1:
        return f"{in_short(value[0])} and {len(value) - 1} more"
    if isinstance(value, list):
        return in_short(value[0]) if value else ""
    if isinstance(value, dict):
        return f"of {len(value)}"
    return str(value)

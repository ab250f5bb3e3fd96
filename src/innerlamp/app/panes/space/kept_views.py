"""Views of the 3D pane that people keep by name: where the camera stands, in coordinates of the ground."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from PySide6.QtWidgets import QComboBox, QInputDialog

from ...context.context import Context
from ..base.boxes import as_choice, refill

MOST = 60
VIEWS: dict[str, tuple[float | None, float]] = {
    "From SE": (135, 28),
    "From SW": (225, 28),
    "From N": (0, 25),
    "From above": (180, 89.9),
    "From below": (180, -80),
    "Along section": (None, 5),
}
SELECTED = "Selected item"
KEEP = "Keep this view…"


class ViewChoice(QComboBox):
    """Fixed directions, the selected item, and the views that were kept; `look` is called with what is chosen."""

    def __init__(self, ctx: Context, look: Callable[[str], None], camera: Callable[[], list[float]]) -> None:
        super().__init__()
        self.ctx, self._look, self._camera = ctx, look, camera
        as_choice(self, "Look from a fixed direction, or as a view that was kept", length=8)
        self.activated.connect(lambda _: self._chosen())
        self.offer()

    def kept(self) -> dict[str, list[float]]:
        """The views that the project remembers."""
        store = self.ctx.store
        return views_from(store.workspace("views", {})) if store is not None else {}

    def offer(self, wanted: str = "") -> None:
        """Show what can be chosen."""
        refill(self, [*VIEWS, SELECTED, *self.kept(), KEEP], wanted or self.currentText())

    def _chosen(self) -> None:
        name = self.currentText()
        if name != KEEP:
            self._look(name)
            return
        words, good = QInputDialog.getText(self, "Keep this view", "Name of the view")
        if good and words.strip():
            self.keep(words.strip())

    def keep(self, name: str) -> None:
        """Keep where the camera stands under a name, with the project."""
        session = self.ctx.session
        if session is None or not session.store.writable or name in (*VIEWS, SELECTED, KEEP):
            self.ctx.say("The view can't be kept under that name.", "bad")
            return
        session.remember({"views": self.kept() | {name: self._camera()}})
        self.offer(name)
        self.ctx.say(f"View kept as '{name}'.", "good")


def views_from(data: object) -> dict[str, list[float]]:
    """Return the views of a project's memory; what is none is passed over."""
    out: dict[str, list[float]] = {}
    for name, values in data.items() if isinstance(data, Mapping) else ():
        good = isinstance(values, list) and len(values) == 10 and all(isinstance(v, int | float) for v in values)
        if good and np.isfinite(values).all() and 1.0 <= values[9] <= 120.0 and len(out) < MOST:
            out[str(name)[:80]] = [float(v) for v in values]
    return out

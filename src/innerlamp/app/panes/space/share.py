"""What a 3D view is shared as: a picture, a film once around it, an HTML scene, a stop of a walk-through."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QToolButton

from ....core.items.walk import Walk
from ....core.running.errands import prepare_scene
from ...context.context import Context

SIZES = {"1920 × 1200": (1920, 1200), "3840 × 2400": (3840, 2400), "7680 × 4800": (7680, 4800)}
FILM = (1280, 800)


class ShareMenu(QToolButton):
    """The menu of a 3D pane; `stop` returns the view as it is now, as plain values of a walk-through's stop."""

    def __init__(self, ctx: Context, stop: Callable[[], dict[str, Any]]) -> None:
        super().__init__()
        self.ctx, self._stop = ctx, stop
        self.setText("Share")
        self.setToolTip("Write the view as a picture, a film or an HTML scene, or take it into a walk-through")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        menu.aboutToShow.connect(self._offers)
        self.setMenu(menu)

    def _offers(self) -> None:
        menu = self.menu()
        menu.clear()
        there = bool(self.ctx.lit_entries()) and self.ctx.store is not None
        for words, act in (
            ("Picture…", self._ask_picture),
            ("Film once around…", self._ask_film),
            ("HTML scene…", self._ask_html),
        ):
            action = menu.addAction(words)
            action.setEnabled(there)
            action.triggered.connect(lambda _=False, act=act: act())
        menu.addSeparator()
        writable = there and self.ctx.store is not None and self.ctx.store.writable
        walks = [e for e in self.ctx.entries() if e.kind == "walk" and not e.dated]
        for walk in walks:
            action = menu.addAction(f"Add to '{walk.name}'")
            action.setEnabled(writable)
            action.triggered.connect(lambda _=False, item=walk.id: self.add_to(item))
        action = menu.addAction("Begin a walk-through with this view")
        action.setEnabled(writable)
        action.triggered.connect(lambda _=False: self.add_to(""))

    # ---- files

    def _ask_picture(self) -> None:
        size, good = QInputDialog.getItem(self, "Picture", "Pixels", list(SIZES), 1, False)
        if not good:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Picture", "view.png", "PNG (*.png);;JPEG (*.jpg)")
        if path:
            self.write(Path(path), SIZES[size])

    def _ask_film(self) -> None:
        kinds = "Animated WebP (*.webp);;Animated GIF (*.gif);;Sequence of PNG pictures (*.zip)"
        path, _ = QFileDialog.getSaveFileName(self, "Film once around", "turn.webp", kinds)
        if path:
            self.write(Path(path), FILM)

    def _ask_html(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "HTML scene", "scene.html", "HTML (*.html)")
        if path:
            self.write(Path(path), FILM)

    def write(self, path: Path, size: tuple[int, int] = FILM, **how: Any) -> None:
        """Write the view as it is now, in the background."""
        session = self.ctx.session
        if session is not None:
            stop = self._stop()
            width = max(
                self.window().width() // 2, 480
            )  # words as large beside the picture as they are beside the pane
            how.setdefault("ratio", min(max(size[0] / width / 1.6, 1.0), 6.0))
            self.ctx.guard(session.desk.errand, prepare_scene(session.store, stop, path, size=size, **how))

    def add_to(self, item: str) -> None:
        """Add the view as it is now to a walk-through, or begin one."""
        walk = self.ctx.item(item) if item else None
        stops = [dict(s) for s in walk.stops] if isinstance(walk, Walk) else []
        stops.append(self._stop() | {"name": f"View {len(stops) + 1}"})
        if isinstance(walk, Walk):
            self.ctx.guard(self.ctx.start, "arrange-walk", {"stops": stops}, {"walk": item})
        else:
            self.ctx.guard(self.ctx.start, "make-walk", {"stops": stops}, {})

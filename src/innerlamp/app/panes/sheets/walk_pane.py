"""The walk-through pane: its views in order, one of them shown, with name and caption; played, and written for others."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ....core.items.walk import Walk
from ...context.context import Context
from ...theme.plain import Label
from ...written.player import Player
from ...written.stage_view import StageView
from ...written.walks import ENDINGS
from ..base.boxes import as_choice
from ..base.pane import ItemPane


class WalkPane(ItemPane):
    """The selected walk-through, or the first one of the project."""

    kind: ClassVar[str] = "walk"
    title: ClassVar[str] = "Walk-through"
    delay: ClassVar[int] = 65

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.walk: Walk | None = None
        self.id = ""
        self.number = 0
        self.player: Player | None = None
        self.which = QComboBox()
        self.which.setObjectName("whichWalk")
        as_choice(self.which, "The walk-through that is shown", 10)
        self.which.activated.connect(lambda _: self.ctx.select_item(str(self.which.currentData())))
        self.play = QPushButton("Play")
        self.play.setToolTip("Show the views full screen, from the one that is chosen")
        self.play.clicked.connect(self.begin)
        self.save = QPushButton("Export…")
        self.save.setToolTip("Write it as one HTML file, or as PDF with a sheet for each view")
        self.save.clicked.connect(self._export)
        for widget in (self.which, self.play, self.save):
            self.tools.addWidget(widget)
        self._hint = Label(
            "No walk-through yet. Light what a first view is to show, turn the 3D pane, and choose 'Share', 'Begin a walk-through with this view'."
        )
        self._hint.setObjectName("empty")
        self._hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._hint.setWordWrap(True)
        self._hint.setMargin(16)
        self.body.addWidget(self._hint)
        self.whole = QWidget()
        self.body.addWidget(self.whole, 1)
        across = QHBoxLayout(self.whole)
        across.setContentsMargins(6, 4, 6, 4)
        across.addLayout(self._list(), 0)
        across.addLayout(self._shown(), 1)
        self.redraw()

    def _list(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.views = QListWidget()
        self.views.setObjectName("walkViews")
        self.views.setAccessibleName("Views of the walk-through")
        self.views.setFixedWidth(150)
        self.views.currentRowChanged.connect(self._chosen)
        column.addWidget(self.views, 1)
        row = QHBoxLayout()
        row.setSpacing(3)
        self.buttons: dict[str, QPushButton] = {}
        for words, tip, act in (
            ("▲", "Earlier", lambda: self.shift(-1)),
            ("▼", "Later", lambda: self.shift(1)),
            ("Remove", "Take the view out", self.remove),
        ):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.setAccessibleName(tip)
            button.clicked.connect(lambda _=False, act=act: act())
            row.addWidget(button)
            self.buttons[tip] = button
        column.addLayout(row)
        return column

    def _shown(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(4)
        row = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setObjectName("viewName")
        self.name.setToolTip("Name of the view")
        self.name.editingFinished.connect(self._typed)
        self.take = QPushButton("Keep as it is turned")
        self.take.setToolTip("The view begins as the camera stands now")
        self.take.clicked.connect(self.keep_camera)
        self.relight = QPushButton("Take what is lit")
        self.relight.setToolTip("The view shows what is lit in the window now, in its present colours")
        self.relight.clicked.connect(self.take_lit)
        row.addWidget(self.name, 1)
        row.addWidget(self.take)
        row.addWidget(self.relight)
        column.addLayout(row)
        self.view = StageView(self.ctx)
        column.addWidget(self.view, 1)
        self.caption = QPlainTextEdit()
        self.caption.setObjectName("viewCaption")
        self.caption.setPlaceholderText("What is said of this view")
        self.caption.setFixedHeight(54)
        self.caption.setTabChangesFocus(True)
        self.caption.installEventFilter(self)
        column.addWidget(self.caption)
        return column

    # ---- drawing

    def draw(self) -> None:
        walks = [e for e in self.ctx.entries() if e.kind == "walk"]
        ids = [e.id for e in walks]
        wanted = self.ctx.selected if self.ctx.selected in ids else self.id if self.id in ids else ids[0] if ids else ""
        self.which.clear()
        for each in walks:
            self.which.addItem(each.name, each.id)
        self.which.setCurrentIndex(self.which.findData(wanted))
        item = self.ctx.item(wanted) if wanted else None
        if wanted != self.id:
            self.number = 0
        fresh = isinstance(item, Walk) and (self.walk is None or item.stops != self.walk.stops or wanted != self.id)
        self.id = wanted
        self.walk = item if isinstance(item, Walk) else None
        self._hint.setVisible(not wanted)
        self.whole.setVisible(bool(wanted))
        for button in (self.play, self.save):
            button.setEnabled(self.walk is not None)
        if fresh and self.walk is not None:
            self.number = min(self.number, len(self.walk.stops) - 1)
            self.views.blockSignals(True)
            self.views.clear()
            self.views.addItems([f"{k}  {s.name}" for k, s in enumerate(self.walk.views, start=1)])
            self.views.setCurrentRow(self.number)
            self.views.blockSignals(False)
            self._show()

    def _show(self) -> None:
        assert self.walk is not None
        stop = self.walk.views[self.number]
        self.name.setText(stop.name)
        if self.caption.toPlainText() != stop.caption:
            self.caption.setPlainText(stop.caption)
        self.view.show_stop(stop)
        self.buttons["Earlier"].setEnabled(self.number > 0)
        self.buttons["Later"].setEnabled(self.number + 1 < len(self.walk.stops))
        self.buttons["Take the view out"].setEnabled(len(self.walk.stops) > 1)

    def _chosen(self, row: int) -> None:
        if self.walk is not None and 0 <= row < len(self.walk.stops) and row != self.number:
            self._typed()
            self.number = row
            self._show()

    @property
    def settled(self) -> bool:
        return super().settled and self.view.settled

    def on_legend(self, attribute: str) -> None:
        self.view.stop = None
        if self.walk is not None and self.isVisible():
            self._show()

    # ---- changing

    def _arrange(self, stops: list[dict[str, Any]]) -> None:
        if self.walk is not None and stops != [dict(s) for s in self.walk.stops]:
            self.ctx.guard(self.ctx.start, "arrange-walk", {"stops": stops}, {"walk": self.id})

    def _changed(self, **values: Any) -> None:
        assert self.walk is not None
        stops = [dict(s) for s in self.walk.stops]
        stops[self.number] |= values
        self._arrange([{k: v for k, v in s.items() if v not in ("", None)} for s in stops])

    def _typed(self) -> None:
        """Take what was typed as name and caption of the view."""
        if self.walk is None or self.number >= len(self.walk.stops):
            return
        stop = self.walk.views[self.number]
        name, caption = self.name.text().strip() or stop.name, self.caption.toPlainText().strip()
        if (name, caption) != (stop.name, stop.caption):
            self._changed(name=name, caption=caption)

    def eventFilter(self, watched: Any, event: Any) -> bool:  # noqa: N802
        if watched is self.caption and event.type() == event.Type.FocusOut:
            self._typed()
        return False

    def keep_camera(self) -> None:
        """The view begins as the camera stands now."""
        camera = self.view.camera()
        if camera is not None:
            self._changed(camera=list(camera))

    def take_lit(self) -> None:
        """The view shows what is lit in the window now."""
        lit = [e for e in self.ctx.lit_entries() if e.kind not in ("page", "walk")]
        colours = {e.id: self.ctx.attribute_of(e) for e in lit if self.ctx.attribute_of(e)}
        self._changed(lit=[e.id for e in lit], colour_by=colours)

    def shift(self, by: int) -> None:
        """Move the view earlier or later."""
        if self.walk is None:
            return
        stops, to = [dict(s) for s in self.walk.stops], self.number + by
        if 0 <= to < len(stops):
            stops.insert(to, stops.pop(self.number))
            self.number = to
            self._arrange(stops)

    def remove(self) -> None:
        """Take the view out."""
        if self.walk is not None and len(self.walk.stops) > 1:
            self._arrange([dict(s) for k, s in enumerate(self.walk.stops) if k != self.number])

    # ---- showing and writing

    def begin(self) -> None:
        """Play it full screen."""
        if self.walk is None:
            return
        self._typed()
        self.player = Player(self.ctx, self.walk, self.number, self._played)
        self.player.setGeometry(self.screen().geometry())  # where there is no window manager nobody else does
        self.player.showFullScreen()
        self.player.go(self.number)
        self.player.setFocus()

    def _played(self, number: int) -> None:
        self.player = None
        if not self.closed:
            self.views.setCurrentRow(number)

    def _export(self) -> None:
        name = self.walk.name if self.walk else "walk"
        path, _ = QFileDialog.getSaveFileName(
            self, f"Export {name}", f"{name}.html", "HTML, one file (*.html);;PDF, a sheet a view (*.pdf)"
        )
        if path:
            self.export_to(Path(path))

    def export_to(self, path: Path) -> None:
        """Write it to a file in the background."""
        target = path if path.suffix.lower() in ENDINGS else path.with_name(path.name + ".html")
        if self.ctx.session is not None:
            self.ctx.guard(self.ctx.session.desk.export, [self.id], target)

    def close_pane(self) -> None:
        if self.closed:
            return
        super().close_pane()
        self.caption.removeEventFilter(self)
        if self.player is not None:
            self.player.close()
        self.view.close_view()

"""The strip at the bottom: what runs and how far it is, what was said, where the cursor is."""

from __future__ import annotations

from datetime import datetime

import numpy as np
from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.crs import describe
from ...core.jobs.runner import Job
from ...core.local_grid import local_grid
from ...core.project.named_grids import named_grids
from ..context.context import Context, Cursor
from ..panes.base.boxes import choice_box
from ..theme.plain import Label, plain_tip


class MisfitCurve(QWidget):
    """A small curve of the misfit by iteration, on a log scale, with its target."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.points: list[tuple[float, float]] = []
        self.target = 1.0
        self.setFixedSize(QSize(120, 32))

    def show_points(self, points: list[tuple[float, float]], target: float) -> None:
        self.points, self.target = list(points), target
        self.setToolTip("Misfit by iteration, log scale; the dashed line is the target")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        if len(self.points) < 2:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x = np.array([p[0] for p in self.points])
        y = np.log(np.maximum([p[1] for p in self.points], 1e-9))
        goal = float(np.log(max(self.target, 1e-9)))
        low, high = min(float(y.min()), goal) - 0.1, max(float(y.max()), goal) + 0.1
        w, h = self.width() - 6.0, self.height() - 6.0

        def at(px: float, py: float) -> QPointF:
            return QPointF(3 + w * (px - x[0]) / max(x[-1] - x[0], 1e-9), 3 + h * (1 - (py - low) / (high - low)))

        painter.setPen(QPen(QColor(self.ctx.theme.faint), 1, Qt.PenStyle.DashLine))
        painter.drawLine(at(x[0], goal), at(x[-1], goal))
        painter.setPen(QPen(QColor(self.ctx.theme.text), 1.6))
        painter.drawPolyline(QPolygonF([at(a, b) for a, b in zip(x, y, strict=True)]))
        painter.end()


class JobRow(QWidget):
    """One running job."""

    def __init__(self, ctx: Context, job: Job) -> None:
        super().__init__()
        self.ctx, self.job = ctx, job
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 1, 6, 1)
        self.name = Label(job.task.label)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(170)
        self.words = Label()
        self.words.setMinimumWidth(60)
        self.curve = MisfitCurve(ctx)
        self.stop = QPushButton("Cancel")
        self.stop.clicked.connect(lambda: ctx.session.desk.cancel(job) if ctx.session else None)
        self.keep = QPushButton("Stop and keep")
        self.keep.setToolTip("Ends after this iteration with the model found so far")
        self.keep.clicked.connect(self._finish)
        self.look = QPushButton("Look")
        self.look.setCheckable(True)
        self.look.setToolTip("Shows the model of each iteration in all panes while it runs")
        self.look.toggled.connect(self._watch)
        for widget in (self.name, self.bar, self.words):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(self.curve)
        row.addWidget(self.look)
        row.addWidget(self.keep)
        row.addWidget(self.stop)
        self.show_job()

    def _finish(self) -> None:
        self.keep.setEnabled(False)
        self.ctx.runner.finish(self.job)

    def _watch(self, on: bool) -> None:
        self.ctx.runner.watch(self.job, on)
        if not on:
            self.ctx.unwatch(self.job)

    def show_job(self) -> None:
        job = self.job
        self.keep.setVisible(len(job.curve) > 0)
        self.look.setVisible(len(job.curve) > 0)
        self.bar.setValue(int(job.fraction * 1000))
        parts = [job.message]
        if "misfit" in job.measures:
            parts.append(
                f"iteration {job.measures.get('iteration', 0):.0f}, misfit {job.measures['misfit']:.3g}, target {job.measures.get('target', 1):.3g}"
            )
        self.words.setText(" · ".join(parts))
        self.curve.setVisible(len(job.curve) > 1)
        self.curve.show_points(job.curve, job.measures.get("target", 1.0))


class JobStrip(QFrame):
    """Running jobs, the log of what was done, cursor and CRS."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.ctx = ctx
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 2, 0, 2)
        box.setSpacing(1)
        self.running = QVBoxLayout()
        self.running.setContentsMargins(0, 0, 0, 0)
        self.running.setSpacing(0)
        # Room for one job is always kept: panes that change their size would all have to draw anew.
        place = QWidget()
        place.setMinimumHeight(38)
        place.setLayout(self.running)
        self.idle = Label("Nothing is running.")
        self.idle.setObjectName("faint")
        self.idle.setIndent(6)
        self.running.addWidget(self.idle)
        box.addWidget(place)
        self.rows: dict[int, JobRow] = {}
        self.log = QListWidget()
        self.log.setMaximumHeight(110)
        self.log.hide()
        box.addWidget(self.log)
        line = QHBoxLayout()
        line.setContentsMargins(6, 0, 6, 0)
        line.setSpacing(14)
        self.more = QPushButton("Log")
        self.more.setObjectName("link")
        self.more.setToolTip("What was done and said since the start")
        self.more.clicked.connect(lambda: self.log.setVisible(not self.log.isVisible()))
        self.last = Label("Ready.")
        self.last.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.last.setMinimumWidth(50)
        self.cursor_words = Label()
        self.cursor_words.setToolTip("Easting, northing and elevation of the shared cursor, metres")
        self.crs = Label()
        self.crs.setObjectName("faint")
        self.grid = choice_box("Coordinates of the cursor are in")
        self.grid.setToolTip(
            "In which grid the cursor's place is told: the project's, or one that its items came in by"
        )
        self.grid.activated.connect(lambda _: self._grid_chosen())
        self.grid.hide()
        line.addWidget(self.more)
        line.addWidget(self.last, 1)
        line.addWidget(self.cursor_words)
        line.addWidget(self.grid)
        line.addWidget(self.crs)
        box.addLayout(line)
        ctx.said.connect(self.say)
        ctx.jobs_changed.connect(self._jobs)
        ctx.cursor_changed.connect(self._cursor_moved)
        ctx.project_changed.connect(self._project)
        ctx.items_changed.connect(lambda _: self._list_grids())

    def say(self, text: str, level: str = "note") -> None:
        """Show a sentence and keep it in the log."""
        theme = self.ctx.theme
        colour = {"bad": theme.bad, "good": theme.good, "look": theme.stale}.get(level, theme.text)
        self.last.setText(text)
        self.last.setToolTip(plain_tip(text))
        self.last.setStyleSheet(f"color: {colour}")
        row = QListWidgetItem(f"{datetime.now():%H:%M:%S}  {text}")
        row.setForeground(QColor(colour))
        self.log.addItem(row)
        self.log.scrollToBottom()
        if self.log.count() > 2000:
            self.log.takeItem(0)

    def _jobs(self, jobs: list[Job]) -> None:
        for job in jobs:
            if job.active and job.id not in self.rows:
                self.rows[job.id] = JobRow(self.ctx, job)
                self.running.addWidget(self.rows[job.id])
            if job.id in self.rows:
                if job.active:
                    self.rows[job.id].show_job()
                else:
                    self._drop(job.id)
        self.idle.setVisible(not self.rows)

    def _drop(self, job: int) -> None:
        row = self.rows.pop(job)
        self.running.removeWidget(row)
        row.hide()  # it goes later, and would keep its room until then
        row.deleteLater()

    def _cursor_moved(self, cursor: Cursor) -> None:
        if not np.isfinite(cursor.x):
            self.cursor_words.clear()
            return
        x, y, up = cursor.x, cursor.y, cursor.z
        if self.ctx.shown_grid:
            grid = local_grid(self.ctx.shown_grid)
            (x,), (y,) = grid.to_local(np.array([x]), np.array([y]))
            up -= grid.up
        z = f"  {up:,.1f} m" if np.isfinite(up) else "  – m"
        self.cursor_words.setText(f"E {x:,.1f}  N {y:,.1f}{z}".replace(",", "\u2009"))

    def _list_grids(self) -> None:
        """Offer the local grids that the project knows by name, and the one that was chosen in it before."""
        store = self.ctx.store
        found = named_grids(store) if store is not None else {}
        wanted = str(store.workspace("cursor grid", "")) if store is not None else ""
        self.grid.clear()
        self.grid.addItem("project", "")
        for name, points in found.items():
            self.grid.addItem(name, points)
        self.grid.setCurrentIndex(max(self.grid.findText(wanted), 0) if wanted else 0)
        self.grid.setVisible(bool(found))
        self._show_grid()

    def _grid_chosen(self) -> None:
        session = self.ctx.session
        if session is not None and session.store.writable:
            session.remember({"cursor grid": self.grid.currentText() if self.grid.currentData() else ""})
        self._show_grid()

    def _show_grid(self) -> None:
        self.ctx.set_shown_grid(str(self.grid.currentData() or ""))
        self._cursor_moved(self.ctx.cursor)

    def _project(self) -> None:
        # Nobody asks any more about what the project that was left had running: it is being stopped.
        mine = {job.id for job in self.ctx.jobs}
        for job in [j for j in self.rows if j not in mine]:
            self._drop(job)
        self.idle.setVisible(not self.rows)
        self._list_grids()
        store = self.ctx.store
        self.crs.setText("" if store is None else describe(store.crs) + ("" if store.writable else "  · read-only"))

"""Placing a picture: pick a place on it, then the same place on the map; the residual is shown as points come."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.compute.geometry.placing import Fit, fit_places
from ...core.errors import LampError
from ...core.formats.grids import pictures
from ...core.formats.tables import tables_in
from ...core.numbers import number_or_none
from ..base import background
from ..context.context import Context
from ..theme.plain import Label
from .fields import RowsField
from .form_state import FormState
from .previews import Preview

_SHOWN = 1200


class PictureView(QWidget):
    """The picture; a click picks a place. The wheel zooms about the pointer, a right drag shifts."""

    picked = QtSignal(float, float)

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.image = QImage()
        self.size_of_file = (1, 1)
        self.marks: list[tuple[float, float]] = []
        self.zoom, self.shift = 1.0, QPointF(0, 0)
        self._drag: QPointF | None = None
        self.setFixedHeight(210)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setToolTip("Click a place whose coordinates you know. Wheel: zoom; right drag: shift.")
        self.setAccessibleName("Picture to be placed")

    def _frame(self) -> QRectF:
        columns, rows = self.size_of_file
        fit = min(self.width() / columns, self.height() / rows) * self.zoom
        centre = QPointF(self.width() / 2, self.height() / 2) + self.shift
        return QRectF(centre.x() - columns * fit / 2, centre.y() - rows * fit / 2, columns * fit, rows * fit)

    def to_widget(self, col: float, row: float) -> QPointF:
        """Where a place of the picture is on the widget."""
        f = self._frame()
        return QPointF(
            f.left() + col / self.size_of_file[0] * f.width(), f.top() + row / self.size_of_file[1] * f.height()
        )

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), QColor(self.ctx.theme.canvas))
        if not self.image.isNull():
            painter.drawImage(self._frame(), self.image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for number, mark in enumerate(self.marks, start=1):
            at = self.to_widget(*mark)
            for colour, width in ((self.ctx.theme.panel, 4.0), (self.ctx.theme.text, 1.6)):
                painter.setPen(QPen(QColor(colour), width))
                painter.drawLine(at + QPointF(-6, 0), at + QPointF(6, 0))
                painter.drawLine(at + QPointF(0, -6), at + QPointF(0, 6))
            painter.drawText(at + QPointF(7, -5), str(number))
        painter.setPen(QColor(self.ctx.theme.line))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.RightButton:
            self._drag = event.position()
            return
        f = self._frame()
        col = (event.position().x() - f.left()) / f.width() * self.size_of_file[0]
        row = (event.position().y() - f.top()) / f.height() * self.size_of_file[1]
        if 0 <= col <= self.size_of_file[0] and 0 <= row <= self.size_of_file[1]:
            self.picked.emit(col, row)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._drag is not None:
            self.shift += event.position() - self._drag
            self._drag = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._drag = None

    def wheelEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # noqa: N802
        factor = 1.25 ** (event.angleDelta().y() / 120.0)
        before = self.zoom
        self.zoom = float(np.clip(self.zoom * factor, 0.5, 40.0))
        away = event.position() - QPointF(self.width() / 2, self.height() / 2) - self.shift
        self.shift -= away * (self.zoom / before - 1.0)
        self.update()
        event.accept()


class PicksEditor(QWidget):
    """Picture and table of picked points; coordinates are typed, or taken from the map's cursor by a click there."""

    changed = QtSignal()

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.points: list[list[float]] = []
        self.fit: Fit = "affine"
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        self.words = Label("Click a known place on the picture, then click it on the map or type its coordinates.")
        self.words.setWordWrap(True)
        self.view = PictureView(ctx)
        self.view.picked.connect(self.pick)
        self.table = QTableWidget(0, 4)
        self.table.setHorizontalHeaderLabels(["#", "Easting (m)", "Northing (m)", "off by (m)"])
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(20)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        self.table.setFixedHeight(126)
        self.table.itemChanged.connect(self._typed)
        row = QHBoxLayout()
        self.residual = Label()
        self.residual.setObjectName("faint")
        self.residual.setWordWrap(True)
        drop = QPushButton("Drop point")
        drop.setToolTip("Take the chosen point away")
        drop.clicked.connect(self.drop)
        row.addWidget(self.residual, 1)
        row.addWidget(drop)
        for widget in (self.words, self.view, self.table):
            box.addWidget(widget)
        box.addLayout(row)
        self._filling = False
        ctx.clicked.connect(self._map_clicked)
        self._answers = background.answers_for(self, self._came)
        self._file = ""

    def show_file(self, ref: str) -> None:
        """Show another picture; it is read in the background."""
        if ref == self._file:
            return
        self._file = ref
        self.points = []
        self._fill()
        if ref:
            path, _ = tables_in.split(ref)
            background.start(
                self._answers,
                ref,
                lambda: (pictures.look(path)[:2], pictures.read(path, _SHOWN).pixels),
                "the picture can't be read",
            )

    def _came(self, ref: str, result: object) -> None:
        if ref != self._file:
            return
        if isinstance(result, LampError):
            self.words.setText(str(result))
            return
        assert isinstance(result, tuple)
        size, pixels = result
        rows, columns = pixels.shape[:2]
        self._pixels = np.ascontiguousarray(pixels)  # QImage does not copy
        self.view.image = QImage(self._pixels.data, columns, rows, 4 * columns, QImage.Format.Format_RGBA8888)
        self.view.size_of_file = size
        self.view.update()

    def pick(self, col: float, row: float) -> None:
        """Begin a point on the picture; its coordinates come next."""
        self.points.append([round(col, 1), round(row, 1), np.nan, np.nan])
        self._fill()
        self.table.setCurrentCell(len(self.points) - 1, 1)

    def drop(self) -> None:
        """Take the chosen point away."""
        row = self.table.currentRow()
        if 0 <= row < len(self.points):
            del self.points[row]
            self._fill()

    def _map_clicked(self, x: float, y: float, source: str) -> None:
        waiting = next((p for p in self.points if np.isnan(p[2])), None)
        if waiting is not None and source == "map" and self.isVisible():
            waiting[2], waiting[3] = round(x, 2), round(y, 2)
            self._fill()

    def _typed(self, cell: QTableWidgetItem) -> None:
        if self._filling or cell.column() not in (1, 2):
            return
        value = number_or_none(cell.text())
        self.points[cell.row()][cell.column() + 1] = np.nan if value is None else value
        self._fill()

    def whole(self) -> list[list[float]]:
        """The points that have coordinates."""
        return [p for p in self.points if np.isfinite(p).all()]

    def _fill(self) -> None:
        self._filling = True
        whole = self.whole()
        off: dict[int, float] = {}
        words = f"{len(whole)} of at least 3 points"
        if len(whole) >= 3:
            try:
                at = np.array(whole)
                _, residual = fit_places(at[:, :2], at[:, 2:], self.fit)
                off = {id(p): float(r) for p, r in zip(whole, residual, strict=True)}
                rms = float(np.sqrt(np.mean(residual**2)))
                exact = len(whole) == 3 and self.fit == "affine"
                words = (
                    "3 points fit exactly: a fourth shows the error"
                    if exact
                    else f"Residual {rms:.2f} m, largest {residual.max():.2f} m"
                )
            except LampError as error:
                words = str(error)
        self.residual.setText(words)
        self.table.setRowCount(len(self.points))
        for row, p in enumerate(self.points):
            cells = [
                str(row + 1),
                *("" if np.isnan(v) else f"{v:.2f}" for v in p[2:]),
                f"{off[id(p)]:.2f}" if id(p) in off else "",
            ]
            for column, text in enumerate(cells):
                cell = QTableWidgetItem(text)
                if column in (0, 3):
                    cell.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(row, column, cell)
        self.view.marks = [(p[0], p[1]) for p in self.points]
        self.view.update()
        self._filling = False
        self.changed.emit()


class PicksPreview(Preview):
    """The picture of the form, with its picked points."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.editor = PicksEditor(form.ctx)
        self.editor.changed.connect(self._changed)
        box.addWidget(self.editor)
        self.hide()

    def _changed(self) -> None:
        field = self.form.fields["points"]
        assert isinstance(field, RowsField)
        field.set_value(self.editor.whole())

    def update_preview(self) -> None:
        file = str(self.form.values().get("file", ""))
        try:
            tables_in.split(file)
        except LampError:
            self.hide()
            return
        fit = str(self.form.values()["fit"])
        if fit != self.editor.fit:
            self.editor.fit = fit  # type: ignore[assignment]
            self.editor._fill()
        self.editor.show_file(file)
        self.show()

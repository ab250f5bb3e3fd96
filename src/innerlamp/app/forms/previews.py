"""Previews inside forms: columns of the files to be imported, evidence curves."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from PySide6.QtCore import QObject, QRectF, QRunnable, Qt, QThreadPool
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.compute.targets.evidence import column_maximum
from ...core.errors import LampError
from ...core.formats import columns, tables_in
from ...core.items.fields import BlockModel, Grid
from ...core.operations import add_holes
from ...core.operations.declare import Inputs
from ...core.operations.differences import compare_holes
from ...core.progress import SILENT
from .fields import MappingField

if TYPE_CHECKING:
    from .form import OperationForm


class Preview(QWidget):
    """Base of previews."""

    def __init__(self, form: OperationForm) -> None:
        super().__init__()
        self.form = form

    def update_preview(self) -> None:
        """Show what the form says now."""


class ColumnsPreview(Preview):
    """For each file: how it was understood, the column of each role (editable), and its first rows."""

    def __init__(self, form: OperationForm, files: dict[str, str], nested: bool) -> None:
        super().__init__(form)
        self.files, self.nested = files, nested  # parameter name -> kind of table
        self.tabs = QTabWidget()
        self.tabs.setUsesScrollButtons(False)
        self.tabs.setElideMode(Qt.TextElideMode.ElideRight)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.tabs)
        self._shown: dict[str, str] = {}
        self.combos: dict[str, dict[str, QComboBox]] = {}
        self.tables: dict[str, QTableWidget] = {}
        self.hide()

    def update_preview(self) -> None:
        for name, kind in self.files.items():
            path = str(self.form.fields[name].value())
            if self._shown.get(name, "") != path:
                self._shown[name] = path
                self._show(name, kind, path)
        self.setVisible(self.tabs.count() > 0)

    def _show(self, name: str, kind: str, path: str) -> None:
        for index in range(self.tabs.count()):
            if self.tabs.tabText(index) == name:
                self.tabs.removeTab(index)
                break
        self.combos.pop(name, None)
        self.tables.pop(name, None)
        self._forget(name)
        if not path:
            return
        page = QWidget()
        box = QVBoxLayout(page)
        box.setContentsMargins(4, 4, 4, 4)
        try:
            layout = tables_in.look(path)
        except LampError as error:
            words = QLabel(str(error))
            words.setObjectName("bad")
            words.setWordWrap(True)
            box.addWidget(words)
            self.tabs.addTab(page, name)
            return
        words = QLabel(layout.words)
        words.setObjectName("faint")
        words.setWordWrap(True)
        box.addWidget(words)
        form = QFormLayout()
        form.setVerticalSpacing(2)
        guessed = columns.guess(layout.columns, kind)
        self.combos[name] = {}
        for role in columns.ROLES[kind]:
            combo = QComboBox()
            combo.setObjectName(f"{name}.{role.name}")
            combo.addItem("choose" if role.required else "none", "")
            for column in layout.columns:
                combo.addItem(column, column)
            combo.setCurrentIndex(max(combo.findData(guessed.get(role.name, "")), 0))
            combo.setMinimumContentsLength(8)
            combo.activated.connect(lambda _, n=name: self._chosen(n))
            form.addRow(f"{role.label}{' *' if role.required else ''}", combo)
            self.combos[name][role.name] = combo
        box.addLayout(form)
        table = QTableWidget(0, len(layout.columns))
        table.setHorizontalHeaderLabels(list(layout.columns))
        table.verticalHeader().setDefaultSectionSize(18)
        table.verticalHeader().hide()
        table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        table.setFixedHeight(140)
        for row, cells in enumerate(tables_in.first_rows(path, layout, 6)):
            table.insertRow(row)
            for place, cell in enumerate(cells):
                table.setItem(row, place, QTableWidgetItem(cell))
        table.resizeColumnsToContents()
        self.tables[name] = table
        box.addWidget(table)
        box.addStretch(1)
        self.tabs.addTab(page, name)
        self.tabs.setCurrentWidget(page)
        self._chosen(name)

    def _chosen(self, name: str) -> None:
        mapping = {role: str(combo.currentData()) for role, combo in self.combos[name].items() if combo.currentData()}
        field = self.form.fields["columns"]
        assert isinstance(field, MappingField)
        if self.nested:
            field.mapping = {**field.mapping, name: mapping}
        else:
            field.mapping = mapping

    def _forget(self, name: str) -> None:
        field = self.form.fields["columns"]
        assert isinstance(field, MappingField)
        field.mapping = {k: v for k, v in field.mapping.items() if k != name} if self.nested else {}


class _Work(QObject):
    done = QtSignal(int, object)


class _CompareTask(QRunnable):
    def __init__(self, number: int, inputs: Inputs, params: add_holes.AddHoles, work: _Work) -> None:
        super().__init__()
        self._what = (number, inputs, params)
        self._work = work

    def run(self) -> None:
        number, inputs, params = self._what
        result: object
        try:
            old, _, joined = add_holes.read_batch(inputs, params, SILENT)
            result = compare_holes(old, joined)
        except LampError as error:
            result = str(error)
        except Exception as error:
            result = f"The files can't be compared with the set ({error})."
        with contextlib.suppress(RuntimeError):  # the form may be closed meanwhile
            self._work.done.emit(number, result)


class BatchPreview(ColumnsPreview):
    """What a further batch brings, hole by hole, before it is accepted."""

    STATES = ("changed", "gone", "new", "unchanged")

    def __init__(self, form: OperationForm, files: dict[str, str]) -> None:
        super().__init__(form, files, nested=True)
        self.counts = QLabel()
        self.counts.setWordWrap(True)
        self.holes = QTableWidget(0, 3)
        self.holes.setHorizontalHeaderLabels(["hole", "is", "what"])
        self.holes.verticalHeader().hide()
        self.holes.verticalHeader().setDefaultSectionSize(18)
        self.holes.horizontalHeader().setStretchLastSection(True)
        self.holes.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.holes.setFixedHeight(150)
        box = self.layout()
        assert isinstance(box, QVBoxLayout)
        box.insertWidget(0, self.counts)
        box.insertWidget(1, self.holes)
        self.holes.hide()
        self._work = _Work()
        self._work.done.connect(self._compared)
        self._number = 0
        self._asked: object = None

    def update_preview(self) -> None:
        super().update_preview()
        items, store = self.form.items(), self.form.ctx.store
        values = self.form.values()
        if items is None or "holes" not in items or store is None or not values.get("collar"):
            return
        asked = (sorted(self.form.inputs().items()), repr(values))
        if asked == self._asked:
            return
        try:
            params = self.form.operation.check(values)
        except LampError:
            return
        assert isinstance(params, add_holes.AddHoles)
        self._asked = asked
        self._number += 1
        self.counts.setText("Comparing with the set …")
        QThreadPool.globalInstance().start(_CompareTask(self._number, Inputs(items, store.crs), params, self._work))

    def _compared(self, number: int, result: object) -> None:
        if number != self._number:
            return
        self.holes.setVisible(not isinstance(result, str))
        if isinstance(result, str):
            self.counts.setText(result)
            return
        table: pd.DataFrame = result  # type: ignore[assignment]
        counts = table["status"].value_counts()
        self.counts.setText("Holes: " + ", ".join(f"{int(counts.get(s, 0))} {s}" for s in self.STATES))
        table = table.assign(order=table["status"].map(self.STATES.index)).sort_values("order", kind="stable")
        self.holes.setRowCount(min(len(table), 2000))
        for row, values in enumerate(table[["hole", "status", "what"]].head(2000).itertuples(index=False)):
            for column, value in enumerate(values):
                self.holes.setItem(row, column, QTableWidgetItem(str(value)))
        self.holes.resizeColumnToContents(0)


class CurvesPreview(Preview):
    """The evidence curves of a ranking, each over the spread of its values."""

    ROW = 62

    def __init__(self, form: OperationForm) -> None:
        super().__init__(form)
        self.curves: list[tuple[str, float, float, bool, float, np.ndarray]] = []
        self._values: dict[str, np.ndarray] = {}

    def update_preview(self) -> None:
        def number(name: str) -> float:
            try:
                return float(str(self.form.fields[name].value()))
            except ValueError:
                return 0.0

        items = self.form.items() or {}
        self.curves = []
        soil, model = items.get("soil"), items.get("model")
        if isinstance(soil, Grid):
            values = soil.values[np.isfinite(soil.values)]
            self._add(
                f"{soil.attribute} ({soil.unit})",
                values,
                number("soil_low"),
                number("soil_high"),
                True,
                number("soil_weight"),
            )
        if isinstance(model, BlockModel):
            values = self._depth_values(model, number("shallow"), number("deep"))
            name = next(iter(model.properties))
            self._add(
                f"{name} at depth ({model.units.get(name, '')})",
                values,
                number("depth_low"),
                number("depth_high"),
                True,
                number("depth_weight"),
            )
        if "shell" in items:
            self._add(
                "distance to shell (m)",
                np.empty(0),
                number("shell_near"),
                number("shell_far"),
                False,
                number("shell_weight"),
            )
        if "holes" in items:
            self._add(
                "distance to drilling (m)",
                np.empty(0),
                number("drilled_near"),
                number("drilled_far"),
                True,
                number("drilled_weight"),
            )
        self.setFixedHeight(max(self.ROW * len(self.curves), 1))
        self.update()

    def _depth_values(self, model: BlockModel, shallow: float, deep: float) -> np.ndarray:
        values = next(iter(model.properties.values()))
        z = model.z0 + model.dz * (np.arange(model.shape[2], dtype=np.float64) + 0.5)
        top = np.where(np.isfinite(values), z[None, None, :], -np.inf).max(axis=2) + model.dz / 2
        best = column_maximum(values, z, top, shallow, deep)
        return np.asarray(best[np.isfinite(best)])

    def _add(self, name: str, values: np.ndarray, low: float, high: float, more: bool, weight: float) -> None:
        if low == 0 and high == 0 and len(values):
            low, high = (float(v) for v in np.percentile(values, [50, 98]))
        self.curves.append((name, low, high, more, weight, values))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.form.ctx.theme
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        for number, (name, low, high, more, weight, values) in enumerate(self.curves):
            frame = QRectF(4, number * self.ROW + 15, self.width() - 8, self.ROW - 31)
            painter.setPen(QColor(theme.text))
            painter.drawText(
                QRectF(4, number * self.ROW, self.width() - 8, 14),
                Qt.AlignmentFlag.AlignLeft,
                f"{name}, weight {weight:g}",
            )
            left, right = (
                (0.0, 1.25 * max(high, 1e-12))
                if not len(values)
                else (min(float(values.min()), low), max(float(np.percentile(values, 99.5)), high * 1.1))
            )
            span = max(right - left, 1e-12)
            if len(values):
                counts, _ = np.histogram(values, bins=40, range=(left, right))
                tall = np.sqrt(counts / max(counts.max(), 1))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(theme.line))
                for k, h in enumerate(tall):
                    painter.drawRect(
                        QRectF(
                            frame.left() + frame.width() * k / 40,
                            frame.bottom() - frame.height() * h,
                            frame.width() / 40,
                            frame.height() * h,
                        )
                    )
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(theme.text), 1.6))
            points = QPolygonF()
            for value, worth in (
                (left, 0.0 if more else 1.0),
                (low, 0.0 if more else 1.0),
                (high, 1.0 if more else 0.0),
                (right, 1.0 if more else 0.0),
            ):
                x = frame.left() + frame.width() * min(max((value - left) / span, 0.0), 1.0)
                points.append(frame.topLeft() + type(frame.topLeft())(x - frame.left(), frame.height() * (1 - worth)))
            painter.drawPolyline(points)
            painter.setPen(QColor(theme.faint))
            for value in (low, high):
                x = frame.left() + frame.width() * min(max((value - left) / span, 0.0), 1.0)
                painter.drawText(
                    QRectF(x - 40, frame.bottom() + 1, 80, 12).intersected(QRectF(0, 0, self.width(), self.height())),
                    Qt.AlignmentFlag.AlignHCenter,
                    f"{value:.3g}",
                )
        painter.end()


PREVIEWS: dict[str, Callable[[OperationForm], Preview]] = {
    "import-holes": lambda form: ColumnsPreview(
        form, {"collar": "collar", "survey": "survey", "assay": "interval", "lithology": "interval"}, nested=True
    ),
    "add-holes": lambda form: BatchPreview(
        form, {"collar": "collar", "survey": "survey", "assay": "interval", "lithology": "interval"}
    ),
    "import-points": lambda form: ColumnsPreview(form, {"file": "points"}, nested=False),
    "import-lines": lambda form: ColumnsPreview(form, {"file": "lines"}, nested=False),
}
# These stand above the parameters that shape them.
PREVIEWS_FIRST: dict[str, Callable[[OperationForm], Preview]] = {"rank-targets": CurvesPreview}

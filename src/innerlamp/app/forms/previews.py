"""Previews inside forms: columns of the files to be imported, evidence curves."""

from __future__ import annotations

import pandas as pd
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.comparing.differences import compare_holes
from ...core.declaring.operation import Cost, Inputs
from ...core.errors import LampError
from ...core.formats.tables import columns, tables_in
from ...core.formats.tables.roles import ROLES
from ...core.operations.data import add_holes
from ...core.progress import SILENT
from ..base import background
from ..theme.plain import Label
from .fields import MappingField
from .form_state import FormState


class Preview(QWidget):
    """Base of previews."""

    def __init__(self, form: FormState) -> None:
        super().__init__()
        self.form = form

    def update_preview(self) -> None:
        """Show what the form says now."""

    def cost_known(self, cost: Cost) -> None:
        """Show what a look at the inputs found."""


class ColumnsPreview(Preview):
    """For each file: how it was understood, the column of each role (editable), and its first rows."""

    def __init__(self, form: FormState, files: dict[str, str], nested: bool) -> None:
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
            words = Label(str(error))
            words.setObjectName("bad")
            words.setWordWrap(True)
            box.addWidget(words)
            self.tabs.addTab(page, name)
            return
        words = Label(layout.words)
        words.setObjectName("faint")
        words.setWordWrap(True)
        box.addWidget(words)
        form = QFormLayout()
        form.setVerticalSpacing(2)
        guessed = columns.guess(layout.columns, kind)
        self.combos[name] = {}
        for role in ROLES[kind]:
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


class BatchTable(QWidget):
    """What a further batch of holes brings: new, changed, gone, unchanged, hole by hole."""

    STATES = ("changed", "gone", "new", "unchanged")

    def __init__(self) -> None:
        super().__init__()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.counts = Label()
        self.counts.setWordWrap(True)
        self.holes = QTableWidget(0, 3)
        self.holes.setHorizontalHeaderLabels(["hole", "is", "what"])
        self.holes.verticalHeader().hide()
        self.holes.verticalHeader().setDefaultSectionSize(18)
        self.holes.horizontalHeader().setStretchLastSection(True)
        self.holes.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.holes.setFixedHeight(150)
        box.addWidget(self.counts)
        box.addWidget(self.holes)
        self.holes.hide()
        self._answers = background.answers_for(self, self._came)
        self._number = 0

    def compare(self, inputs: Inputs, params: add_holes.AddHoles) -> None:
        """Compare files with a set in the background, and show what comes of it."""
        self._number += 1
        self.counts.setText("Comparing with the set …")

        def work() -> pd.DataFrame:
            old, _, joined = add_holes.read_batch(inputs, params, SILENT)
            return compare_holes(old, joined)

        background.start(self._answers, self._number, work, "The files can't be compared with the set")

    def _came(self, number: int, result: object) -> None:
        if number != self._number:
            return
        self.holes.setVisible(not isinstance(result, LampError))
        if isinstance(result, LampError):
            self.counts.setText(str(result))
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


class BatchPreview(ColumnsPreview):
    """What a further batch brings, hole by hole, before it is accepted."""

    def __init__(self, form: FormState, files: dict[str, str]) -> None:
        super().__init__(form, files, nested=True)
        self.batch = BatchTable()
        self.counts, self.holes = self.batch.counts, self.batch.holes
        box = self.layout()
        assert isinstance(box, QVBoxLayout)
        box.insertWidget(0, self.batch)
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
        self.batch.compare(Inputs(items, store.crs), params)

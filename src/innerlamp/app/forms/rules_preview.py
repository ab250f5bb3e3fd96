"""Rules that group codes to units, and holes that are to be merged: edited as tables inside their forms."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHeaderView, QPushButton, QTableWidget, QTableWidgetItem, QVBoxLayout

from ...core.items.holes import HoleSet
from ...core.operations.data import merge_holes
from ...core.operations.data.grouping import codes_of, unit_of
from ..theme.plain import Label
from .fields import MappingField
from .form_state import FormState
from .previews import Preview

_READ = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable


def _table(headings: list[str]) -> QTableWidget:
    table = QTableWidget(0, len(headings))
    table.setHorizontalHeaderLabels(headings)
    table.verticalHeader().hide()
    table.verticalHeader().setDefaultSectionSize(20)
    table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
    return table


class RulesPreview(Preview):
    """Rules (code or pattern, unit) above the logged codes with their metres and the unit that each falls in."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.rules = _table(["Code or pattern", "Unit"])
        self.rules.setFixedHeight(150)
        self.rules.setToolTip("One rule a row; * stands for any letters, ? for one. The last row is for a new rule.")
        self.rules.setAccessibleName("Rules")
        self.rules.itemChanged.connect(lambda _: self._edited())
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.codes = _table(["Code", "Metres", "Unit"])
        self.codes.setFixedHeight(190)
        self.codes.setAccessibleName("Logged codes")
        take = QPushButton("A rule for each code without one")
        take.setToolTip("Adds the codes that no rule fits, for their units to be typed in")
        take.clicked.connect(self.take_codes)
        for widget in (Label("Rules"), self.rules, take, self.words, self.codes):
            box.addWidget(widget)
        self._filling = False
        self._shown = ("", "")
        self._add_row("", "")

    def _add_row(self, code: str, unit: str) -> None:
        before, self._filling = self._filling, True
        row = self.rules.rowCount()
        self.rules.insertRow(row)
        for column, text in enumerate((code, unit)):
            self.rules.setItem(row, column, QTableWidgetItem(text))
        self._filling = before

    def read_rules(self) -> dict[str, str]:
        """The rules as they stand."""
        rows = range(self.rules.rowCount())
        cells = [[(c.text().strip() if (c := self.rules.item(r, k)) else "") for k in (0, 1)] for r in rows]
        return {code: unit for code, unit in cells if code}

    def _edited(self) -> None:
        if self._filling:
            return
        last = self.rules.rowCount() - 1
        if any((c := self.rules.item(last, k)) and c.text().strip() for k in (0, 1)):
            self._add_row("", "")
        field = self.form.fields["rules"]
        assert isinstance(field, MappingField)
        field.mapping = self.read_rules()
        field._touch()

    def take_codes(self) -> None:
        """Add a rule, still without a unit, for each code that no rule fits."""
        holes = self.form.item("holes")
        if not isinstance(holes, HoleSet):
            return
        rules = self.read_rules()
        open_codes = [
            c for c in codes_of(holes, str(self.form.values()["attribute"]))["code"] if not unit_of(str(c), rules)
        ]
        self._filling = True
        self.rules.removeRow(self.rules.rowCount() - 1)
        for code in open_codes:
            if code not in rules:
                self._add_row(str(code), "")
        self._add_row("", "")
        self._filling = False
        self._edited()

    def update_preview(self) -> None:
        holes = self.form.item("holes")
        if not isinstance(holes, HoleSet):
            return
        attribute = str(self.form.values()["attribute"])
        here = (self.form.input("holes"), attribute)
        if here != self._shown:
            self._shown = here
            self._filling = True
            self.rules.setRowCount(0)
            for code, unit in holes.groups.get(attribute, {}).get("rules", {}).items():
                self._add_row(code, unit)
            self._add_row("", "")
            self._filling = False
            field = self.form.fields["rules"]
            assert isinstance(field, MappingField)
            field.mapping = self.read_rules()
        rules = {k: v for k, v in self.read_rules().items() if v}
        codes = codes_of(holes, attribute)
        self.codes.setRowCount(len(codes))
        lost = 0.0
        for row, each in enumerate(codes.itertuples()):
            unit = unit_of(str(each.code), rules)
            lost += 0.0 if unit else float(each.metres)  # type: ignore[arg-type]
            for column, text in enumerate((str(each.code), f"{each.metres:,.0f}", unit or "none")):
                cell = QTableWidgetItem(text)
                cell.setFlags(_READ)
                if not unit:
                    cell.setForeground(QColor(self.form.ctx.theme.bad))
                self.codes.setItem(row, column, cell)
        total = max(float(codes["metres"].sum()), 1e-9) if len(codes) else 1.0
        self.words.setText(f"{len(codes)} codes; {lost / total:.0%} of the metres have no unit yet.")


class SamePreview(Preview):
    """Holes that may be one hole written in two ways; those that are ticked are merged."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.words = Label()
        self.words.setWordWrap(True)
        self.table = _table(["Hole", "is", "Found in"])
        self.table.setFixedHeight(200)
        self.table.itemChanged.connect(lambda _: self._edited())
        box.addWidget(self.words)
        box.addWidget(self.table)
        self._filling = False
        self._shown: object = None

    def update_preview(self) -> None:
        holes = self.form.item("holes")
        if not isinstance(holes, HoleSet) or holes is self._shown:
            return
        self._shown = holes
        alike = merge_holes.proposals(holes)
        self._filling = True
        self.table.setRowCount(len(alike))
        for row, each in enumerate(alike.itertuples()):
            for column, text in enumerate((each.hole, each.like, f"{each.table}, {each.rows} rows")):
                cell = QTableWidgetItem(str(text))
                cell.setFlags(_READ | (Qt.ItemFlag.ItemIsUserCheckable if column == 0 else Qt.ItemFlag.NoItemFlags))
                if column == 0:
                    cell.setCheckState(Qt.CheckState.Unchecked)
                elif column == 1:
                    cell.setFlags(_READ | Qt.ItemFlag.ItemIsEditable)
                self.table.setItem(row, column, cell)
        self._filling = False
        self.words.setText(
            "Tick those that are one hole. Nothing is merged without a tick."
            if len(alike)
            else "No hole is written in two ways."
        )
        self._edited()

    def _edited(self) -> None:
        if self._filling:
            return
        chosen = {}
        for row in range(self.table.rowCount()):
            hole, like = self.table.item(row, 0), self.table.item(row, 1)
            if hole is not None and like is not None and hole.checkState() == Qt.CheckState.Checked:
                chosen[hole.text()] = like.text().strip()
        field = self.form.fields["same"]
        assert isinstance(field, MappingField)
        field.mapping = chosen
        self.form.run_button.setEnabled(bool(chosen))

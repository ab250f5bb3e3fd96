"""What was understood of one file: columns with their roles and units, first rows, what becomes of odd values."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import LampError
from ...core.formats.tables import saved_mappings, tables_in
from ...core.formats.tables.roles import ROLES
from ...core.formats.tables.saved_mappings import SavedMapping, shape_of
from ...core.importing import intake, offers
from ...core.importing.detection import CellRules
from ...core.importing.offers import KINDS, Offer
from ..base import background
from ..context.context import Context
from ..theme.plain import Label
from .picks_preview import PicksEditor

_ROWS = 8


@dataclass(frozen=True)
class _Looked:
    rows: list[list[str]]
    odd: list[str]
    questions: intake.Questions


def _look(offer: Offer, rules: CellRules) -> _Looked:
    assert offer.layout is not None
    rows = tables_in.first_rows(offer.ref, offer.layout, _ROWS)
    return _Looked(rows, intake.odd_values(offer, rules), intake.questions([offer]))


class OfferPreview(QWidget):
    """The chosen file of the form, for the user to correct."""

    corrected = Signal(object)  # the Offer with other columns
    saved = Signal()
    asks = Signal(str, object)  # file, and its intake.Questions

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.offer: Offer | None = None
        self.rules = CellRules()
        self.combos: dict[str, QComboBox] = {}
        self.labels: dict[str, QLabel] = {}
        self.required: set[str] = set()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        self.words = Label()
        self.words.setWordWrap(True)
        self.roles = QWidget()
        self.grid = QGridLayout(self.roles)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(6)
        self.grid.setVerticalSpacing(2)
        self.table = QTableWidget(0, 0)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(18)
        self.table.setFixedHeight(150)
        self.table.setAccessibleName("First rows")
        self.odd = Label()
        self.odd.setObjectName("faint")
        self.odd.setWordWrap(True)
        self.picks = PicksEditor(ctx)
        keep = QWidget()
        line = QHBoxLayout(keep)
        line.setContentsMargins(0, 0, 0, 0)
        self.name = QLineEdit()
        self.name.setPlaceholderText("Name, such as the laboratory")
        self.name.returnPressed.connect(self._keep)
        button = QPushButton("Keep these columns")
        button.setToolTip(
            "Keeps what this file is and its columns under the name; offered again for files with the same columns"
        )
        button.clicked.connect(self._keep)
        line.addWidget(self.name, 1)
        line.addWidget(button)
        self.keeping = keep
        for widget in (self.words, self.roles, self.table, self.odd, self.picks, keep):
            box.addWidget(widget)
        self._answers = background.answers_for(self, self._came)
        self._number = 0
        self.show_offer(None)

    def show_offer(self, offer: Offer | None) -> None:
        """Show another file, or the same one read as something else."""
        self.offer = offer
        self._number += 1
        self.combos, self.labels, self.required = {}, {}, set()
        while self.grid.count():
            widget = self.grid.takeAt(0).widget()  # type: ignore[union-attr]
            if widget is not None:
                widget.hide()  # what is only deleted later would be painted once more
                widget.deleteLater()
        table = offer is not None and offer.layout is not None
        picture = offer is not None and offer.kind == "picture"
        for widget, on in (
            (self.roles, table),
            (self.table, table),
            (self.odd, table),
            (self.keeping, table and bool(KINDS[offer.kind][1]) if offer else False),
            (self.picks, picture),
        ):
            widget.setVisible(on)
        if offer is None:
            self.words.setText("Choose a file to see what was understood of it.")
            return
        self.words.setText(
            f"{offer.label}: {KINDS[offer.kind][0]}. {offer.why[:1].upper()}{offer.why[1:]}"
            + (f"; {offer.layout.words}." if offer.layout else ".")
        )
        if picture:
            self.picks.show_file(offer.ref)
        if not table or offer.layout is None:
            return
        self._fill_roles(offer)
        self.name.setText(offer.mapping)
        self.table.setRowCount(0)
        self.odd.setText("Looking at the first rows …")
        self._look_again()

    def update_offer(self, offer: Offer) -> None:
        """Show other columns of the same file; the boxes stay, so that the keyboard keeps its place."""
        self.offer = offer
        for role, combo in self.combos.items():
            combo.setCurrentIndex(max(combo.findData(offer.roles.get(role, "")), 0))
            label = self.labels[role]
            label.setObjectName("bad" if role in self.required and not combo.currentData() else "")
            label.style().unpolish(label)
            label.style().polish(label)
        self._number += 1
        self._look_again()

    def _look_again(self) -> None:
        offer, rules = self.offer, self.rules
        assert offer is not None
        background.start(self._answers, self._number, lambda: _look(offer, rules), "the first rows can't be read")

    def _fill_roles(self, offer: Offer) -> None:
        assert offer.layout is not None
        for number, role in enumerate(ROLES.get(KINDS[offer.kind][1], ())):
            combo = QComboBox()
            combo.setObjectName(f"role.{role.name}")
            combo.setAccessibleName(role.label)
            combo.addItem("choose" if role.required else "none", "")
            for column in offer.layout.columns:
                combo.addItem(column, column)
            combo.setCurrentIndex(max(combo.findData(offer.roles.get(role.name, "")), 0))
            combo.setMinimumContentsLength(6)
            combo.activated.connect(lambda _, r=role.name, c=combo: self._chosen(r, str(c.currentData())))
            label = Label(f"{role.label}{' *' if role.required else ''}")
            if role.required and not combo.currentData():
                label.setObjectName("bad")
            self.grid.addWidget(label, number // 2, 2 * (number % 2))
            self.grid.addWidget(combo, number // 2, 2 * (number % 2) + 1)
            self.combos[role.name], self.labels[role.name] = combo, label
            if role.required:
                self.required.add(role.name)
        self.grid.setColumnStretch(1, 1)
        self.grid.setColumnStretch(3, 1)

    def _chosen(self, role: str, column: str) -> None:
        if self.offer is not None:
            self.corrected.emit(intake.with_role(self.offer, role, column))

    def _came(self, number: int, result: object) -> None:
        if number != self._number or self.offer is None or self.offer.layout is None:
            return
        if not isinstance(result, _Looked):
            self.odd.setText(str(result))
            return
        words = intake.columns_in_words(self.offer)
        self.table.setColumnCount(len(words))
        self.table.setHorizontalHeaderLabels([f"{c}\n{role or (unit or 'value')}" for c, role, unit in words])
        self.table.setRowCount(len(result.rows))
        for row, cells in enumerate(result.rows):
            for place, cell in enumerate(cells[: len(words)]):
                self.table.setItem(row, place, QTableWidgetItem(cell))
        self.table.resizeColumnsToContents()
        self.odd.setText(
            "In the first rows: " + "\n".join(result.odd)
            if result.odd
            else "Nothing odd in the first rows."
            if KINDS[self.offer.kind][1]
            else ""
        )
        self.odd.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.asks.emit(self.offer.ref, result.questions)

    def _keep(self) -> None:
        offer = self.offer
        if offer is None or offer.layout is None:
            return
        if offers.lacking(offer):
            self.ctx.say("Choose the required columns first.", "bad")
            return
        roles = {r: c for r, c in offer.roles.items() if c}
        try:
            saved_mappings.keep(
                SavedMapping(self.name.text().strip(), offer.kind, shape_of(offer.layout.columns), roles)
            )
        except LampError as error:
            self.ctx.say(str(error), "bad")
            return
        self.ctx.say(f"Kept as '{self.name.text().strip()}': offered for files with the same columns.", "good")
        self.saved.emit()

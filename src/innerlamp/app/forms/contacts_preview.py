"""The contact table of a model of units: how often units touch in the holes, and which surface each pair feeds."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...core.declaring.operation import Cost
from ...core.items.legend import CLASS_COLOURS
from ...core.operations.geology.units.contact_table import NONE
from ..theme.plain import Label, plain_tip
from .form_state import FormState
from .previews import Preview
from .table_field import TableField

_READ = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
_WIDEST, _ROW, _COLUMN = 96, 22, 32


class ContactsPreview(Preview):
    """Unit against unit; the chosen cell's surface is chosen below, and written into the form's rows."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        head = Label("Contacts in the holes")
        head.setToolTip(
            "How often two units touch, and the unit whose surface the contact feeds; each pair feeds one only"
        )
        box.addWidget(head)
        self.grid = QTableWidget()
        self.grid.setObjectName("contactTable")
        self.grid.setAccessibleName("Contact table")
        self.grid.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.grid.verticalHeader().setDefaultSectionSize(_ROW)
        self.grid.verticalHeader().setMaximumWidth(_WIDEST)
        self.grid.horizontalHeader().setDefaultSectionSize(_COLUMN)
        self.grid.horizontalHeader().setMinimumSectionSize(_COLUMN)
        self.grid.currentCellChanged.connect(lambda *_: self._chosen())
        box.addWidget(self.grid)
        row = QHBoxLayout()
        self.words = Label("Choose a cell to say which surface it feeds.")
        self.words.setWordWrap(True)
        self.surface = QComboBox()
        self.surface.setObjectName("feeds")
        self.surface.setToolTip("The unit whose surface this contact feeds; none leaves it out")
        self.surface.activated.connect(lambda _: self._feed())
        row.addWidget(self.words, 1)
        row.addWidget(self.surface)
        box.addLayout(row)
        self.left_out = Label()
        self.left_out.setObjectName("bad")
        self.left_out.setWordWrap(True)
        box.addWidget(self.left_out)
        self.pairs: dict[tuple[int, int], tuple[str, str, int, str]] = {}
        self.hide()

    def update_preview(self) -> None:
        pass  # the pairs come with the cost, which is asked for whenever the form changes

    def cost_known(self, cost: Cost) -> None:
        units = [str(r.get("unit", "")).strip() for r in self._rows("units")]
        self.setVisible(bool(cost.contacts))
        touching = [u for u in units if any(u in pair[:2] for pair in cost.contacts)]
        at = (self.grid.currentRow(), self.grid.currentColumn())
        self.grid.blockSignals(True)
        self.grid.clear()
        self.grid.setRowCount(len(touching))
        self.grid.setColumnCount(len(touching))
        self.grid.setHorizontalHeaderLabels([t[:4] for t in touching])
        for column, name in enumerate(touching):
            head_item = self.grid.horizontalHeaderItem(column)
            if head_item is not None:
                head_item.setToolTip(plain_tip(name))
        self.grid.setVerticalHeaderLabels(touching)
        self.pairs = {}
        known = {(one, other): pair for pair in cost.contacts for one, other in (pair[:2],)}
        theme = self.form.ctx.theme
        for i, one in enumerate(touching):
            for j, other in enumerate(touching):
                pair = known.get((one, other)) or known.get((other, one))
                cell = QTableWidgetItem("")
                if pair is None:
                    cell.setFlags(Qt.ItemFlag.NoItemFlags)
                else:
                    self.pairs[i, j] = pair
                    cell.setFlags(_READ)
                    cell.setText(str(pair[2]) if pair[3] != NONE else f"({pair[2]})")
                    cell.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
                    cell.setToolTip(
                        plain_tip(f"{pair[0]} and {pair[1]} touch {pair[2]} times; they feed the surface of {pair[3]}")
                    )
                    cell.setBackground(QBrush(self._shade(pair[3], units)))
                    cell.setForeground(QBrush(QColor(theme.bad if pair[3] == NONE else "#1F2328")))
                self.grid.setItem(i, j, cell)
        head = self.grid.horizontalHeader().sizeHint().height()
        self.grid.setFixedHeight(head + _ROW * max(len(touching), 1) + 18)
        if at in self.pairs:
            self.grid.setCurrentCell(*at)
        self.grid.blockSignals(False)
        lost = [p for p in cost.contacts if p[3] == NONE]
        self.left_out.setText(
            "Feed no surface: " + "; ".join(f"{p[0]} and {p[1]} ({p[2]})" for p in lost) if lost else ""
        )
        self.left_out.setVisible(bool(lost))
        self._chosen()

    def _shade(self, surface: str, units: list[str]) -> QColor:
        """A light colour for the unit that a pair feeds, the same in all cells of it; white for none."""
        if surface not in units:
            return QColor("#FFFFFF")
        return QColor(CLASS_COLOURS[units.index(surface) % len(CLASS_COLOURS)]).lighter(112)

    def _rows(self, name: str) -> list[dict[str, str]]:
        field = self.form.fields[name]
        assert isinstance(field, TableField)
        return field.value()

    def _pair(self) -> tuple[str, str, int, str] | None:
        return self.pairs.get((self.grid.currentRow(), self.grid.currentColumn()))

    def _chosen(self) -> None:
        pair = self._pair()
        self.surface.setEnabled(pair is not None)
        self.surface.clear()
        if pair is None:
            self.words.setText("Choose a cell to say which surface it feeds.")
            return
        self.words.setText(f"{pair[0]} and {pair[1]} feed")
        background = [str(r.get("unit", "")).strip() for r in self._rows("units") if r.get("kind") == "background"]
        names = [str(r.get("unit", "")).strip() for r in self._rows("units")]
        self.surface.addItems([*(n for n in names if n and n not in background), NONE])
        self.surface.setCurrentText(pair[3])

    def _feed(self) -> None:
        """Give the chosen pair to the chosen surface; that of the younger unit needs no row."""
        pair = self._pair()
        if pair is None:
            return
        rows = [
            r for r in self._rows("contacts") if {str(r.get("one", "")), str(r.get("other", ""))} != {pair[0], pair[1]}
        ]
        chosen = self.surface.currentText()
        if chosen != pair[0]:
            rows.append({"one": pair[0], "other": pair[1], "surface": chosen})
        field = self.form.fields["contacts"]
        assert isinstance(field, TableField)
        field.set_value(rows)
        field._touch()

"""The left side: work areas, the steps of the chosen one with their marks, and the form of an open step."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.operations.declare import AREAS, Area, Operation
from ...core.operations.table import OPERATIONS
from ...core.project.records import Notice
from ..context import Context
from ..forms.form import OperationForm
from ..theme.icons import area_icon

STEPS_WIDTH, FORM_WIDTH = 208, 286


@dataclass(frozen=True)
class Mark:
    """State of a step: a sign, and words that say the same."""

    sign: str
    words: str


def mark_of(ctx: Context, operation: Operation) -> Mark:
    """Return how far a step is: nothing yet, done, stale, or what it needs."""
    entries = ctx.entries()
    for slot in operation.inputs:
        if not slot.optional and not any(e.kind in slot.kinds and (slot.need is None or slot.need(e)) for e in entries):
            return Mark("○", f"needs {slot.label.lower()}")
    made = [e for e in entries if e.recipe is not None and e.recipe.operation == operation.name]
    if not made:
        return Mark("·", "nothing yet")
    state = ctx.freshness()
    stale = sum(state[e.id] in ("stale", "behind") for e in made)
    if stale:
        return Mark("◐", f"{stale} stale")
    return Mark("✓", f"{len(made)} made")


class Steps(QFrame):
    """Rail of work areas beside the steps of one area or an open form."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.setObjectName("side")
        self.ctx = ctx
        self.form: OperationForm | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        rail = QFrame()
        rail.setObjectName("rail")
        rail.setFixedWidth(82)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 6, 0, 6)
        column.setSpacing(2)
        self.buttons = QButtonGroup(self)
        self.buttons.setExclusive(True)
        for number, area in enumerate(AREAS):
            button = QToolButton()
            button.setObjectName("railButton")
            button.setText(area)
            button.setCheckable(True)
            button.setIconSize(QSize(24, 24))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setFixedWidth(82)
            button.setToolTip(f"{area} (Ctrl+{number + 1})")
            self.buttons.addButton(button, number)
            column.addWidget(button)
        column.addStretch(1)
        row.addWidget(rail)
        self.stack = QStackedWidget()
        self.stack.setFixedWidth(STEPS_WIDTH)
        row.addWidget(self.stack)
        self.list = QScrollArea()
        self.list.setWidgetResizable(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.stack.addWidget(self.list)
        self.area: Area = AREAS[0]
        self.step_buttons: dict[str, QPushButton] = {}
        self.buttons.idClicked.connect(lambda number: self.show_area(AREAS[number]))
        ctx.items_changed.connect(self._on_items)
        ctx.project_changed.connect(self._on_project)
        ctx.theme_changed.connect(self._icons)
        self._icons()
        self.show_area(AREAS[0])

    def _icons(self) -> None:
        for number, area in enumerate(AREAS):
            self.buttons.button(number).setIcon(area_icon(area, self.ctx.theme.text))

    def _on_items(self, notice: Notice) -> None:
        self._fill()

    def _on_project(self) -> None:
        self.close_form()
        self._fill()

    def show_area(self, area: Area) -> None:
        """Show the steps of a work area; an open form is closed."""
        self.area = area
        self.buttons.button(AREAS.index(area)).setChecked(True)
        self.close_form()
        self._fill()

    def _fill(self) -> None:
        page = QWidget()
        box = QVBoxLayout(page)
        box.setContentsMargins(8, 8, 8, 8)
        box.setSpacing(1)
        heading = QLabel(self.area)
        heading.setObjectName("heading")
        box.addWidget(heading)
        self.step_buttons = {}
        for op in OPERATIONS.values():
            if op.area != self.area:
                continue
            mark = mark_of(self.ctx, op)
            button = QPushButton(
                self.fontMetrics().elidedText(f"{mark.sign}  {op.title}", Qt.TextElideMode.ElideRight, STEPS_WIDTH - 34)
            )
            button.setObjectName("step")
            button.setToolTip(f"{op.help}\n({mark.words})")
            button.setEnabled(self.ctx.store is not None)
            button.clicked.connect(lambda _=False, op=op: self.open_form(op.name))
            words = QLabel(mark.words)
            words.setObjectName("faint")
            words.setIndent(24)
            box.addWidget(button)
            box.addWidget(words)
            self.step_buttons[op.name] = button
        box.addStretch(1)
        self.list.setWidget(page)

    def open_form(self, operation: str) -> OperationForm:
        """Open the form of an operation in place of the steps."""
        self.close_form()
        op = OPERATIONS[operation]
        self.area = op.area
        self.buttons.button(AREAS.index(op.area)).setChecked(True)
        self.form = OperationForm(self.ctx, op)
        self.form.closed.connect(self.close_form)
        self.stack.addWidget(self.form)
        self.stack.setFixedWidth(FORM_WIDTH)
        self.stack.setCurrentWidget(self.form)
        self.form.focus_first()
        return self.form

    def close_form(self) -> None:
        """Go back to the steps."""
        if self.form is not None:
            form, self.form = self.form, None
            self.stack.setCurrentWidget(self.list)
            self.stack.setFixedWidth(STEPS_WIDTH)
            form.let_go()
            self.stack.removeWidget(form)
            form.deleteLater()
            self._fill()

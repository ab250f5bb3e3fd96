"""The left side: work areas, the steps of the chosen one with their marks, and the form of an open step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.declaring.operation import AREAS, Area, Operation
from ...core.project.records import Notice
from ...core.running.groups import GROUPS
from ...core.running.table import OPERATIONS, find_operation
from ..context.context import Context
from ..forms.form import OperationForm
from ..forms.intake_form import IntakeForm
from ..sequences.intake_queue import IntakeQueue
from ..theme.icons import area_icon
from ..theme.plain import Label, plain_tip

STEPS_WIDTH, FORM_WIDTH, INTAKE_WIDTH = 208, 286, 430


@dataclass(frozen=True)
class Mark:
    """State of a step: a sign, words that say the same, and the name of what it made last."""

    sign: str
    words: str
    last: str = ""


def mark_of(ctx: Context, operation: Operation) -> Mark:
    """Return how far a step is: nothing yet, done, stale, or what it needs."""
    entries = ctx.entries()
    for slot in operation.inputs:
        if not slot.optional and not any(e.kind in slot.kinds and (slot.need is None or slot.need(e)) for e in entries):
            return Mark("○", f"needs {slot.label.lower()}")
    made = [e for e in entries if any(step.operation == operation.name for step in e.chain)]
    if not made:
        return Mark("·", "nothing yet")
    state = ctx.freshness()
    stale = sum(state[e.id] in ("stale", "behind") for e in made)
    last = max(made, key=lambda e: e.made_at).name
    if stale:
        return Mark("◐", f"{stale} stale", last)
    return Mark("✓", f"{len(made)} made", last)


class Steps(QFrame):
    """Rail of work areas beside the steps of one area or an open form."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.setObjectName("side")
        self.ctx = ctx
        self.form: OperationForm | None = None
        self.intake: IntakeForm | None = None
        self.queue = IntakeQueue(ctx)
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
            button.setToolTip(plain_tip(f"{area} (Ctrl+{number + 1})"))
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
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(80)
        self._soon.timeout.connect(self._fill)
        ctx.project_changed.connect(self._on_project)
        ctx.theme_changed.connect(self._icons)
        ctx.ask.connect(self._asked)
        self._icons()
        self.show_area(AREAS[0])

    def _icons(self) -> None:
        for number, area in enumerate(AREAS):
            self.buttons.button(number).setIcon(area_icon(area, self.ctx.theme.text))

    def _on_items(self, notice: Notice) -> None:
        self._soon.start()  # what was edited is drawn first

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
        heading = Label(self.area)
        heading.setObjectName("heading")
        box.addWidget(heading)
        self.step_buttons = {}
        if self.area == "Data":
            button = QPushButton("⇣  Bring in files")
            button.setObjectName("step")
            button.setToolTip(
                "Drop files or folders of any kind: each is told by its content, checked and brought in (Ctrl+I)"
            )
            button.setEnabled(self.ctx.store is not None)
            button.clicked.connect(lambda _=False: self.open_intake())
            words = Label("any kind, many at once")
            words.setObjectName("faint")
            words.setIndent(24)
            box.addWidget(button)
            box.addWidget(words)
            self.step_buttons["bring-in"] = button
        for group, names in GROUPS[self.area].items():
            words = Label(group)
            words.setObjectName("group")
            words.setContentsMargins(2, 8, 0, 1)
            box.addWidget(words)
            for name in names:
                self._add_step(box, OPERATIONS[name])
        box.addStretch(1)
        self.list.setWidget(page)

    def _add_step(self, box: QVBoxLayout, op: Operation) -> None:
        mark = mark_of(self.ctx, op)
        button = QPushButton(self._in_lines(f"{mark.sign}  {op.title}"))
        button.setObjectName("step")
        button.setAccessibleName(op.title)
        button.setToolTip(plain_tip(f"{op.help}\n({mark.words}{f'; last: {mark.last}' if mark.last else ''})"))
        button.setEnabled(self.ctx.store is not None)
        button.clicked.connect(lambda _=False, op=op: self.open_form(op.name))
        box.addWidget(button)
        if mark.words != "nothing yet":  # the sign says that already
            words = Label(f"{mark.words}: {mark.last}" if mark.last else mark.words)
            words.setObjectName("faint")
            words.setIndent(24)
            words.setWordWrap(True)
            box.addWidget(words)
        self.step_buttons[op.name] = button

    def _in_lines(self, text: str) -> str:
        """Return a text in as many lines as the width of the steps asks for; nothing is cut."""
        wide = self.fontMetrics().horizontalAdvance
        lines, line = [], ""
        for word in text.split(" "):
            more = f"{line} {word}" if line else word
            if line and wide(more) > STEPS_WIDTH - 40:
                lines.append(line)
                more = f"     {word}"
            line = more
        return "\n".join([*lines, line])

    def open_form(self, operation: str) -> OperationForm:
        """Open the form of an operation in place of the steps."""
        self.close_form()
        op = find_operation(operation)
        self.area = op.area
        self.buttons.button(AREAS.index(op.area)).setChecked(True)
        self.form = OperationForm(self.ctx, op)
        self._show(self.form, FORM_WIDTH)
        return self.form

    def _asked(self, operation: str, inputs: dict[str, Any], values: dict[str, Any]) -> None:
        form = self.open_form(operation)
        edit, item = values.pop("@edit", None), values.pop("@item", "")
        if edit is not None:
            form.edit = (inputs.get(form.operation.base, item), int(edit))
            form.run_button.setText("Change")
        for slot, item in inputs.items():
            if slot in form.lists:
                form.lists[slot].choose([item] if isinstance(item, str) else list(item))
            elif slot in form.slots and (at := form.slots[slot].findData(item)) >= 0:
                form.slots[slot].setCurrentIndex(at)
        form._slot_changed()
        for name, value in form.operation.today(values, form.operation.version).items():
            if name in form.fields:
                form.fields[name].set_value(value)
                form.fields[name].touched = True
        form._changed()

    def open_intake(self, paths: Sequence[Path | str] = ()) -> IntakeForm:
        """Open the form that brings files in, or add files to it."""
        if self.intake is None:
            self.close_form()
            self.area = "Data"
            self.buttons.button(AREAS.index("Data")).setChecked(True)
            self.intake = IntakeForm(self.ctx, self.queue)
            self._show(self.intake, INTAKE_WIDTH)
        if paths:
            self.intake.take(paths)
        return self.intake

    def _show(self, form: OperationForm | IntakeForm, width: int) -> None:
        form.closed.connect(self.close_form)
        self.stack.addWidget(form)
        self.stack.setFixedWidth(width)
        self.stack.setCurrentWidget(form)
        form.focus_first()

    def close_form(self) -> None:
        """Go back to the steps."""
        form = self.form or self.intake
        if form is not None:
            self.form = self.intake = None
            self.stack.setCurrentWidget(self.list)
            self.stack.setFixedWidth(STEPS_WIDTH)
            form.let_go()
            self.stack.removeWidget(form)
            form.deleteLater()
            self._fill()

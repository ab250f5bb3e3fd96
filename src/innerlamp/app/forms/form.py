"""The form of an operation, made from its declaration; every pane stays live while it is open."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ...core.declaring.operation import Cost, Inputs, Operation
from ...core.errors import LampError
from ...core.progress import Progress
from ...core.project.records import Notice
from ..context.context import Context
from ..theme.plain import Label
from .fields import AreaField, AttributeField, FileField, MappingField, widget_for
from .form_state import FormState
from .item_list import ItemList
from .preview_table import PREVIEWS, PREVIEWS_AFTER, PREVIEWS_FIRST
from .previews import Preview

_MANY = 3  # inputs that are not proposed, from which they stand under "More"


class OperationForm(FormState):
    """Inputs, parameters, what it will cost, and the button that runs it."""

    closed = Signal()

    def __init__(self, ctx: Context, operation: Operation) -> None:
        super().__init__(ctx, operation)
        self.edit: tuple[str, int] | None = None  # the change of an item that this form makes otherwise
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 8, 8)
        box.setSpacing(4)
        back = QPushButton("‹ Steps")
        back.setObjectName("link")
        back.setToolTip("Back to the steps (Esc)")
        back.clicked.connect(self.closed.emit)
        top = QHBoxLayout()
        top.addWidget(back)
        top.addStretch(1)
        box.addLayout(top)
        heading = Label(operation.title)
        heading.setObjectName("heading")
        heading.setWordWrap(True)
        box.addWidget(heading)
        about = Label(operation.help)
        about.setObjectName("faint")
        about.setWordWrap(True)
        box.addWidget(about)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        self.column = QVBoxLayout(inner)
        self.column.setContentsMargins(0, 4, 6, 4)
        self.column.setSpacing(6)
        self._build()
        self.column.addStretch(1)
        area.setWidget(inner)
        box.addWidget(area, 1)
        self.cost = Label()
        self.cost.setObjectName("faint")
        self.cost.setWordWrap(True)
        box.addWidget(self.cost)
        self.notes = Label()
        self.notes.setWordWrap(True)
        self.notes.setToolTip("What a look at the data found, and what is done about it")
        self.notes.hide()
        box.addWidget(self.notes)
        self.problem = Label()
        self.problem.setObjectName("bad")
        self.problem.setWordWrap(True)
        self.problem.hide()
        box.addWidget(self.problem)
        self.run_button.setObjectName("run")
        self.run_button.setToolTip("Run it in the background (Ctrl+Return)")
        self.run_button.clicked.connect(self.run)
        box.addWidget(self.run_button)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(120)
        self._soon.timeout.connect(self._update)
        self._off: list[Callable[[], None]] = [
            ctx.items_changed.connect(self._on_items),
            ctx.loaded.connect(self._on_loaded),
        ]
        self._slot_changed()

    # ---- building

    def _build(self) -> None:
        op = self.operation
        layout = self._rows()
        more = QFormLayout()
        _as_rows(more)
        hidden: list[QWidget] = []
        # Where many things may be known beforehand, they stand with what is rarely changed.
        apart = [slot.slot for slot in op.inputs if slot.optional and not slot.proposed]
        self.apart = apart if len(apart) >= _MANY else []
        for slot in op.inputs:
            if slot.many:
                self.lists[slot.slot] = ItemList(slot)
                self.lists[slot.slot].changed.connect(self._slot_changed)
                words = Label(slot.label)
                words.setToolTip(slot.help)
                layout.addRow(words)
                layout.addRow(self.lists[slot.slot])
                continue
            combo = QComboBox()
            combo.setObjectName(slot.slot)
            combo.setToolTip(slot.help or slot.label)
            combo.setMinimumContentsLength(10)
            self.slots[slot.slot] = combo
            combo.activated.connect(lambda _: self._slot_changed())
            words = Label(slot.label)
            words.setWordWrap(True)
            (more if slot.slot in self.apart else layout).addRow(words, combo)
            hidden += [words, combo] if slot.slot in self.apart else []
        self._fill_slots()
        self.preview: Preview | None = None
        if op.name in PREVIEWS_FIRST:
            self.preview = PREVIEWS_FIRST[op.name](self)
            self.column.addWidget(self.preview)
            layout = self._rows()
        self.column.addLayout(more)
        for name, info in op.fields().items():
            widget = widget_for(info)
            widget.setObjectName(name)
            widget.changed.connect(self._changed)
            self.fields[name] = widget
            if isinstance(widget, MappingField):
                continue
            if isinstance(widget, AreaField):
                widget.bind(self.ctx, self._around)
            label = Label(f"{info.label} ({info.unit})" if info.unit else info.label)
            label.setWordWrap(True)
            label.setToolTip(widget.toolTip())
            target = more if info.more else layout
            if info.columns:
                target.addRow(label)
                target.addRow(widget)
            else:
                target.addRow(label, widget)
            if info.more:
                hidden += [label, widget]
            if name == PREVIEWS_AFTER.get(op.name, ("", None))[0]:
                self.preview = PREVIEWS_AFTER[op.name][1](self)
                target.addRow(self.preview)
        if hidden:
            toggle = QPushButton("More")
            toggle.setObjectName("link")
            toggle.setCheckable(True)
            self.column.insertWidget(self.column.count() - 1, toggle)
            _show_all(hidden, False)
            toggle.toggled.connect(lambda on: _show_all(hidden, on))
            toggle.setChecked(any(self.input(slot) for slot in self.apart))
        if op.name in PREVIEWS:
            self.preview = PREVIEWS[op.name](self)
            self.column.addWidget(self.preview)

    def _rows(self) -> QFormLayout:
        layout = QFormLayout()
        _as_rows(layout)
        self.column.addLayout(layout)
        return layout

    def _fill_slots(self) -> None:
        # What a person has just selected is what the form is for; the other slots are as they were the last time.
        # Something that this very operation made is not its own input, though: then it is made again from the same.
        selected = self.ctx.entry(self.ctx.selected)
        mine = selected is not None and selected.recipe is not None and selected.recipe.operation == self.operation.name
        mine = mine and not self.operation.base
        for slot in self.operation.inputs:
            fitting = [
                e
                for e in self.ctx.entries()
                if e.kind in slot.kinds and (slot.need is None or slot.need(e)) and not e.dated
            ]
            if slot.many:
                self.lists[slot.slot].offer({e.id: e.name for e in fitting})
                continue
            combo = self.slots[slot.slot]
            before = combo.currentData()
            combo.clear()
            if slot.optional:
                combo.addItem("none", "")
            for entry in fitting:
                combo.addItem(entry.name, entry.id)
            ids = [e.id for e in fitting]
            used = self._used_before(slot.slot)
            first = slot is self.operation.inputs[0] and not mine
            choices = (before, self.ctx.selected if first else "", used, self.ctx.selected)
            wanted = next(
                (i for i in choices if i in ids), next((i for i in ids if i in self.ctx.lit), ids[0] if ids else "")
            )
            if not slot.proposed and wanted not in (before, used):
                wanted = ""
            combo.setCurrentIndex(max(combo.findData(wanted), 0))

    def _used_before(self, slot: str) -> str:
        """The item that the latest run of this operation used in a slot."""
        for entry in reversed(self.ctx.entries()):
            for step in reversed(entry.chain):
                if step.operation == self.operation.name:
                    return next((i for i, _ in step.inputs.get(slot, ())), entry.id if slot == step.base else "")
        return ""

    # ---- state

    def _slot_changed(self) -> None:
        for field in self.fields.values():
            if isinstance(field, AttributeField):
                entry = self.ctx.entry(self.input(field.info.of))
                preferred = self.ctx.attribute_of(entry) if entry else ""
                field.offer(dict(entry.attributes) if entry else {}, preferred)
        self._suggest()
        self._changed()

    def _suggest(self) -> None:
        if self.operation.suggest is None or self.ctx.store is None:
            return
        items, suggest = self.items(), self.operation.suggest
        if items is None:
            return
        inputs = Inputs(items, self.ctx.store.crs)
        self.lane.call("suggest", lambda _: suggest(inputs), self._suggested)

    def _suggested(self, values: object) -> None:
        moved = False
        for name, value in values.items() if isinstance(values, dict) else ():
            field = self.fields[name]
            if not field.touched:
                before = field.value()
                field.set_value(value)
                moved = moved or field.value() != before
        if moved:  # what is said below was said of what stood here before
            self._changed()

    def _on_items(self, notice: Notice) -> None:
        if notice.added or notice.removed:
            self._fill_slots()
            self._slot_changed()

    def _on_loaded(self, item: str) -> None:
        if any(item == chosen or item in chosen for chosen in self.inputs().values()):
            self._suggest()
            self._changed()

    def _changed(self) -> None:
        self.problem.hide()
        self._soon.start()

    def _update(self) -> None:
        if self.preview is not None:
            self.preview.update_preview()
        self._ask_cost()

    def _ask_cost(self) -> None:
        op, store = self.operation, self.ctx.store
        items = self.items()
        needed = [slot.slot for slot in op.inputs if not slot.optional]
        if op.estimate is None or store is None or items is None or any(slot not in items for slot in needed):
            self.cost.setText("")
            return
        estimate, inputs, values = op.estimate, Inputs(items, store.crs), self.values()

        def work(_: Progress) -> Cost | None:
            try:
                params = op.check(values)
            except LampError:  # what is not filled in yet is said when it is run
                return None
            return estimate(inputs, params)

        self.lane.call("cost", work, self._show_cost)

    def _show_cost(self, cost: object) -> None:
        if isinstance(cost, Cost):
            self.cost.setText(f"{cost.text}. About {_seconds(cost.seconds)}, {max(cost.megabytes, 1):,.0f} MB.")
            self.notes.setText("\n".join(f"• {note}" for note in cost.notes))
            self.ctx.set_sketch(cost.sketch)
            if self.preview is not None:
                self.preview.cost_known(cost)
        else:
            self.cost.setText(str(cost) if isinstance(cost, LampError) else "")
            self.notes.setText("")
            self.ctx.set_sketch(None)
        self.notes.setVisible(bool(self.notes.text()))

    def _around(self) -> tuple[float, ...] | None:
        item = self.item(self.operation.inputs[0].slot) if self.operation.inputs else None
        return item.bounds if item is not None else None

    # ---- running

    def run(self) -> None:
        """Start the operation; what is wrong is said in the form."""
        try:
            for field in self.fields.values():
                if isinstance(field, FileField) and field.info.required and not field.value():
                    raise LampError(f"choose the {field.info.label.lower()}")
            if self.edit is not None and self.ctx.session is not None:
                item, place = self.edit
                if place:
                    self.ctx.session.desk.redo_edit(item, place, self.values())
                else:
                    self.ctx.session.desk.rerun(item, self.values(), self.inputs())
            else:
                self.ctx.start(self.operation.name, self.values(), self.inputs())
        except LampError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.ctx.say(f"{self.operation.title}: started.")

    def focus_first(self) -> None:
        """Put the keyboard where typing starts."""
        first = next(iter(self.slots.values()), None) or next(
            (f for f in self.fields.values() if not isinstance(f, MappingField)), None
        )
        if first is not None:
            first.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.run()
        else:
            super().keyPressEvent(event)

    def let_go(self) -> None:
        """Stop listening; the form may be deleted afterwards."""
        self._soon.stop()
        self.lane.close()
        for field in self.fields.values():
            if isinstance(field, AreaField):
                field.let_go()
        self.ctx.set_sketch(None)
        for off in self._off:
            off()


def _as_rows(layout: QFormLayout) -> None:
    layout.setVerticalSpacing(4)
    layout.setHorizontalSpacing(8)
    layout.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.ExpandingFieldsGrow)
    layout.setRowWrapPolicy(QFormLayout.RowWrapPolicy.DontWrapRows)


def _seconds(value: float) -> str:
    if value < 1.5:
        return "a second"
    return f"{value:.0f} seconds" if value < 90 else f"{value / 60:.0f} minutes"


def _show_all(widgets: list[QWidget], on: bool) -> None:
    for widget in widgets:
        widget.setVisible(on)

"""What stands in a form: the chosen items and the parameters, as its previews see them."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QComboBox, QPushButton, QWidget

from ...core.declaring.operation import Operation
from ...core.items.base import Item
from ..base.background import Lane
from ..context.context import Context
from .field_base import FieldWidget
from .item_list import ItemList


class FormState(QWidget):
    """Fields by parameter, items by input slot, and the lane in which previews are worked out."""

    def __init__(self, ctx: Context, operation: Operation) -> None:
        super().__init__()
        self.ctx, self.operation = ctx, operation
        self.lane = Lane()
        self.fields: dict[str, FieldWidget] = {}
        self.slots: dict[str, QComboBox] = {}
        self.lists: dict[str, ItemList] = {}
        self.run_button = QPushButton("Run")

    def inputs(self) -> dict[str, str | list[str]]:
        """Chosen item ids by slot; a list for a slot that takes many."""
        one = {slot: str(combo.currentData()) for slot, combo in self.slots.items() if combo.currentData()}
        return {**one, **{slot: chosen for slot, rows in self.lists.items() if (chosen := rows.chosen())}}

    def input(self, slot: str) -> str:
        """The item of a slot that takes one, '' for none."""
        return str(self.slots[slot].currentData() or "") if slot in self.slots else ""

    def values(self) -> dict[str, object]:
        """Parameters as they stand in the form."""
        return {name: field.value() for name, field in self.fields.items()}

    def item(self, slot: str) -> Item | None:
        """The chosen item of a slot that takes one, None while it is being read."""
        return self.ctx.item(self.input(slot)) if self.input(slot) else None

    def items(self) -> dict[str, Item | Sequence[Item]] | None:
        """The chosen items, or None while one of them is still being read."""
        found: dict[str, Item | Sequence[Item]] = {}
        for slot, chosen in self.inputs().items():
            loaded = [self.ctx.item(i) for i in ([chosen] if isinstance(chosen, str) else chosen)]
            there = [item for item in loaded if item is not None]
            if len(there) < len(loaded):
                return None
            found[slot] = there[0] if isinstance(chosen, str) else there
        return found

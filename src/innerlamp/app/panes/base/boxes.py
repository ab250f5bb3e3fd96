"""Choices and letters that the heads and axes of panes share."""

from __future__ import annotations

from PySide6.QtGui import QFont
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QTableView

from ....core.compute.geometry.planes import EXAGGERATIONS
from ...context.context import Context


def small_font() -> QFont:
    """Return the font of ticks and axis titles."""
    font = QFont()
    font.setPointSizeF(7.5)
    return font


def choice_box(tip: str, items: list[str] | None = None, length: int = 7) -> QComboBox:
    """Return a choice that is at least `length` letters wide and no wider than it must be."""
    box = QComboBox()
    box.addItems(items or [])
    as_choice(box, tip, length)
    return box


def as_choice(box: QComboBox, tip: str, length: int) -> None:
    """Let a box be at least `length` letters wide and no wider than it must be."""
    box.setToolTip(tip)
    box.setMinimumContentsLength(length)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)


def refill(box: QComboBox, items: list[str], wanted: str) -> None:
    """Offer other items, and choose the wanted one if it is there, else the first."""
    if [box.itemText(k) for k in range(box.count())] != items:
        box.clear()
        box.addItems(items)
    box.setCurrentText(wanted if wanted in items else (items[0] if items else ""))


def rows_view() -> QTableView:
    """Return a table whose rows are chosen as a whole and sorted by a click on a heading."""
    view = QTableView()
    view.setSortingEnabled(True)
    view.setAlternatingRowColors(True)
    view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    view.verticalHeader().setDefaultSectionSize(20)
    return view


def exaggeration_box(ctx: Context) -> QComboBox:
    """Return a box that chooses the vertical exaggeration, shared by section and 3D."""
    tip = "Vertical exaggeration of section and 3D; auto: low and wide sections are stretched, 3D stays true"
    box = choice_box(tip, length=4)
    box.addItem("z auto", 0.0)
    for factor in EXAGGERATIONS:
        box.addItem(f"z × {factor:g}", factor)
    show_exaggeration(box, ctx)
    box.activated.connect(lambda _: ctx.set_exaggeration(float(box.currentData())))
    return box


def show_exaggeration(box: QComboBox, ctx: Context) -> None:
    """Let a box show what is chosen."""
    chosen, usual = ctx.view.exaggeration, len(EXAGGERATIONS) + 1
    while box.count() > usual:
        box.removeItem(usual)
    if chosen and chosen not in EXAGGERATIONS:  # one that was typed
        box.addItem(f"z × {chosen:.3g}", chosen)
    box.setCurrentIndex(max(box.findData(chosen), 0))

"""The card of the selected item: facts, colours, how it was made, what hangs from it, what can be done with it."""

from __future__ import annotations

from dataclasses import replace
from html import escape
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import InputError
from ...core.formats.out.tables_out import file_part
from ...core.formats.table import formats_for
from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.fields import BlockModel
from ...core.items.holes import HoleSet
from ...core.items.legend import RAMPS, Legend
from ...core.items.points import PointSet
from ...core.numbers import parse_number
from ...core.project import trail
from ...core.project.records import Entry, Notice
from ..context.context import Context
from ..theme.plain import Label, plain_tip
from .cutoff_slider import CutoffSlider
from .difference import DifferenceCard
from .item_history import HistoryList
from .misses import MissList, is_list
from .space_rows import space_rows
from .style_rows import OpacitySlider, UnitList, symbol_rows, width_row
from .trade_off import TradeOff

NOTHING = "nothing"  # colours an item
UNCOLOURED = ("points", "holes", "features", "lines")  # what can be drawn in one colour


_GUARDED = "CSV, texts like formulas guarded"
_FACTS = 4  # facts that are shown before the others are asked for
_SHORT = 20  # letters of a fact that are kept together


class Card(QScrollArea):
    """Facts, legend, recipe and trail of the selected item."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.origin_open = self.facts_open = False
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(self.horizontalScrollBarPolicy().ScrollBarAlwaysOff)
        ctx.project_changed.connect(self.fill)
        ctx.selected_changed.connect(lambda _: self.fill())
        ctx.items_changed.connect(self._on_items)
        ctx.loaded.connect(self._on_loaded)
        ctx.legend_changed.connect(lambda _: self.fill())
        self.fill()

    def _on_items(self, notice: Notice) -> None:
        self.fill()

    def _on_loaded(self, item: str) -> None:
        if item == self.ctx.selected:
            self.fill()

    def fill(self) -> None:
        """Show the selected item; the field that had the keyboard keeps it, so that a list can be stepped through."""
        focus = self.focusWidget()
        kept = focus.objectName() if focus is not None and focus.hasFocus() else ""
        page = QWidget()
        box = QVBoxLayout(page)
        box.setContentsMargins(8, 4, 8, 8)
        box.setSpacing(4)
        entry = self.ctx.entry(self.ctx.selected)
        if entry is None:
            hint = Label("Select an item on the shelf to see its facts, colours and how it was made.")
            hint.setObjectName("faint")
            hint.setWordWrap(True)
            box.addWidget(hint)
        else:
            heading = Label(entry.name)
            heading.setObjectName("heading")
            heading.setWordWrap(True)
            box.addWidget(heading)
            if entry.id in self.ctx.problems:
                bad = Label(self.ctx.problems[entry.id])
                bad.setObjectName("bad")
                bad.setWordWrap(True)
                box.addWidget(bad)
            self._facts(box, entry)
            item = self.ctx.item(entry.id)
            if item is not None and is_list(item, entry):
                box.addWidget(MissList(self.ctx, entry, item))
            if item is not None:
                self._colours(box, entry, item)
            self._recipe(box, entry)
            if self.ctx.comparable(entry):
                box.addWidget(DifferenceCard(self.ctx, entry))
            self._buttons(box, entry)
        box.addStretch(1)
        self.setWidget(page)
        again = page.findChild(QWidget, kept) if kept else None
        if again is not None:
            again.setFocus()

    def _facts(self, box: QVBoxLayout, entry: Entry) -> None:
        """The first facts in a flowing text, names faint; all of them, one a line, when asked for."""
        faint = self.ctx.theme.faint
        facts = list(entry.facts.items())
        folds = len(facts) > _FACTS + 1
        if folds and self.facts_open:
            rows = "".join(
                f'<tr><td style="color:{faint}; padding-right:8px">{escape(name)}</td><td>{escape(value)}</td></tr>'
                for name, value in facts
            )
            words = f"<table>{rows}</table>"
        else:
            words = "&nbsp; ".join(
                # A short value stays in one line; a long one would make the card wider than its column.
                f'<span style="color:{faint}">{escape(name)}</span>&nbsp;'
                + (escape(value).replace(" ", "&nbsp;") if len(value) <= _SHORT else escape(value))
                for name, value in (facts[:_FACTS] if folds else facts)
            )
        text = Label(words)
        text.setObjectName("facts")
        text.setTextFormat(Qt.TextFormat.RichText)
        text.setWordWrap(True)
        box.addWidget(text)
        if folds:
            fold = QPushButton()
            fold.setObjectName("factsFold")
            fold.setText("▾ Fewer facts" if self.facts_open else f"▸ {len(facts) - _FACTS} more facts")
            fold.setToolTip("All facts of the item, one a line, or only the first")
            fold.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            fold.clicked.connect(self._fold_facts)
            box.addWidget(fold)

    def _fold_facts(self) -> None:
        self.facts_open = not self.facts_open
        self.fill()

    def _colours(self, box: QVBoxLayout, entry: Entry, item: Item) -> None:
        form = QFormLayout()
        form.setVerticalSpacing(3)
        form.setHorizontalSpacing(8)
        if not entry.attributes or is_ground(entry.attributes):
            if entry.kind not in ("page", "walk", "core"):
                form.addRow("Opacity", OpacitySlider(self.ctx, entry))
                space_rows(self.ctx, form, entry, item)
                box.addLayout(form)
            return
        chosen = self.ctx.attribute_of(entry)
        pick = QComboBox()
        pick.setObjectName("colourBy")
        pick.setMinimumContentsLength(6)
        pick.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        names = {name: name for name in entry.attributes}
        if entry.kind in UNCOLOURED:
            names[NOTHING] = "-"
        pick.addItems(list(names))
        pick.setCurrentText(chosen if chosen in entry.attributes else NOTHING)
        pick.setToolTip("The attribute that colours this item in all panes")
        # The last signal of a choice: the card is made anew by it.
        pick.textActivated.connect(lambda text: self.ctx.set_colour_by(entry.id, names[text]))
        form.addRow("Colour by", pick)
        if chosen in entry.attributes:
            legend = self.ctx.legend(chosen, item)
            if not legend.classes:
                self._ramp(form, legend, item)
        if entry.kind == "points" and isinstance(item, PointSet) and item.content != "structures":
            symbol_rows(self.ctx, form, entry, item)
        if isinstance(item, HoleSet) and item.tables:
            width_row(self.ctx, form, entry, item)
        space_rows(self.ctx, form, entry, item)
        form.addRow("Opacity", OpacitySlider(self.ctx, entry))
        box.addLayout(form)
        if isinstance(item, BlockModel) and len(item.course) > 1:
            box.addWidget(TradeOff(self.ctx, item.course))
        if chosen in entry.attributes and 0 < len(legend.classes) <= 24:
            box.addWidget(UnitList(self.ctx, legend, patterns=entry.kind == "features"))

    def _ramp(self, form: QFormLayout, legend: Legend, item: Item) -> None:
        row = QHBoxLayout()
        ramp = QComboBox()
        ramp.setObjectName("ramp")
        ramp.setToolTip("Colour ramp of this attribute, in all panes")
        ramp.addItems(list(RAMPS))
        ramp.setCurrentText(legend.ramp)
        ramp.textActivated.connect(lambda text: self.ctx.set_legend(replace(legend, ramp=text)))
        scale = QComboBox()
        scale.setObjectName("scale")
        scale.setToolTip("How values are spread over the ramp")
        scale.addItems(["linear", "log", *(["classes"] if legend.breaks else [])])
        scale.setCurrentText(legend.scale)
        scale.textActivated.connect(lambda text: self._set(legend, scale=text))
        for box in (ramp, scale):
            box.setMinimumContentsLength(3)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        row.addWidget(ramp, 1)
        row.addWidget(scale, 1)
        form.addRow("Ramp", row)
        ends = QHBoxLayout()
        cut = QLineEdit("" if legend.cutoff is None else f"{legend.cutoff:g}")
        cut.setObjectName("legend_cutoff")
        cut.setPlaceholderText("none")
        cut.setMinimumWidth(30)
        cut.setToolTip(
            plain_tip(f"Cut-off{f', {legend.unit}' if legend.unit else ''}: what lies below is hidden, in all panes")
        )
        cut.editingFinished.connect(lambda: self._number(cut, legend, "cutoff"))
        for name, value in (("low", legend.low), ("high", legend.high)):
            edit = QLineEdit(f"{value:g}")
            edit.setObjectName(f"legend_{name}")
            edit.setMinimumWidth(30)
            edit.setToolTip(
                plain_tip(f"Value at the {name} end of the ramp{f', {legend.unit}' if legend.unit else ''}")
            )
            edit.editingFinished.connect(lambda edit=edit, name=name: self._number(edit, legend, name))
            ends.addWidget(edit)
        form.addRow("From, to", ends)
        slider = CutoffSlider(self.ctx, legend, item, lambda value: self._set(legend, cutoff=value))
        pair = QHBoxLayout()
        pair.setSpacing(4)
        pair.addWidget(slider, 3)
        pair.addWidget(cut, 1)
        form.addRow("Cut-off", pair)

    def _set(self, legend: Legend, **values: object) -> None:
        changed = replace(legend, **values)  # type: ignore[arg-type]
        if changed.scale == "log" and changed.low <= 0:
            self.ctx.say("A log scale needs its low end above 0.", "bad")
            self.fill()
        elif changed.high <= changed.low:
            self.ctx.say("The high end of the ramp must be above its low end.", "bad")
            self.fill()
        elif changed != legend:
            self.ctx.set_legend(changed)

    def _number(self, edit: QLineEdit, legend: Legend, name: str) -> None:
        if name == "cutoff" and not edit.text().strip():
            self._set(legend, cutoff=None)
            return
        try:
            self._set(legend, **{name: parse_number(edit.text())})
        except InputError as error:
            self.ctx.say(str(error), "bad")
            self.fill()

    def _recipe(self, box: QVBoxLayout, entry: Entry) -> None:
        store = self.ctx.store
        if store is None:
            return
        state = self.ctx.freshness().get(entry.id, "source")
        words = {
            "fresh": "up to date",
            "stale": "stale: an input has changed",
            "behind": "held, and behind its inputs",
            "source": "dated copy"
            if entry.dated
            else "imported"
            if entry.recipe and entry.recipe.sources
            else "made here",
        }
        version = f"version {len(store.versions(entry.id)) or 1} of {entry.made_at.replace('T', ' ')}"
        fold = QPushButton()
        fold.setObjectName("origin")
        fold.setCheckable(True)
        fold.setChecked(self.origin_open)
        fold.setToolTip(plain_tip(f"Origin: what it was made from, what uses it, its recipe and edits ({version})"))
        fold.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        box.addWidget(fold)
        inner = QWidget()
        lines = QVBoxLayout(inner)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.setSpacing(2)
        when = Label(version.capitalize())
        when.setObjectName("faint")
        lines.addWidget(when)
        names = {e.id: e.name for e in self.ctx.entries()}
        for label, ids in (
            ("Made from", trail.made_from(store, entry.id)),
            ("Used by", trail.used_by(store, entry.id)),
        ):
            if ids:
                text = Label(f"{label}: " + ", ".join(names[i] for i in dict.fromkeys(ids)))
                text.setObjectName("faint")
                text.setWordWrap(True)
                lines.addWidget(text)
        lines.addWidget(HistoryList(self.ctx, entry))
        box.addWidget(inner)

        def show(open_: bool) -> None:
            self.origin_open = open_
            inner.setVisible(open_)
            fold.setText(f"{'▾' if open_ else '▸'} Origin: {words[state]}")

        fold.toggled.connect(show)
        show(self.origin_open)

    def _buttons(self, box: QVBoxLayout, entry: Entry) -> None:
        session = self.ctx.session
        if session is None:
            return
        row = QHBoxLayout()
        row.setSpacing(4)
        if entry.recipe is not None and not entry.recipe.is_edit and not entry.dated:
            again = QPushButton("Refresh")
            again.setToolTip(
                "Make it again from what its inputs, or the files it was read from, are now; changes are made again on top"
            )
            again.clicked.connect(lambda: self.ctx.guard(self.ctx.refresh, entry.id))
            row.addWidget(again)
        if entry.needs and not entry.dated:
            hold = QPushButton("Release" if entry.held else "Hold")
            hold.setToolTip("Held items are not made again when their inputs change")
            hold.clicked.connect(lambda: self.ctx.guard(session.hold, entry.id, not entry.held))
            row.addWidget(hold)
        save = QPushButton("Export…")
        save.clicked.connect(lambda: self._export(entry))
        row.addWidget(save)
        row.addStretch(1)
        box.addLayout(row)

    def _export(self, entry: Entry) -> None:
        if entry.kind in ("page", "walk"):
            self.ctx.wish.emit(entry.kind, "")
            what = "Pages are" if entry.kind == "page" else "Walk-throughs are"
            self.ctx.say(f"{what} exported from their pane.", "look")
            return
        names = [f"{f.name} (*{' *'.join(f.extensions)})" for f in formats_for(entry.kind)]
        if any(".csv" in f.extensions for f in formats_for(entry.kind)):
            names.append(f"{_GUARDED} (*.csv)")
        suffix = formats_for(entry.kind)[0].extensions[0]
        proposed = f"{file_part(entry.name)}{suffix}"
        path, chosen = QFileDialog.getSaveFileName(self, f"Export {entry.name}", proposed, ";;".join(names))
        if path:
            self.export_to(entry.id, Path(path), chosen.startswith(_GUARDED))

    def export_to(self, item: str, path: Path, guard: bool = False) -> None:
        """Write an item to a file in the background; the strip says which files were written."""
        session, entry = self.ctx.session, self.ctx.entry(item)
        if session is not None and entry is not None:
            ending = formats_for(entry.kind)[0].extensions[0]
            self.ctx.guard(session.desk.export, [item], path if path.suffix else path.with_suffix(ending), guard)

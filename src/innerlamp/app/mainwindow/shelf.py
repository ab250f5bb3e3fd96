"""The shelf: all items by kind, each with its lamp."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QBrush, QColor, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLineEdit,
    QMenu,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.items.kinds import KINDS
from ...core.project.records import Notice
from ..context.context import Context
from ..theme.plain import Label, plain_tip

ID = Qt.ItemDataRole.UserRole
ORDER = (
    "holes",
    "points",
    "lines",
    "electrodes",
    "features",
    "picture",
    "core",
    "grid",
    "surface",
    "blocks",
    "targets",
    "page",
    "walk",
)


class _Tree(QTreeWidget):
    def __init__(self, shelf: Shelf) -> None:
        super().__init__()
        self.shelf = shelf

    def event(self, event: QEvent) -> bool:
        # On the shelf F2 renames; elsewhere it fills the centre with the second pane.
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.key() == Qt.Key.Key_F2
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        row = self.currentItem()
        item = row.data(0, ID) if row else ""
        chosen = self.shelf.chosen()
        if chosen and event.key() == Qt.Key.Key_Space:
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self.shelf.only(chosen)
            else:
                self.shelf.light(chosen, not all(i in self.shelf.ctx.lit for i in chosen))
        elif item and event.key() == Qt.Key.Key_F2:
            self.editItem(row, 0)  # type: ignore[arg-type]
        elif chosen and event.key() == Qt.Key.Key_Delete and self.shelf.ctx.session:
            self.shelf.ctx.guard(self.shelf.ctx.session.remove, *chosen)
        else:
            super().keyPressEvent(event)


class Shelf(QWidget):
    """List of items with search, lamps and state marks."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        box = QVBoxLayout(self)
        box.setContentsMargins(6, 6, 6, 0)
        box.setSpacing(4)
        heading = Label("Shelf")
        heading.setObjectName("heading")
        box.addWidget(heading)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find an item")
        self.search.setClearButtonEnabled(True)
        self.search.setToolTip("Show only items whose names hold these letters; Return goes to the first one")
        self.search.textChanged.connect(lambda _: self._filter())
        self.search.returnPressed.connect(self._go_to_first)
        box.addWidget(self.search)
        self.tree = _Tree(self)
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(12)
        self.tree.setRootIsDecorated(True)
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.tree.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        self.tree.itemChanged.connect(self._changed)
        self.tree.currentItemChanged.connect(self._current)
        box.addWidget(self.tree)
        self._filling = False
        self._alone: tuple[frozenset[str], tuple[str, ...]] = (frozenset(), ())  # lit alone now, lit before that
        ctx.project_changed.connect(self.fill)
        ctx.items_changed.connect(self._on_items)
        ctx.lit_changed.connect(self._show_lamps)
        ctx.selected_changed.connect(lambda _: self._show_selected())
        ctx.theme_changed.connect(self.fill)
        self.fill()

    def _on_items(self, notice: Notice) -> None:
        self.fill()

    def chosen(self) -> list[str]:
        """The items whose rows are selected, in the order of the list."""
        picked = set(map(id, self.tree.selectedItems()))
        return [item for item, row in self.rows().items() if id(row) in picked and not row.isHidden()]

    def fill(self) -> None:
        """Show all items of the project; rows that were selected stay so."""
        self._filling = True
        before = set(self.chosen())
        self.tree.clear()
        state = self.ctx.freshness()
        theme = self.ctx.theme
        entries = self.ctx.entries()
        for kind in ORDER:
            members = [e for e in entries if e.kind == kind]
            if not members:
                continue
            group = QTreeWidgetItem([f"{KINDS[kind].title} · {len(members)}"])
            group.setFlags(Qt.ItemFlag.ItemIsEnabled)
            group.setForeground(0, QBrush(QColor(theme.faint)))
            self.tree.addTopLevelItem(group)
            for entry in members:
                mark = {"stale": "  · stale", "behind": "  · behind (held)"}.get(
                    state.get(entry.id, ""), "  · held" if entry.held and not entry.dated else ""
                )
                row = QTreeWidgetItem([entry.name + mark])
                row.setData(0, ID, entry.id)
                row.setFlags(
                    Qt.ItemFlag.ItemIsEnabled
                    | Qt.ItemFlag.ItemIsSelectable
                    | Qt.ItemFlag.ItemIsUserCheckable
                    | Qt.ItemFlag.ItemIsEditable
                )
                row.setCheckState(0, Qt.CheckState.Checked if entry.id in self.ctx.lit else Qt.CheckState.Unchecked)
                facts = "\n".join(f"{k}: {v}" for k, v in entry.facts.items())
                row.setToolTip(
                    0,
                    plain_tip(
                        f"{entry.name}\n{facts}\nClick the lamp (or press Space) to light or dim it in all panes, with "
                        "all that is selected. Shift+Space lights only what is selected, and the others again."
                    ),
                )
                if mark and "held" not in mark:
                    row.setForeground(0, QBrush(QColor(theme.stale)))
                if entry.id in self.ctx.problems:
                    row.setForeground(0, QBrush(QColor(theme.bad)))
                group.addChild(row)
            group.setExpanded(True)
        self._filter()
        self._show_selected()
        for item, row in self.rows().items():
            if item in before:
                row.setSelected(True)
        self._filling = False

    def rows(self) -> dict[str, QTreeWidgetItem]:
        """Row of each item id."""
        found: dict[str, QTreeWidgetItem] = {}
        for g in range(self.tree.topLevelItemCount()):
            group = self.tree.topLevelItem(g)
            for k in range(group.childCount() if group else 0):
                row = group.child(k) if group else None
                if row is not None:
                    found[str(row.data(0, ID))] = row
        return found

    def _show_lamps(self) -> None:
        self._filling = True
        for item, row in self.rows().items():
            row.setCheckState(0, Qt.CheckState.Checked if item in self.ctx.lit else Qt.CheckState.Unchecked)
        self._filling = False

    def _show_selected(self) -> None:
        row = self.rows().get(self.ctx.selected)
        if row is None or self.tree.currentItem() is row:
            return
        if row.isHidden():  # asked for elsewhere: what was looked for here stands in its way
            self.search.clear()
        self.tree.setCurrentItem(row)
        self.tree.scrollToItem(row)

    def _filter(self) -> None:
        """Show the items that were looked for, under their headings, and no heading without any."""
        wanted = self.search.text().strip().lower()
        first: QTreeWidgetItem | None = None
        for row in self.rows().values():
            row.setHidden(wanted not in row.text(0).lower())
            if wanted and first is None and not row.isHidden():
                first = row
        for g in range(self.tree.topLevelItemCount()):
            group = self.tree.topLevelItem(g)
            if group is not None:
                group.setHidden(all(r is None or r.isHidden() for r in map(group.child, range(group.childCount()))))
                if wanted:
                    group.setExpanded(True)
        if first is not None:
            self.tree.scrollToItem(first)

    def _go_to_first(self) -> None:
        row = next((r for r in self.rows().values() if not r.isHidden()), None)
        if row is not None:
            self.tree.setCurrentItem(row)
            self.tree.setFocus()

    def light(self, items: Sequence[str], on: bool) -> None:
        """Light or dim items, in one change."""
        moved = {i: on for i in items if on != (i in self.ctx.lit)}
        if moved and self.ctx.session is not None:
            self.ctx.guard(self.ctx.session.light, moved)

    def _changed(self, row: QTreeWidgetItem, column: int) -> None:
        item = row.data(0, ID)
        if self._filling or not item:
            return
        on = row.checkState(0) == Qt.CheckState.Checked
        if on != (item in self.ctx.lit):
            chosen = self.chosen()
            self.light(chosen if item in chosen else [item], on)
            return
        entry = self.ctx.entry(item)
        name = row.text(0).split("  · ")[0].strip()
        if entry is not None and name and name != entry.name:
            assert self.ctx.session is not None
            self.ctx.guard(self.ctx.session.rename, item, name)

    def _current(self, row: QTreeWidgetItem | None, old: QTreeWidgetItem | None) -> None:
        if row is not None and row.data(0, ID) and not self._filling:
            self.ctx.select_item(str(row.data(0, ID)))

    def lit_alone(self, items: Sequence[str]) -> bool:
        """Whether just these are lit since they were lit alone, so that the others can come back."""
        return frozenset(self.ctx.lit) == frozenset(items) == self._alone[0] and bool(self._alone[1])

    def only(self, items: Sequence[str]) -> None:
        """Light these and no others; the second time light again what was lit before."""
        if self.ctx.session is None:
            return
        if self.lit_alone(items):
            there = {e.id for e in self.ctx.entries()}
            back = [i for i in self._alone[1] if i in there]
            self._alone = (frozenset(), ())
            self.ctx.guard(
                self.ctx.session.light,
                {**{i: False for i in self.ctx.lit if i not in back}, **dict.fromkeys(back, True)},
            )
            return
        self._alone = (frozenset(items), tuple(self.ctx.lit))
        self.ctx.guard(
            self.ctx.session.light,
            {**{i: False for i in self.ctx.lit if i not in items}, **{i: True for i in items if i not in self.ctx.lit}},
        )

    def _menu(self, at: QPoint) -> None:
        row = self.tree.itemAt(at)
        entry = self.ctx.entry(str(row.data(0, ID))) if row is not None and row.data(0, ID) else None
        if entry is None or row is None or self.ctx.session is None:
            return
        session, menu = self.ctx.session, QMenu(self)
        chosen = self.chosen() if row.isSelected() else [entry.id]
        on = all(i in self.ctx.lit for i in chosen)
        count = f" {len(chosen)} items" if len(chosen) > 1 else ""
        menu.addAction(f"{'Dim' if on else 'Light'}{count}\tSpace", lambda: self.light(chosen, not on))
        words = "Light the others again" if self.lit_alone(chosen) else f"Only these{count}" if count else "Only this"
        menu.addAction(f"{words}\tShift+Space", lambda: self.only(chosen))
        menu.addSeparator()
        menu.addAction("Rename\tF2", lambda: self.tree.editItem(row, 0))
        menu.addAction("Dated copy", lambda: self.ctx.guard(session.dated_copy, entry.id))
        if entry.recipe is not None and not entry.dated:
            menu.addAction(
                "Release" if entry.held else "Hold", lambda: self.ctx.guard(session.hold, entry.id, not entry.held)
            )
            menu.addAction("Refresh", lambda: self.ctx.guard(self.ctx.refresh, entry.id))
        menu.addSeparator()
        menu.addAction(f"Remove{count}\tDel", lambda: self.ctx.guard(session.remove, *chosen))
        menu.exec(self.tree.viewport().mapToGlobal(at))

"""The checks: what was found in an item's data, gaps, look-alike holes, control samples, and what people corrected."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pandas as pd
from PySide6.QtCore import QModelIndex
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QWidget,
)

from ....core.compute.drilling import checks
from ....core.errors import InputError
from ....core.findings import ORDER, by_kind, kind_of_finding, kinds_of
from ....core.formats.out.tables_out import write_csv
from ....core.importing import batches, control_charts
from ....core.importing.corrections import KINDS, tables_of
from ....core.items.base import Item
from ....core.items.holes import HoleSet
from ....core.operations.data import merge_holes
from ....core.operations.data.correct import meant_rows
from ....core.project.records import Entry
from ...context.context import Context, Selection
from ...theme.plain import Label, plain_tip
from ..base.boxes import choice_box, refill, rows_view
from ..base.pane import Pane
from .frame_model import FrameModel

ALL = "all"
_NOTHING = ("", -1, "", "", "")


def _findings(item: Item) -> pd.DataFrame:
    return getattr(item, "findings", pd.DataFrame())


def _gaps(item: Item) -> pd.DataFrame:
    if not isinstance(item, HoleSet):
        return pd.DataFrame()
    parts = [checks.gaps(t, item.collars).assign(table=n) for n, t in item.tables.items()]
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()


def _alike(item: Item) -> pd.DataFrame:
    return merge_holes.proposals(item) if isinstance(item, HoleSet) else pd.DataFrame()


def _controls(item: Item) -> pd.DataFrame:
    if not isinstance(item, HoleSet) or not len(item.controls):
        return pd.DataFrame()
    parts = [control_charts.judged(item, name) for name in control_charts.judged_attributes(item)]
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()


def _batches(item: Item) -> pd.DataFrame:
    """Batches of the laboratory by grade, those that fail first."""
    if not isinstance(item, HoleSet) or not len(item.controls):
        return pd.DataFrame()
    table = batches.judged_batches(item, control_charts.judged_attributes(item))
    return table.sort_values("state", kind="stable").reset_index(drop=True)


def _corrections(item: Item) -> pd.DataFrame:
    return getattr(item, "corrections", pd.DataFrame())


# What the pane can list: the table, and what its rows let one do.
LISTS: dict[str, tuple[Callable[[Item], pd.DataFrame], tuple[str, ...]]] = {
    "Findings by kind": (lambda item: by_kind(_findings(item)), ("rows",)),
    "Findings": (_findings, ("go", "correct", "leave out")),
    "Gaps": (_gaps, ("go",)),
    "Same hole?": (_alike, ("go", "merge")),
    "Control samples": (_controls, ("chart",)),
    "Batches": (_batches, ("samples", "judge", "chart")),
    "Corrections": (_corrections, ("go", "lift")),
}


class ChecksPane(Pane):
    """Findings of the selected item, to sort, to go to, to correct, and to export."""

    kind: ClassVar[str] = "checks"
    title: ClassVar[str] = "Checks"
    delay: ClassVar[int] = 40

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.of = choice_box("Whose checks", length=9)
        self.of.activated.connect(lambda _: self.ctx.select_item(str(self.of.currentData())))
        self.tools.addWidget(self.of)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(4, 2, 4, 2)
        row.setSpacing(4)
        self.what = choice_box("What to list", list(LISTS), length=9)
        self.what.activated.connect(lambda _: self._again())
        self.grave = choice_box("How serious", [ALL, *ORDER], length=6)
        self.grave.activated.connect(lambda _: self._again())
        self.kind_box = choice_box("Kind of finding", [ALL], length=9)
        self.kind_box.setToolTip("List only findings of one kind")
        self.kind_box.activated.connect(lambda _: self._again())
        self.count = Label()
        self.count.setObjectName("faint")
        row.addWidget(self.what)
        row.addWidget(self.grave)
        row.addWidget(self.kind_box)
        row.addWidget(self.count, 1)
        self.body.addWidget(line)
        self.view = rows_view()
        self.view.verticalHeader().hide()
        self.view.setAccessibleName("Checks")
        self.view.clicked.connect(self._went)
        self.body.addWidget(self.view)
        self.hint = Label("Select drillholes, samples, lines or electrodes on the shelf to see their checks.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        buttons = QWidget()
        foot = QHBoxLayout(buttons)
        foot.setContentsMargins(4, 2, 4, 3)
        foot.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        for key, words, tip, act in (
            ("rows", "Its rows", "List the rows behind this kind of finding (Return)", self._rows_behind),
            ("go", "Go there", "Show the place in all panes (Return)", self.go),
            (
                "correct",
                "Correct…",
                "Open the form that corrects this row, filled in",
                lambda: self._correct("set value"),
            ),
            (
                "leave out",
                "Leave out…",
                "Open the form that leaves this row out, filled in",
                lambda: self._correct("leave out row"),
            ),
            (
                "merge",
                "Merge…",
                "Open the form that merges holes written in two ways",
                lambda: self._open("merge-holes"),
            ),
            (
                "samples",
                "Select samples",
                "Select the assays of the chosen batches in all panes (Return)",
                self._samples,
            ),
            (
                "judge",
                "Judge…",
                "Open the form that marks the samples of failed batches, or leaves them out",
                self._judge,
            ),
            ("lift", "Lift", "Put back what stood there before the chosen corrections", self._lift),
            ("chart", "Chart", "Show the control chart of this set in the chart pane", self._chart),
            ("export", "Export CSV…", "Write this list to a file", self._export),
        ):
            button = QPushButton(words)
            button.setObjectName("small")
            button.setToolTip(tip)
            button.setMinimumWidth(button.fontMetrics().horizontalAdvance(words) + 16)
            button.clicked.connect(lambda _=False, a=act: a())
            foot.addWidget(button)
            self.buttons[key] = button
        foot.addStretch(1)
        self.body.addWidget(buttons)
        self.model: FrameModel | None = None
        self._shown: tuple[str, int, str, str, str] = _NOTHING
        self._listed = ("", -1)  # whose kinds the box offers
        self.redraw()

    # ---- what is listed

    def draw(self) -> None:
        entries = [e for e in self.ctx.entries() if e.kind in KINDS and not e.dated]
        names = [f"{e.name} · {e.facts['Findings']}" if "Findings" in e.facts else e.name for e in entries]
        refill(self.of, names, "")
        for k, each in enumerate(entries):
            self.of.setItemData(k, each.id)
        entry: Entry | None = next((e for e in entries if e.id == self.ctx.selected), None)
        self.of.setCurrentIndex(self.of.findData(entry.id) if entry else -1)
        item = self.ctx.item(entry.id) if entry else None
        useful = entry is not None and item is not None
        self.hint.setVisible(not useful)
        self.view.setVisible(useful)
        if entry is None or item is None:
            self.model = None
            self.count.clear()
            self._buttons()
            self._shown = _NOTHING
            return
        if (entry.id, entry.version) != self._listed:
            self._listed = (entry.id, entry.version)
            self._list_kinds(item)
        self.kind_box.setVisible(self.what.currentText() == "Findings")
        here = (
            entry.id,
            entry.version,
            self.what.currentText(),
            self.grave.currentText(),
            str(self.kind_box.currentData() or ""),
        )
        if here == self._shown:
            return
        self._shown = here
        table = LISTS[here[2]][0](item)
        self.grave.setVisible("severity" in table.columns)
        if "severity" in table.columns and here[3] != ALL:
            table = table[table["severity"] == here[3]].reset_index(drop=True)
        if here[2] == "Findings" and here[4]:
            table = table[kinds_of(table["what"]) == here[4]].reset_index(drop=True)
        self.model = FrameModel(table, {"from_m": "m", "to_m": "m", "gap_m": "m"})
        self.view.setModel(self.model)
        self.view.horizontalHeader().setSortIndicator(-1, self.view.horizontalHeader().sortIndicatorOrder())
        self.view.resizeColumnsToContents()
        for column in range(self.model.columnCount()):
            self.view.setColumnWidth(column, min(self.view.columnWidth(column) + 6, 300))
        for column in [k for k, c in enumerate(table.columns) if c in ("severity", "count")]:
            self.view.setColumnWidth(column, 64)
        self.count.setText(self._words(table, here[2]))
        self.count.setToolTip(plain_tip(self.count.text()))
        self._buttons()

    def _list_kinds(self, item: Item) -> None:
        """Offer the kinds of findings that there are, the gravest first; one that is chosen stays chosen."""
        kinds = list(dict.fromkeys(kind_of_finding(w) for w in by_kind(_findings(item))["what"].astype(str)))
        if kinds == [self.kind_box.itemData(k) for k in range(1, self.kind_box.count())]:
            return
        before = self.kind_box.currentData()
        refill(self.kind_box, ["all kinds", *kinds], "all kinds")
        for k, kind in enumerate(kinds, start=1):
            self.kind_box.setItemData(k, kind)
        self.kind_box.setCurrentIndex(max(self.kind_box.findData(before), 0) if before else 0)

    def _rows_behind(self) -> None:
        """List the rows behind the chosen kind of finding."""
        rows = self.chosen()
        if not len(rows):
            self.ctx.say("Choose a kind of finding first.", "bad")
            return
        kind = kind_of_finding(str(rows["what"].iloc[0]))
        self.what.setCurrentText("Findings")
        self.kind_box.setCurrentIndex(max(self.kind_box.findData(kind), 0))
        self._again()

    @staticmethod
    def _words(table: pd.DataFrame, what: str) -> str:
        if not len(table):
            return {
                "Gaps": "no gap",
                "Same hole?": "no hole is written in two ways",
                "Corrections": "nothing was corrected",
            }.get(what, "nothing to list")
        if what == "Findings by kind":
            sums = table.groupby("severity")["count"].sum()
            return ", ".join(f"{int(sums[s]):,} {s}" for s in ORDER if s in sums)
        if what == "Findings":
            counts = table["severity"].value_counts()
            return ", ".join(f"{int(counts[s]):,} {s}" for s in ORDER if s in counts)
        if what == "Gaps":
            return f"{len(table):,} gaps, {table['gap_m'].sum():,.0f} m"
        if what == "Corrections":
            return f"{int((table['lifted'] == '').sum()):,} hold, {int((table['lifted'] != '').sum()):,} lifted"
        if what == "Batches":
            failed = table[table["state"] == batches.FAILED]
            return f"{failed['batch'].nunique():,} of {table['batch'].nunique():,} batches fail"
        return f"{len(table):,} rows"

    def _again(self) -> None:
        self._shown = _NOTHING
        self.draw()

    def _buttons(self) -> None:
        able = LISTS[self.what.currentText()][1]
        rows = self.model is not None and len(self.model.table) > 0
        for key, button in self.buttons.items():
            button.setVisible(key in able or key == "export")
            button.setEnabled(rows)

    def chosen(self) -> pd.DataFrame:
        """The chosen rows of the list."""
        if self.model is None or self.view.selectionModel() is None:
            return pd.DataFrame()
        rows = [int(self.model.order[i.row()]) for i in self.view.selectionModel().selectedRows()]
        return self.model.table.iloc[rows]

    # ---- going there

    def _went(self, index: QModelIndex) -> None:
        if self.what.currentText() not in ("Findings by kind", "Batches"):
            self.go()

    def go(self) -> None:
        """Show where the chosen row is: the interval or sample itself, else its hole."""
        rows = self.chosen()
        item = self.ctx.item(self._shown[0])
        if not len(rows) or item is None:
            return
        row = rows.iloc[0]
        hit = self._row_of(item, row)
        if hit is not None:
            name, at = hit
            self.ctx.select_rows(Selection(self._shown[0], self._pane_table(item, name), (at,)))
            place = tables_of(item)[name].iloc[at]
            if {"x", "y", "z"} <= set(place.index):
                self._show(float(place["x"]), float(place["y"]), float(place["z"]))
                return
        hole = str(row.get("like", "") or row.get("hole", ""))
        if isinstance(item, HoleSet) and hole:
            self._show_depth(
                item, hole, float(row["from_m"]) if "from_m" in row and self.what.currentText() == "Gaps" else 0.0
            )

    @staticmethod
    def _pane_table(item: Item, name: str) -> str:
        if name or isinstance(item, HoleSet):
            return name
        return getattr(item, "content", "readings")

    @staticmethod
    def _row_of(item: Item, row: pd.Series) -> tuple[str, int] | None:
        """Table and row that a finding or a correction means, if it is still there."""
        name = str(row.get("table", ""))
        tables = tables_of(item)
        if name not in tables:
            name = next(iter(tables)) if len(tables) == 1 else name
        table = tables.get(name)
        if table is None:
            return None
        column = "file_line" if "file_line" in table.columns else "line"
        line = row.get("file_line", row.get("line", 0))
        if "from_m" in row.index and "number" in row.index and "hole" in table.columns:
            depth = "from_m" if "from_m" in table.columns else "depth_m" if "depth_m" in table.columns else ""
            hit = (table["hole"].astype(str) == row["hole"]).to_numpy()
            if depth:
                hit &= np.abs(table[depth].to_numpy(float) - float(row["from_m"])) < 1e-6
        elif column in table.columns and int(line or 0) > 0:
            hit = table[column].to_numpy() == int(line)
            if "hole" in table.columns and row.get("hole"):
                hit &= (table["hole"].astype(str) == str(row["hole"])).to_numpy()
        else:
            return None
        rows = np.flatnonzero(hit)
        return (name, int(rows[0])) if len(rows) else None

    def _show_depth(self, item: HoleSet, hole: str, depth: float) -> None:
        path = item.stations[item.stations["hole"] == hole]
        if len(path):
            x, y, z = (float(np.interp(depth, path["depth_m"], path[c])) for c in "xyz")
            self._show(x, y, z)

    def _show(self, x: float, y: float, z: float) -> None:
        if np.isnan(z):
            z = self.ctx.ground_at(x, y)
        self.ctx.point_at(x, y, z, self.kind)
        self.ctx.go_to.emit(x, y, z)

    # ---- acting

    def _open(self, operation: str, **values: object) -> None:
        self.ctx.ask.emit(operation, {"item": self._shown[0], "holes": self._shown[0]}, values)

    def _correct(self, action: str) -> None:
        rows = self.chosen()
        item = self.ctx.item(self._shown[0])
        if not len(rows) or item is None:
            self.ctx.say("Choose a row of the list first.", "bad")
            return
        hits = [h for _, row in rows.iterrows() if (h := self._row_of(item, row)) is not None]
        if not hits:
            self.ctx.say("That row was left out on import; correct it in the file, or merge its hole.", "bad")
            return
        name = hits[0][0]
        table = tables_of(item)[name]
        what = str(rows.iloc[0].get("what", ""))
        column = next((str(c) for c in table.columns if what.startswith(f"{c} ")), "")
        self._open(
            "correct",
            table=name,
            meant=meant_rows(table, [at for n, at in hits if n == name]),
            action=action,
            column=column,
            why=what,
        )

    def _lift(self) -> None:
        rows = self.chosen()
        if not len(rows):
            self.ctx.say("Choose corrections of the list first.", "bad")
            return
        numbers = "; ".join(str(int(n)) for n in rows["number"][rows["lifted"] == ""])
        self.ctx.guard(self.ctx.start, "lift-corrections", {"numbers": numbers}, {"item": self._shown[0]})

    def _samples(self) -> None:
        """Select the assays of the chosen batches, of those that fail when none is chosen."""
        item = self.ctx.item(self._shown[0])
        if self.model is None or not isinstance(item, HoleSet):
            return
        rows = self.chosen()
        if not len(rows):
            rows = self.model.table[self.model.table["state"] == batches.FAILED]
        wanted = set(rows["batch"].astype(str))
        for name, by in batches.rows_by_batch(item).items():
            hit = [at for batch, at in by.items() if batch in wanted]
            if hit and set(rows["attribute"]) & set(item.tables[name].columns):
                chosen = np.sort(np.concatenate(hit))
                self.ctx.select_rows(Selection(self._shown[0], name, tuple(chosen.tolist())))
                self.ctx.say(
                    f"{len(chosen):,} samples of {len(wanted)} {'batch' if len(wanted) == 1 else 'batches'} are selected.",
                    "good",
                )
                return
        self.ctx.say("No assays of these batches: the tables of assays have no column that names their batch.", "look")

    def _judge(self) -> None:
        names = tuple(dict.fromkeys(self.chosen()["attribute"].astype(str))) if len(self.chosen()) else ()
        self._open("judge-assays", **({"attributes": names} if names else {}))

    def _chart(self) -> None:
        self.ctx.wish.emit("chart", "Control")

    def _export(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Export the list", f"{self.what.currentText()}.csv", "CSV (*.csv)")
        if path:
            self.ctx.guard(self.export, Path(path))

    def export(self, path: Path) -> None:
        """Write the list, in the order that is shown, as CSV."""
        if self.model is None:
            return
        try:
            write_csv(self.model.table.iloc[self.model.order], path)
        except OSError as error:
            raise InputError(f"can't write the file ({error.strerror})", where=str(path)) from error
        self.ctx.say(f"{len(self.model.order):,} rows written to {path.name}", "good")

    def show_view(self, view: str) -> None:
        if view:
            self.what.setCurrentText(view)
        self._again()

    def on_selected(self, item: str) -> None:
        self.redraw()

    def on_items(self, notice: Any) -> None:
        self.redraw()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.text() == "\r":
            acts = {"Findings by kind": self._rows_behind, "Batches": self._samples}
            acts.get(self.what.currentText(), self.go)()
        super().keyPressEvent(event)

    def close_pane(self) -> None:
        super().close_pane()
        self.view.setModel(None)
        self.model = None

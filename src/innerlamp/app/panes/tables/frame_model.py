"""What the table shows: rows of a table with sorting and filtering, and the tables that each kind of item has."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import pandas as pd
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QBrush

from ....core.compute.statistics.relations import column_facts
from ....core.findings import report_by_hole
from ....core.items.base import Item
from ....core.items.electrodes import ElectrodeSurvey
from ....core.items.features import Features
from ....core.items.fields import BlockModel, Grid, Surface
from ....core.items.holes import INTERCEPTS, HoleSet
from ....core.items.legend import without_unit
from ....core.items.picture import Picture
from ....core.items.points import PointSet, SurveyLines, TargetSet
from ...theme.plain import plain_tip

Index = QModelIndex | QPersistentModelIndex
_ROOT = QModelIndex()
# Plain numbers: comparing with the enumeration would cost more than the rest.
_DISPLAY, _ALIGNMENT = int(Qt.ItemDataRole.DisplayRole), int(Qt.ItemDataRole.TextAlignmentRole)
_BACKGROUND = int(Qt.ItemDataRole.BackgroundRole)
HIDDEN = {"x0", "y0", "z0", "x1", "y1", "z1", "file_line"}


class FrameModel(QAbstractTableModel):
    """Shows a table without copying it; sorting keeps an order of rows."""

    def __init__(self, table: pd.DataFrame, units: dict[str, str]) -> None:
        super().__init__()
        self.table = table
        self.units = units
        self.kept = np.arange(len(table))
        self.order = self.kept
        self._columns = [table[c].to_numpy() for c in table.columns]
        self._names = [str(c) for c in table.columns]
        right = int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._alignments = [right if c.dtype.kind in "fiu" else None for c in self._columns]
        self._facts: dict[int, str] = {}
        self.marked: np.ndarray | None = None
        self._mark = QBrush()

    def keep(self, rows: np.ndarray) -> None:
        """Show only some rows."""
        self.beginResetModel()
        self.kept = rows
        self.order = rows
        self.endResetModel()

    def rowCount(self, parent: Index = _ROOT) -> int:  # noqa: N802
        return 0 if parent.isValid() else len(self.order)

    def columnCount(self, parent: Index = _ROOT) -> int:  # noqa: N802
        return 0 if parent.isValid() else len(self._columns)

    def data(self, index: Index, role: int = _DISPLAY) -> Any:
        # Asked some thousand times a frame, mostly for roles that have no answer: those leave at once.
        if role == _DISPLAY:
            column = index.column()
            return as_text(self._columns[column][self.order[index.row()]], self._names[column])
        if role == _ALIGNMENT:
            return self._alignments[index.column()]
        if role == _BACKGROUND and self.marked is not None and self.marked[self.order[index.row()]]:
            return self._mark
        return None

    def mark(self, rows: np.ndarray, brush: QBrush) -> None:
        """Show rows of the table as selected where the view's own selection would have too many pieces."""
        if not len(rows) and self.marked is None:
            return
        self.marked = None
        if len(rows):
            self.marked = np.zeros(len(self.table), dtype=bool)
            self.marked[rows] = True
        self._mark = brush
        if len(self.order) and self._columns:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.order) - 1, len(self._columns) - 1))

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: N802
        if orientation == Qt.Orientation.Vertical:
            return str(self.order[section] + 1) if role == Qt.ItemDataRole.DisplayRole else None
        name = str(self.table.columns[section])
        unit = self.units.get(name, "m" if name in ("x", "y", "z", "depth_m", "from_m", "to_m") else "")
        if role == Qt.ItemDataRole.DisplayRole:
            bare = without_unit(name, unit).replace("_", " ")
            bare = {"x": "Easting", "y": "Northing", "z": "Elevation"}.get(bare, bare)
            return f"{bare} ({unit})" if unit else bare
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip(f"{name}{f', in {unit}' if unit else ''}. Click to sort.{self.facts(section)}")
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < len(self._columns):
            return
        self.layoutAboutToBeChanged.emit()
        values = self._columns[column][self.kept]
        if values.dtype.kind not in "fiuM":
            values = pd.factorize(pd.Series(values).astype(str), sort=True)[0]
        keys = np.argsort(values, kind="stable")
        if order == Qt.SortOrder.DescendingOrder:
            keys = keys[::-1]
            if values.dtype.kind == "f":  # missing values stay at the end
                missing = np.isnan(values[keys])
                keys = np.concatenate([keys[~missing], keys[missing]])
        self.order = self.kept[keys]
        self.layoutChanged.emit()

    def facts(self, column: int) -> str:
        """What the shown rows of a column hold, in a few lines; worked out when first asked for."""
        key = column * 2_000_003 + len(self.kept)
        if key not in self._facts:
            values = self._columns[column][self.kept]
            if values.dtype.kind in "fiu":
                facts = column_facts(values.astype(float))
                self._facts[key] = "".join(f"\n{k}: {as_text(v)}" for k, v in facts.items())
            elif values.dtype.kind == "O" and len(values):
                counts = pd.Series(values).value_counts()
                shown = "".join(f"\n{k}: {v:,}" for k, v in counts.head(8).items())
                self._facts[key] = f"\n{len(counts):,} different{shown}"
            else:
                self._facts[key] = ""
        return self._facts[key]


def as_text(value: Any, column: str = "") -> str:
    """Return a cell as people read it: few digits for measures, centimetres for coordinates."""
    if isinstance(value, float):  # np.float64 is one as well
        if value != value:  # noqa: PLR0124 - quicker than asking numpy
            return ""
        if column in ("x", "y", "z") or column.endswith("_m"):
            return f"{value:.2f}"
        size = abs(value)
        if size != 0 and size < 0.001:
            return f"{value:.2e}"
        return f"{value:.0f}" if size >= 10000 else f"{value:.4g}"
    if value is None:
        return ""
    return as_text(float(value), column) if isinstance(value, np.floating) else str(value)


Rows = Callable[[], tuple[pd.DataFrame, dict[str, str]]]


def tables_of(item: Item) -> dict[str, Rows]:
    """Return the tables that an item can show, by name; calling one gives its rows and the units of its columns."""
    if isinstance(item, HoleSet):
        logged = {**item.tables, **item.readings}
        out: dict[str, Rows] = {}
        if INTERCEPTS in logged:  # what the set was made for stands first
            out[INTERCEPTS] = partial(_given, logged.pop(INTERCEPTS), item.units)
        out["collar"] = lambda: (item.collars, {})
        out["survey"] = lambda: (item.surveys, {"azimuth": "°", "dip": "°"})
        for name, table in logged.items():
            out[name] = partial(_given, table, item.units)
        if len(item.findings):
            out["by hole"] = lambda: (report_by_hole(item.collars, item.surveys, item.tables, item.findings), {})
            out["findings"] = lambda: (item.findings, {})
        if len(item.controls):
            out["controls"] = lambda: (item.controls, item.units)
        if len(item.corrections):
            out["corrections"] = lambda: (item.corrections, {})
        return out
    if isinstance(item, ElectrodeSurvey):
        out = {
            "readings": lambda: (item.table, item.units),
            "electrodes": lambda: (item.electrodes, {"distance_m": "m"}),
        }
        return out | _more_tables(item)
    if isinstance(item, Picture) and len(item.points):
        return {"points": lambda: (item.points, {"residual_m": "m"}), "facts": lambda: (_facts(item), {})}
    if isinstance(item, Features):
        return {"features": lambda: (item.table, item.units)}
    if isinstance(item, PointSet | SurveyLines):
        out = {item.content if isinstance(item, PointSet) else "readings": lambda: (item.table, item.units)}
        return out | _more_tables(item)
    if isinstance(item, TargetSet):
        return {"targets": lambda: (_why_first(item.table), {}), "evidence": lambda: (item.evidence, {})}
    return {"facts": lambda: (_facts(item), {})}


def _more_tables(item: PointSet | SurveyLines | ElectrodeSurvey) -> dict[str, Rows]:
    tables = {"findings": item.findings, "corrections": item.corrections}
    return {name: partial(_given, table, {}) for name, table in tables.items() if len(table)}


def _given(table: pd.DataFrame, units: dict[str, str]) -> tuple[pd.DataFrame, dict[str, str]]:
    return table, units


def _why_first(table: pd.DataFrame) -> pd.DataFrame:
    # What each place scored and why comes before where it is.
    why = [c for c in table.columns if c.endswith(" share")] + [c for c in table.columns if c.endswith(" value")]
    return table[["rank", "score", *why, "x", "y", "z"]]


def _facts(item: Item) -> pd.DataFrame:
    facts = dict(item.facts)
    if isinstance(item, Grid):
        facts |= _summary(item.values[np.isfinite(item.values)])
    if isinstance(item, BlockModel):
        several = len(item.properties) > 1
        for name, values in item.properties.items():
            figures = _summary(values[np.isfinite(values)])
            facts |= {f"{name}: {what.lower()}" if several else what: text for what, text in figures.items()}
    if isinstance(item, Surface):
        facts["Vertices"] = f"{len(item.vertices):,}"
    return pd.DataFrame({"fact": list(facts), "value": list(facts.values())})


def _summary(values: np.ndarray) -> dict[str, str]:
    if not len(values):
        return {}
    low, mid, high = np.percentile(values, [10, 50, 90])
    return {
        "Minimum": f"{values.min():.4g}",
        "10 %": f"{low:.4g}",
        "Median": f"{mid:.4g}",
        "90 %": f"{high:.4g}",
        "Maximum": f"{values.max():.4g}",
    }

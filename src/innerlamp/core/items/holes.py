"""A set of drillholes: collars, surveys, the path of each hole, and what was logged along it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from .attributes import Attribute
from .base import Bounds, Item, bounds_of, class_columns, numeric_columns

INTERVAL_PLACES = ("x", "y", "z", "x0", "y0", "z0", "x1", "y1", "z1")
INTERCEPTS = "intercepts"  # the table of a set that significant intercepts make; its labels stand at the holes
INTERVAL_ROLES = ("hole", "from_m", "to_m", "depth_m", "line", *INTERVAL_PLACES)


@dataclass(frozen=True, kw_only=True)
class HoleSet(Item):
    """Drillholes with desurveyed paths.

    Attributes
    ----------
    collars
        One row a hole: hole, x, y, z, depth_m and whatever else the file had.
    surveys
        hole, depth_m, azimuth (degrees clockwise from grid north), dip (degrees, negative down).
    stations
        hole, depth_m, x, y, z and unit tangent tx, ty, tz at each used survey station.
    tables
        Interval tables by name: hole, from_m, to_m, attributes, line (of the file), mid-point
        x, y, z, and the two ends x0..z0 and x1..z1 along the curved path.
    readings
        Tables of readings at single depths by name: hole, depth_m, attributes, line, x, y, z.
    units
        Unit of each attribute.
    findings
        What the import found: file, line, hole, table, severity, what, done.
    method
        Desurvey method.
    controls
        Control samples of the laboratory: sample, type (standard, blank, duplicate), standard,
        original, batch, date, line, values.
    strays
        Rows by table whose hole has no collar, kept aside until one comes or they are merged into another hole.
    corrections
        Changes that people made over what was imported; see `core.importing.corrections`.
    groups
        Rules by which logged codes are grouped to units; see `core.operations.data.grouping`.
    """

    kind: ClassVar[str] = "holes"
    title: ClassVar[str] = "Drillholes"
    collars: pd.DataFrame
    surveys: pd.DataFrame
    stations: pd.DataFrame
    tables: dict[str, pd.DataFrame] = field(default_factory=dict)
    readings: dict[str, pd.DataFrame] = field(default_factory=dict)
    units: dict[str, str] = field(default_factory=dict)
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)
    method: str = "minimum curvature"
    controls: pd.DataFrame = field(default_factory=pd.DataFrame)
    strays: dict[str, pd.DataFrame] = field(default_factory=dict)
    corrections: pd.DataFrame = field(default_factory=pd.DataFrame)
    groups: dict[str, Any] = field(default_factory=dict)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.stations["x"], self.stations["y"], self.stations["z"])

    def _attributes(self) -> dict[str, Attribute]:
        found: dict[str, Attribute] = {}
        for table in (*self.tables.values(), *self.readings.values()):
            numbers, codes = numeric_columns(table, INTERVAL_ROLES), class_columns(table, INTERVAL_ROLES)
            found |= self.described(numbers, codes, self.units)
        return found

    @property
    def drilled_m(self) -> float:
        """Metres that were drilled: those that daughters share with their parents count once."""
        metres = float(self.collars["depth_m"].sum())
        if "wedge_m" in self.collars:
            metres -= float(pd.to_numeric(self.collars["wedge_m"], errors="coerce").sum())
        return metres

    @property
    def facts(self) -> dict[str, str]:
        facts = {"Holes": f"{len(self.collars):,}", "Drilled": f"{self.drilled_m:,.0f} m"}
        facts |= {name: f"{len(table):,} intervals" for name, table in self.tables.items()}
        facts |= {name: f"{len(table):,} readings" for name, table in self.readings.items()}
        facts["Path"] = self.method
        if len(self.controls):
            facts["Control samples"] = f"{len(self.controls):,}"
        if len(self.findings):
            facts["Findings"] = f"{len(self.findings):,}"
        if len(self.corrections):
            facts["Corrections"] = f"{int((self.corrections['lifted'] == '').sum()):,}"
        return facts


def table_with(holes: HoleSet, attribute: str) -> tuple[str, pd.DataFrame] | None:
    """Return name and rows of the first interval table that has `attribute`, or None."""
    for name, table in holes.tables.items():
        if attribute in table.columns:
            return name, table
    return None


def readings_with(holes: HoleSet, attribute: str) -> tuple[str, pd.DataFrame] | None:
    """Return name and rows of the first table of readings that has `attribute`, or None."""
    return next(((name, table) for name, table in holes.readings.items() if attribute in table.columns), None)


def hole_codes(hole: pd.Series, index: pd.Index) -> np.ndarray:
    """Position of each row's hole in an index, -1 where it is not there; quick for millions of rows."""
    if isinstance(hole.dtype, pd.CategoricalDtype):
        place = np.append(index.get_indexer(hole.cat.categories.astype(str)), -1)
        return np.asarray(place[hole.cat.codes.to_numpy()])
    return np.asarray(index.get_indexer(pd.Index(hole.astype(str))))

"""Points with attributes: soil samples, gravity stations, composites, readings, old workings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import pandas as pd

from .attributes import Attribute
from .base import Bounds, Item, bounds_of, class_columns, numeric_columns

POINT_ROLES = ("x", "y", "z", "file_line")


@dataclass(frozen=True, kw_only=True)
class PointSet(Item):
    """Rows at places.

    Attributes
    ----------
    table
        x, y, z in metres (z NaN where unknown) and attributes; one row a point.
    units
        Unit of each attribute.
    content
        samples, stations, readings, workings, composites.
    findings
        What the import found, as in `HoleSet`.
    """

    kind: ClassVar[str] = "points"
    title: ClassVar[str] = "Points"
    formerly: ClassVar[dict[str, str]] = {"content": "role"}
    table: pd.DataFrame
    units: dict[str, str] = field(default_factory=dict)
    content: str = "samples"
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)
    corrections: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.table["x"], self.table["y"], self.table["z"])

    def _attributes(self) -> dict[str, Attribute]:
        numbers, codes = numeric_columns(self.table, POINT_ROLES), class_columns(self.table, POINT_ROLES)
        return self.described(numbers, codes, self.units)

    @property
    def facts(self) -> dict[str, str]:
        facts = {self.content.capitalize(): f"{len(self.table):,}"}
        if len(self.findings):
            facts["Findings"] = f"{len(self.findings):,}"
        if len(self.corrections):
            facts["Corrections"] = f"{int((self.corrections['lifted'] == '').sum()):,}"
        return facts


@dataclass(frozen=True, kw_only=True)
class SurveyLines(Item):
    """Readings along lines, in the order in which they were flown or walked.

    Attributes
    ----------
    table
        line (text), x, y, z in metres (z is the sensor's elevation), optional time, readings.
    date
        ISO date of the survey, for the main field; '' when unknown.
    """

    kind: ClassVar[str] = "lines"
    title: ClassVar[str] = "Survey lines"
    table: pd.DataFrame
    units: dict[str, str] = field(default_factory=dict)
    date: str = ""
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)
    corrections: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.table["x"], self.table["y"], self.table["z"])

    def _attributes(self) -> dict[str, Attribute]:
        return self.described(numeric_columns(self.table, POINT_ROLES), (), self.units)

    @property
    def facts(self) -> dict[str, str]:
        facts = {"Lines": f"{self.table['line'].nunique():,}", "Readings": f"{len(self.table):,}"}
        if self.date:
            facts["Flown"] = self.date
        if len(self.findings):
            facts["Findings"] = f"{len(self.findings):,}"
        if len(self.corrections):
            facts["Corrections"] = f"{int((self.corrections['lifted'] == '').sum()):,}"
        return facts


@dataclass(frozen=True, kw_only=True)
class TargetSet(Item):
    """Ranked places for the next holes, with what each piece of evidence gave.

    Attributes
    ----------
    table
        rank, x, y, z (ground), score (0..1), and for each evidence its value and its share of
        the score (columns ``<evidence> value`` and ``<evidence> share``; shares add to score).
    evidence
        One row an evidence: name, unit, weight, low, high, sense (more or less is better).
    """

    kind: ClassVar[str] = "targets"
    title: ClassVar[str] = "Targets"
    table: pd.DataFrame
    evidence: pd.DataFrame

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.table["x"], self.table["y"], self.table["z"])

    def _attributes(self) -> dict[str, Attribute]:
        return {"score": Attribute("", "score")}

    @property
    def facts(self) -> dict[str, str]:
        facts = {"Targets": f"{len(self.table):,}", "Evidence": f"{len(self.evidence):,}"}
        if len(self.table):
            facts["Best score"] = f"{self.table['score'].max():.2f}"
        return facts

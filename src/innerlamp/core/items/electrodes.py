"""Resistivity surveys: electrodes along lines and what was read with four of them at a time."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import pandas as pd

from .attributes import Attribute
from .base import Bounds, Item, bounds_of, numeric_columns

ELECTRODE_ROLES = ("line", "a", "b", "m", "n", "x", "y", "z", "file_line", "factor_m", "depth_m")


@dataclass(frozen=True, kw_only=True)
class ElectrodeSurvey(Item):
    """Readings with four electrodes.

    Attributes
    ----------
    electrodes
        One row an electrode: line (text), electrode (number, from 1 along its line), distance_m along
        the line, x, y, z in metres.
    table
        One row a reading: line, a, b, m, n (electrode numbers of that line; 0 is at infinity),
        resistance (ohm), apparent_resistivity (ohm.m), factor_m (geometric factor), error (%),
        reciprocal_error (%), stacked (how many readings it is the mean of), depth_m (median
        depth of investigation), and x, y, z of the place it is drawn at: below the middle of the
        array, at that depth.
    """

    kind: ClassVar[str] = "electrodes"
    title: ClassVar[str] = "Electrode surveys"
    electrodes: pd.DataFrame
    table: pd.DataFrame
    units: dict[str, str] = field(default_factory=dict)
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)
    corrections: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.electrodes["x"], self.electrodes["y"], self.electrodes["z"])

    def _attributes(self) -> dict[str, Attribute]:
        return self.described(numeric_columns(self.table, ELECTRODE_ROLES), (), self.units)

    @property
    def facts(self) -> dict[str, str]:
        facts = {
            "Lines": f"{self.electrodes['line'].nunique():,}",
            "Electrodes": f"{len(self.electrodes):,}",
            "Readings": f"{len(self.table):,}",
        }
        if len(self.findings):
            facts["Findings"] = f"{len(self.findings):,}"
        if len(self.corrections):
            facts["Corrections"] = f"{int((self.corrections['lifted'] == '').sum()):,}"
        return facts

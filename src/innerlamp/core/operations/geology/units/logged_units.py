"""What a geological model takes of holes: runs of its units, and where they touch."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from ....compute.drilling.cells import rock_runs
from ....compute.drilling.desurvey import Path, locate
from ....compute.geology.age_order import Kind, Unit, checked
from ....compute.geology.contacts import Runs
from ....declaring.operation import Maybe, Row, param
from ....errors import InputError
from ....importing.hole_paths import path_from
from ....items.holes import HoleSet, hole_codes, table_with

_COLLECTOR = ("*", "rest", "other")


class UnitRow(Row):
    unit: str = param(..., "Unit", help="From the youngest to the oldest; the background comes last")
    kind: Kind = param("intrusive contact", "Contact", help="How it meets what is older")
    codes: str = param(
        "",
        "Logged codes",
        help="Parted by semicolons or |, also units of the map; its own name when empty, * for the rest",
    )
    dip: Maybe = param(None, "Dip (°)", help="Of a vein's plane, or of the way in which a body reaches")
    dip_direction: Maybe = param(None, "Dip direction (°)")
    reach: Maybe = param(
        None,
        "Reach in the plane",
        help="Times as far as across it; without a dip along the bedding of the readings, as it bends",
    )
    beyond: Maybe = param(None, "Ends beyond holes (m)", help="Of a vein, where no hole says so before")
    follows: Literal["as all", "between its values", "smooth"] = param(
        "as all", "Its field is", help="Between its values, or smooth: a roof that goes on downwards needs a smooth one"
    )
    thickness: Maybe = param(None, "Thickness (m)", help="Of a vein that is known by lines only")
    apart: Maybe = param(
        None, "Veins apart (m)", help="Pieces with a wider gap across the plane are veins of their own"
    )
    ends_at: str = param("", "Ends at", help="A vein of the list at which this one ends")
    use: Literal["in", "out"] = param("in", "Is", help="Switched out it is left to what is older")
    surface: str = param("", "Given surface", help="By its name, under 'Given surfaces': the contact as it is")


def units_of(rows: Sequence[UnitRow]) -> tuple[list[Unit], dict[str, str]]:
    """Return the units in their order, and the unit of each code.

    Raises
    ------
    InputError
        When the order is none, or a code belongs to two units.
    """
    units: list[Unit] = []
    members: dict[str, str] = {}
    for row in rows:
        units.append(Unit(row.unit.strip(), row.kind))
        for code in [c.strip() for c in re.split(r"[;|]", row.codes) if c.strip()] or [row.unit.strip()]:
            if members.get(code, row.unit.strip()) != row.unit.strip():
                raise InputError(
                    f"the code '{code}' belongs to '{members[code]}' and to '{row.unit}'",
                    fix="Leave it with one of them",
                )
            members[code] = row.unit.strip()
    return checked(units), members


def number_of(codes: np.ndarray, units: Sequence[Unit], members: dict[str, str]) -> np.ndarray:
    """Return the number of the unit of each code, -1 for none."""
    names = {u.name: k for k, u in enumerate(units)}
    rest = next((names[members[c]] for c in _COLLECTOR if c in members), -1)
    kinds, found = pd.factorize(np.asarray(codes, dtype=object))
    table = np.array([*(names[members[str(c)]] if str(c) in members else rest for c in found), -1], dtype=np.int64)
    return np.asarray(table[kinds])


@dataclass(frozen=True)
class Logged:
    """Runs of units on holes.

    Attributes
    ----------
    runs
        Runs with the names of their units.
    unit
        Number of the unit of each run.
    path, names
        Where the holes lie, and their names by number.
    strangers
        Codes that belong to no unit, with their metres.
    """

    runs: Runs
    unit: np.ndarray
    path: Path
    names: pd.Index
    strangers: dict[str, float]

    def places(self, hole: np.ndarray, depth: np.ndarray) -> np.ndarray:
        """Return places (n, 3) on holes."""
        return locate(self.path, hole, depth)

    def without(self, left_out: np.ndarray) -> Logged:
        """Return the same without some holes, given by number."""
        keep = ~np.isin(self.runs.hole, left_out)
        runs = Runs(self.runs.hole[keep], self.runs.start[keep], self.runs.stop[keep], self.runs.unit[keep])
        return Logged(runs, self.unit[keep], self.path, self.names, self.strangers)


def logged(holes: HoleSet, attribute: str, units: Sequence[Unit], members: dict[str, str]) -> Logged:
    """Return the runs of the units of a model.

    Raises
    ------
    InputError
        When there is no such column, or no unit of the model was logged.
    """
    hit = table_with(holes, attribute)
    if hit is None:
        raise InputError(f"there is no logged column '{attribute}'", where=holes.name)
    path, index = path_from(holes)
    log = hit[1]
    codes = log[attribute].fillna("").astype(str).to_numpy(dtype=object)
    number = number_of(codes, units, members)
    known = codes != ""
    length = (log["to_m"] - log["from_m"]).to_numpy(float)
    strange = known & (number < 0)
    metres = pd.Series(length[strange]).groupby(codes[strange]).sum().sort_values(ascending=False)
    strangers = {str(code): float(m) for code, m in metres.items()}
    names = np.array([*(u.name for u in units), ""], dtype=object)[number]
    hole = hole_codes(log["hole"], index).astype(np.int64)
    h, a, b, c = rock_runs(hole, log["from_m"].to_numpy(float), log["to_m"].to_numpy(float), names)
    if not len(h):
        raise InputError(
            "no unit of the model was logged", where=holes.name,
            fix="Logged are: " + ", ".join(sorted(set(codes[known].tolist()))[:12]),
        )  # fmt: skip
    where = {u.name: k for k, u in enumerate(units)}
    return Logged(Runs(h, a, b, c), np.array([where[n] for n in c], dtype=np.int64), path, index, strangers)


# Stems of rock names in some languages, by how such rocks usually meet others; whoever models corrects what is proposed.
_USUAL: tuple[tuple[Kind, tuple[str, ...]], ...] = (
    ("overburden", ("till", "soil", "suelo", "solo", "allu", "alu", "collu", "ovb", "overb", "cover", "cobert", "quat", "glac")),
    ("vein", ("vein", "veta", "veio", "filon", "gang", "qv")),
    ("intrusive contact", ("gran", "dior", "gabb", "porph", "porf", "dole", "diab", "dyke", "dike", "dique", "syen", "sien",
                           "peg", "apl", "tonal", "monz", "greis", "skarn", "intr")),
)  # fmt: skip


def proposed_order(codes: pd.Series) -> list[dict[str, str]]:
    """Return an age order to begin with, from metres by logged code.

    Covers, veins and intrusions by their names, then the rest as conformable layers, the longest of them as the background.
    """
    kinds: dict[str, Kind] = {}
    for code in codes.index:
        plain = str(code).strip().lower()
        kinds[str(code)] = next((k for k, stems in _USUAL if plain.startswith(stems)), "conformable base")
    rest = [c for c, k in kinds.items() if k == "conformable base"]
    background = max(rest or list(kinds), key=lambda c: float(codes[c]))
    order = [*(k for k, _ in _USUAL), "conformable base"]
    rows = [
        {"unit": c.strip(), "kind": str(kinds[c]), "codes": c.strip()}
        for c in sorted(kinds, key=lambda c: order.index(kinds[c]))
        if c != background
    ]
    return [*rows, {"unit": background.strip(), "kind": "background", "codes": f"{background.strip()}; *"}]

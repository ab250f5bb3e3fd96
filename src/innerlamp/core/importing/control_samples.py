"""Control samples of the laboratory: standards, blanks, duplicates and checks, read from a table of their own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
import pyarrow as pa
from numpy.typing import NDArray

from ..elements import letters_of
from ..findings import Findings
from ..formats.tables import columns, dates, tables_in
from ..formats.tables.rawtable import NO_VALUE, RawTable
from ..units import by_factor, factor
from .detection import GRADES, CellRules
from .element_columns import identity
from .reading import attributes, mapped

# The first letters of what laboratories write for each kind, in the languages of the imports; common practice, no source.
_KINDS = (
    (
        "standard",
        (
            "standard", "std", "crm", "reference", "srm", "oreas", "estandar", "patron", "material de ref", "mrc", "etalon",
            "materiau de ref", "padrao", "referenz", "standardi", "vertailu", "referens",
        ),
    ),
    ("blank", ("blank", "blk", "bl", "blanc", "branco", "leerprobe", "blindprobe", "nollanayte", "tyhja", "nollprov")),
    (
        "duplicate",
        (
            "duplicate", "dup", "repeat", "rep", "check", "field dup", "replicate", "fd", "pd", "ld", "duplicado", "doublon",
            "doppel", "duplikat", "wiederhol", "rinnakkais", "kaksois", "dubblett", "dubbel",
        ),
    ),
)  # fmt: skip


def kind_of(text: str) -> str:
    """Return standard, blank or duplicate for what a table says; '' for what is none of them."""
    word = letters_of(text.strip())

    def begins(start: str) -> bool:  # two letters must stand alone: BL is a blank, BLS a slate
        return word.startswith(start) and (len(start) > 2 or not word[len(start) : len(start) + 1].isalpha())

    return next((kind for kind, starts in _KINDS if any(begins(s) for s in starts)), "")


@dataclass(frozen=True)
class Controls:
    """Control samples: their table, and the unit of each of its columns of grades."""

    table: pd.DataFrame
    units: dict[str, str]


def read_controls(file: str, mapping: Mapping[str, str], rules: CellRules, found: Findings) -> Controls:
    """Return the control samples of a file: sample, type, standard, original, batch, date, line and the grades."""
    raw = tables_in.read(file, found, "controls")
    role = mapped(raw, "controls", mapping)
    said = raw.text(role["type"]).fillna("").astype(str).str.strip()
    kinds = [kind_of(t) for t in said]
    strange = [k for k, kind in enumerate(kinds) if not kind]
    if strange:
        found.add(
            "look",
            [f"'{said[k]}' is not a kind of control sample" for k in strange],
            "kept, not judged",
            file=raw.file,
            table="controls",
            line=raw.line[strange],
        )
    return _told(raw, role, kinds, rules, found)


def _told(raw: RawTable, role: Mapping[str, str], kinds: Sequence[str], rules: CellRules, found: Findings) -> Controls:
    def text(name: str) -> pd.Series:
        if name not in role:
            return pd.Series([""] * len(raw.line), dtype="object")
        return raw.text(role[name]).fillna("").astype(str).str.strip()

    out = pd.DataFrame(
        {
            "sample": text("sample"),
            "type": list(kinds),
            "standard": text("standard"),
            "original": text("original"),
            "batch": text("batch"),
            "laboratory": text("laboratory"),
        }
    )
    out["date"] = (
        dates.read_dates(text("date").tolist(), raw.line, found, raw.file, "controls") if "date" in role else ""
    )
    rest, units = attributes(raw, set(role.values()), rules, found, "controls")
    out["line"] = raw.line
    return Controls(pd.concat([out, rest], axis=1), units)


def parted(
    raw: RawTable, role: Mapping[str, str], rules: CellRules, found: Findings, table: str
) -> tuple[RawTable, Controls | None]:
    """Return a table of assays without the control samples among its rows, and those; None where there are none.

    They are told by a column that says what a sample is, or by one that names the standard. A duplicate without the number
    of its original is that of the sample from the same hole and depths, else of the sample in the row above it.
    """
    told = columns.guess([c for c in raw.layout.columns if c not in role.values()], "controls")
    kinds = [""] * len(raw.line)
    if "type" in told:
        kinds = [kind_of(t) for t in raw.text(told["type"]).fillna("").astype(str)]
    if "standard" in told and not any(kinds):
        named = raw.text(told["standard"]).fillna("").astype(str).str.strip().str.lower()
        kinds = [kind_of(n) or "standard" if n not in NO_VALUE else "" for n in named]
        told.pop("type", None)
        if all(kinds):  # a column that is always filled names something else
            kinds = [""] * len(raw.line)
    aside = np.array([bool(k) for k in kinds], dtype=bool)
    if not aside.any():
        return raw, None
    mine = RawTable(raw.path, raw.layout, raw.cells.filter(pa.array(aside)), raw.line[aside])
    rest = RawTable(raw.path, raw.layout, raw.cells.filter(pa.array(~aside)), raw.line[~aside])
    of_mine = [k for k in kinds if k]
    used = {**{r: c for r, c in role.items() if r not in told}, **told}
    controls = _told(mine, used, of_mine, rules, found)
    frame = controls.table
    lacking = (frame["type"] == "duplicate").to_numpy() & (frame["original"] == "").to_numpy()
    if lacking.any():
        frame.loc[lacking, "original"] = _originals(raw, role, told, aside, found)[lacking]
    counts = ", ".join(f"{of_mine.count(k)} {k}s" for k in ("standard", "blank", "duplicate") if k in of_mine)
    found.add(
        "mended",
        f"control samples among the assays: {counts}",
        "taken as control samples, no assays",
        file=raw.file,
        table=table,
    )
    return rest, Controls(frame, controls.units)


def _originals(
    raw: RawTable, role: Mapping[str, str], told: Mapping[str, str], aside: NDArray[np.bool_], found: Findings
) -> NDArray[np.object_]:
    """The sample that each control could be the duplicate of: from the same place, else in the nearest row above."""
    sample = told.get("sample", "")
    if not sample:
        return np.full(int(aside.sum()), "", dtype=object)
    number = raw.text(sample).fillna("").astype(str).str.strip().to_numpy(dtype=object)
    places = list(
        zip(*(raw.text(role[r]).fillna("").astype(str).str.strip() for r in ("hole", "from_m", "to_m")), strict=True)
    )
    at = {place: number[k] for k, place in enumerate(places) if not aside[k] and all(place)}
    out, above, guessed = [], "", []
    for k, control in enumerate(aside):
        if not control:
            above = str(number[k])
            continue
        there = at.get(places[k], "")
        out.append(there or above)
        if not there and above:
            guessed.append(k)
    if guessed:
        found.add(
            "look",
            "a duplicate names no original and no depths",
            "taken as one of the sample in the row above, where it is a duplicate",
            file=raw.file,
            table="controls",
            line=raw.line[guessed],
        )
    return np.array(out, dtype=object)


def together(parts: Sequence[Controls], assays: pd.DataFrame | None, units: Mapping[str, str]) -> pd.DataFrame:
    """Return control samples of several tables as one, their grades in the columns and units of the assays."""
    by_identity = {
        identity(str(c), units[c]): c for c in (assays.columns if assays is not None else ()) if units.get(c) in GRADES
    }
    frames = []
    for part in parts:
        table = part.table
        change = {}
        for column, unit in part.units.items():
            target = by_identity.get(identity(column, unit)) if unit in GRADES else None
            if target is None:
                continue
            times = factor(unit, units[target])
            if times != 1.0:
                table = table.assign(**{column: by_factor(table[column].to_numpy(float), times)})
            if target != column and target not in table:
                change[column] = target
        frames.append(table.rename(columns=change))
    whole = pd.concat(frames, ignore_index=True) if frames else pd.DataFrame()
    for name in ("sample", "type", "standard", "original", "batch", "date"):
        if name in whole:
            whole[name] = whole[name].fillna("")
    return whole

"""What the control samples of a set of holes say, attribute by attribute."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..compute.statistics import quality
from ..errors import InputError
from ..formats.tables import columns
from ..items.base import numeric_columns, rows_of_table
from ..items.holes import HoleSet

APART = 25.0  # half relative difference in percent from which a pair is pointed out (common practice, no source)
_FIXED = ("sample", "type", "standard", "original", "batch", "laboratory", "date", "line", "order")


def sample_column(table: pd.DataFrame) -> str:
    """Return the column of a table that holds sample numbers, '' without one."""
    return columns.guess([str(c) for c in table.columns], "controls").get("sample", "")


def words_in(table: pd.DataFrame, column: str) -> pd.Series:
    """Return a column as text without spaces around it, whole numbers without decimals; empty where there is none."""
    if column not in table:
        return pd.Series([""] * len(table), index=table.index, dtype="object")
    values = table[column]
    if pd.api.types.is_float_dtype(values):
        known = values.dropna()
        if len(known) and (known == np.floor(known)).all() and known.abs().max() < 2**53:
            values = values.astype("Int64")
    return values.astype("object").where(table[column].notna(), "").astype(str).str.strip()


def judged_attributes(holes: HoleSet) -> list[str]:
    """Return the number columns of the control samples, those that the assays have as well first."""
    names = [c for c in numeric_columns(holes.controls, _FIXED) if not c.startswith(("accepted ", "deviation "))]
    assays = {c for t in holes.tables.values() for c in t.columns}
    return sorted(names, key=lambda n: n not in assays)


def asked_attributes(holes: HoleSet, names: Sequence[str]) -> list[str]:
    """Return the grades of control samples that are asked for, all of them for none.

    Raises
    ------
    InputError
        When the set has no control samples, or they have no such grade.
    """
    if not len(holes.controls):
        raise InputError(
            "the set has no control samples",
            where=holes.name,
            fix="Bring their table in with the holes, or name it there",
        )
    have = judged_attributes(holes)
    for name in names:
        if name not in have:
            raise InputError(
                f"the control samples have no grades '{name}'", where=holes.name, fix="There are: " + ", ".join(have)
            )
    return list(names) or have


def standards(holes: HoleSet) -> list[str]:
    """Return the names of the standards, in order of their first use; one that several laboratories had once for each."""
    if not len(holes.controls):
        return []
    return [str(n) for n in pd.unique(_series_of(holes.controls)[holes.controls["type"] == "standard"])]


def _series_of(controls: pd.DataFrame) -> pd.Series:
    """What each standard is judged with: those of its name, and of its laboratory where several had that standard."""
    named, where = controls["standard"].astype(str), words_in(controls, "laboratory")
    mine = (controls["type"] == "standard") & (where != "")
    several = where[mine].groupby(named[mine]).nunique()
    both = named.isin(several[several > 1].index) & mine
    return named.where(~both, named + ", " + where)


def in_order(controls: pd.DataFrame) -> pd.DataFrame:
    """Return control samples in the order of analysis: by date where there is one, then by line of the file."""
    order = np.lexsort((controls["line"].to_numpy(), controls["date"].astype(str).to_numpy()))
    return controls.iloc[order].reset_index(drop=True)


def standard_rows(holes: HoleSet, standard: str, attribute: str) -> tuple[pd.DataFrame, quality.StandardCheck]:
    """Return the results of one of the `standards` in order, and their check against the accepted value where one is given.

    Accepted values come from columns called ``accepted <attribute>`` and ``deviation <attribute>``.
    """
    controls = in_order(holes.controls)
    of = _series_of(controls)
    of = of if (of == standard).any() else controls["standard"].astype(str)  # a standard of several laboratories as one
    rows = controls[(controls["type"] == "standard") & (of == standard)]
    rows = rows[rows[attribute].notna()].reset_index(drop=True)

    def stated(word: str) -> float:
        column = next((c for c in rows.columns if c.lower() == f"{word} {attribute}".lower()), "")
        values = rows[column].dropna().to_numpy(float) if column else np.empty(0)
        return float(np.median(values)) if len(values) else float("nan")

    return rows, quality.check_standard(rows[attribute].to_numpy(float), stated("accepted"), stated("deviation"))


def blank_rows(holes: HoleSet, attribute: str) -> tuple[pd.DataFrame, float, NDArray[np.bool_]]:
    """Return the results of blanks in order, their warning level, and which of them are above it."""
    rows = in_order(holes.controls)
    rows = rows[(rows["type"] == "blank") & rows[attribute].notna()].reset_index(drop=True)
    level, high = quality.check_blanks(rows[attribute].to_numpy(float), detection_limit(holes, attribute))
    return rows, level, high


def faults_of(check: quality.StandardCheck) -> list[str]:
    """Return of each result of a standard what is wrong with it, in words; '' where nothing is."""
    by_rule = ((check.outside, "beyond three deviations"), (check.biased, "second in a row beyond two deviations"))
    said = [""] * len(check.outside)
    for hit, words in reversed(by_rule):
        for k in np.flatnonzero(hit):
            said[k] = f"{words} of {check.accepted:.4g}"
    return said


def duplicate_pairs(holes: HoleSet, attribute: str) -> pd.DataFrame:
    """Return duplicates beside their originals: sample, original, first, second, half_difference (%), line.

    The original is looked for among the control samples, then among the samples of the interval tables.
    """
    rows = holes.controls[holes.controls["type"] == "duplicate"]
    known: dict[str, float] = {}
    for table in holes.tables.values():
        column = sample_column(table)
        if column and attribute in table.columns:
            known |= dict(zip(words_in(table, column), table[attribute].to_numpy(float), strict=True))
    known |= dict(zip(holes.controls["sample"].astype(str), holes.controls[attribute].to_numpy(float), strict=True))
    first = np.array([known.get(str(o), np.nan) for o in rows["original"]], dtype=float)
    second = rows[attribute].to_numpy(float)
    half, _ = quality.check_duplicates(first, second)
    return pd.DataFrame(
        {
            "sample": rows["sample"].to_numpy(),
            "original": rows["original"].to_numpy(),
            "first": first,
            "second": second,
            "half_difference": half,
            "line": rows["line"].to_numpy(),
        }
    )


def detection_limit(holes: HoleSet, attribute: str) -> float:
    """Return the likely detection limit of an attribute: the one most often stated (``<5``), else the smallest positive value."""
    whats = holes.findings["what"].astype(str) if len(holes.findings) else pd.Series(dtype=str)
    stated = whats[whats.str.startswith(f"{attribute} '<")].str.extract(r"'<\s*([0-9.]+)'")[0].dropna()
    if len(stated):
        return float(stated.value_counts().index[0])
    values = [t[attribute].to_numpy(float) for t in holes.tables.values() if attribute in t.columns]
    values += [holes.controls[attribute].to_numpy(float)]
    every = np.concatenate(values)
    positive = every[np.isfinite(every) & (every > 0)]
    return float(positive.min()) if len(positive) else float("nan")


def judged(holes: HoleSet, attribute: str) -> pd.DataFrame:
    """Return what is wrong with the control samples: severity, what, sample, batch, line."""
    out: list[tuple[str, str, str, str, int]] = []
    for name in standards(holes):
        rows, check = standard_rows(holes, name, attribute)
        for k, why in enumerate(faults_of(check)):
            if not why:
                continue
            out.append(
                (
                    "look",
                    f"standard {name}: {attribute} {rows[attribute][k]:g} is {why}",
                    str(rows["sample"][k]),
                    str(rows["batch"][k]),
                    int(rows["line"][k]),
                )
            )
        if check.chance < 0.01:
            way = "upward" if check.drift > 0 else "downward"
            out.append(
                (
                    "look",
                    f"standard {name}: {attribute} drifts {way}, {abs(check.drift) * len(rows):.1f} deviations over {len(rows)} results",
                    "",
                    "",
                    0,
                )
            )
    blanks, level, high = blank_rows(holes, attribute)
    for k in np.flatnonzero(high).tolist():
        out.append(
            (
                "look",
                f"blank: {attribute} {blanks[attribute][k]:g} is above {level:.3g}",
                str(blanks["sample"][k]),
                str(blanks["batch"][k]),
                int(blanks["line"][k]),
            )
        )
    pairs = duplicate_pairs(holes, attribute)
    for row in rows_of_table(pairs[pairs["half_difference"] > APART]):
        out.append(
            (
                "look",
                f"duplicate: {attribute} {row.second:g} where the original had {row.first:g}",
                str(row.sample),
                "",
                int(row.line),
            )
        )
    return pd.DataFrame(out, columns=["severity", "what", "sample", "batch", "line"])

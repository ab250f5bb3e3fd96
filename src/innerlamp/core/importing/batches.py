"""Batches of a laboratory: which samples were analysed together, and which batches their control samples fail."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence

import numpy as np
import pandas as pd

from ..formats.tables import columns
from ..items.base import rows_of_table
from ..items.holes import HoleSet
from .control_charts import blank_rows, faults_of, sample_column, standard_rows, standards, words_in

CHECK = "Batch check"  # the column that says of each sample how its batch did
PASSED, FAILED, UNKNOWN = "passed", "failed", "no control"
_NUMBER = re.compile(r"^(.*?)(\d+)(\D*)$")


def batch_column(table: pd.DataFrame, wanted: str = "") -> str:
    """Return the column of a table that names the batch of each row, '' without one: the wanted one, else by its heading."""
    if wanted:
        return wanted if wanted in table.columns else ""
    return columns.guess([str(c) for c in table.columns], "controls").get("batch", "")


def _named(holes: HoleSet, wanted: str) -> tuple[pd.Series, dict[str, pd.Series]]:
    """The batch of each control sample, and of each row of the tables that name it.

    Laboratories count for themselves: a number that several of them gave has the name of the laboratory behind it.
    """
    labs = {
        name: columns.guess([str(c) for c in t.columns], "controls").get("laboratory", "")
        for name, t in holes.tables.items()
    }
    named = {name: words_in(t, c) for name, t in holes.tables.items() if (c := batch_column(t, wanted))}
    own = words_in(holes.controls, "batch")
    where = [words_in(holes.controls, "laboratory"), *(words_in(holes.tables[n], labs[n]) for n in named)]
    pairs = pd.concat(
        [pd.DataFrame({"batch": b, "lab": w}) for b, w in zip([own, *named.values()], where, strict=True)]
    )
    pairs = pairs[(pairs["batch"] != "") & (pairs["lab"] != "")].drop_duplicates()
    shared = set(pairs["batch"][pairs["batch"].duplicated()])

    def told(batch: pd.Series, lab: pd.Series) -> pd.Series:
        return batch.where(~(batch.isin(shared) & (lab != "")), batch + ", " + lab)

    return told(own, where[0]), {n: told(b, w) for (n, b), w in zip(named.items(), where[1:], strict=True)}


def rows_by_batch(holes: HoleSet, wanted: str = "") -> dict[str, dict[str, np.ndarray]]:
    """Return by table of intervals and by batch the rows of its samples.

    Where several laboratories gave one number, the batch has the laboratory's name behind it: ``17, Lab A``.
    """
    out: dict[str, dict[str, np.ndarray]] = {}
    for name, said in _named(holes, wanted)[1].items():
        groups = pd.Series(np.arange(len(said))).groupby(said.to_numpy(dtype=object), sort=False)
        out[name] = {str(b): rows.to_numpy() for b, rows in groups if b}
    return out


def by_laboratory(holes: HoleSet, wanted: str = "") -> HoleSet:
    """Return a set whose control samples name their batches as `rows_by_batch` does."""
    if not len(holes.controls):
        return holes
    return dataclasses.replace(holes, controls=holes.controls.assign(batch=_named(holes, wanted)[0]))


def judged_batches(holes: HoleSet, attributes: Sequence[str], wanted: str = "") -> pd.DataFrame:
    """Return each batch of the control samples by attribute: batch, attribute, controls, state, why, samples.

    A batch fails by a standard beyond three deviations or the second in a row beyond two on one side (as
    `compute.statistics.quality.check_standard`), or by a blank above its warning level. `samples` counts the assays of the
    batch that have a grade.
    """
    rows = rows_by_batch(holes, wanted)
    holes = by_laboratory(holes, wanted)
    out = []
    for attribute in attributes:
        if attribute not in holes.controls.columns:
            continue
        why: dict[str, list[str]] = {}
        count: dict[str, int] = {}
        for name in standards(holes):
            mine, check = standard_rows(holes, name, attribute)
            for batch, value, fault in zip(mine["batch"].astype(str), mine[attribute], faults_of(check), strict=True):
                count[batch] = count.get(batch, 0) + 1
                if fault:
                    why.setdefault(batch, []).append(f"standard {name} {value:g}, {fault}")
        blanks, level, high = blank_rows(holes, attribute)
        for k, batch in enumerate(blanks["batch"].astype(str)):
            count[batch] = count.get(batch, 0) + 1
            if high[k]:
                why.setdefault(batch, []).append(f"blank {blanks[attribute][k]:g}, above {level:.3g}")
        for batch in [b for b in count if b]:
            known = sum(
                int(np.isfinite(holes.tables[t][attribute].to_numpy(float)[by[batch]]).sum())
                for t, by in rows.items()
                if batch in by and attribute in holes.tables[t].columns
            )
            state = FAILED if batch in why else PASSED
            out.append((batch, attribute, count[batch], state, "; ".join(why.get(batch, [])), known))
    return pd.DataFrame(out, columns=["batch", "attribute", "controls", "state", "why", "samples"])


def grades_before_blanks(holes: HoleSet, attribute: str) -> tuple[np.ndarray, np.ndarray]:
    """Return blanks and the grade of the sample with the number just before theirs, each (n,), NaN where there is none."""
    blanks = holes.controls[holes.controls["type"] == "blank"] if len(holes.controls) else holes.controls
    if not len(blanks) or attribute not in blanks.columns:
        return np.empty(0), np.empty(0)
    known: dict[tuple[str, int, str], float] = {}

    def key(number: str) -> tuple[str, int, str] | None:
        told = _NUMBER.match(number.strip())
        return (told.group(1).lower(), int(told.group(2)), told.group(3).lower()) if told else None

    for table in (*holes.tables.values(), holes.controls[holes.controls["type"] != "blank"]):
        column = sample_column(table)
        if column and attribute in table.columns:
            for number, value in zip(words_in(table, column), table[attribute].to_numpy(float), strict=True):
                if (at := key(number)) is not None:
                    known[at] = value
    before = []
    for number in blanks["sample"].astype(str):
        at = key(number)
        before.append(known.get((at[0], at[1] - 1, at[2]), np.nan) if at else np.nan)
    return blanks[attribute].to_numpy(float), np.array(before, dtype=float)


def by_batch(holes: HoleSet, standard: str, attribute: str) -> pd.DataFrame:
    """Return the mean score of a standard by batch, in order of analysis: batch, results, score (deviations from its value)."""
    rows, check = standard_rows(holes, standard, attribute)
    if not len(rows) or not check.deviation > 0:
        return pd.DataFrame(columns=["batch", "results", "score"])
    score = (rows[attribute].to_numpy(float) - check.accepted) / check.deviation
    told = pd.DataFrame({"batch": rows["batch"].astype(str), "score": score})
    found = told[told["batch"] != ""].groupby("batch", sort=False)["score"].agg(["count", "mean"]).reset_index()
    return found.set_axis(["batch", "results", "score"], axis=1)


def words_of(judged: pd.DataFrame) -> list[str]:
    """Return a sentence for each batch and attribute that failed."""
    bad = judged[judged["state"] == FAILED]
    return [f"batch {r.batch} fails for {r.attribute}: {r.why} ({r.samples:,} samples)" for r in rows_of_table(bad)]

"""Intervals of one hole that overlap: the later one is cut back to where the earlier ends, or left out."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ...findings import Findings

Overlaps = Literal["trim", "leave out"]
_LEAST = 1e-3  # metres: rounding of depths in feet


def settled(table: pd.DataFrame, rule: Overlaps, found: Findings, file: str, name: str) -> pd.DataFrame:
    """Return intervals, sorted by hole, start and line, of which none overlaps.

    Parameters
    ----------
    table
        Columns hole, from_m, to_m (metres), line, ...; ``file`` as well where the rows come from several.
    rule
        ``trim`` starts an interval where the one before it ends; what lies within another is left out in both.

    Returns
    -------
    DataFrame
        Rows in order of depth; those in which nothing is left are in the findings.
    """
    codes, _ = pd.factorize(table["hole"])
    order = np.lexsort((table["line"].to_numpy(), table["from_m"].to_numpy(), codes))
    if (order != np.arange(len(order))).any():
        table, codes = table.iloc[order].reset_index(drop=True), codes[order]
    start, stop = table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)
    same = codes[1:] == codes[:-1]
    suspects = np.unique(codes[1:][same & (start[1:] < stop[:-1] - _LEAST)])
    if not len(suspects):
        return table
    bad, cut = np.zeros(len(table), dtype=bool), start.copy()
    reasons: dict[int, str] = {}
    line = table["line"].to_numpy()
    for code in suspects:
        reached, holder = -np.inf, -1
        for row in np.flatnonzero(codes == code):
            if start[row] < reached - _LEAST:
                reasons[int(row)] = f"overlaps {start[holder]:g}–{stop[holder]:g} m (line {int(line[holder])})"
                if rule == "leave out" or stop[row] <= reached + _LEAST:
                    bad[row] = True
                    continue
                cut[row] = reached
            if stop[row] > reached:
                reached, holder = stop[row], int(row)
    files = table["file"].astype(str).to_numpy() if "file" in table else np.full(len(table), file, dtype=object)
    trimmed = np.flatnonzero(~bad & (cut != start))
    ids = table["hole"].to_numpy()
    for rows, severity, done in (
        (np.flatnonzero(bad), "left out", "later interval left out"),
        (trimmed, "mended", [f"from {start[r]:g} m trimmed to {cut[r]:g} m" for r in trimmed]),
    ):
        found.add(
            severity,  # type: ignore[arg-type]
            [reasons[int(r)] for r in rows],
            done,
            file=list(files[rows]),
            table=name,
            line=line[rows],
            hole=ids[rows],
        )
    return table.assign(from_m=cut)[~bad].reset_index(drop=True)

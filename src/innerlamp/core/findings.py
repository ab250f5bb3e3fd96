"""Findings: what a check saw, where, how serious it is and what was done about it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

Severity = Literal["note", "mended", "left out", "look"]
ORDER: tuple[Severity, ...] = ("left out", "look", "mended", "note")
_COUNTED = ("mended", "left out", "look")
COLUMNS = ("severity", "what", "done", "hole", "table", "file", "line")


class Findings:
    """Collects findings, one row or many at a time, and hands them over as a table.

    Severities: ``note`` (for information), ``mended`` (a value was changed), ``left out`` (a row
    was not taken), ``look`` (taken as it is, but a person should decide).
    """

    def __init__(self) -> None:
        self._frames: list[pd.DataFrame] = []

    def add(
        self,
        severity: Severity,
        what: str | Sequence[str],
        done: str | Sequence[str],
        *,
        file: Any = "",
        table: str = "",
        line: Any = 0,
        hole: Any = "",
    ) -> None:
        """Add findings; `what`, `done`, `file`, `line` and `hole` may be sequences of one length."""
        count = max(
            (len(v) for v in (what, done, file, line, hole) if not isinstance(v, str) and np.ndim(v) == 1), default=1
        )
        if count == 0:
            return
        self._frames.append(
            pd.DataFrame(
                {
                    "file": _spread(file, count),
                    "line": np.broadcast_to(np.asarray(line, dtype=np.int64), count),
                    "hole": list(hole) if np.ndim(hole) == 1 else [str(hole)] * count,
                    "table": table,
                    "severity": severity,
                    "what": _spread(what, count),
                    "done": _spread(done, count),
                }
            )
        )

    def extend(self, other: Findings) -> None:
        """Take over what another collector has."""
        self._frames += other._frames

    def frame(self) -> pd.DataFrame:
        """All findings: what was left out first, then what to look at, what was mended, notes; by file and line."""
        if not self._frames:
            return pd.DataFrame({c: pd.Series(dtype="int64" if c == "line" else "str") for c in COLUMNS})
        whole = pd.concat(self._frames, ignore_index=True).sort_values(["file", "line"], kind="stable")
        return gravest_first(whole)[list(COLUMNS)]


def gravest_first(findings: pd.DataFrame) -> pd.DataFrame:
    """Return findings in the order of their severity; those of one severity stay in their order."""
    order = findings["severity"].map({name: k for k, name in enumerate(ORDER)})
    return findings.iloc[order.argsort(kind="stable")].reset_index(drop=True)


_QUOTED = re.compile(r"(?<!column)\s*'[^']*'")
_NUMBERS = re.compile(r"(?<![\w.])[-+]?\d[\d.,]*(?:[eE][-+]?\d+)?(?!\w)")
# What is said of many cells of one column, as people say it.
_OF_CELLS = (
    (" is below detection", "values below detection in "),
    (" is a code for below detection", "codes for below detection in "),
    (" is above the limit", "values above the limit in "),
    (" stands for no value", "codes for no value in "),
    (" is not a number", "cells that are no number in "),
    (" has a point among decimal commas", "points among decimal commas in "),
)


def kind_of_finding(words: str) -> str:
    """Return what a finding says without the values that differ from row to row."""
    plain = re.sub(r"…(?:[-–/:,. ]+…)+", "…", _NUMBERS.sub("…", _QUOTED.sub("", words))).strip()
    for ending, start in _OF_CELLS:
        if plain.endswith(ending):
            return start + plain[: -len(ending)]
    return plain or words


def kinds_of(words: pd.Series) -> np.ndarray:
    """Return the kind of each of many findings; a text that repeats is looked at once."""
    codes, texts = pd.factorize(words.astype(str))
    return np.array([kind_of_finding(str(t)) for t in texts], dtype=object)[codes]


def by_kind(findings: pd.DataFrame) -> pd.DataFrame:
    """Return findings grouped by what they say: severity, count, what, done, lines, holes, table, file; the gravest first.

    `lines` are those of the file ("12, 14–18"), `holes` how many holes are named, or the one.
    """
    names = ["severity", "count", "what", "done", "lines", "holes", "table", "file"]
    if not len(findings):
        return pd.DataFrame({n: pd.Series(dtype="int64" if n == "count" else "str") for n in names})
    frame = findings.assign(kind=kinds_of(findings["what"]), then=kinds_of(findings["done"]))
    rows = []
    for (severity, table, file, kind), part in frame.groupby(["severity", "table", "file", "kind"], sort=False):
        holes = [h for h in dict.fromkeys(part["hole"].astype(str)) if h]
        done = list(dict.fromkeys(part["then"] if len(part) > 1 else part["done"]))
        what = str(part["what"].iloc[0]) if len(part) == 1 else kind
        rows.append(
            {
                "severity": severity,
                "count": len(part),
                "what": what,
                "done": "; ".join(done[:3]) + ("; …" if len(done) > 3 else ""),
                "lines": _ranges(part["line"].to_numpy()),
                "holes": holes[0] if len(holes) == 1 else f"{len(holes)} holes" if holes else "",
                "table": table,
                "file": file,
            }
        )
    out = pd.DataFrame(rows, columns=names).sort_values("count", ascending=False, kind="stable")
    return gravest_first(out)


def _ranges(lines: Any, most: int = 6) -> str:
    """Return line numbers as a text of ranges, the first few of them."""
    known = np.unique(np.asarray(lines, dtype=np.int64))
    known = known[known > 0]
    if not len(known):
        return ""
    parts = np.split(known, np.flatnonzero(np.diff(known) > 1) + 1)
    words = [f"{p[0]}–{p[-1]}" if len(p) > 1 else f"{p[0]}" for p in parts[:most]]
    return ", ".join(words) + (", …" if len(parts) > most else "")


def _spread(text: str | Sequence[str], count: int) -> list[str]:
    return [text] * count if isinstance(text, str) else list(text)


def report_by_hole(
    collars: pd.DataFrame, surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame], findings: pd.DataFrame
) -> pd.DataFrame:
    """Return what an import did, one row a hole, in the order of the collars; holes that only findings name come last.

    Parameters
    ----------
    collars, surveys
        Tables with the column ``hole``.
    tables
        Interval tables by name, each with the column ``hole``.
    findings
        As `Findings.frame` gives them.

    Returns
    -------
    DataFrame
        hole, taken (whether it has a collar), survey readings, one count for each interval
        table, counts of findings by severity (``mended``, ``left out``, ``look``) and in words
        what was found, the gravest first.
    """
    known = collars["hole"].astype(str)
    named = findings[findings["hole"].astype(str) != ""] if len(findings) else findings
    strangers = [h for h in dict.fromkeys(named["hole"].astype(str)) if h not in set(known)] if len(named) else []
    out = pd.DataFrame({"hole": [*known, *strangers]})
    out["taken"] = ["yes"] * len(known) + ["no"] * len(strangers)
    none = pd.Series(dtype="int64")
    for name, table in {"survey": surveys, **tables}.items():
        counts = table["hole"].astype(str).value_counts()
        out[f"{name} rows"] = out["hole"].map(counts).fillna(0).astype(int)
    for severity in _COUNTED:
        counts = named.loc[named["severity"] == severity, "hole"].astype(str).value_counts() if len(named) else none
        out[severity] = out["hole"].map(counts).fillna(0).astype(int)
    words = (
        named[named["severity"].isin(_COUNTED)].groupby(named["hole"].astype(str), sort=False)["what"].agg(_in_words)
        if len(named)
        else none
    )
    out["found"] = out["hole"].map(words).fillna("")
    return out


def _in_words(whats: pd.Series) -> str:
    # Values differ from row to row ("Sn '<0.5' is below detection"); what they share is said once.
    counts = whats.str.replace(r"'[^']*' ", "", regex=True).value_counts(sort=False)
    return "; ".join(f"{what} ({count})" if count > 1 else str(what) for what, count in counts.items())

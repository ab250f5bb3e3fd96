"""Judging assays by their control samples: certified values, batches that fail, and what becomes of their grades."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Row, Several, param
from ...errors import InputError, UnitError
from ...findings import COLUMNS, Findings, gravest_first
from ...formats.tables import tables_in
from ...importing import batches, control_charts
from ...importing.element_columns import identity
from ...importing.reading import mapped, number_column
from ...items.base import Item
from ...items.holes import HoleSet
from ...progress import Progress
from ...units import factor

SAID = "batch "  # how the findings begin that this adds


class CertifiedRow(Row):
    standard: str = param(..., "Standard", help="Its name, as the control samples have it")
    element: str = param(..., "Element", help="Such as Au, or the column of its grades")
    value: float = param(..., "Value", low=0.0, help="Certified, in the unit of this row")
    deviation: Maybe = param(None, "Deviation", help="One standard deviation of the certificate, in the same unit")
    unit: str = param("", "Unit", help="That of the column when empty")
    method: str = param("", "Method", help="Such as FA50, as the heading of the grades has it; any when empty")
    laboratory: str = param("", "Laboratory", help="Of the control samples that it is for; all when empty")


class JudgeAssays(Params):
    certified: tuple[CertifiedRow, ...] = param(
        (),
        "Certified values",
        editor="table",
        help="Of the standards, by element; what has none is held against its own median",
    )
    certificates: str = param(
        "",
        "List of certified values",
        editor="file",
        help="A table of your own: standard, element, value, deviation, unit; method and laboratory where values differ by "
        "them. Rows above go before it",
    )
    attributes: Several = param(
        (), "Grades", editor="lines", help="Columns that are judged; all that control samples have when empty"
    )
    failed: Literal["marked", "left out"] = param(
        "marked",
        "Samples of failed batches are",
        help="Marked in the column 'Batch check' only; or left out, too: their grades of what failed become empty",
    )
    batch: str = param("", "Batch column", help="Its heading in the table of assays; found when empty", more=True)


def _listed(file: str) -> list[CertifiedRow]:
    found = Findings()
    raw = tables_in.read(file, found, "certificates")
    role = mapped(raw, "certificates", {})

    def text(name: str) -> list[str]:
        return (
            raw.text(role[name]).fillna("").astype(str).str.strip().tolist() if name in role else [""] * len(raw.line)
        )

    value = number_column(raw, role["value"])
    deviation = number_column(raw, role["deviation"]) if "deviation" in role else np.full(len(value), np.nan)
    rows = []
    words = (text(n) for n in ("standard", "element", "unit", "method", "laboratory"))
    for k, (name, element, unit, method, laboratory) in enumerate(zip(*words, strict=True)):
        if not name or not element:
            continue
        if not np.isfinite(value[k]) or value[k] < 0:
            raise InputError(
                f"the certified value of {element} in {name} is no number",
                where=f"{raw.file}, line {raw.line[k]}",
                fix="Write a number of zero or more",
            )
        rows.append(
            CertifiedRow(
                standard=name,
                element=element,
                value=float(value[k]),
                deviation=float(deviation[k]) if np.isfinite(deviation[k]) else None,
                unit=unit,
                method=method,
                laboratory=laboratory,
            )
        )
    return sorted(rows, key=lambda r: bool(r.method) + bool(r.laboratory))  # what is said more closely counts


def _plain(text: str) -> str:
    return "".join(c for c in text.lower() if c.isalnum())


def _column_of(row: CertifiedRow, judged: Sequence[str], units: dict[str, str]) -> str:
    """The column of grades that a certified value is for: of its method, else the first of its element; '' for none."""
    wanted = row.element.strip().lower()
    exact = [c for c in judged if c.lower() == wanted]
    told = {c: identity(c, units.get(c, "")) for c in judged}
    found = exact or [c for c in judged if told[c][0].lower() == wanted]
    if row.method.strip():
        found = [c for c in found if _plain(told[c][1]) == _plain(row.method)]
    return next(iter(found), "")


def certified(holes: HoleSet, rows: Sequence[CertifiedRow], strict: bool = True) -> HoleSet:
    """Return a set whose control samples have the certified values in columns beside them, in the unit of the grades.

    Raises
    ------
    InputError
        Where `strict`, for a standard or element that the control samples do not have; always for a unit that can't be that of the grade.
    """
    judged = control_charts.judged_attributes(holes)
    controls = holes.controls.copy()
    named = controls["standard"].astype(str).str.strip().str.lower()
    where = control_charts.words_in(controls, "laboratory")
    for row in rows:
        column = _column_of(row, judged, holes.units)
        mine = (named == row.standard.strip().lower()) & (controls["type"] == "standard")
        lab = row.laboratory.strip()
        if lab:
            mine &= where.str.lower() == lab.lower()
        if not column or not mine.any():
            if strict and lab and not (where.str.lower() == lab.lower()).any():
                labs = ", ".join(sorted(set(where) - {""})) or "none: the control samples name no laboratory"
                raise InputError(
                    f"no control sample is of the laboratory '{lab}'", where=holes.name, fix=f"There are: {labs}"
                )
            if strict:
                what = (
                    f"no control sample has a grade of '{row.element}'" + (f" by '{row.method}'" if row.method else "")
                    if not column
                    else f"no control sample is of the standard '{row.standard}'" + (f" and of '{lab}'" if lab else "")
                )
                there = judged if not column else control_charts.standards(holes)
                raise InputError(what, where=holes.name, fix="There are: " + ", ".join(there[:12]))
            continue
        unit = holes.units.get(column, "")
        try:
            times = factor(row.unit, unit) if row.unit.strip() else 1.0
        except UnitError as error:
            raise InputError(
                f"the certified {row.element} of {row.standard} is in '{row.unit}', which can't be brought to {unit or 'the unit of its column'}",
                where=holes.name,
            ) from error
        for word, value in (("accepted", row.value), ("deviation", row.deviation)):
            name = f"{word} {column}"
            if name not in controls:
                controls[name] = np.nan
            controls.loc[mine, name] = np.nan if value is None else value * times
    return dataclasses.replace(holes, controls=controls)


def _run(inputs: Inputs, p: JudgeAssays, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    control_charts.asked_attributes(holes, ())
    if p.certificates:
        holes = certified(holes, _listed(p.certificates), strict=False)
    holes = certified(holes, p.certified)
    attributes = control_charts.asked_attributes(holes, p.attributes)
    progress(0.3, "Judging batches")
    judged = batches.judged_batches(holes, attributes, p.batch)
    by_table = batches.rows_by_batch(holes, p.batch)
    if p.batch and not by_table:
        raise InputError(f"no table of intervals has a column '{p.batch}'", where=holes.name)
    failing = judged[judged["state"] == batches.FAILED]
    tables, emptied = dict(holes.tables), 0
    for name, rows in by_table.items():
        table = tables[name]
        if not any(a in table.columns for a in attributes):
            continue
        state = np.full(len(table), batches.UNKNOWN, dtype=object)
        known = set(judged["batch"])
        bad = set(failing["batch"])
        for batch, at in rows.items():
            if batch in known:
                state[at] = batches.FAILED if batch in bad else batches.PASSED
        changed: dict[str, Any] = {batches.CHECK: state}
        if p.failed == "left out":
            for attribute, of in failing.groupby("attribute", sort=False):
                if attribute not in table.columns:
                    continue
                at = np.concatenate([rows[b] for b in of["batch"] if b in rows] or [np.empty(0, np.int64)]).astype(
                    np.int64
                )
                values = table[attribute].to_numpy(float).copy()
                emptied += int(np.isfinite(values[at]).sum())
                values[at] = np.nan
                changed[str(attribute)] = values
        tables[name] = table.assign(**changed)
    told = Findings()
    for words, row in zip(batches.words_of(judged), failing.itertuples(), strict=True):
        done = (
            "its grades are left out" if p.failed == "left out" and row.samples else "marked" if row.samples else "kept"
        )
        told.add("look", words, done, table="controls")
    before = holes.findings
    if len(before):
        before = before[~(before["what"].astype(str).str.startswith(SAID) & (before["table"] == "controls"))]
    findings = (
        gravest_first(pd.concat([before, told.frame()], ignore_index=True)[list(COLUMNS)])
        if len(told.frame())
        else before
    )
    count = judged["batch"].nunique()
    words = f"{failing['batch'].nunique()} of {count} batches fail"
    if not by_table:
        words += "; the assays name no batch, so that none of them is marked"
    elif p.failed == "left out":
        words += f"; {emptied:,} grades are left out"
    progress(1.0, words)
    return {"holes": dataclasses.replace(holes, tables=tables, findings=findings.reset_index(drop=True))}


OPERATION = Operation(
    name="judge-assays",
    example=Example({"holes": "Emberlow holes"}, {"attributes": ["Sn_ppm"]}),
    title="Judge assays by control samples",
    area="Data",
    help="Holds standards against their certified values and blanks against their warning level, batch by batch. Samples of batches that fail are marked in a column of their own, which colours and filters them in all panes, or left out. The set gets a new version; what hangs from it is made again.",
    params=JudgeAssays,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("holes", "", "The holes with what was judged"),),
    replaces={"holes": "holes"},
)

"""Grouping many logged codes to few units, by rules that are kept and hold for later holes too."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Mapping
from fnmatch import translate

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...items.base import Item
from ...items.holes import HoleSet, table_with
from ...progress import Progress


class GroupCodes(Params):
    attribute: str = param(
        ..., "Logged code", editor="code", of="holes", help="A column of codes, such as the rock of the geology log"
    )
    rules: dict[str, str] = param(
        {},
        "Rules",
        editor="mapping",
        help="Code, or a pattern with * and ?, to unit. A code in full goes before patterns, and a longer pattern before a shorter one",
    )
    name: str = param("Unit", "Name of the units' column")


def unit_of(code: str, rules: Mapping[str, str]) -> str:
    """Return the unit of a code, '' when no rule fits. Case and spaces around do not count."""
    plain = {k.strip().lower(): v for k, v in rules.items()}
    key = code.strip().lower()
    if key in plain:
        return plain[key]
    fitting = [p for p in plain if any(c in p for c in "*?") and re.match(translate(p), key)]
    return plain[max(fitting, key=lambda p: len(p.replace("*", "")))] if fitting else ""


def codes_of(holes: HoleSet, attribute: str) -> pd.DataFrame:
    """Return the codes of an attribute with their number of intervals and metres, the longest first."""
    hit = table_with(holes, attribute)
    if hit is None:
        return pd.DataFrame(columns=["code", "intervals", "metres"])
    table = hit[1]
    length = (table["to_m"] - table["from_m"]).to_numpy(float)
    known = table[attribute].notna()
    frame = pd.DataFrame({"code": table[attribute].astype(str)[known], "metres": length[known.to_numpy()]})
    out = frame.groupby("code").agg(intervals=("metres", "size"), metres=("metres", "sum")).reset_index()
    return out.sort_values("metres", ascending=False, kind="stable").reset_index(drop=True)


def grouped(holes: HoleSet, attribute: str, rules: Mapping[str, str], name: str, found: Findings) -> HoleSet:
    """Return holes with the units of an attribute as a further column; codes that no rule fits are listed.

    Raises
    ------
    InputError
        When there is no such column, or the name is taken by another.
    """
    hit = table_with(holes, attribute)
    if hit is None or pd.api.types.is_numeric_dtype(hit[1][attribute]):
        raise InputError(f"there is no column of codes '{attribute}'", where=holes.name)
    table_name, table = hit
    before = holes.groups.get(attribute, {}).get("name", "")
    if not name.strip() or (name in table.columns and name != before):
        raise InputError(
            f"'{name}' can't be the name of the units' column", where=holes.name, fix="Choose another name"
        )
    codes, kinds = pd.factorize(table[attribute])
    units = np.array([*(unit_of(str(k), rules) or None for k in kinds), None], dtype=object)
    for code in codes_of(holes, attribute).itertuples():
        if not unit_of(str(code.code), rules):
            found.add(
                "look",
                f"code '{code.code}' belongs to no unit",
                f"left empty: {code.intervals} intervals, {code.metres:.0f} m",
                table=table_name,
            )
    tables = {**holes.tables, table_name: table.assign(**{name: units[codes]})}
    groups = {**holes.groups, attribute: {"name": name, "rules": dict(rules)}}
    return dataclasses.replace(holes, tables=tables, groups=groups)


def grouped_again(holes: HoleSet, found: Findings) -> HoleSet:
    """Return holes with all their grouping rules applied to the rows that they have now."""
    for attribute, rule in holes.groups.items():
        if table_with(holes, attribute) is not None:
            holes = grouped(holes, attribute, rule["rules"], rule["name"], found)
    return holes


def _run(inputs: Inputs, p: GroupCodes, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    rules = {k: v.strip() for k, v in p.rules.items() if v.strip()}
    if not rules:
        raise InputError("there is no rule", fix='Give for example rules={"SL*": "Slate"}')
    found = Findings()
    out = grouped(holes, p.attribute, rules, p.name.strip(), found)
    codes = codes_of(holes, p.attribute)
    placed = [bool(unit_of(str(c), rules)) for c in codes["code"]]
    metres = float(codes["metres"][placed].sum()) / max(float(codes["metres"].sum()), 1e-9)
    progress(
        1.0, f"{sum(placed)} of {len(codes)} codes, {metres:.0%} of the metres, in {len(set(rules.values()))} units"
    )
    findings = (
        holes.findings[~holes.findings["what"].str.contains("belongs to no unit")]
        if len(holes.findings)
        else holes.findings
    )
    return {"holes": dataclasses.replace(out, findings=pd.concat([findings, found.frame()], ignore_index=True))}


OPERATION = Operation(
    name="group-codes",
    example=Example({"holes": "Emberlow holes"}, {"attribute": "Rock", "rules": {"*": "All"}}),
    title="Group logged codes to units",
    area="Drilling",
    help="Adds a column of units to a log by rules; codes without a rule are listed. The rules stay with the holes and hold for later batches.",
    params=GroupCodes,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("holes", "holes", "Drillholes with units"),),
    replaces={"holes": "holes"},
)

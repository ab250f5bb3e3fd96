"""Columns of one element in one table: other units are brought to one, and of several methods the better one counts."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..elements import measured, ranked
from ..errors import UnitError
from ..units import by_factor, factor, without_unit_in_heading
from .detection import GRADES, CellRules, Place

Masks = Mapping[str, NDArray[np.bool_]]


def identity(column: str, unit: str) -> tuple[str, str]:
    """Return the element and method that a column of grades names; its own name without the unit where it names none."""
    told = measured(column, unit)
    return (told.element, told.method) if told else (without_unit_in_heading(column).lower(), "")


def named(element: str, method: str, unit: str) -> str:
    """Return the name of a column of grades: element, method where it has one, unit, such as Au_ppm."""
    sign = {"g/t": "gpt", "%": "pct"}.get(unit, unit.replace("%", "pct").replace("/", ""))
    return "_".join(part.replace(" ", "_") for part in (element, method, sign) if part)


def joined(
    frame: pd.DataFrame, units: Mapping[str, str], rules: CellRules, above: Masks, place: Place
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return a table in which each element has one column that holds all its values, and the units of all columns.

    Columns of one element and method in several units: the fullest is filled from the others, times the factor. Columns
    of several methods all stay as they are; what counts goes into the column without a method, or a new one, from the
    method that comes first (`elements.ranked`), and a column says which one each value is from. Cells that were above
    the limit (`above`) count as missing where another column has a value. All stays beside it, and the factors and
    methods are in the findings.
    """
    out, told = frame, dict(units)
    by_element: dict[str, dict[str, list[str]]] = {}
    for column in frame.columns:
        if units.get(column) in GRADES and pd.api.types.is_numeric_dtype(frame[column]):
            element, method = identity(str(column), units[column])
            by_element.setdefault(element, {}).setdefault(method, []).append(column)
    over = {c: m.copy() for c, m in above.items()}
    for element, by_method in by_element.items():
        mains = {}
        for method, members in by_method.items():
            main = max(members, key=lambda c: int(np.count_nonzero(out[c].notna())))
            for other in members:
                if other != main:
                    out = _filled(out, main, other, told, rules, over, place)
            mains[method] = main
        if len(mains) > 1:
            out, told = _of_methods(out, element, mains, told, rules, over, place)
    return out, told


def _factor(source: str, target: str) -> float | None:
    try:
        return factor(source, target)
    except UnitError:
        return None


def _filled(
    frame: pd.DataFrame,
    main: str,
    other: str,
    units: Mapping[str, str],
    rules: CellRules,
    above: dict[str, NDArray[np.bool_]],
    place: Place,
) -> pd.DataFrame:
    times = _factor(units[other], units[main])
    if times is None:
        return frame
    a, b = frame[main].to_numpy(float), by_factor(frame[other].to_numpy(float), times)
    none = np.zeros(len(a), dtype=bool)
    coded = above.get(main, none)
    beyond = coded & np.isfinite(b) & ~above.get(other, none) & (rules.above == "another column or limit")
    fill = (np.isnan(a) & np.isfinite(b)) | beyond
    if fill.any():
        merged = np.where(fill, b, a)
        frame = frame.assign(**{main: merged})
        empty = np.flatnonzero(fill & ~beyond)
        done = f"taken from {other} × {times:g}"
        if len(empty):
            place.add("mended", f"{main} is empty and {other} is not", done, empty)
        if beyond.any():
            place.add("mended", f"{main} is above the limit and {other} is not", done, np.flatnonzero(beyond))
            above[main] = coded & ~beyond
    with np.errstate(invalid="ignore"):
        apart = (np.abs(a - b) > 0.02 * np.maximum(np.abs(a), np.abs(b)) + 1e-12) & ~coded & ~above.get(other, none)
    if apart.any():
        place.add("look", f"{main} and {other} (× {times:g}) disagree", "both kept", np.flatnonzero(apart))
    return frame


def _of_methods(
    frame: pd.DataFrame,
    element: str,
    mains: Mapping[str, str],
    units: dict[str, str],
    rules: CellRules,
    above: Masks,
    place: Place,
) -> tuple[pd.DataFrame, dict[str, str]]:
    order = ranked(list(mains), rules.methods)
    target = mains.get("", "")
    unit = units[target or mains[order[0]]]
    name = target or _free(named(element, "", unit), frame)
    count = len(frame)
    best, source = np.full(count, np.nan), np.full(count, "", dtype=object)
    capped = np.zeros(count, dtype=bool)
    label = f"{element} method"
    if label in frame and target:  # an earlier joining said already where its values are from
        best = frame[target].to_numpy(float)
        source = np.where(np.isfinite(best), frame[label].fillna("").astype(str), "").astype(object)
        order = [m for m in order if m]
        if not any((np.isnan(best) & frame[mains[m]].notna().to_numpy()).any() for m in order):
            return frame, units
    for method in order:
        column = mains[method]
        times = _factor(units[column], unit)
        if times is None:
            continue
        values = by_factor(frame[column].to_numpy(float), times)
        limited = above.get(column, np.zeros(count, dtype=bool)) & np.isfinite(values)
        better = np.isfinite(values) & (
            np.isnan(best) | (capped & ~limited & (rules.above == "another column or limit"))
        )
        best = np.where(better, values, best)
        source[better] = method or column
        capped = np.where(better, limited, capped)
    said = ", ".join(m or mains[m] for m in order)
    counts = ", ".join(f"{int((source == (m or mains[m])).sum())} from {m or mains[m]}" for m in order)
    place.found.add(
        "note",
        f"{element} is given by {len(order)} columns ({said})",
        f"{name} takes the first that has a value, in this order: {counts}; all stay beside it",
        file=place.file,
        table=place.table,
    )
    out = frame.copy()
    if target and "" in order[1:]:
        given = frame[target].to_numpy(float)
        if (np.isfinite(given) & (best != given)).any():  # another method won over it: it stays beside
            kept = _free(named(element, "original", unit), frame)
            out[kept], units = given, units | {kept: unit}
    out[name] = best
    out[label] = pd.Series(source, dtype="object").where(source != "", None)
    return out, {**units, name: unit, label: ""}


def _free(name: str, frame: pd.DataFrame) -> str:
    taken, number = {str(c).lower() for c in frame.columns}, 1
    while (name if number == 1 else f"{name} {number}").lower() in taken:
        number += 1
    return name if number == 1 else f"{name} {number}"

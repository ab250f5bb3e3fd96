"""Which way high grades run and where they are open: axes, and how far holes reach beside and beyond them."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling.continuity import weighted_trend
from ...compute.geometry.orientations import dip_and_direction, plunge_and_trend
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item, numeric_columns
from ...items.features import LINE, Features, one_each
from ...items.holes import HoleSet
from ...items.points import POINT_ROLES, PointSet
from ...progress import Progress
from .of_holes import grades_of

_DIRECTIONS = ("down the axis", "up the axis", "one way across", "the other way across")


class TrendParams(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="samples")
    cutoff: float = param(..., "Cut-off", help="Only samples at or above it count, by their grade")
    beyond: float = param(
        100.0, "Carry the axis on by", unit="m", low=0.0, high=5000.0, help="Beyond the last sample that counts"
    )
    beside: float = param(
        40.0, "Samples within", unit="m", above=0.0, help="Of the axis tell whether a direction was tested"
    )
    name: str = param("", "Name", help="Grade and cut-off when empty")


def _run(inputs: Inputs, p: TrendParams, progress: Progress) -> dict[str, Item]:
    item = inputs.need("samples", HoleSet, PointSet)
    table = _table(item, p.attribute)
    grade = table[p.attribute].to_numpy(float)
    xyz = table[["x", "y", "z"]].to_numpy(float)
    known = np.isfinite(grade) & np.isfinite(xyz).all(axis=1)
    rich = known & (grade >= p.cutoff)
    long = (
        (table["to_m"] - table["from_m"]).to_numpy(float)
        if {"from_m", "to_m"} <= set(table.columns)
        else np.ones(len(table))
    )
    progress(0.2, "Fitting the axes")
    trend = weighted_trend(xyz[rich], (grade * long)[rich])
    plunge, to = plunge_and_trend(trend.axes)
    dip, dip_to = dip_and_direction(trend.axes[2:])
    along = (xyz - trend.middle) @ trend.axes.T
    low, high = along[rich].min(axis=0), along[rich].max(axis=0)
    ends = trend.middle + np.array([low[0] - p.beyond, high[0] + p.beyond])[:, None] * trend.axes[0]
    core = trend.middle + np.array([low[0], high[0]])[:, None] * trend.axes[0]
    across = trend.middle + np.array([low[1], high[1]])[:, None] * trend.axes[1]
    rows = pd.DataFrame(
        {
            "is": ["axis, carried on", "axis of high grades", "second axis"],
            "plunge": [plunge[0], plunge[0], plunge[1]],
            "trend": [to[0], to[0], to[1]],
            "confidence": [trend.confidence[0], trend.confidence[0], np.nan],
            "length_m": [high[0] - low[0] + 2 * p.beyond, high[0] - low[0], high[1] - low[1]],
            "samples": int(rich.sum()),
        }
    )
    paths = [ends, core, across]
    unit = item.units.get(p.attribute, "")
    name = p.name or f"{p.attribute} trend from {p.cutoff:g} {unit}".strip()
    return {
        "axis": Features(
            name=name,
            crs=item.crs,
            table=rows,
            units={"plunge": "°", "trend": "°", "confidence": "°", "length_m": "m"},
            **one_each([path[:, :2] for path in paths], LINE, [path[:, 2] for path in paths]),
        ),
        "open": _open(
            item, p, name, trend.middle, trend.axes, along[known], (low, high), (float(dip[0]), float(dip_to[0]))
        ),
    }


def _table(item: HoleSet | PointSet, attribute: str) -> pd.DataFrame:
    if isinstance(item, PointSet):
        if attribute not in numeric_columns(item.table, POINT_ROLES):
            raise InputError(f"'{attribute}' is not a grade of these samples", where=item.name)
        return item.table
    return grades_of(item, attribute)


def _open(
    item: Item,
    p: TrendParams,
    name: str,
    middle: np.ndarray,
    axes: np.ndarray,
    along: np.ndarray,
    reach: tuple[np.ndarray, np.ndarray],
    plane: tuple[float, float],
) -> PointSet:
    """The four ends of the body in its plane: how far it is known to reach, and how far samples were taken beyond."""
    low, high = reach
    rows = []
    for words, axis, sign in zip(_DIRECTIONS, (0, 0, 1, 1), (1, -1, 1, -1), strict=True):
        edge = high[axis] if sign > 0 else -low[axis]
        other = 1 - axis
        beside = (
            (np.abs(along[:, 2]) <= p.beside)
            & (along[:, other] >= low[other] - p.beside)
            & (along[:, other] <= high[other] + p.beside)
        )
        deepest = float((sign * along[beside, axis]).max()) if beside.any() else float(edge)
        beyond = max(deepest - float(edge), 0.0)
        place = middle + sign * edge * axes[axis]
        plunge, to = plunge_and_trend(sign * axes[axis][None, :])
        down = -sign * axes[axis][2]
        rows.append(
            {
                "direction": words,
                "is": "open" if beyond < p.beside else "tested",
                "tested beyond": beyond,
                "plunge": float(plunge[0]) if down >= 0 else -float(plunge[0]),
                "trend": float(to[0]) if down >= 0 else (float(to[0]) + 180.0) % 360.0,
                "plane dip": plane[0],
                "plane dip direction": plane[1],
                **dict(zip("xyz", place.tolist(), strict=True)),
            }
        )
    angles = dict.fromkeys(("plunge", "trend", "plane dip", "plane dip direction"), "°")
    return PointSet(
        name=f"{name}, open ends",
        crs=item.crs,
        table=pd.DataFrame(rows),
        units=angles | {"tested beyond": "m"},
        quantities=dict.fromkeys(angles, "angle") | {"tested beyond": "length"},
        content="directions",
    )


OPERATION = Operation(
    name="grade-trend",
    example=Example({"samples": "Sn_ppm composites 6 m"}, {"attribute": "Sn_ppm", "cutoff": 1500.0}),
    title="Trend of high grades",
    area="Drilling",
    help="Fits the principal axes of samples at or above a cut-off, weighted by grade times length, with trend, plunge and the confidence of the direction; carries the axis on beyond the last sample, and lists in which directions of its plane holes have tested the ground beyond and in which it is open.",
    params=TrendParams,
    run=_run,
    inputs=(Input("samples", "Samples or composites", ("points", "holes")),),
    outputs=(Output("axis", "features", "Axis of high grades"), Output("open", "points", "Open directions")),
)

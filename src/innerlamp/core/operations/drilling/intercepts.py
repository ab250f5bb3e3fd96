"""Significant intercepts of drillholes, with what they include, as a set of holes that is drawn, listed and exported."""

from __future__ import annotations

import dataclasses
import math

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...compute.drilling import desurvey, wording
from ...compute.drilling.equivalent import PER, Metal, equivalent, formula
from ...compute.drilling.intercepts import Gaps, Intercepts, Rules, included, significant
from ...compute.drilling.thickness import true_thickness
from ...compute.geometry.axis_sets import mean_axis
from ...compute.geometry.orientations import plane_normal
from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Row, Several, param
from ...elements import measured
from ...errors import InputError
from ...findings import Findings
from ...importing.hole_paths import path_from, place
from ...items.base import Item
from ...items.fields import Surface
from ...items.holes import INTERCEPTS, HoleSet
from ...items.points import PointSet
from ...numbers import number_or_none
from ...progress import Progress
from ...units import by_factor, factor
from .of_holes import grades_of, mean_over, planes_of, spans

_SPELT = {"%": "pct"}  # of units in names of columns
FloatArray = NDArray[np.float64]


class MetalRow(Row):
    attribute: str = param(..., "Metal", editor="attribute", of="holes")
    price: float = param(..., "Price", above=0.0)
    per: str = param("t", "Per", help="t, kg, g, oz (troy ounce) or lb (pound)")
    recovery: float = param(100.0, "Recovery", unit="%", above=0.0, high=100.0)


class InterceptParams(Params):
    attribute: str = param("", "Grade", editor="attribute", of="holes", help="Not needed with metals below")
    cutoff: float = param(..., "Cut-off", help="In the unit of the grade; of the first metal for an equivalent")
    shortest: float = param(0.0, "Shortest", unit="m", low=0.0)
    waste_in_row: float = param(
        0.0, "Internal waste in a row", unit="m", low=0.0, help="Longest run below the cut-off that is taken in"
    )
    waste_in_all: Maybe = param(None, "Internal waste in all", unit="m", low=0.0, help="No limit when empty")
    least_product: float = param(0.0, "Least grade x length", unit="grade x m", low=0.0)
    top_cut: Maybe = param(None, "Top-cut", help="Grades above it count as it; none when empty")
    gaps: Gaps = param("end the intercept", "Lengths without a grade")
    including: Several = param(
        (), "Including at", editor="lines", help="Higher cut-offs, parted by semicolons, for what lies within"
    )
    shortest_included: float = param(0.0, "Shortest included", unit="m", low=0.0)
    also: Several = param((), "Also report", editor="lines", of="holes", help="Other grades, parted by semicolons")
    report_in: str = param("", "Report in", help="% or g/t, for the main grade; its own unit when empty")
    metals: tuple[MetalRow, ...] = param(
        (), "Equivalent of", editor="table", help="The first metal is what the others count as", more=True
    )
    dip: Maybe = param(
        None,
        "Dip of the body",
        unit="°",
        low=0.0,
        high=90.0,
        help="For the true thickness, where no body is given",
        more=True,
    )
    dip_direction: Maybe = param(None, "Dip direction", unit="°", low=0.0, high=360.0, more=True)
    uncertainty: float = param(
        10.0,
        "Orientation is good to",
        unit="°",
        low=0.0,
        high=60.0,
        help="Gives the range of the true thickness",
        more=True,
    )
    name: str = param("", "Name", help="Grade and cut-off when empty")


def _run(inputs: Inputs, p: InterceptParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    metals, name, unit = _metals(holes, p)
    table = grades_of(holes, metals[0].name if metals else p.attribute)
    grade = table[p.attribute].to_numpy(float) if not metals else _equivalent(holes, table, metals)
    path, index = path_from(holes)
    code, start, stop = spans(table, index)
    found = Findings()
    _say_negatives(grade, found)
    rules = Rules(
        p.cutoff,
        p.shortest,
        p.waste_in_row,
        np.inf if p.waste_in_all is None else p.waste_in_all,
        p.least_product,
        np.inf if p.top_cut is None else p.top_cut,
        p.gaps,
    )
    progress(0.2, "Looking for intercepts")
    outer = significant(code, start, stop, grade, rules)
    if not len(outer):
        best = float(np.nanmax(grade)) if np.isfinite(grade).any() else math.nan
        raise InputError(
            f"no intercept reaches the cut-off of {p.cutoff:g} {unit}".rstrip(),
            where=holes.name,
            fix=f"The highest grade is {best:g}: lower the cut-off, the shortest length or the least grade x length",
        )
    levels = [(p.cutoff, outer)]
    for value in sorted(_levels(p)):
        inner = dataclasses.replace(rules, cutoff=value, shortest=p.shortest_included, least_product=0.0)
        levels.append((value, included(outer, code, start, stop, grade, inner)))
    progress(0.6, "Means and true thickness")
    out = _rows(levels, index)
    main = name if metals else p.attribute
    times = factor(unit, p.report_in) if p.report_in else 1.0
    shown = p.report_in or unit
    column = f"{_element(main)}_{_SPELT.get(shown, shown)}" if p.report_in and shown != unit else main
    out[column] = by_factor(out.pop("grade").to_numpy(float), times)
    out["grade x length"] = out[column] * out["length_m"]
    others = list(dict.fromkeys(a for a in (*(m.name for m in metals), *p.also) if a not in (main, column)))
    units = {column: shown, "cut-off": unit, "length_m": "m", "waste_m": "m", "grade x length": f"{shown} m".strip()}
    cells = spans(out, index)
    for other in others:
        out[other], _ = mean_over(holes, other, index, cells)
        units[other] = holes.units.get(other, "")
    out, thick = _with_thickness(out, inputs, p, path, cells)
    units |= dict.fromkeys(thick, "m")
    if metals:
        found.add("note", formula(metals, name), "stands with the result", table=INTERCEPTS)
    out["label"] = [
        f"{long:.1f} m @ {wording.grade_words(g)} {shown}".rstrip() if kind == "intercept" else ""
        for long, g, kind in zip(out["length_m"], out[column], out["is"], strict=True)
    ]
    out["report"] = _words(out, column, shown, others, units)
    placed = place(out, holes.collars, path)
    met = set(out["hole"])
    collars, surveys, stations = (
        t[t["hole"].astype(str).isin(met)].reset_index(drop=True)
        for t in (holes.collars, holes.surveys, holes.stations)
    )
    return {
        "intercepts": HoleSet(
            name=p.name or f"{_element(main)} intercepts {p.cutoff:g} {unit}".strip(),
            crs=holes.crs,
            collars=collars,
            surveys=surveys,
            stations=stations,
            tables={INTERCEPTS: _recoded(placed, collars)},
            units=units,
            quantities={column: "grade", "cut-off": "number", "waste_m": "length"}
            | {a: holes.attributes[a].quantity for a in others if a in holes.attributes},
            findings=found.frame(),
            method=holes.method,
        )
    }


def _recoded(table: pd.DataFrame, collars: pd.DataFrame) -> pd.DataFrame:
    return table.assign(
        hole=pd.Categorical(table["hole"].astype(str), categories=pd.Index(collars["hole"].astype(str)))
    )


def _metals(holes: HoleSet, p: InterceptParams) -> tuple[list[Metal], str, str]:
    """The metals of an equivalent, its name, and the unit of the grade; without metals the grade's own."""
    if not p.metals:
        if not p.attribute:
            raise InputError("no grade is given", where=holes.name, fix="Choose a grade, or metals of an equivalent")
        return [], "", holes.units.get(p.attribute, "")
    out = []
    for row in p.metals:
        unit = holes.units.get(row.attribute, "")
        if not unit:
            raise InputError(f"'{row.attribute}' has no unit", where=holes.name, fix="Describe the attribute first")
        if row.per not in PER:
            raise InputError(f"a price for a '{row.per}' is not known", fix="Take one of: " + ", ".join(PER))
        out.append(Metal(row.attribute, unit, row.price, row.per, row.recovery / 100.0))
    return out, f"{_element(out[0].name)}Eq", out[0].unit


def _equivalent(holes: HoleSet, table: pd.DataFrame, metals: list[Metal]) -> FloatArray:
    away = [m.name for m in metals if m.name not in table.columns]
    if away:
        raise InputError(
            f"{' and '.join(away)} is not in the table of {metals[0].name}",
            where=holes.name,
            fix="Take metals that were analysed on the same samples",
        )
    return equivalent(metals, table[[m.name for m in metals]].to_numpy(float))


def _say_negatives(grade: FloatArray, found: Findings) -> None:
    count = int((grade < 0).sum())
    if count:
        found.add("look", f"{count} grades are negative", "taken as they stand; see the checks", table=INTERCEPTS)


def _levels(p: InterceptParams) -> list[float]:
    out = []
    for text in p.including:
        value = number_or_none(text)
        if value is None:
            raise InputError(f"'{text}' is not a cut-off", fix="Give numbers, parted by semicolons")
        if value <= p.cutoff:
            raise InputError(f"{value:g} is not above the cut-off of {p.cutoff:g}", fix="Give higher ones")
        out.append(value)
    return list(dict.fromkeys(out))


def _rows(levels: list[tuple[float, Intercepts]], index: pd.Index) -> pd.DataFrame:
    """One row an intercept, those that one includes after it; numbers as 3 and 3.1."""
    parts = []
    for level, (cutoff, each) in enumerate(levels):
        own = np.arange(len(each)) if level == 0 else each.parent
        parts.append(
            pd.DataFrame(
                {
                    "hole": index.to_numpy()[each.hole],
                    "from_m": each.start,
                    "to_m": each.stop,
                    "length_m": each.length,
                    "grade": each.grade,
                    "waste_m": each.waste,
                    "cut-off": cutoff,
                    "parent": own,
                    "level": level,
                }
            )
        )
    out = pd.concat(parts, ignore_index=True).sort_values(["parent", "level", "from_m"], kind="stable")
    number = out.groupby("parent").cumcount()
    out.insert(
        0, "number", [f"{a + 1}" if not k else f"{a + 1}.{k}" for a, k in zip(out["parent"], number, strict=True)]
    )
    out["is"] = np.where(out["level"] == 0, "intercept", "included")
    return out.drop(columns=["parent", "level"]).reset_index(drop=True)


def _with_thickness(
    out: pd.DataFrame,
    inputs: Inputs,
    p: InterceptParams,
    path: desurvey.Path,
    cells: tuple[NDArray[np.int64], FloatArray, FloatArray],
) -> tuple[pd.DataFrame, tuple[str, ...]]:
    upper, lower = (desurvey.locate(path, cells[0], depth) for depth in cells[1:])
    body = inputs.get("body")
    if isinstance(body, Surface):
        normal = _nearest_normals(body, 0.5 * (upper + lower))
    elif isinstance(body, PointSet):
        normal = _mean_normal(body)
    elif p.dip is not None and p.dip_direction is not None:
        normal = plane_normal(np.array([p.dip]), np.array([p.dip_direction]))
    elif p.dip is not None or p.dip_direction is not None:
        raise InputError(
            "the orientation of the body is given by half", fix="Give both dip and dip direction, or neither"
        )
    else:
        return out, ()
    thick, low, high = true_thickness(lower - upper, normal, p.uncertainty)
    names = ("true thickness", "true thickness, least", "true thickness, most")
    return out.assign(**dict(zip(names, (thick, low, high), strict=True))), names


def _nearest_normals(body: Surface, at: FloatArray) -> FloatArray:
    """Normal of the triangle whose middle is nearest to each place."""
    from scipy.spatial import cKDTree

    corners = body.vertices[body.triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normal, axis=1)
    good = length > 0
    if not good.any():
        raise InputError("the surface has no triangle with an area", where=body.name)
    _, nearest = cKDTree(corners[good].mean(axis=1)).query(at)
    return np.asarray((normal[good] / length[good, None])[nearest])


def _mean_normal(body: PointSet) -> FloatArray:
    """Mean axis of the poles of readings."""
    dip, to = planes_of(body)
    known = np.isfinite(dip) & np.isfinite(to)
    if not known.any():
        raise InputError("no reading has a dip and a direction", where=body.name)
    return mean_axis(plane_normal(dip[known], to[known]))


def _element(column: str) -> str:
    known = measured(column)
    return known.element if known is not None else column


def _words(out: pd.DataFrame, column: str, unit: str, others: list[str], units: dict[str, str]) -> list[str]:
    """The usual wording, whole for intercepts and by itself for what is included."""
    thick = out.get("true thickness", pd.Series(np.full(len(out), math.nan)))
    reported = []
    for k, row in enumerate(out.to_dict("records")):
        grades = [wording.Grade(row[column], unit, _element(column))]
        grades += [wording.Grade(row[o], units[o], _element(o)) for o in others]
        reported.append(
            wording.Reported(row["hole"], row["from_m"], row["length_m"], tuple(grades), (), float(thick.iloc[k]))
        )
    own = out["number"].str.split(".").str[0]
    texts = []
    for k, kind in enumerate(out["is"]):
        inner = tuple(reported[j] for j in np.flatnonzero((own == own.iloc[k]) & (out["is"] == "included")))
        whole = dataclasses.replace(reported[k], including=inner) if kind == "intercept" else reported[k]
        texts.append(wording.sentence(whole))
    return texts


OPERATION = Operation(
    name="intercepts",
    example=Example(
        {"holes": "Emberlow holes"}, {"attribute": "Sn_ppm", "cutoff": 1000.0, "waste_in_row": 4.0, "shortest": 4.0}
    ),
    title="Significant intercepts",
    area="Drilling",
    help="Joins samples at or above a cut-off over a little waste, with what they include at higher cut-offs, several grades, equivalents by prices and recoveries, and true thickness; worded as in reports.",
    params=InterceptParams,
    run=_run,
    reads=("holes",),
    inputs=(
        Input("holes", "Drillholes", ("holes",)),
        Input(
            "body",
            "Orientation of the body",
            ("surface", "points"),
            optional=True,
            proposed=False,
            help="A surface, or readings with dip and dip direction, for the true thickness",
        ),
    ),
    outputs=(Output("intercepts", "holes", "Intercepts"),),
)

"""Geochemistry of samples: anomalies over a threshold, levelling by rock unit, principal components."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...formats.shapes.features import polygons_of
from ...items.base import Item
from ...items.features import HOLE, RING, Features, one_each, texts_of
from ...items.points import PointSet
from ...progress import Progress

_SAMPLES = Input("samples", "Samples", ("points",))


class Anomalies(Params):
    attribute: str = param(..., "Attribute", editor="attribute", of="samples")
    by: Literal["percentile", "mean and deviations of logs", "break of probability plot", "value"] = param(
        "percentile", "Threshold by"
    )
    percentile: float = param(98.0, "Percentile", unit="%", low=0.0, high=100.0)
    deviations: float = param(2.0, "Deviations", unit="deviations", above=0.0)
    value: float = param(0.0, "Value", unit="of the attribute")
    link: float = param(
        0.0,
        "Linked up to",
        unit="m",
        low=0.0,
        help="Samples over the threshold this near belong together; 0 takes 1.6 times the sample spacing",
    )
    least: int = param(2, "At least samples", low=1)
    name: str = param("", "Name", help="The attribute when empty")


class LevelByUnit(Params):
    attribute: str = param(..., "Attribute", editor="attribute", of="samples")
    unit: str = param("unit", "Unit is in", help="Column of the map, or of the samples where no map is chosen")
    name: str = param("", "Name of the column", help="The attribute and 'levelled' when empty")


class PrincipalComponents(Params):
    columns: Several = param(
        (), "Columns", editor="lines", help="Parted by semicolons; empty takes all with a grade unit"
    )
    logs: Literal["centred log-ratios", "as they are"] = param("centred log-ratios", "Values")
    keep: int = param(3, "Components kept", low=1, high=10)


def _numbers(item: PointSet, column: str) -> np.ndarray:
    if column not in item.table.columns or item.table[column].dtype.kind not in "fiu":
        raise InputError(f"'{column}' is not a number column", where=item.name)
    return item.table[column].to_numpy(float)


def _with_holes(groups: Sequence[Any]) -> dict[str, Any]:
    """Vertices, starts, owners and types of outlines with the holes in them: the area is that of what is drawn."""
    rings = [
        (k, ring, HOLE if hole else RING)
        for k, g in enumerate(groups)
        for hole, ring in enumerate((g.outline, *g.holes))
    ]
    made = one_each([ring for _, ring, _ in rings], RING)
    return made | {
        "owner": np.array([k for k, _, _ in rings], dtype=np.int64),
        "part_types": np.array([kind for _, _, kind in rings], dtype=np.int8),
    }


def _run_anomalies(inputs: Inputs, p: Anomalies, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.minimum_curvature import typical_spacing
    from ...compute.statistics import geochemistry as gc

    samples = inputs.need("samples", PointSet)
    v = _numbers(samples, p.attribute)
    known = v[np.isfinite(v)]
    if not len(known):
        raise InputError(f"no row has a value of {p.attribute}", where=samples.name)
    level = {
        "percentile": lambda: float(np.percentile(known, p.percentile)),
        "mean and deviations of logs": lambda: gc.threshold_of_logs(v, p.deviations),
        "break of probability plot": lambda: gc.threshold_by_break(v),
        "value": lambda: p.value,
    }[p.by]()
    x, y = samples.table["x"].to_numpy(float), samples.table["y"].to_numpy(float)
    link = p.link or 1.6 * typical_spacing(x, y)
    if not np.isfinite(link) or link <= 0:
        raise InputError("all samples lie at one place", where=samples.name)
    with np.errstate(invalid="ignore"):
        over = np.isfinite(v) & (v >= level)
    groups = gc.groups_over(x, y, over, link, p.least)
    if not groups:
        raise InputError(
            f"no {p.least} samples over {level:.4g} lie together",
            where=samples.name,
            fix="Lower the threshold, or link farther",
        )
    unit = samples.units.get(p.attribute, "")
    table = pd.DataFrame(
        {
            "rank": [f"{k}" for k in range(1, len(groups) + 1)],
            "samples": [float(len(g.rows)) for g in groups],
            "area_ha": [g.area / 1e4 for g in groups],
            "peak": [float(v[g.rows].max()) for g in groups],
            "mean": [float(v[g.rows].mean()) for g in groups],
        }
    )
    progress(1.0, f"threshold {level:.4g} {unit}, {int(over.sum())} samples over it in {len(groups)} anomalies")
    features = Features(
        name=p.name or f"{p.attribute} anomalies",
        crs=samples.crs,
        table=table,
        **_with_holes(groups),
        units={"area_ha": "ha", "peak": unit, "mean": unit},
        quantities={"samples": "count"} | dict.fromkeys(("peak", "mean"), samples.attributes[p.attribute].quantity),
    )
    return {"anomalies": features}


def unit_at(features: Features, column: str, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return the value of a column of the polygon that each place lies in, '' outside of all.

    Raises
    ------
    InputError
        When there is no such column, no polygon, or one that crosses itself.
    """
    import shapely

    names = texts_of(features, column)
    owner, shapes = zip(*polygons_of(features), strict=True)
    point, hit = shapely.STRtree(shapes).query(shapely.points(x, y), predicate="within")
    out = np.full(len(x), "", dtype=object)
    # Where polygons overlap the smaller one counts: it was drawn upon the other.
    order = np.argsort([-shapes[k].area for k in hit], kind="stable")
    out[point[order]] = names[[owner[k] for k in hit[order]]]
    return out


def _run_level(inputs: Inputs, p: LevelByUnit, progress: Progress) -> dict[str, Item]:
    from ...compute.statistics import geochemistry as gc

    samples, geology = inputs.need("samples", PointSet), inputs.maybe("map", Features)
    v = _numbers(samples, p.attribute)
    table = samples.table
    if geology is not None:
        unit = unit_at(geology, p.unit, table["x"].to_numpy(float), table["y"].to_numpy(float))
        table = table.assign(**{f"map {p.unit}": unit})
    elif p.unit in table.columns:
        unit = table[p.unit].fillna("").astype(str).to_numpy(dtype=object)
    else:
        raise InputError(
            f"the samples have no column '{p.unit}'",
            where=samples.name,
            fix="Choose a geological map, or another column",
        )
    name = p.name or f"{p.attribute} levelled"
    score = gc.levelled(v, unit)
    progress(1.0, f"{len(set(unit.tolist()) - {''})} units, {int((unit == '').sum())} samples in none")
    return {
        "samples": dataclasses.replace(
            samples, table=table.assign(**{name: score}), units={**samples.units, name: "deviations"}
        )
    }


def _run_components(inputs: Inputs, p: PrincipalComponents, progress: Progress) -> dict[str, Item]:
    from ...compute.statistics import geochemistry as gc

    samples = inputs.need("samples", PointSet)
    columns = list(p.columns) or [c for c, a in samples.attributes.items() if a.quantity == "grade"]
    if len(columns) < 2:
        raise InputError(
            "components need two columns at least", where=samples.name, fix="Name them, parted by semicolons"
        )
    data = np.column_stack([_numbers(samples, c) for c in columns])
    made = gc.principal_components(data, p.logs == "centred log-ratios")
    count = min(p.keep, len(columns))
    names = [f"component {k + 1}" for k in range(count)]
    table = samples.table.assign(**{n: made.scores[:, k] for k, n in enumerate(names)})
    words = []
    for k in range(count):
        order = np.argsort(-np.abs(made.loadings[:, k]))[:4]
        words.append(
            f"{k + 1}: {made.explained[k]:.0%} ("
            + ", ".join(f"{columns[i]} {made.loadings[i, k]:+.2f}" for i in order)
            + ")"
        )
    progress(1.0, "components " + "; ".join(words))
    loadings = pd.DataFrame(
        [
            (
                "note",
                f"component {k + 1} explains {made.explained[k]:.1%}: "
                + ", ".join(f"{c} {made.loadings[i, k]:+.2f}" for i, c in enumerate(columns)),
                "",
                "",
                samples.content,
                "",
                0,
            )
            for k in range(count)
        ],
        columns=["severity", "what", "done", "hole", "table", "file", "line"],
    )
    findings = (
        pd.concat(
            [samples.findings[~samples.findings["what"].str.startswith("component ")], loadings], ignore_index=True
        )
        if len(samples.findings)
        else loadings
    )
    return {
        "samples": dataclasses.replace(
            samples, table=table, units={**samples.units, **dict.fromkeys(names, "")}, findings=findings
        )
    }


ANOMALIES = Operation(
    name="anomalies",
    example=Example({"samples": "Soils"}, {"attribute": "Sn ppm"}),
    title="Outline anomalies",
    area="Maps",
    help="Groups samples over a threshold that lie together, with outline, area, peak, mean and count.",
    params=Anomalies,
    run=_run_anomalies,
    inputs=(_SAMPLES,),
    outputs=(Output("anomalies", "features", "Anomalies"),),
)
LEVEL = Operation(
    name="level-by-unit",
    example=Example({"samples": "Soils", "map": "Geological map"}, {"attribute": "Sn ppm"}),
    title="Level values by rock unit",
    area="Maps",
    help="Scores each value within its rock unit, so that units with other backgrounds compare; the unit comes from a map or a column.",
    params=LevelByUnit,
    run=_run_level,
    inputs=(_SAMPLES, Input("map", "Geological map", ("features",), optional=True, help="Polygons of units")),
    outputs=(Output("samples", "points", "Samples with the score"),),
    replaces={"samples": "samples"},
)
COMPONENTS = Operation(
    name="principal-components",
    example=Example({"samples": "Soils"}, {}),
    title="Principal components",
    area="Maps",
    help="Works out what the elements of samples have in common; scores become columns, loadings are noted with the samples.",
    params=PrincipalComponents,
    run=_run_components,
    inputs=(_SAMPLES,),
    outputs=(Output("samples", "points", "Samples with their scores"),),
    replaces={"samples": "samples"},
)

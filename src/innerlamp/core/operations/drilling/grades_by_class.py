"""Grades and correlations of elements by rock, by alteration, or hole by hole."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling.logged import logged_at
from ...compute.statistics.by_class import grades_by_class
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...items.base import Item, numeric_columns
from ...items.holes import INTERVAL_ROLES, HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress
from .of_holes import grades_of

_MOST, _NONE = 12, "not logged"


class ByClassParams(Params):
    attributes: Several = param(
        ..., "Elements", editor="lines", help=f"Columns of one table, up to {_MOST}: Sn_ppm; W_ppm; Cu_pct"
    )
    code: str = param(
        "",
        "Column of classes",
        editor="code",
        of="holes",
        help="Rock, alteration, weathering; hole by hole when empty. Samples outside of all its intervals are a class as well",
    )
    by_rank: bool = param(
        True, "Correlate ranks", help="Spearman's correlation: it does not hang on the few highest values"
    )
    least: int = param(10, "Fewest samples", low=1, help="Classes with fewer are left out")
    name: str = param("", "Name", help="Elements and classes when empty")


def _run(inputs: Inputs, p: ByClassParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    names = list(dict.fromkeys(p.attributes))
    if not names or len(names) > _MOST:
        raise InputError(f"take 1 to {_MOST} elements, not {len(names)}", where=holes.name)
    table = grades_of(holes, names[0])
    have = numeric_columns(table, INTERVAL_ROLES)
    for each in names:
        if each not in have:
            raise InputError(
                f"'{each}' is no grade of the table of {names[0]}",
                where=holes.name,
                fix=f"There are: {', '.join(have)}",
            )
    if p.code:
        log = table_with(holes, p.code)
        if log is None:
            raise InputError(f"'{p.code}' is not logged in these holes", where=holes.name)
        codes = logged_at(table, log[1][log[1][p.code].notna()], p.code)
        codes[codes == ""] = _NONE
    else:
        codes = table["hole"].astype(str).to_numpy(dtype=object)
    progress(0.3, "Classes")
    length = (table["to_m"] - table["from_m"]).to_numpy(float)
    facts = grades_by_class(codes, {n: table[n].to_numpy(float) for n in names}, length, p.by_rank)
    facts = [f for f in facts if f.samples >= p.least]
    if not facts:
        raise InputError(f"no class has {p.least} samples", where=holes.name, fix="Ask for fewer")
    key = p.code or "hole"
    rows = []
    for f in facts:
        mine = codes == f.name
        row: dict[str, object] = {key: f.name, "samples": f.samples, "metres": f.metres}
        for n in names:
            row |= {f"{n} mean": f.mean[n], f"{n} median": f.median[n], f"{n} 90 %": f.high[n]}
        row |= {f"{a} with {b}": r for (a, b), (r, _) in f.pairs.items()}
        row |= {f"{a} with {b}, pairs": count for (a, b), (_, count) in f.pairs.items()}
        # A row stands where its samples lie on average, so that classes and holes can be seen on the map.
        with np.errstate(all="ignore"):
            row |= {c: float(np.nanmean(table[c].to_numpy(float)[mine])) for c in "xyz"}
        rows.append(row)
    made = pd.DataFrame(rows)
    units = {"metres": "m"} | {f"{n} {w}": holes.units.get(n, "") for n in names for w in ("mean", "median", "90 %")}
    kinds = {n: holes.attributes[n].quantity for n in names if n in holes.attributes}
    progress(1.0, f"{len(made)} classes of {key}")
    return {
        "classes": PointSet(
            name=p.name or f"{' '.join(names)} by {key}",
            crs=holes.crs,
            table=made,
            units=units,
            quantities={f"{n} {w}": q for n, q in kinds.items() for w in ("mean", "median", "90 %")},
            content="classes",
        )
    }


OPERATION = Operation(
    name="grades-by-class",
    example=Example({"holes": "Emberlow holes"}, {"attributes": ("Sn_ppm", "W_ppm", "As_ppm"), "code": "Alteration"}),
    title="Grades and correlations by class",
    area="Drilling",
    help="For each rock, alteration or hole: samples and metres, mean by length, median and 90th percentile of elements, and the correlation of each pair of them with the number of samples it rests on.",
    params=ByClassParams,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("classes", "points", "A row for each class"),),
)

"""Length-weighted composites of drillhole grades."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling import desurvey
from ...compute.drilling.composites import composite
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item, numeric_columns
from ...items.holes import INTERVAL_ROLES, HoleSet, hole_codes, table_with
from ...items.points import PointSet
from ...progress import Progress


class Composites(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="holes")
    length: float = param(5.0, "Length", unit="m", above=0.0, help="Holes are cut at multiples of this depth")
    least: float = param(
        0.5, "Least sampled part", low=0.0, high=1.0, help="Composites with less of their length sampled are left out"
    )
    name: str = param("", "Name", help="Attribute and length when empty")


def path_from(holes: HoleSet) -> tuple[desurvey.Path, pd.Index]:
    """Return the stored path of a hole set and the index of its hole IDs."""
    index = pd.Index(holes.collars["hole"])
    s = holes.stations
    method: desurvey.Method = "balanced tangential" if holes.method == "balanced tangential" else "minimum curvature"
    path = desurvey.Path(
        index.get_indexer(s["hole"]).astype(np.int64),
        s["depth_m"].to_numpy(float),
        s[["x", "y", "z"]].to_numpy(float),
        s[["tx", "ty", "tz"]].to_numpy(float),
        method,
    )
    return path, index


def _run(inputs: Inputs, p: Composites, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    hit = table_with(holes, p.attribute)
    if hit is None or p.attribute not in numeric_columns(hit[1], INTERVAL_ROLES):
        raise InputError(f"'{p.attribute}' is not a grade of these holes", where=holes.name)
    table = hit[1]
    progress(0.2, "Compositing")
    path, index = path_from(holes)
    code = hole_codes(table["hole"], index).astype(np.int64)
    h, start, stop, grade, sampled = composite(
        code,
        table["from_m"].to_numpy(float),
        table["to_m"].to_numpy(float),
        table[p.attribute].to_numpy(float),
        p.length,
    )
    keep = sampled >= p.least * p.length - 1e-9
    if not keep.any():
        raise InputError(
            "no composite has enough of its length sampled",
            where=holes.name,
            fix="Lower the least sampled part, or take a shorter length",
        )
    h, start, stop, grade, sampled = h[keep], start[keep], stop[keep], grade[keep], sampled[keep]
    xyz = desurvey.locate(path, h, 0.5 * (start + stop))
    out = pd.DataFrame(
        {
            "hole": index.to_numpy()[h],
            "from_m": start,
            "to_m": stop,
            "sampled_m": sampled,
            p.attribute: grade,
            "x": xyz[:, 0],
            "y": xyz[:, 1],
            "z": xyz[:, 2],
        }
    )
    units = {p.attribute: holes.units.get(p.attribute, ""), "from_m": "m", "to_m": "m", "sampled_m": "m"}
    return {
        "composites": PointSet(
            name=p.name or f"{p.attribute} composites {p.length:g} m",
            crs=holes.crs,
            table=out,
            units=units,
            quantities={p.attribute: holes.attributes[p.attribute].quantity},
            roles={"from_m": "from", "to_m": "to", "sampled_m": "sampled"},
            content="composites",
        )
    }


def _estimate(inputs: Inputs, p: Composites) -> Cost:
    holes = inputs.need("holes", HoleSet)
    count = float(holes.collars["depth_m"].sum()) / p.length
    return Cost(f"at most {count:,.0f} composites", 1.0, 0.5)


OPERATION = Operation(
    name="composite",
    example=Example({"holes": "Emberlow holes"}, {"attribute": "Sn_ppm", "length": 6.0}),
    title="Composite grades",
    area="Drilling",
    help="Cuts holes into equal lengths and gives each the length-weighted mean of what was sampled in it. Gaps count neither as metal nor as length.",
    params=Composites,
    run=_run,
    reads=("holes",),
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("composites", "points", "Composites"),),
    estimate=_estimate,
)

"""What blocks hold: volumes, tonnes and means by unit, curves of tonnes and grade, and swaths against composites."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....compute.expression import condition
from ....declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ....errors import InputError
from ....items.attributes import in_role
from ....items.base import Item
from ....items.fields import BlockModel
from ....items.points import PointSet
from ....numbers import parse_number
from ....progress import Progress
from .block_columns import columns_of_blocks

_SLICES = 20_000


class ReportBlocks(Params):
    attribute: str = param(
        "", "Grade", editor="attribute", of="model", help="Means are given of it; of all numbers when empty"
    )
    by: str = param(
        "", "By", editor="code", of="model", help="A property that names units; all blocks in one row when empty"
    )
    where: str = param("", "Only where", help="A condition, such as Sn_ppm > 200 and z > 100")
    density: str = param("2.7", "Density (t/m³)", help="A number, or the name of a property")
    cutoffs: Several = param(
        (),
        "Cut-offs",
        editor="lines",
        help="Tonnes and grade at and above each, parted by semicolons; proposed ones when empty",
    )
    name: str = param("", "Name")


def _chosen(model: BlockModel, where: str) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    cells = np.argwhere(model.present)
    columns = columns_of_blocks(model, cells)
    if where.strip():
        keep = condition(where, columns, len(cells))
        if not keep.any():
            raise InputError("no block meets the condition", where=where[:60])
        cells, columns = cells[keep], {k: v[keep] for k, v in columns.items()}
    return cells, columns


def _density(text: str, columns: dict[str, np.ndarray], count: int) -> np.ndarray:
    if text.strip() in columns:
        return columns[text.strip()].astype(float)
    value = parse_number(text)
    if not (np.isfinite(value) and value > 0):
        raise InputError(f"the density '{text}' is neither a positive number nor a property")
    return np.full(count, value)


def _run_report(inputs: Inputs, p: ReportBlocks, progress: Progress) -> dict[str, Item]:
    model = inputs.need("model", BlockModel)
    cells, columns = _chosen(model, p.where)
    volume, density = columns["volume"], _density(p.density, columns, len(cells))
    numbers = [n for n in model.properties if n not in model.names and (not p.attribute or n == p.attribute)]
    if p.attribute and not numbers:
        raise InputError(f"there is no number '{p.attribute}'", where=model.name)
    if p.by and p.by not in model.names:
        raise InputError(f"'{p.by}' does not name units", where=model.name)
    groups = columns[p.by] if p.by else np.full(len(cells), "all", dtype=object)
    rows = []
    for name in [
        w for w in dict.fromkeys([*(model.names[p.by] if p.by else ()), "all"]) if (groups == w).any() or w == "all"
    ]:
        mine = (groups == name) if name != "all" else groups != ""
        if not mine.any():
            continue
        row: dict[str, object] = {c: float(columns[c][mine].mean()) for c in "xyz"}
        tonnes = np.nan_to_num(volume * density) * mine
        row |= {
            p.by or "part": name,
            "blocks": int(mine.sum()),
            "volume": float(volume[mine].sum()),
            "tonnes": float(tonnes.sum()),
        }
        for n in numbers:
            known = mine & np.isfinite(columns[n])
            mass = tonnes * known
            row[f"{n} mean"] = float(mass @ np.nan_to_num(columns[n]) / mass.sum()) if mass.sum() > 0 else float("nan")
        rows.append(row)
    progress(0.6, "Cut-offs")
    table = pd.DataFrame(rows)
    units = {"volume": "m³", "tonnes": "t"} | {f"{n} mean": model.units.get(n, "") for n in numbers}
    stem = p.name or f"Report of {model.name}"
    out: dict[str, Item] = {"report": PointSet(name=stem, crs=model.crs, table=table, units=units, content="classes")}
    first = rows[-1]
    words = [f"{r[p.by or 'part']} {r['volume'] / 1e6:,.3f} million m³" for r in rows[:6]]  # type: ignore[operator]
    words.append(f"{float(first['tonnes']) / 1e6:,.3f} Mt in all")  # type: ignore[arg-type]
    if p.attribute:
        from ....compute.geology.estimation import grade_and_tonnage

        grade = columns[p.attribute].astype(float)
        wanted = [parse_number(c) for c in p.cutoffs] or _proposed(grade)
        if not np.isfinite(wanted).all():
            raise InputError("cut-offs must be numbers")
        curve = [
            {"cut-off": c, "tonnes above": t / 1e6, "grade": g, **{axis: float(columns[axis].mean()) for axis in "xyz"}}
            for c, t, g in grade_and_tonnage(grade, volume, density, sorted(wanted))
        ]
        unit = model.units.get(p.attribute, "")
        out["curve"] = PointSet(
            name=f"{stem}, tonnes and grade", crs=model.crs, table=pd.DataFrame(curve),
            units={"cut-off": unit, "tonnes above": "Mt", "grade": unit}, content="classes",
        )  # fmt: skip
        words += [
            f"from {r['cut-off']:g} {unit}: {r['tonnes above']:,.3f} Mt at {r['grade']:.4g}"
            for r in curve[:4]
            if r["tonnes above"]
        ]
    progress(1.0, "; ".join(words))
    return out


def _proposed(grade: np.ndarray) -> list[float]:
    """Twelve cut-offs from nothing to the highest percentiles, in even steps of a round number."""
    known = grade[np.isfinite(grade)]
    if not len(known):
        return []
    low, high = float(known.min()), float(np.percentile(known, 99.5))
    if not high > low:
        return [low]
    raw = (high - low) / 12.0
    size = 10.0 ** np.floor(np.log10(raw))
    step = size * next(m for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * size >= raw)
    return [float(v) for v in np.arange(np.floor(low / step) * step, high + step / 2, step)]


class Swaths(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="composites")
    block_attribute: str = param(
        "", "Grade of the blocks", editor="attribute", of="model", help="The same name when empty"
    )
    azimuth: float = param(
        0.0,
        "Axes are turned by",
        unit="°",
        low=0.0,
        high=360.0,
        help="Swaths lie along easting, northing and elevation; turned by this clockwise from north",
        more=True,
    )
    width: float = param(50.0, "Width", unit="m", above=0.0, help="Of each swath")
    height: float = param(20.0, "Height", unit="m", above=0.0, help="Of each level")
    where: str = param("", "Only blocks where", help="A condition, such as unit == 'Granite'", more=True)
    name: str = param("", "Name")


def swaths(at: np.ndarray, values: np.ndarray, weight: np.ndarray, edges: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the weighted mean of values (n,) in each slice between edges (k + 1,), and how many there are (k,)."""
    known = np.isfinite(values) & np.isfinite(at)
    number = np.searchsorted(edges, at[known], side="right") - 1
    good = (number >= 0) & (number < len(edges) - 1)
    number, w, v = number[good], weight[known][good], values[known][good]
    total = np.bincount(number, w, len(edges) - 1)
    count = np.bincount(number, minlength=len(edges) - 1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(total > 0, np.bincount(number, w * v, len(edges) - 1) / total, np.nan), count


def _run_swaths(inputs: Inputs, p: Swaths, progress: Progress) -> dict[str, Item]:
    model, source = inputs.need("model", BlockModel), inputs.need("composites", PointSet)
    name = p.block_attribute or p.attribute
    if name not in model.properties or name in model.names:
        raise InputError(f"the blocks have no number '{name}'", where=model.name)
    cells, columns = _chosen(model, p.where)
    known = np.isfinite(columns[name])
    if not known.any():
        raise InputError(f"no block has a value of '{name}'", where=model.name)
    blocks = np.column_stack([columns[c] for c in "xyz"])[known]
    value, volume = columns[name][known], columns["volume"][known]
    at = source.table[["x", "y", "z"]].to_numpy(float)
    grade = source.table[p.attribute].to_numpy(float)
    # Composites of the same ground: those in blocks that have a value, and meet the condition.
    hit = np.full(model.mesh.shape, np.nan)
    hit[tuple(cells[known].T)] = 1.0
    near = np.isfinite(model.mesh.values_at(hit, *at.T))
    at, grade = at[near], grade[near]
    a = np.radians(p.azimuth)
    turn = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    middle = blocks.mean(axis=0)
    rows = []
    for axis, (words, wide) in enumerate((("easting", p.width), ("northing", p.width), ("elevation", p.height))):
        here, there = (middle[axis] + (places - middle) @ turn[axis] for places in (blocks, at))
        if (here.max() - here.min()) / wide > _SLICES:
            raise InputError(f"there would be more than {_SLICES:,} slices along {words}", fix="Take wider swaths")
        edges = np.arange(np.floor(here.min() / wide) * wide, here.max() + wide, wide)
        for what, place, v, w in (("blocks", here, value, volume), ("composites", there, grade, np.ones(len(there)))):
            mean, count = swaths(place, v, w, edges)
            for k in np.flatnonzero(count):
                spot = middle + (0.5 * (edges[k] + edges[k + 1]) - middle[axis]) * turn[axis]
                rows.append(
                    {
                        **dict(zip("xyz", spot.tolist(), strict=True)),
                        "along": words,
                        "of": what,
                        "position": 0.5 * (edges[k] + edges[k + 1]) - middle[axis],
                        "coordinate": 0.5 * (edges[k] + edges[k + 1]),
                        "mean": mean[k],
                        "count": float(count[k]),
                        "series": f"{what}, {words}",
                    }
                )
    unit = source.attributes[p.attribute].unit
    progress(
        1.0,
        f"blocks {np.average(value, weights=volume):.4g} {unit}, composites {np.nanmean(grade):.4g}"
        if len(grade)
        else "no composite is near",
    )
    return {
        "swaths": PointSet(
            name=p.name or f"Swaths of {name}",
            crs=model.crs,
            table=pd.DataFrame(rows),
            units={"position": "m", "coordinate": "m", "mean": unit},
            content="classes",
        )
    }


REPORT = Operation(
    name="report-blocks",
    example=Example({"model": "@estimate-blocks.model"}, {"attribute": "Sn_ppm"}, after=("estimate-blocks",)),
    title="Report blocks",
    area="Geology",
    help="Volumes, tonnes and means by unit, of all blocks or of those that meet a condition; for a grade also the curve of tonnes and mean grade over the cut-off, for charts.",
    params=ReportBlocks,
    run=_run_report,
    inputs=(Input("model", "Block model", ("blocks",)),),
    outputs=(
        Output("report", "points", "A row for each unit"),
        Output("curve", "points", "Tonnes and grade by cut-off"),
    ),
)
SWATHS = Operation(
    name="swaths",
    example=Example(
        {"model": "@estimate-blocks.model", "composites": "Sn_ppm composites 6 m"},
        {"attribute": "Sn_ppm"},
        after=("estimate-blocks",),
    ),
    title="Swaths of blocks and composites",
    area="Geology",
    help="Mean grades of blocks and of composites in slices along easting, northing and elevation, side by side: where an estimate is smoother or higher than its samples shows at once in a chart of curves.",
    params=Swaths,
    run=_run_swaths,
    inputs=(
        Input("model", "Estimated blocks", ("blocks",)),
        Input("composites", "Composites", ("points",), need=lambda e: bool(in_role(e.attributes, "from"))),
    ),
    outputs=(Output("swaths", "points", "A row for each slice"),),
)

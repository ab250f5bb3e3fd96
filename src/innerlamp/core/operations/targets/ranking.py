"""Ranking places for the next holes by weighted evidence."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.geometry.sampling import bilinear
from ...compute.targets import evidence as ev
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, ground_slot, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel, Grid, Surface
from ...items.holes import HoleSet
from ...items.points import TargetSet
from ...progress import Progress

EVIDENCE = ("soil", "depth", "shell", "untested")


class RankTargets(Params):
    spacing: float = param(25.0, "Spacing of places", unit="m", above=0.0)
    soil_low: float = param(
        0.0,
        "Soil grade gives 0 up to",
        low=0.0,
        help="In the grid's unit; with both ends 0 the 50 and 98 percentiles are taken",
    )
    soil_high: float = param(0.0, "and 1 from", low=0.0)
    soil_weight: float = param(1.0, "Weight of soil grade", low=0.0, high=10.0)
    depth_low: float = param(
        0.0, "Property at depth gives 0 up to", low=0.0, help="With both ends 0 the 50 and 98 percentiles are taken"
    )
    depth_high: float = param(0.0, "and 1 from", low=0.0)
    depth_weight: float = param(1.0, "Weight of property at depth", low=0.0, high=10.0)
    shallow: float = param(
        50.0, "Depth from", unit="m", low=0.0, help="The highest value of each column between these depths counts"
    )
    deep: float = param(350.0, "to", unit="m", above=0.0)
    shell_near: float = param(100.0, "Distance to shell gives 1 up to", unit="m", low=0.0)
    shell_far: float = param(500.0, "and 0 from", unit="m", above=0.0)
    shell_weight: float = param(1.0, "Weight of distance to shell", low=0.0, high=10.0)
    drilled_near: float = param(
        40.0, "Distance to drilling gives 0 up to", unit="m", low=0.0, help="What is drilled already needs no hole"
    )
    drilled_far: float = param(120.0, "and 1 from", unit="m", above=0.0)
    drilled_weight: float = param(1.0, "Weight of distance to drilling", low=0.0, high=10.0)
    count: int = param(12, "Targets", low=1, high=500)
    separation: float = param(150.0, "Least distance between targets", unit="m", low=0.0)
    name: str = param("Targets", "Name")


def _run(inputs: Inputs, p: RankTargets, progress: Progress) -> dict[str, Item]:
    x, y, shape = _places(inputs, p)
    ground = _ground(inputs, x, y)
    layers: list[tuple[str, str, np.ndarray, float, float, bool, float]] = []
    soil = inputs.maybe("soil", Grid)
    if soil is not None:
        values = bilinear(soil.values, soil.x0, soil.y0, soil.dx, soil.dy, x, y)
        low, high = _ends(values, p.soil_low, p.soil_high, "soil")
        layers.append((soil.attribute, soil.unit, values, low, high, True, p.soil_weight))
    progress(0.2, "Reading the model at depth")
    model = inputs.maybe("model", BlockModel)
    if model is not None:
        name, values = _at_depth(model, x, y, p)
        low, high = _ends(values, p.depth_low, p.depth_high, "depth")
        layers.append((f"{name} at depth", model.units.get(name, ""), values, low, high, True, p.depth_weight))
    progress(0.5, "Distances")
    places = np.column_stack([x, y])
    shell = inputs.maybe("shell", Surface)
    if shell is not None:
        values = ev.distance_to(_plan_points(shell), places)
        layers.append(("distance to shell", "m", values, p.shell_near, p.shell_far, False, p.shell_weight))
    holes = inputs.maybe("holes", HoleSet)
    if holes is not None:
        values = ev.distance_to(_hole_points(holes), places)
        layers.append(("distance to drilling", "m", values, p.drilled_near, p.drilled_far, True, p.drilled_weight))
    layers = [layer for layer in layers if layer[6] > 0]
    if not layers:
        raise InputError(
            "no evidence was given", fix="Give a soil grid, a block model, a shell or drillholes, with a weight above 0"
        )
    for name, _, _, low, high, _, _ in layers:
        if high <= low:
            raise InputError(f"the curve of {name} has its upper end ({high:g}) not above its lower end ({low:g})")
    worth = [ev.ramp(v, low, high, more) for _, _, v, low, high, more, _ in layers]
    score, shares = ev.combine(worth, [layer[6] for layer in layers])
    best = ev.pick_peaks(x, y, score, p.separation, p.count)
    if len(best) == 0:
        raise InputError("no place scores above 0", fix="Widen the curves or lower the weights")
    table = pd.DataFrame(
        {"rank": np.arange(1, len(best) + 1), "x": x[best], "y": y[best], "z": ground[best], "score": score[best]}
    )
    for layer, share in zip(layers, shares, strict=True):
        table[f"{layer[0]} value"] = layer[2][best]
        table[f"{layer[0]} share"] = share[best]
    total = sum(layer[6] for layer in layers)
    evidence = pd.DataFrame(
        [
            (n, u, w, w / total, low, high, "more is better" if more else "less is better")
            for n, u, _, low, high, more, w in layers
        ],
        columns=["name", "unit", "weight", "largest share", "low", "high", "sense"],
    )
    grid = Grid(
        name=f"{p.name} score",
        crs=inputs.crs,
        values=score.reshape(shape),
        x0=float(x[0]),
        y0=float(y[0]),
        dx=p.spacing,
        dy=p.spacing,
        attribute="score",
        quantities={"score": "score"},
    )
    return {"targets": TargetSet(name=p.name, crs=inputs.crs, table=table, evidence=evidence), "score": grid}


_MOST = 4_000_000  # places


def _places(inputs: Inputs, p: RankTargets) -> tuple[np.ndarray, np.ndarray, tuple[int, int]]:
    area = next((inputs[slot] for slot in ("soil", "model", "shell", "holes") if slot in inputs), None)
    if area is None:
        raise InputError("no evidence was given", fix="Give a soil grid, a block model, a shell or drillholes")
    west, east, south, north, _, _ = area.bounds
    count = ((east - west) / p.spacing + 1.0) * ((north - south) / p.spacing + 1.0)
    if not count <= _MOST:  # before anything of that size is made
        raise InputError(f"{count:,.0f} places are too many", fix="Take a wider spacing")
    xs = np.arange(np.ceil(west / p.spacing), np.floor(east / p.spacing) + 1) * p.spacing
    ys = np.arange(np.ceil(south / p.spacing), np.floor(north / p.spacing) + 1) * p.spacing
    if len(xs) * len(ys) == 0:
        raise InputError("no place lies inside the area", fix="Take a closer spacing")
    gx, gy = np.meshgrid(xs, ys)
    return gx.ravel(), gy.ravel(), gx.shape


def _ground(inputs: Inputs, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    dem = inputs.maybe("ground", Grid)
    if dem is None:
        return np.zeros(len(x))
    z = bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y)
    return np.where(np.isfinite(z), z, np.nanmean(dem.values))


def _at_depth(model: BlockModel, x: np.ndarray, y: np.ndarray, p: RankTargets) -> tuple[str, np.ndarray]:
    name, values = next(iter(model.properties.items()))
    mesh = model.mesh
    best = ev.column_maximum(values, mesh, p.shallow, p.deep)
    even = mesh.even_plan
    if even is None:
        i, j = mesh.columns(x, y)
        return name, np.where(i >= 0, best[np.maximum(i, 0), np.maximum(j, 0)], np.nan)
    u, v = mesh.from_map(x, y)
    return name, bilinear(np.ascontiguousarray(best.T), even[0] / 2, even[1] / 2, *even, u, v)


def _ends(values: np.ndarray, low: float, high: float, label: str) -> tuple[float, float]:
    if low == 0 and high == 0:
        good = values[np.isfinite(values)]
        if len(good) == 0:
            raise InputError(
                f"the evidence '{label}' has no value in the area", fix="Check that it covers the same ground"
            )
        low, high = (float(f"{v:.3g}") for v in np.percentile(good, [50, 98]))
        if high <= low:
            high = low + max(abs(low), 1.0) * 1e-6
    return low, high


def _plan_points(shell: Surface) -> np.ndarray:
    # Triangle centres fill the shell's outline seen from above, so places over it are at distance ~0.
    return np.asarray(shell.vertices[shell.triangles].mean(axis=1)[:, :2])


def _hole_points(holes: HoleSet) -> np.ndarray:
    s = holes.stations
    out = [s[["x", "y"]].to_numpy(float)]
    same = (s["hole"].to_numpy()[1:] == s["hole"].to_numpy()[:-1])[:, None]
    a, b = out[0][:-1], out[0][1:]
    for f in np.linspace(0.1, 0.9, 9):
        out.append((a + f * (b - a))[same[:, 0]])
    return np.concatenate(out)


def _estimate(inputs: Inputs, p: RankTargets) -> Cost:
    x, _, shape = _places(inputs, p)
    return Cost(f"{shape[1]} × {shape[0]} places", len(x) * 2e-4, 0.5 + len(x) * 5e-6)


OPERATION = Operation(
    name="rank-targets",
    example=Example({"soil": "Soil Sn", "holes": "Emberlow holes", "ground": "Ground"}, {"spacing": 100.0}),
    title="Rank targets",
    area="Targets",
    help="Scores every place of a grid by the evidence given: each value becomes 0..1 by its curve, is weighted and summed; the best places that are far enough apart are ranked, with the share of each evidence.",
    params=RankTargets,
    run=_run,
    inputs=(
        Input(
            "soil",
            "Soil grade grid",
            ("grid",),
            optional=True,
            need=lambda e: not {"elevation", "score"} & {a.quantity for a in e.attributes.values()},
        ),
        Input("model", "Block model", ("blocks",), optional=True),
        Input("shell", "Grade shell", ("surface",), optional=True),
        Input("holes", "Drillholes", ("holes",), optional=True),
        ground_slot(),
    ),
    outputs=(Output("targets", "targets", "Ranked targets"), Output("score", "grid", "Score of every place")),
    estimate=_estimate,
)

"""Blocks cut where units meet: the share of each unit in a block, or columns with the true tops and bottoms of units."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ....declaring.operation import Example, Inputs, Operation, Output, Params, param
from ....errors import InputError
from ....geometry.mesh import DrapedMesh
from ....items.base import Item
from ....items.fields import BlockModel
from ....progress import Progress
from ..units.model_units import INSIDE, model_slot

_LAYERS = 60  # runs of units in one column at most


class CutBlocks(Params):
    how: Literal["shares of units", "columns with true tops"] = param("shares of units", "Blocks are cut into")
    places: int = param(
        4, "Places along each side", low=2, high=10, help="At which the unit is asked in each block, for shares"
    )
    thinnest: float = param(
        0.2, "Thinnest layer", unit="m", low=0.0, help="Of columns; what is thinner goes to its neighbour"
    )
    name: str = param("", "Name")


def _run(inputs: Inputs, p: CutBlocks, progress: Progress) -> dict[str, Item]:
    model = inputs.need("model", BlockModel)
    names = model.names["unit"]
    missing = [n for n in names if f"{INSIDE}{n}" not in model.properties]
    if missing or not isinstance(model.mesh, DrapedMesh):
        raise InputError("the model is none that 'build-units' made", where=model.name)
    margins = np.stack([model.properties[f"{INSIDE}{n}"].astype(float) for n in names])
    if p.how == "shares of units":
        return {"model": _shares(model, model.mesh, margins, names, p, progress)}
    return {"model": _columns(model, model.mesh, margins, names, p, progress)}


def _shares(
    model: BlockModel, mesh: DrapedMesh, margins: np.ndarray, names: tuple[str, ...], p: CutBlocks, progress: Progress
) -> BlockModel:
    from scipy.ndimage import map_coordinates

    there = np.isfinite(model.properties["unit"])
    cells = np.argwhere(there)
    # Beyond the model's edge, and above the ground, a field goes on as in its last cell.
    filled = [_filled(m, there) for m in margins]
    count = np.zeros((len(cells), len(names)))
    ways = (np.arange(p.places) + 0.5) / p.places - 0.5
    for turn, a in enumerate(ways):
        progress(turn / p.places, "Places in blocks")
        for b in ways:
            for c in ways:
                at = (cells + np.array([a, b, c])).T
                values = np.stack([map_coordinates(f, at, order=1, mode="nearest") for f in filled])
                count[np.arange(len(cells)), values.argmax(axis=0)] += 1.0
    share = 100.0 * count / p.places**3

    def boxed(values: np.ndarray) -> np.ndarray:
        box = np.full(mesh.shape, np.nan)
        box[there] = values
        return box

    volume = mesh.volumes(cells)
    total = [f"{n} {float(volume @ share[:, k]) / 1e8:,.3f}" for k, n in enumerate(names)]
    cut = float((share.max(axis=1) < 100.0).mean())
    progress(1.0, f"{100 * cut:.1f} % of the blocks are cut; million m³: " + ", ".join(total))
    return BlockModel(
        name=p.name or f"Shares of {model.name}",
        crs=model.crs,
        mesh=mesh,
        properties={"unit": boxed(share.argmax(axis=1).astype(float))}
        | {f"share of {n}": boxed(share[:, k]) for k, n in enumerate(names)},
        units={"unit": ""} | {f"share of {n}": "%" for n in names},
        names={"unit": names},
        members=model.members,
    )


def _filled(values: np.ndarray, there: np.ndarray) -> np.ndarray:
    from scipy.ndimage import distance_transform_edt

    nearest = distance_transform_edt(~there, return_distances=False, return_indices=True)
    return np.asarray(values[tuple(nearest)])


def _columns(
    model: BlockModel, mesh: DrapedMesh, margins: np.ndarray, names: tuple[str, ...], p: CutBlocks, progress: Progress
) -> BlockModel:
    """Runs of one unit down each column; they meet where the margins of both are as large."""
    nx, ny, _ = mesh.shape
    between = mesh.interfaces
    runs: dict[tuple[int, int], list[tuple[float, float, int]]] = {}
    unit = model.properties["unit"]
    for i in range(nx):
        progress(i / nx, "Columns")
        for j in range(ny):
            if found := _down(unit[i, j], margins[:, i, j], between[i, j], p.thinnest):
                runs[i, j] = found
    most = max((len(r) for r in runs.values()), default=0)
    if not most:
        raise InputError("no column has a unit", where=model.name)
    if most > _LAYERS:
        raise InputError(f"a column has {most} layers", fix=f"{_LAYERS} can be told: raise the thinnest layer")
    thickness = np.zeros((nx, ny, most))
    number = np.full((nx, ny, most), np.nan)
    tops = mesh.tops.copy()
    for (i, j), found in runs.items():
        tops[i, j] = found[0][0]
        for nth, (top, foot, which) in enumerate(found):
            k = most - 1 - nth
            thickness[i, j, k], number[i, j, k] = top - foot, which
    whole = DrapedMesh(mesh.x0, mesh.y0, mesh.u, mesh.v, mesh.azimuth, tops, thickness)
    volume = whole.volumes().reshape(whole.shape)
    words = [f"{n} {float(volume[number == k].sum()) / 1e6:,.3f}" for k, n in enumerate(names)]
    progress(1.0, f"{most} layers at most; million m³: " + ", ".join(words))
    return BlockModel(
        name=p.name or f"Columns of {model.name}",
        crs=model.crs,
        mesh=whole,
        properties={"unit": number, "thickness": np.where(np.isfinite(number), thickness, np.nan)},
        units={"unit": "", "thickness": "m"},
        names={"unit": names},
        members=model.members,
    )


def _down(
    unit: np.ndarray, margins: np.ndarray, between: np.ndarray, thinnest: float
) -> list[tuple[float, float, int]]:
    """Top, bottom and unit of the runs of a column, from the top down."""
    cells = [k for k in range(len(unit) - 1, -1, -1) if np.isfinite(unit[k]) and between[k + 1] > between[k]]
    out: list[tuple[float, float, int]] = []
    middle = 0.5 * (between[1:] + between[:-1])
    for above, k in zip([None, *cells[:-1]], cells, strict=True):
        which = int(unit[k])
        if above is not None and int(unit[above]) == which and out:
            top, _, _ = out[-1]
            out[-1] = (top, float(between[k]), which)
            continue
        edge = float(between[k + 1])
        if above is not None and out:
            other = int(unit[above])
            a = margins[other, above] - margins[which, above]
            b = margins[other, k] - margins[which, k]
            if np.isfinite(a) and np.isfinite(b) and a > 0 > b:
                edge = float(middle[above] + (middle[k] - middle[above]) * a / (a - b))
            top, _, was = out[-1]
            out[-1] = (top, edge, was)
        out.append((edge, float(between[k]), which))
    kept: list[tuple[float, float, int]] = []
    for top, foot, which in out:
        if kept and (top - foot < thinnest or kept[-1][2] == which):
            kept[-1] = (kept[-1][0], foot, kept[-1][2])
        else:
            kept.append((top, foot, which))
    return kept


OPERATION = Operation(
    name="cut-blocks",
    example=Example({"model": "@build-units.model"}, {"places": 2}, after=("build-units",)),
    title="Cut blocks at units",
    area="Geology",
    help="Of a model of units: the share of each unit in each block, counted at places in it, or columns whose layers have the true tops and bottoms of the units.",
    params=CutBlocks,
    run=_run,
    inputs=(model_slot(),),
    outputs=(Output("model", "blocks", "Blocks that are cut"),),
)

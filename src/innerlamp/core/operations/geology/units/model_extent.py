"""Where a model of units lies: its cells, its ground, its boundary."""

from __future__ import annotations

import numpy as np

from .... import limits
from ....compute.geometry.sampling import bilinear
from ....compute.geometry.sketching import within_outline
from ....compute.potential.meshing import draped_under
from ....declaring.operation import Inputs
from ....errors import InputError
from ....geometry.mesh import DrapedMesh, TensorMesh
from ....items.fields import Grid
from .logged_units import Logged
from .unit_params import BuildModel

_MOST = 3_000_000  # cells


def ground_of(inputs: Inputs, p: BuildModel) -> Grid | float:
    """Return the ground surface, or the elevation of flat ground."""
    dem = inputs.maybe("ground", Grid)
    if dem is not None:
        return dem
    if p.flat is None:
        raise InputError("neither a ground surface nor the elevation of flat ground is given")
    return p.flat


def height_at(ground: Grid | float, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return the elevation of the ground at places; beyond its edge the nearest goes on."""
    if isinstance(ground, float | int):
        return np.full(np.shape(x), float(ground))
    x, y = np.clip(x, ground.x0, ground.x[-1]), np.clip(y, ground.y0, ground.y[-1])
    return bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, x, y)


def mesh_of(inputs: Inputs, p: BuildModel, log: Logged | None) -> DrapedMesh:
    """Return columns cut at the ground, round the holes or in the boundary."""
    if p.outline:
        at = np.array(p.outline)
        margin = 0.0
    elif log is not None:
        at, margin = log.path.position[:, :2], p.margin
    elif "map" not in inputs:
        raise InputError("neither holes nor a map say where the units are", fix="Give holes, or a geological map")
    else:
        b = inputs["map"].bounds
        at, margin = np.array([[b[0], b[2]], [b[1], b[3]]]), 0.0
    if len(at) < 2 or not np.isfinite(at).all():
        raise InputError("the model has no extent", fix="Give a boundary")
    low, high = at.min(axis=0) - margin, at.max(axis=0) + margin
    low, high = np.floor(low / p.cell) * p.cell, np.ceil(high / p.cell) * p.cell
    nx, ny = (max(int(n), 2) for n in np.round((high - low) / p.cell))
    if float(nx) * ny > _MOST:
        raise InputError(
            f"the model would have {float(nx) * ny:,.0f} columns", fix="Take larger cells, or a smaller boundary"
        )
    ground = ground_of(inputs, p)
    x, y = low[0] + (np.arange(nx) + 0.5) * p.cell, low[1] + (np.arange(ny) + 0.5) * p.cell
    tops = height_at(ground, *np.meshgrid(x, y, indexing="ij"))
    if not np.isfinite(tops).any():
        raise InputError("the ground surface does not lie over the model")
    tops = np.where(np.isfinite(tops), tops, np.nanmean(tops))
    deepest = float(log.path.position[:, 2].min()) - 50.0 if log is not None else float(tops.min()) - 500.0
    base = deepest if p.base is None else p.base
    top = float(np.ceil(tops.max() / p.cell_z) * p.cell_z)
    if base >= float(tops.min()):
        raise InputError(f"the base of the model at {base:,.0f} m lies above the ground")
    nz = int(np.ceil((top - base) / p.cell_z))
    limits.afford(float(nx) * ny * nz, 200.0, "cells of the model", "Take larger cells")
    if nx * ny * nz > _MOST:
        raise InputError(f"the model would have {nx * ny * nz:,} cells", fix="Take larger cells, or a smaller boundary")
    whole = TensorMesh.even((low[0], low[1], top - nz * p.cell_z), (p.cell, p.cell, p.cell_z), (nx, ny, nz))
    if p.layers == "follow the ground":
        return _following(whole, tops, base, p.cell_z)
    return draped_under(whole, tops)


def _following(whole: TensorMesh, tops: np.ndarray, base: float, cell_z: float) -> DrapedMesh:
    """Layers as thick everywhere in shares of a column, from the ground down to the level base, the uppermost three a third as thick."""
    deepest = float(tops.max()) - base
    count = max(int(np.ceil(deepest / cell_z)) - 1, 1)
    shares = np.concatenate([np.full(count, 1.0), np.full(3, 1.0 / 3.0)])
    shares /= shares.sum()
    thickness = (tops - base)[:, :, None] * shares[None, None, :]
    return DrapedMesh(whole.x0, whole.y0, whole.u, whole.v, whole.azimuth, tops, thickness)


def coarser(inputs: Inputs, p: BuildModel, log: Logged | None, times: float) -> DrapedMesh:
    """Return the mesh of the model with about so many times fewer cells."""
    wider = max(times, 1.0) ** (1.0 / 3.0)
    return mesh_of(inputs, p.model_copy(update={"cell": p.cell * wider, "cell_z": p.cell_z * wider}), log)


def within(p: BuildModel, places: np.ndarray) -> np.ndarray:
    """Return which places lie within the boundary; all without one."""
    if not p.outline:
        return np.ones(len(places), dtype=bool)
    return within_outline(p.outline, places[:, 0], places[:, 1], "boundary")

"""The cells below a survey that an inversion works on, and what they take."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ... import limits
from ...compute.geometry.sampling import bilinear
from ...compute.potential import meshing
from ...declaring.operation import Cost, Inputs, Params, Sketch, param
from ...geometry.mesh import DrapedMesh
from ...items.base import Item
from ...items.fields import Grid
from ...items.points import PointSet, SurveyLines
from .readings import ReadingParams, Readings, column_ground

Layers = Literal["level, cut by the ground", "parallel to the ground"]


class CellParams(Params):
    """Parameters of the cells."""

    cell: float = param(50.0, "Cell size", unit="m", above=0.0)
    cell_z: float = param(25.0, "Cell height", unit="m", above=0.0)
    depth: float = param(600.0, "Depth of model", unit="m", above=0.0, help="Below the lowest ground")
    growth: float = param(
        1.0, "Growth with depth", low=1.0, high=2.0, help="Each layer below the lowest ground is so many times as high"
    )
    padding: int = param(4, "Padding", unit="cells", low=0, high=50, help="Cells beyond the data on each side")
    layers: Layers = param(
        "level, cut by the ground",
        "Layers are",
        help="Layers parallel to the ground keep their thickness below hills, so that thin ones make no steps",
        more=True,
    )


class InversionParams(CellParams, ReadingParams):
    """What all inversions of a survey ask for besides what is read."""


@dataclass(frozen=True)
class Cells:
    """The mesh below the readings, which of its cells are there, how many columns had to yield to sensors, the height of cells."""

    mesh: DrapedMesh
    active: np.ndarray
    lowered: int
    height: float

    @property
    def count(self) -> int:
        return int(self.active.sum())


def below(inputs: Inputs, data: Readings, p: InversionParams) -> Cells:
    """Return the cells below readings.

    Sensors nearer to the ground than a quarter of a cell see where the cells end: their columns begin below them.

    Raises
    ------
    InputError
        When they would not fit into memory.
    """
    x, y = data.obs[:, 0], data.obs[:, 1]
    known = data.ground[np.isfinite(data.ground)]
    low, top = (float(known.min()), float(known.max())) if len(known) else (0.0, 0.0)
    wide, long = float(np.ptp(x)) / p.cell + 2 * p.padding, float(np.ptp(y)) / p.cell + 2 * p.padding
    limits.afford(wide * long * (p.depth + top - low) / p.cell_z, 100.0, "cells", "Take larger cells")
    flat = (x.min(), x.max(), y.min(), y.max())
    mesh = meshing.mesh_under(flat, top, p.cell, p.cell_z, p.depth, p.padding, low, p.growth)
    gx, gy = mesh.plan_centres
    ground = column_ground(inputs, p, gx, gy, p.cell, p.cell)
    if ground.max() > top or ground.min() < low:  # ground beside the readings
        low, top = min(low, float(ground.min())), max(top, float(ground.max()))
        mesh = meshing.mesh_under(flat, top, p.cell, p.cell_z, p.depth, p.padding, low, p.growth)
    tops, lowered = meshing.tops_below(mesh, ground, data.obs, min(1.0, 0.25 * p.cell_z))
    if p.layers == "parallel to the ground":
        down = meshing.layers_down(p.cell_z, p.depth, p.growth)[::-1]
        thickness = np.broadcast_to(down, (*tops.shape, len(down))).copy()
        draped = DrapedMesh(mesh.x0, mesh.y0, mesh.u, mesh.v, mesh.azimuth, tops, thickness)
    else:
        draped = meshing.draped_under(mesh, tops)
    return Cells(draped, draped.thickness > 0, int(lowered.sum()), p.cell_z)


def cost(cells: Cells, data: Readings, components: int, rounds: int, more: str, parts: int = 1) -> Cost:
    """What a run takes: bytes of the lattice operator and of the model vectors, and seconds measured on two cores.

    Of a kernel in parts elsewhere only the vectors are held here; where one machine is too small the text says so.
    """
    n, (nx, ny, nz) = len(data.obs), cells.mesh.shape
    relief = float(np.ptp(data.obs[:, 2])) / max(float(np.median(cells.mesh.thickness[cells.active])), 1e-9)
    lattice = 4.0 * nx * ny * (nz + relief + 12)
    near = 169.0 * 20.0 * n
    size = components * (8.0 * lattice + 4.0 * near) + 16.0 * lattice + 1200.0 * n + cells.mesh.size * 60.0
    vectors = components * cells.count * 8.0 * 20
    bound = limits.allowed()
    if parts > 1:
        more += f", {parts} workers with about {size / parts / 1e6 + 250:,.0f} MB each"
        size = 16.0 * cells.mesh.size
    size += vectors
    if parts == 1 and size + 250e6 > bound:
        more += f". One machine is too small for it: give a cluster and {int(np.ceil(2 * size / bound))} parts"
    seconds = 1.0 + components * 1.5e-7 * near + rounds * components * (2.6e-8 * lattice + 2e-9 * near)
    text = f"{nx} × {ny} × {nz} cells ({cells.count:,} below ground), {n:,} readings, {more}"
    notes = (*data.words, *near_ground(cells, data))
    return Cost(text, size / 1e6 + 250, seconds, notes, Sketch(cells.mesh, data.obs))


def near_ground(cells: Cells, data: Readings) -> list[str]:
    """What is said of readings close to the cells."""
    close = int(np.sum(data.obs[:, 2] - data.ground < cells.height))
    words = [f"{close:,} of {len(data.obs):,} readings are within a cell's height of the ground"] if close else []
    if cells.lowered:
        words.append(f"{cells.lowered:,} lie so low that the top of their column is cut")
    return words


def fits(cells: Cells, data: Readings, components: int, parts: int = 1) -> None:
    """Refuse a run that would not fit into memory.

    Raises
    ------
    InputError
        With what it needs and what is allowed.
    """
    need = cost(cells, data, components, 1, "", parts).megabytes * 1e6
    what = f"{cells.count:,} cells and {len(data.obs):,} readings"
    limits.fits(need, what, "Take larger cells or a wider data spacing")


def proposed_cells(item: Item, ground: Grid | None) -> dict[str, float]:
    """Sizes of cells that a survey can show: half of what lies between its lines or stations, and not less than its height.

    The depth is a quarter of the survey's shorter side: what lies deeper is hardly seen (common practice, no source).
    """
    west, east, south, north = item.bounds[:4]
    wide, long = east - west, north - south
    if not (np.isfinite([wide, long]).all() and min(wide, long) > 0):
        return {}
    if isinstance(item, Grid):
        apart, height = 2.0 * max(item.dx, item.dy), 0.0
    elif isinstance(item, PointSet | SurveyLines) and len(item.table) > 1:
        table = item.table
        apart = float(np.sqrt(wide * long / len(table)))
        height = 0.0
        if isinstance(item, SurveyLines):
            step = np.hypot(np.diff(table["x"].to_numpy(float)), np.diff(table["y"].to_numpy(float)))
            along = (table["line"].to_numpy()[1:] == table["line"].to_numpy()[:-1]) & np.isfinite(step)
            apart = max(apart, wide * long / max(float(step[along].sum()), 1.0))
            if ground is not None:
                x, y = table["x"].to_numpy(float), table["y"].to_numpy(float)
                over = table["z"].to_numpy(float) - bilinear(
                    ground.values, ground.x0, ground.y0, ground.dx, ground.dy, x, y
                )
                height = float(np.nanmedian(over)) if np.isfinite(over).any() else 0.0
    else:
        return {}
    least = np.sqrt(wide * long / 40_000)  # so that the first run is a quick one
    cell = _round(max(0.5 * apart, 0.7 * height, float(least)))
    return {"cell": cell, "cell_z": _round(0.5 * cell), "depth": _round(0.25 * min(wide, long)), "growth": 1.1}


def _round(value: float) -> float:
    """The next of 1, 2, 2.5, 5 and 10 times a power of ten."""
    power = 10.0 ** np.floor(np.log10(max(value, 1e-3)))
    return float(next(m for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * power >= value * (1 - 1e-9)) * power)

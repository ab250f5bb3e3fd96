"""How far the nearest sample lies from each place: a field that tells where the ground is known."""

from __future__ import annotations

import numpy as np

from ...compute.geometry.sampling import bilinear
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, ground_slot, param
from ...errors import InputError
from ...geometry.mesh import Mesh, TensorMesh
from ...items.base import Item
from ...items.fields import BlockModel, Grid
from ...items.holes import HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress

DISTANCE = "distance to sample"
_MOST = 20_000_000  # cells
_PART = 500_000  # places asked together


class SampleDistance(Params):
    attribute: str = param(
        "",
        "Samples of",
        editor="attribute",
        of="samples",
        help="Only rows that have a value of it; all rows when empty",
    )
    cell: float = param(20.0, "Cell", unit="m", above=0.0, help="Not used where a block model gives the cells")
    margin: float = param(100.0, "Margin", unit="m", low=0.0, help="Around the samples, on all sides")
    within: float = param(0.0, "Within", unit="m", low=0.0, help="Cells farther from a sample stay empty; 0 keeps all")
    name: str = param("", "Name", help="That of the samples when empty")


def _places(inputs: Inputs, p: SampleDistance) -> tuple[Item, np.ndarray]:
    item = inputs.need("samples", HoleSet, PointSet)
    if isinstance(item, PointSet):
        table = item.table
        if p.attribute and p.attribute not in table.columns:
            raise InputError(f"the samples have no '{p.attribute}'", where=item.name)
    else:
        hit = table_with(item, p.attribute) if p.attribute else None
        if p.attribute and hit is None:
            raise InputError(f"'{p.attribute}' is not sampled along these holes", where=item.name)
        table = hit[1] if hit is not None else next(iter(item.tables.values()), item.stations)
    xyz = table[["x", "y", "z"]].to_numpy(float)
    good = np.isfinite(xyz).all(axis=1)
    if p.attribute:
        good &= table[p.attribute].notna().to_numpy()
    if not good.any():
        raise InputError("no sample has a place and a value", where=item.name)
    return item, xyz[good]


def _mesh(inputs: Inputs, p: SampleDistance, xyz: np.ndarray) -> Mesh:
    blocks = inputs.maybe("blocks", BlockModel)
    if blocks is not None:
        return blocks.mesh
    low, high = xyz.min(axis=0) - p.margin, xyz.max(axis=0) + p.margin
    # Edges at whole cells, so that models of later samples have the same ones.
    first = np.floor(low / p.cell)
    shape = np.maximum(np.ceil(high / p.cell) - first, 1)
    if float(np.prod(shape)) > _MOST:
        raise InputError(
            f"{float(np.prod(shape)):,.0f} cells are too many",
            fix="Take larger cells, a narrower margin, or a block model",
        )
    nx, ny, nz = (int(n) for n in shape)
    x, y, z = (float(v) for v in first * p.cell)
    return TensorMesh.even((x, y, z), (p.cell, p.cell, p.cell), (nx, ny, nz))


def _run(inputs: Inputs, p: SampleDistance, progress: Progress) -> dict[str, Item]:
    from scipy.spatial import cKDTree

    item, xyz = _places(inputs, p)
    mesh = _mesh(inputs, p, xyz)
    tree, centres = cKDTree(xyz), mesh.centres()
    away = np.empty(len(centres))
    for start in range(0, len(centres), _PART):
        part = slice(start, start + _PART)
        away[part] = tree.query(centres[part], workers=-1)[0]
        progress(0.95 * min(start + _PART, len(centres)) / len(centres), "Looking for the nearest samples")
    ground = inputs.maybe("ground", Grid)
    if ground is not None:
        top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, centres[:, 0], centres[:, 1])
        away[centres[:, 2] > top] = np.nan
    if p.within:
        away[away > p.within] = np.nan
    if not np.isfinite(away).any():
        raise InputError(
            "no cell is left", fix="Take a larger distance, and check that the ground lies above the samples"
        )
    progress(1.0, f"{np.nanmax(away):.0f} m at most")
    return {
        "field": BlockModel(
            name=p.name or f"{item.name}, {DISTANCE}",
            crs=item.crs,
            mesh=mesh,
            properties={DISTANCE: away.reshape(mesh.shape)},
            units={DISTANCE: "m"},
            quantities={DISTANCE: "length"},
        )
    }


def _estimate(inputs: Inputs, p: SampleDistance) -> Cost:
    _, xyz = _places(inputs, p)
    cells = float(_mesh(inputs, p, xyz).size)
    return Cost(f"{cells:,.0f} cells, {cells * 40 / 1e6:,.0f} MB", cells * 40 / 1e6, cells / 4e5)


OPERATION = Operation(
    name="sample-distance",
    example=Example({"samples": "Emberlow holes"}, {"attribute": "Sn_ppm", "cell": 25.0}),
    title="Distance to the nearest sample",
    area="Drilling",
    help="Fills cells with the distance to the nearest sample in space: where it is large the ground is not known. The cells are even ones around the samples, or those of a block model.",
    params=SampleDistance,
    run=_run,
    estimate=_estimate,
    inputs=(
        Input("samples", "Samples", ("holes", "points")),
        Input(
            "blocks",
            "Cells of",
            ("blocks",),
            optional=True,
            proposed=False,
            help="A block model whose cells are filled",
        ),
        ground_slot("Cells above it stay empty"),
    ),
    outputs=(Output("field", "blocks", "Distance"),),
)

"""Properties of blocks worked out from others, and taken from other models, surfaces and grids."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable

import numpy as np

from ....compute.expression import condition, evaluate
from ....declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ....errors import InputError
from ....items.base import Item
from ....items.fields import BlockModel, Grid, Surface
from ....progress import Progress
from ..units.model_extent import height_at

_GIVEN = ("x", "y", "z", "volume")
_NAMES = 200  # units that a text property may have


def columns_of_blocks(model: BlockModel, cells: np.ndarray) -> dict[str, np.ndarray]:
    """Return what an expression sees of cells (n, 3): properties (named ones as texts), x, y, z of the middles, volume in m³."""
    at = model.mesh.centres(cells)
    out: dict[str, np.ndarray] = {"x": at[:, 0], "y": at[:, 1], "z": at[:, 2], "volume": model.mesh.volumes(cells)}
    for name, values in model.properties.items():
        these = values[tuple(cells.T)]
        out[name] = model.named(name, these) if name in model.names else these.astype(float)
    return out


class ComputeBlocks(Params):
    name: str = param(..., "Name of the property")
    expression: str = param(
        ...,
        "Expression",
        help="For example: Sn_ppm / 10000 * density. Also x, y, z and volume (m³); units by name: where(unit == 'Granite', 2.6, 2.75)",
    )
    where: str = param(
        "", "Only where", help="A condition, such as unit == 'Granite'; blocks that do not meet it have no value"
    )
    unit: str = param("", "Unit of the result")


def _run_compute(inputs: Inputs, p: ComputeBlocks, progress: Progress) -> dict[str, Item]:
    model = inputs.need("model", BlockModel)
    name = p.name.strip()
    if not name or name in _GIVEN:
        raise InputError(f"'{p.name}' can't be the name of a property", fix="Choose another name")
    cells = np.argwhere(model.present)
    columns = columns_of_blocks(model, cells)
    progress(0.3, "Computing")
    value = evaluate(p.expression, columns, len(cells))
    keep = np.ones(len(cells), dtype=bool)
    if p.where.strip():
        keep = condition(p.where, columns, len(cells))
    box = np.full(model.mesh.shape, np.nan)
    names = {k: v for k, v in model.names.items() if k != name}
    if value.dtype.kind in "OUS":
        words = sorted({str(v) for v in value[keep] if str(v)})
        if len(words) > _NAMES:
            raise InputError(f"the expression gives {len(words)} different texts", fix=f"{_NAMES} at most have names")
        number = {w: k for k, w in enumerate(words)}
        box[tuple(cells[keep].T)] = [number.get(str(v), np.nan) for v in value[keep]]
        names[name] = tuple(words)
    else:
        box[tuple(cells[keep].T)] = value[keep].astype(float)
    known = np.isfinite(box)
    if not known.any():
        raise InputError("no block has a value", where=model.name, fix="Look at the expression and the condition")
    made = dataclasses.replace(
        model, properties={**model.properties, name: box}, units={**model.units, name: p.unit}, names=names
    )
    if name in names:
        progress(1.0, f"{int(known.sum()):,} blocks, {len(names[name])} names")
    else:
        progress(
            1.0, f"{int(known.sum()):,} blocks from {np.nanmin(box):.4g} to {np.nanmax(box):.4g} {p.unit}".rstrip()
        )
    return {"model": made}


class FilterBlocks(Params):
    where: str = param(..., "Keep where", help="A condition, such as Sn_ppm > 500 and unit == 'Granite' and z > 100")
    name: str = param("", "Name")


def _run_filter(inputs: Inputs, p: FilterBlocks, progress: Progress) -> dict[str, Item]:
    model = inputs.need("model", BlockModel)
    cells = np.argwhere(model.present)
    keep = np.zeros(model.mesh.shape, dtype=bool)
    keep[tuple(cells[condition(p.where, columns_of_blocks(model, cells), len(cells))].T)] = True
    if not keep.any():
        raise InputError("no block meets the condition", where=p.where[:60])
    volume = float(model.mesh.volumes(np.argwhere(keep)).sum())
    progress(1.0, f"{int(keep.sum()):,} of {len(cells):,} blocks, {volume / 1e6:,.3f} million m³")
    values = {name: np.where(keep, v, np.nan) for name, v in model.properties.items()}
    return {"model": dataclasses.replace(model, name=p.name or f"{model.name}, chosen", properties=values)}


class TakeIntoBlocks(Params):
    attribute: str = param(
        "", "Property", editor="attribute", of="others", help="Of other block models; all of them when empty"
    )
    corners: int = param(
        2,
        "Places along each side",
        low=1,
        high=5,
        help="At which the share of a block inside of a closed surface is counted",
    )


def _run_take(inputs: Inputs, p: TakeIntoBlocks, progress: Progress) -> dict[str, Item]:
    model = inputs.need("model", BlockModel)
    others = inputs.all("others", Item)
    if not others:
        raise InputError("nothing is given that blocks could be taken from")
    cells = np.argwhere(model.present) if model.properties else model.mesh.all_cells()
    at = model.mesh.centres(cells)
    properties, units, names = dict(model.properties), dict(model.units), dict(model.names)

    def put(name: str, values: np.ndarray, unit: str) -> str:
        box = np.full(model.mesh.shape, np.nan)
        box[tuple(cells.T)] = values
        properties[name], units[name] = box, unit
        return f"{name} in {int(np.isfinite(values).sum()):,} blocks"

    words = []
    for turn, item in enumerate(others):
        progress(turn / len(others), item.name)
        if item.crs != model.crs:
            raise InputError("it has another coordinate system than the blocks", where=item.name)
        if isinstance(item, BlockModel):
            wanted = [p.attribute] if p.attribute else list(item.properties)
            for each in wanted:
                if each not in item.properties:
                    raise InputError(f"there is no property '{each}'", where=item.name)
                name = each if each not in properties else f"{each} of {item.name}"
                words.append(put(name, item.mesh.values_at(item.properties[each], *at.T), item.units.get(each, "")))
                if each in item.names:
                    names[name] = item.names[each]
        elif isinstance(item, Surface) and item.closed:
            words.append(put(f"in {item.name}", 100.0 * _share_inside(item, model, cells, p.corners), "%"))
        elif isinstance(item, Surface | Grid):
            from ..units.given_surfaces import heights

            height = height_at(item, at[:, 0], at[:, 1]) if isinstance(item, Grid) else heights(item, at)
            if isinstance(item, Grid) and not item.is_ground:
                words.append(put(item.attribute if item.attribute not in properties else item.name, height, item.unit))
            else:
                words.append(put(f"above {item.name}", at[:, 2] - height, "m"))
        else:
            raise InputError("blocks take from block models, surfaces and grids", where=item.name)
    progress(1.0, "; ".join(words))
    return {"model": dataclasses.replace(model, properties=properties, units=units, names=names)}


def _share_inside(surface: Surface, model: BlockModel, cells: np.ndarray, count: int) -> np.ndarray:
    """The share of each cell inside of a closed surface, counted at places on a lattice in it."""
    from ....compute.geometry.winding import inside_mesh

    return share_of_places(
        model, cells, count, lambda at: inside_mesh(at, surface.vertices, surface.triangles).astype(float)
    )


def share_of_places(
    model: BlockModel, cells: np.ndarray, count: int, at_places: Callable[[np.ndarray], np.ndarray]
) -> np.ndarray:
    """Return the mean over count³ places in each cell (n, 3) of what a function gives at places (n, 3)."""
    corners = model.mesh.corners(cells)
    origin, low_u, low_v, up = corners[:, 0], corners[:, 1], corners[:, 3], corners[:, 4]
    total = np.zeros(len(cells))
    ways = (np.arange(count) + 0.5) / count
    for a in ways:
        for b in ways:
            for c in ways:
                total += at_places(origin + a * (low_u - origin) + b * (low_v - origin) + c * (up - origin))
    return np.asarray(total / count**3)


_BACK = {"model": "model"}
COMPUTE = Operation(
    name="compute-blocks",
    example=Example(
        {"model": "Susceptibility of Airborne magnetics"},
        {"name": "log of susceptibility", "expression": "log10(susceptibility + 0.0001)"},
    ),
    title="Compute a property of blocks",
    area="Geology",
    help="Adds a property worked out from others by an expression, in all blocks or where a condition is met. The model gets a new version; what hangs from it is made again.",
    params=ComputeBlocks,
    run=_run_compute,
    inputs=(Input("model", "Block model", ("blocks",)),),
    outputs=(Output("model", "", "The model with the new property"),),
    replaces=_BACK,
)
FILTER = Operation(
    name="filter-blocks",
    example=Example({"model": "Susceptibility of Airborne magnetics"}, {"where": "susceptibility > 0.002 and z > 0"}),
    title="Choose blocks",
    area="Geology",
    help="A model with the blocks that meet a condition, and all their properties.",
    params=FilterBlocks,
    run=_run_filter,
    inputs=(Input("model", "Block model", ("blocks",)),),
    outputs=(Output("model", "blocks", "Chosen blocks"),),
)
TAKE = Operation(
    name="take-into-blocks",
    example=Example({"model": "Susceptibility of Airborne magnetics", "others": ("Sn shell 800 ppm", "Ground")}, {}),
    title="Take into blocks",
    area="Geology",
    help="Gives blocks properties of other block models at their middles, the share of each block inside of a closed surface, and its height over an open surface or the ground.",
    params=TakeIntoBlocks,
    run=_run_take,
    inputs=(
        Input("model", "Block model", ("blocks",)),
        Input("others", "Taken from", ("blocks", "surface", "grid"), many=True, proposed=False),
    ),
    outputs=(Output("model", "", "The model with the new properties"),),
    replaces=_BACK,
)

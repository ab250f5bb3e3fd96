"""The closed surface of a unit of a model."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ....declaring.operation import Example, Inputs, Maybe, Operation, Output, Params, param
from ....errors import InputError
from ....geometry.mesh import DrapedMesh
from ....items.base import Item
from ....items.fields import BlockModel, Surface
from ....progress import Progress
from .model_units import INSIDE, OFF, contacts_of, model_slot

if TYPE_CHECKING:
    from ....compute.geology.bodies.model import UnitModel


class UnitSurface(Params):
    unit: str = param(..., "Unit", help="By its name in the model")
    cell: Maybe = param(
        None,
        "Fineness",
        unit="m",
        above=0.0,
        help="Of the cells in which contacts are straight; as the model shows it when empty",
        more=True,
    )
    name: str = param("", "Name")


def _run(inputs: Inputs, p: UnitSurface, progress: Progress) -> dict[str, Item]:
    from ....compute.geology.shells import closed_shell

    model = inputs.need("model", BlockModel)
    attribute, mesh = f"{INSIDE}{p.unit.strip()}", model.mesh
    if attribute not in model.properties:
        known = ", ".join(n.removeprefix(INSIDE) for n in model.properties if n.startswith(INSIDE))
        raise InputError(f"the model has no unit '{p.unit}'", where=model.name, fix=f"There are: {known or 'none'}")
    if not isinstance(mesh, DrapedMesh) or mesh.even_plan is None:
        raise InputError("the model is none that 'build-units' made", where=model.name)
    progress(0.1, "Surface")
    contacts = contacts_of(model)
    if contacts is not None:
        return _true_body(model, contacts, p, progress)
    margin = model.properties[attribute].astype(float)
    level = mesh.levelled() is not None
    if level:
        edges = mesh.interfaces.max(axis=(0, 1))
        z = 0.5 * (edges[1:] + edges[:-1])
        over = mesh.tops[:, :, None] - z[None, None, :]
        # Up to the ground: cells above it have no values, and the ground itself says how far away they are.
        field = np.where(np.isfinite(margin), np.minimum(margin, over), np.where(over < 0, over, np.nan))
    else:
        field = margin
    if not (field > 0).any():
        raise InputError(f"no cell of the model is '{p.unit}'", where=model.name, fix="Take smaller cells")
    pieces = [closed_shell(each, (0.0, 0.0, 0.0), 1.0)[:2] for each in _by_blocks(model, margin, field)]
    starts = np.cumsum([0, *(len(v) for v, _ in pieces)])
    vertices = np.vstack([v for v, _ in pieces])
    triangles = np.vstack([t + start for (_, t), start in zip(pieces, starts, strict=False)]).astype(np.int32)
    along, across = mesh.even_plan
    if level:
        height = z[0] + vertices[:, 2] * float(np.median(np.diff(edges)))
    else:  # between the interfaces of the columns around, the last ones beyond the middles of the outer columns
        from scipy.ndimage import map_coordinates

        height = map_coordinates(mesh.interfaces, (vertices + np.array([0.0, 0.0, 0.5])).T, order=1, mode="nearest")
    at = np.column_stack([*mesh.to_map((vertices[:, 0] + 0.5) * along, (vertices[:, 1] + 0.5) * across), height])
    return _surface(model, p, at, triangles, progress)


def _true_body(model: BlockModel, contacts: UnitModel, p: UnitSurface, progress: Progress) -> dict[str, Item]:
    """The closed body of a unit between its contacts."""
    from ....compute.geology.bodies.solids import solids
    from ....compute.geology.bodies.stored import bodies_kept

    number = contacts.units.index(p.unit.strip())
    bodies = bodies_kept(model.contacts, len(contacts.units)) if p.cell is None else None
    bodies = bodies or solids(contacts, p.cell)
    at, triangles = bodies.of(number)
    if not len(triangles):
        raise InputError(f"nothing of the model is '{p.unit}'", where=model.name, fix="Give a finer cell")
    return _surface(model, p, at, triangles, progress)


def _surface(
    model: BlockModel, p: UnitSurface, at: np.ndarray, triangles: np.ndarray, progress: Progress
) -> dict[str, Item]:
    """The closed surface, looking outward, with its volume and area told."""
    from ....compute.geometry.triangles import volume

    held = volume(at, triangles)
    a, b, c = (at[triangles[:, k]] for k in range(3))
    area = 0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())
    progress(1.0, f"{abs(held) / 1e6:,.3f} million m³, surface {area / 1e6:,.3f} km²")
    outward = triangles if held >= 0 else triangles[:, ::-1]
    return {
        "surface": Surface(
            name=p.name or p.unit.strip(),
            crs=model.crs,
            vertices=at,
            triangles=np.ascontiguousarray(outward, dtype=np.int32),
            closed=True,
            volume_m3=abs(held),
        )
    }


def _by_blocks(model: BlockModel, margin: np.ndarray, field: np.ndarray) -> list[np.ndarray]:
    """The field of a unit in each fault block: it ends at the fault, and up to there goes on as on its own side.

    So the surface meets the fault in its plane, and not in steps of cells. A fault over which the unit goes on unbroken,
    because it is younger or the fault died out, parts nothing.
    """
    from scipy.ndimage import distance_transform_edt

    out = [field]
    known = np.isfinite(margin)
    for name, off in model.properties.items():
        if not name.startswith(OFF) or not _breaks(margin, off.astype(float)):
            continue
        parts = []
        for side in (1.0, -1.0):
            distance = side * np.where(np.isfinite(off), off.astype(float), 0.0)
            own = known & (distance > 0)
            if not own.any():
                continue
            nearest = distance_transform_edt(~own, return_distances=False, return_indices=True)
            for each in out:
                gone_on = np.where(known, each[tuple(nearest)], each)
                parts.append(np.where(known, np.minimum(gone_on, distance), each))
        out = [p for p in parts if (p > 0).any()] or out
    return out


def _breaks(margin: np.ndarray, off: np.ndarray) -> bool:
    """Whether a unit steps at a fault: its margin changes more from cell to cell across it than elsewhere near it."""
    across, along = [], []
    for axis in (0, 1):
        first, second = (np.take(v, range(v.shape[axis] - 1), axis) for v in (margin, off))
        other, beyond = (np.take(v, range(1, v.shape[axis]), axis) for v in (margin, off))
        step = np.abs(other - first)
        near = np.isfinite(step) & (
            np.minimum(np.abs(second), np.abs(beyond)) < 4.0 * np.nanmedian(np.abs(beyond - second))
        )
        crosses = near & (second * beyond < 0)
        across.append(step[crosses])
        along.append(step[near & ~crosses])
    crossing, rest = np.concatenate(across), np.concatenate(along)
    return bool(len(crossing) and len(rest) and crossing.mean() > 1.5 * rest.mean() + 0.1)


OPERATION = Operation(
    name="unit-surface",
    example=Example({"model": "@build-units.model"}, {"unit": "Granite"}, after=("build-units",)),
    title="Surface of a unit",
    area="Geology",
    help="Makes the closed body of a unit of a model between its contacts, ending at faults, the ground and the model's edge, with its volume and area; of models without contacts of their own smooth between the middles of their cells.",
    params=UnitSurface,
    run=_run,
    inputs=(model_slot(),),
    outputs=(Output("surface", "surface", "Closed surface"),),
)

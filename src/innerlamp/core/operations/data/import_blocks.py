"""Importing block models: regular ones, and those whose cells were cut into smaller ones."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats.shapes import sub_blocks, vtk_items
from ...formats.shapes.cells import mesh_of_cells
from ...formats.tables import columns, tables_in
from ...geometry.mesh import Mesh
from ...importing.reading import mapped, number_column, title
from ...items.base import Item
from ...items.fields import BlockModel
from ...progress import Progress
from ...units import unit_in_heading

_MOST_NAMES = 200  # different texts in a column of codes


class ImportBlocks(Params):
    file: str = param(
        ...,
        "Block model file",
        editor="file",
        help="A table with one row a cell (centre x, y, z, sizes and values), or VTI, VTR, VTU",
    )
    sub_blocks: Literal["averaged in the largest", "kept in the smallest"] = param(
        "averaged in the largest",
        "Cells of several sizes are",
        help="Averaged by volume, codes by what fills most; or each as it is, on a lattice of the smallest size",
    )
    name: str = param("", "Name", help="The file's name when empty")
    columns: dict[str, str] = param(
        {}, "Columns", editor="mapping", help="Role to column; what is not given is guessed from the headings"
    )


@dataclass(frozen=True)
class _Cells:
    """Cells of a table as rows: centres (n, 3), sizes where they are told, values by column, names of codes that are texts."""

    file: str
    centres: np.ndarray
    sizes: np.ndarray | None
    azimuth: float
    values: dict[str, np.ndarray]
    names: dict[str, tuple[str, ...]]
    left: tuple[str, ...]

    @property
    def several_sizes(self) -> bool:
        return self.sizes is not None and bool((np.ptp(self.sizes, axis=0) > 1e-3 * self.sizes.max(axis=0)).any())


def _run_blocks(inputs: Inputs, p: ImportBlocks, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, _ = tables_in.split(p.file)
    names: dict[str, tuple[str, ...]] = {}
    words = ""
    mesh: Mesh
    if path.suffix.lower() in (".vti", ".vtr", ".vtu"):
        mesh, properties = vtk_items.read_blocks(path)
    else:
        cells = _cells_of_table(p)
        mesh, properties, words = _on_mesh(cells, p.sub_blocks == "kept in the smallest")
        names = cells.names
    progress(1.0, words)
    model = BlockModel(
        name=p.name or title(path),
        crs=inputs.crs,
        mesh=mesh,
        properties=properties,
        units={name: "" if name in names else unit_in_heading(name) for name in properties},
        names=names,
    )
    return {"blocks": model.told_by_headings()}


def _cells_of_table(p: ImportBlocks) -> _Cells:
    raw = tables_in.read(p.file, Findings(), "cells")
    role = mapped(raw, "points", p.columns)
    if "z" not in role:
        raise InputError(
            "no column for Elevation", where=raw.file, fix="A block model needs the centre of each cell in x, y and z"
        )
    xyz = np.column_stack([number_column(raw, role[c]) for c in "xyz"])
    good = np.isfinite(xyz).all(axis=1)
    have = {c.lower(): c for c in raw.layout.columns}
    sizes = None
    named = columns.cell_sizes(raw.layout.columns)
    if len(named) == 3:
        sizes = np.column_stack([number_column(raw, named[c]) for c in ("dx", "dy", "dz")])[good]
        sizes = sizes if np.isfinite(sizes).all() else None
    turn = number_column(raw, have["azimuth"])[good] if "azimuth" in have and sizes is not None else np.zeros(1)
    if not np.isfinite(turn).all() or np.ptp(turn) > 1e-6:
        raise InputError("the cells are not all turned alike", where=raw.file)
    values: dict[str, np.ndarray] = {}
    names: dict[str, tuple[str, ...]] = {}
    left = []
    for column in raw.layout.columns:
        if column in role.values() or column in named.values() or column.lower() == "azimuth":
            continue
        numbers = number_column(raw, column)[good]
        if np.isfinite(numbers).any():
            values[column] = numbers
            continue
        texts = pd.Series(np.asarray(raw.cells.column(column), dtype=object)[good]).astype(str).str.strip()
        codes, found = pd.factorize(texts.where(texts != ""), sort=True)
        if 0 < len(found) <= _MOST_NAMES:
            values[column], names[column] = np.where(codes >= 0, codes, np.nan), tuple(str(name) for name in found)
        elif len(found):
            left.append(column)
    if not values:
        raise InputError("no column of numbers or codes besides the places", where=raw.file)
    return _Cells(raw.file, xyz[good], sizes, float(turn[0]), values, names, tuple(left))


def _on_mesh(cells: _Cells, fine: bool) -> tuple[Mesh, dict[str, np.ndarray], str]:
    """Mesh and properties of cells, and in words what was done with them."""
    left = f"left out, since they hold too many different texts: {', '.join(cells.left)}" if cells.left else ""
    try:
        mesh, at = mesh_of_cells(cells.centres, cells.file, cells.sizes, cells.azimuth)
    except InputError:
        if cells.sizes is None or not cells.several_sizes:
            raise
        cut, properties, told = _cut(cells, cells.sizes, fine)
        return cut, properties, "; ".join(part for part in (told, left) if part)
    properties = {}
    for column, numbers in cells.values.items():
        properties[column] = np.full(mesh.shape, np.nan)
        properties[column][at] = numbers
    return mesh, properties, left


def _cut(cells: _Cells, sizes: np.ndarray, fine: bool) -> tuple[Mesh, dict[str, np.ndarray], str]:
    """Cells of several sizes on one lattice."""
    on = sub_blocks.lattice_of(cells.centres, sizes, cells.file, cells.azimuth, fine)
    codes = [c for c, v in cells.values.items() if c in cells.names or sub_blocks.are_codes(v, unit_in_heading(c))]
    properties = {c: on.most(v) if c in codes else on.mean(v) for c, v in cells.values.items()}
    share = on.share()
    if not fine and ((share > 0) & (share < 0.999)).any():
        properties["filled share"] = np.where(share > 0, np.minimum(share, 1.0), np.nan)
    largest, smallest = ("x".join(f"{n:g}" for n in pick(sizes, axis=0)) for pick in (np.max, np.min))
    words = f"{len(sizes):,} cells of {smallest} to {largest} m"
    if fine:
        return on.mesh, properties, f"{words}, each kept on a lattice of the smallest"
    told = f"; codes by what fills most: {', '.join(codes)}" if codes else ""
    return on.mesh, properties, f"{words}, averaged by volume in {int((share > 0).sum()):,} of the largest{told}"


OPERATION = Operation(
    name="import-blocks",
    example=Example({}, {"file": "@Susceptibility of Airborne magnetics.vti"}),
    title="Import a block model",
    area="Data",
    help="Reads a block model from a table of cell centres with their values, or from VTI, VTR and VTU files. Cells of several sizes (sub-blocks) come onto one lattice.",
    params=ImportBlocks,
    run=_run_blocks,
    outputs=(Output("blocks", "blocks", "Block model"),),
)

"""Values on regular meshes and closed or open surfaces."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import ClassVar, Self

import numpy as np
import pandas as pd

from ..errors import InputError
from ..geometry.mesh import DrapedMesh, Mesh, TensorMesh
from .attributes import Attribute, is_ground
from .base import Bounds, FloatArray, Item, Parts


@dataclass(frozen=True, kw_only=True)
class Grid(Item):
    """A map grid, north up.

    Attributes
    ----------
    values
        Shape (ny, nx), row 0 the southernmost; NaN where blank.
    x0, y0
        Centre of the south-western cell in metres.
    dx, dy
        Cell sizes in metres, positive.
    attribute, unit
        What the values are. The quantity elevation makes it a surface in space.
    """

    kind: ClassVar[str] = "grid"
    title: ClassVar[str] = "Grids"
    values: FloatArray
    x0: float
    y0: float
    dx: float
    dy: float
    attribute: str
    unit: str = ""

    @property
    def x(self) -> FloatArray:
        """Eastings of the columns."""
        return self.x0 + self.dx * np.arange(self.values.shape[1], dtype=float)

    @property
    def y(self) -> FloatArray:
        """Northings of the rows."""
        return self.y0 + self.dy * np.arange(self.values.shape[0], dtype=float)

    @property
    def places(self) -> tuple[FloatArray, FloatArray]:
        """Eastings and northings of all cell centres, shape (ny, nx) each."""
        gx, gy = np.meshgrid(self.x, self.y)
        return gx, gy

    @property
    def is_ground(self) -> bool:
        return is_ground(self.attributes)

    @property
    def bounds(self) -> Bounds:
        ny, nx = self.values.shape
        low, high = (np.nan, np.nan)
        if self.is_ground and np.isfinite(self.values).any():
            low, high = float(np.nanmin(self.values)), float(np.nanmax(self.values))
        return (
            self.x0 - self.dx / 2,
            self.x0 + self.dx * (nx - 0.5),
            self.y0 - self.dy / 2,
            self.y0 + self.dy * (ny - 0.5),
            low,
            high,
        )

    def _attributes(self) -> dict[str, Attribute]:
        return self.described((self.attribute,), (), {self.attribute: self.unit})

    @property
    def facts(self) -> dict[str, str]:
        ny, nx = self.values.shape
        blank = float(np.mean(~np.isfinite(self.values)))
        return {"Cells": f"{nx} × {ny}", "Cell size": f"{self.dx:g} × {self.dy:g} m", "Blank": f"{blank:.0%}"}


@dataclass(frozen=True, kw_only=True)
class Surface(Item):
    """A triangulated surface.

    Attributes
    ----------
    vertices
        Shape (n, 3), metres, east-north-up.
    triangles
        Shape (m, 3), indices of vertices, counter-clockwise seen from outside.
    closed
        Whether it bounds a volume.
    level, attribute, unit
        For a grade shell: its cut-off and the attribute it belongs to.
    told
        What else its making tells of it, in words by name.
    """

    kind: ClassVar[str] = "surface"
    title: ClassVar[str] = "Surfaces"
    vertices: FloatArray
    triangles: np.ndarray
    closed: bool = False
    volume_m3: float = 0.0
    attribute: str = ""
    unit: str = ""
    level: float = 0.0
    told: dict[str, str] = dataclasses.field(default_factory=dict)

    @property
    def bounds(self) -> Bounds:
        if not len(self.vertices):
            return super().bounds
        low, high = self.vertices.min(axis=0), self.vertices.max(axis=0)
        return (float(low[0]), float(high[0]), float(low[1]), float(high[1]), float(low[2]), float(high[2]))

    def _attributes(self) -> dict[str, Attribute]:
        return self.described((self.attribute,), (), {self.attribute: self.unit}) if self.attribute else {}

    @property
    def facts(self) -> dict[str, str]:
        facts = {"Triangles": f"{len(self.triangles):,}"}
        if self.closed:
            facts["Volume"] = f"{self.volume_m3 / 1e6:,.3f} million m³"
        if self.attribute:
            facts["Cut-off"] = f"{self.attribute} ≥ {self.level:g} {self.unit}".strip()
        return facts | dict(self.told)


@dataclass(frozen=True, kw_only=True)
class BlockModel(Item):
    """Properties on the cells of a mesh.

    Attributes
    ----------
    mesh
        The cells; see `core.geometry.mesh`.
    properties
        Arrays of shape (nx, ny, nz), index order along the first axis, the second axis, up; NaN where a
        cell is absent (above ground).
    units
        Unit of each property.
    names
        Of a property that numbers units: the name of each number, from 0 on.
    members
        Logged codes and units of maps, and the name of the unit of the model that each belongs to.
    course
        Of a model that was come to step by step: iteration, beta (trade-off of misfit against the measure of the model),
        misfit and size (that measure), one row a step; empty for others.
    contacts, rules
        Of a model of units: the fields of its contacts, and what makes units of them; see `core.compute.geology.bodies`.
    """

    kind: ClassVar[str] = "blocks"
    title: ClassVar[str] = "Block models"
    mesh: Mesh
    properties: dict[str, np.ndarray] = field(default_factory=dict)
    units: dict[str, str] = field(default_factory=dict)
    names: dict[str, tuple[str, ...]] = field(default_factory=dict)
    members: dict[str, str] = field(default_factory=dict)
    course: pd.DataFrame = field(default_factory=pd.DataFrame)
    contacts: dict[str, np.ndarray] = field(default_factory=dict)
    rules: str = ""

    def __post_init__(self) -> None:
        object.__setattr__(self, "names", {name: tuple(words) for name, words in self.names.items()})
        super().__post_init__()
        for name, values in self.properties.items():
            if values.shape != self.mesh.shape:
                raise InputError(f"the values of {name} do not fit the mesh", where=self.name)

    @property
    def shape(self) -> tuple[int, int, int]:
        """Number of cells along the axes of the mesh."""
        return self.mesh.shape

    @property
    def present(self) -> np.ndarray:
        """Which cells have a value of any property, shape (nx, ny, nz)."""
        out = np.zeros(self.mesh.shape, dtype=bool)
        for values in self.properties.values():
            out |= np.isfinite(values)
        return out

    def levelled(self) -> BlockModel:
        """Return the model on whole cells where its columns are cut at their tops: a cell is there when half of it is.

        Raises
        ------
        InputError
            When its columns have no levels in common.
        """
        if not isinstance(self.mesh, DrapedMesh):
            return self
        whole = self.mesh.levelled()
        if whole is None:
            raise InputError(
                "its columns have no levels in common",
                where=self.name,
                fix="Write it as .vtu or .csv, which hold any cells",
            )
        there = self.mesh.thickness >= 0.5 * whole.w
        values = {name: np.where(there, v, np.nan) for name, v in self.properties.items()}
        return dataclasses.replace(self, mesh=whole, properties=values)

    @property
    def bounds(self) -> Bounds:
        return self.mesh.bounds

    def _attributes(self) -> dict[str, Attribute]:
        numbers = [n for n in self.properties if n not in self.names]
        return self.described(numbers, [n for n in self.properties if n in self.names], self.units)

    def named(self, attribute: str, values: np.ndarray) -> np.ndarray:
        """Return names for numbers of a property that numbers units, '' for none; shape of the values."""
        table = np.array([*self.names[attribute], ""], dtype=object)
        known = np.isfinite(values) & (values >= 0) & (values < len(table) - 1)
        return np.asarray(table[np.where(known, np.nan_to_num(values), len(table) - 1).astype(np.int64)])

    @property
    def facts(self) -> dict[str, str]:
        nx, ny, nz = self.mesh.shape
        facts = {"Cells": f"{nx} × {ny} × {nz}", "Cell size": self.mesh.words}
        if self.mesh.is_turned:
            facts["Turned"] = f"{self.mesh.azimuth:g}° from north"
        for name, values in self.properties.items():
            facts[f"Cells with {name}"] = f"{int(np.isfinite(values).sum()):,}"
            break
        if len(self.course):
            facts["Misfit"] = f"{self.course['misfit'].iloc[-1]:.2f} after {len(self.course)} steps"
        return facts

    @classmethod
    def from_parts(cls, parts: Parts) -> Self:
        """Put a model together again; those of the first version have equal cells said by numbers."""
        if "x0" not in parts.meta:
            return super().from_parts(parts)
        x0, y0, z0, dx, dy, dz = (float(parts.meta[n]) for n in ("x0", "y0", "z0", "dx", "dy", "dz"))
        nx, ny, nz = (int(n) for n in parts.meta["shape"])
        plain, arrays = TensorMesh.even((x0, y0, z0), (dx, dy, dz), (nx, ny, nz)).taken_apart()
        named = {f"mesh/{name}": array for name, array in arrays.items()}
        return super().from_parts(Parts({**parts.meta, "mesh": plain}, parts.tables, {**parts.arrays, **named}))


def sheet_line(model: BlockModel) -> tuple[float, float, float, float] | None:
    """Return the ends (x, y, x, y) of a block model that is an upright sheet, one column wide, such as a long section; else None."""
    if 1 not in model.shape[:2] or model.shape[:2] == (1, 1):
        return None
    wide, long = float(model.mesh.u.sum()), float(model.mesh.v.sum())
    p, q = (
        (np.full(2, 0.5 * wide), np.array([0.0, long]))
        if model.shape[0] == 1
        else (np.array([0.0, wide]), np.full(2, 0.5 * long))
    )
    x, y = model.mesh.to_map(p, q)
    return float(x[0]), float(y[0]), float(x[1]), float(y[1])

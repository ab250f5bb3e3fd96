"""What is known of a model before it is inverted: bounds, a model from elsewhere, and measurements in drillholes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from ...compute.geometry.orientations import plane_normal
from ...compute.geometry.sampling import bilinear
from ...compute.geometry.structural_field import normals_near
from ...compute.potential.meshing import spread_from
from ...declaring.operation import Input, Inputs, Maybe, Params, Row, param, structures_slot
from ...errors import InputError
from ...items.attributes import orientation
from ...items.fields import BlockModel, Grid
from ...items.holes import HoleSet, readings_with, table_with
from ...items.points import PointSet
from .cells import Cells
from .units import COVER, rows_for, units_at

if TYPE_CHECKING:
    from ...compute.potential.inversion import Constraints

# What a value in a unit is multiplied by to be in that of the model (SI, or g/cm³).
FACTORS = {"10⁻³ SI": 1e-3, "1e-3 SI": 1e-3, "10⁻⁵ SI": 1e-5, "10⁻⁶ cgs": 4e-6 * np.pi, "kg/m³": 1e-3}
SLOTS = (
    Input(
        "start",
        "Start or reference",
        ("blocks",),
        optional=True,
        proposed=False,
        help="A model of the same property, such as one from an earlier run",
    ),
    Input(
        "holes",
        "Measured in holes",
        ("holes",),
        optional=True,
        proposed=False,
        help="Drillholes with the property, measured on core or down the hole",
    ),
    Input(
        "geology",
        "Units",
        ("blocks", "features"),
        optional=True,
        proposed=False,
        help="A block model that numbers units, or a map, whose units go straight down",
    ),
    Input(
        "base_of_cover",
        "Base of cover",
        ("grid",),
        optional=True,
        proposed=False,
        help="A grid of its elevation, or of the thickness of the cover",
    ),
    structures_slot("Dips and dip directions: the model is smooth along them"),
)


class UnitKnown(Row):
    unit: str = param(..., "Unit", help="Its number or name, or 'cover' for what lies above the base of cover")
    lowest: Maybe = param(None, "Lowest")
    highest: Maybe = param(None, "Highest")
    value: Maybe = param(None, "Expected", help="The model departs from it only where the readings ask for it")
    trust: Maybe = param(None, "Trust", help="Weight of departures from what is expected; 1 when empty")


class KnownParams(Params):
    """Parameters of what is known."""

    measured: str = param(
        "",
        "Measured property",
        editor="attribute",
        of="holes",
        help="Of the holes: susceptibility or density",
        more=True,
    )
    background: float = param(
        0.0, "Background", unit="its own", help="What is 0 in the model, such as 2.67 g/cm³ for a density", more=True
    )
    hole_reach: float = param(
        0.0, "Reach of holes", unit="m", low=0.0, help="Distance at which a measurement counts little; 0 takes two cells", more=True
    )  # fmt: skip
    hole_weight: float = param(
        100.0, "Trust in holes", above=0.0, high=1e6, help="Weight of departures from what is measured", more=True
    )
    known: str = param(
        "", "Known property", editor="attribute", of="start", help="Of the start or reference model", more=True
    )
    role_of_known: Literal["reference", "start"] = param(
        "reference", "It is taken as", help="A reference draws the model to it, a start only saves time", more=True
    )
    trust: float = param(
        1.0, "Trust in the reference", above=0.0, high=1e6, help="Weight of departures from it", more=True
    )
    unit_of: str = param("", "Units are in", editor="attribute", of="geology", more=True)
    units: tuple[UnitKnown, ...] = param(
        (), "Known by unit", editor="table", help="Bounds and expected values, one row a unit", more=True
    )
    cover: float = param(0.0, "Thickness of cover", unit="m", low=0.0, help="Where no base of it is given", more=True)
    dip: Maybe = param(
        None, "Dip of layering", unit="°", low=0.0, high=90.0, help="The model is smooth along it", more=True
    )
    dip_direction: Maybe = param(None, "Its dip direction", unit="°", low=0.0, high=360.0, more=True)
    stretch: float = param(
        4.0,
        "Smoothness along layering",
        unit="times",
        low=1.0,
        high=100.0,
        help="Of that across, where a dip or structural readings are given",
        more=True,
    )
    structure_reach: float = param(
        0.0, "Reach of readings", unit="m", low=0.0, help="Of structural ones; 0 takes six cells", more=True
    )
    lower: Maybe = param(None, "Lowest value", help="Empty: 0 for susceptibility, no bound for others", more=True)
    upper: Maybe = param(None, "Highest value", help="Empty for no bound", more=True)


def known_of(inputs: Inputs, p: KnownParams, cells: Cells, components: int, lower: float, width: float) -> Constraints:
    """Return bounds, reference and start of the active cells; `lower` is the lowest value where none is asked for.

    Raises
    ------
    InputError
        When what is known has no such property, or does not lie below the readings.
    """
    from ...compute.potential.inversion import Constraints

    low = lower if p.lower is None else p.lower
    high = np.inf if p.upper is None else p.upper
    alone = {"start", "holes", "geology", "base_of_cover"} & set(inputs)
    if components > 1 and (alone or p.units):
        raise InputError("a magnetisation can't begin with what is known of one property")
    directions = _directions(inputs, p, cells, 6.0 * width)
    if components > 1:
        return Constraints(low, high, directions=directions)
    lows, highs = np.full(cells.count, float(low)), np.full(cells.count, float(high))
    nothing = float(np.clip(0.0, low, high))
    reference, trust = np.full(cells.count, nothing), np.ones(cells.count)
    start = None
    places = cells.mesh.centres()[cells.active.ravel()]
    model = inputs.maybe("start", BlockModel)
    if model is not None:
        found = _of_model(model, p.known, places)
        there = np.isfinite(found)
        if p.role_of_known == "start":
            start = np.where(there, found, nothing)
        else:
            reference, trust = np.where(there, found, nothing), np.where(there, p.trust, 1.0)
    for rows, row in _by_unit(inputs, p, cells, places):
        lows[rows] = lows[rows] if row.lowest is None else row.lowest - p.background
        highs[rows] = highs[rows] if row.highest is None else row.highest - p.background
        if row.value is not None:
            reference[rows], trust[rows] = row.value - p.background, row.trust or 1.0
        elif row.trust is not None:
            trust[rows] = row.trust
    holes = inputs.maybe("holes", HoleSet)
    if holes is not None:
        at, values = _of_holes(holes, p)
        value, share = spread_from(cells.mesh, cells.active, at, values, p.hole_reach or 2.0 * width)
        if not share.any():
            raise InputError("no measurement lies in the cells below the readings", where=holes.name)
        reference = share * value + (1.0 - share) * reference
        trust = trust + p.hole_weight * share
    return Constraints(lows, highs, reference, trust, start, directions=directions)


def _by_unit(inputs: Inputs, p: KnownParams, cells: Cells, places: np.ndarray) -> list[tuple[np.ndarray, UnitKnown]]:
    """Rows of the table with the active cells that each is of."""
    if not p.units or all((r.lowest, r.highest, r.value, r.trust) == (None,) * 4 for r in p.units):
        if "geology" in inputs and not p.units:
            raise InputError("units are given, but nothing is known of them", fix="Fill in 'known by unit'")
        return []
    units = np.full(cells.count, "", dtype=object)
    if "geology" in inputs:
        units = units_at(inputs, "geology", p.unit_of, places)
    mesh = cells.mesh
    base = inputs.maybe("base_of_cover", Grid)
    if base is not None or p.cover > 0:
        thick = np.full(len(places), p.cover)
        column = np.broadcast_to(mesh.tops[:, :, None], mesh.shape)[cells.active]
        if base is not None:
            thick = bilinear(base.values, base.x0, base.y0, base.dx, base.dy, places[:, 0], places[:, 1])
            thick = column - thick if base.is_ground else thick
        with np.errstate(invalid="ignore"):
            units[column - places[:, 2] < thick] = COVER
    named = [row.unit.strip() for row in p.units]
    return list(zip(rows_for(units, named, "known by unit"), p.units, strict=True))


def _directions(inputs: Inputs, p: KnownParams, cells: Cells, reach: float) -> np.ndarray | None:
    """Tensors of the directions in which the model is smooth, None where nothing tells them."""
    from ...compute.potential.roughness import along_planes

    readings = inputs.maybe("structures", PointSet)
    if (p.dip is None) != (p.dip_direction is None):
        raise InputError("a dip and its direction are given together or not at all")
    if readings is None and p.dip is None:
        return None
    normals, share = np.tile([0.0, 0.0, 1.0], (cells.count, 1)), np.zeros(cells.count)
    if p.dip is not None and p.dip_direction is not None:
        normals[:], share[:] = plane_normal(np.array([p.dip]), np.array([p.dip_direction]))[0], 1.0
    if readings is not None:
        table = readings.table[[*(orientation(readings.attributes) or ()), "x", "y", "z"]].to_numpy(float)
        table = table[np.isfinite(table[:, :4]).all(axis=1)]
        if not len(table):
            raise InputError("no reading has a place, a dip and a direction", where=readings.name)
        at = table[:, 2:]
        near, told = normals_near(
            cells.mesh.centres()[cells.active.ravel()],
            at,
            plane_normal(table[:, 0], table[:, 1]),
            p.structure_reach or reach,
        )
        closer = told > 0.1
        normals[closer], share[closer] = near[closer], told[closer]
    return along_planes(normals, 1.0 + (p.stretch - 1.0) * share, cells.mesh)


def _of_model(model: BlockModel, name: str, places: np.ndarray) -> np.ndarray:
    name = name or next(iter(model.properties))
    if name not in model.properties:
        raise InputError(f"there is no property '{name}'", where=model.name)
    found = model.mesh.values_at(model.properties[name], *places.T)
    if not np.isfinite(found).any():
        raise InputError("it does not lie below the readings", where=model.name)
    return found


def _of_holes(holes: HoleSet, p: KnownParams) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) and values (n,) of what was measured, in the unit of the model."""
    if not p.measured:
        raise InputError("no measured property is chosen", where=holes.name, fix="Name it as 'measured'")
    found = table_with(holes, p.measured) or readings_with(holes, p.measured)
    if found is None:
        raise InputError(f"there is no '{p.measured}'", where=holes.name)
    table = found[1]
    values = table[p.measured].to_numpy(float) - p.background
    places = table[["x", "y", "z"]].to_numpy(float)
    good = np.isfinite(values) & np.isfinite(places).all(axis=1)
    if not good.any():
        raise InputError(f"'{p.measured}' has no values with a place", where=holes.name)
    return places[good], values[good] * FACTORS.get(holes.attributes[p.measured].unit, 1.0)

"""What a model of units is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from ....compute.geology import age_order as ao
from ....geometry.mesh import DrapedMesh
from ....items.base import Item
from ....items.features import Features
from ....items.fields import Grid, Surface
from ....items.points import PointSet
from .logged_units import Logged


@dataclass(frozen=True)
class Readings:
    """Planes: places (n, 3), normals (n, 3) that point to where layers get younger."""

    at: np.ndarray
    normals: np.ndarray


@dataclass(frozen=True)
class Sources:
    """All that a model is made of.

    Attributes
    ----------
    units, members
        Units in their order, and the name of the unit of each code.
    log, chart, readings
        Holes, map and structural readings, where there are.
    ground, mesh
        Of the model.
    feeds
        Which surface each pair of units feeds; see `contact_table.feeds`.
    drawn, picks, given, faults
        Drawings, picked points, surfaces from outside by name, and what tells where faults lie.
    """

    units: list[ao.Unit]
    members: dict[str, str]
    log: Logged | None
    chart: Features | None
    readings: Readings
    ground: Grid | float
    mesh: DrapedMesh
    feeds: np.ndarray
    drawn: tuple[Features, ...] = ()
    picks: tuple[PointSet, ...] = ()
    given: Mapping[str, Grid | Surface] = field(default_factory=dict)
    faults: tuple[Item, ...] = ()

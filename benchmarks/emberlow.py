"""How much of Emberlow's truth its surveys give back: inversions held against the rocks that the demo was made of.

The truth is the mean of the properties of the rocks at 27 places in each cell. Figures are of the cells whose
sensitivity is at least 1 % of the largest; a smooth model of one survey can't have all of the truth's contrast, so
that correlation says how well places agree, and the last column what the target bodies have against the rest.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from innerlamp.api import Project
from innerlamp.core.items.fields import BlockModel
from innerlamp.demo import build
from innerlamp.demo import truth as t
from innerlamp.demo.truth.frame import REDUCTION

from .table import Row, seconds

CELLS: dict[str, Any] = {"cell": 125.0, "cell_z": 50.0, "depth": 900.0, "growth": 1.1, "ground": "Ground"}
MAGNETICS = {"lines": "Airborne magnetics", "attribute": "TMI_ANOM_nT"}
GRAVITY = {"stations": "Gravity stations", "attribute": "Bouguer_mGal", "noise": 0.05}
SEEN = 1.0  # percent of the largest sensitivity


def truth_in(model: BlockModel, which: int) -> np.ndarray:
    """Mean of a property (0 density, 1 susceptibility) of the true rocks in each cell, in the shape of the mesh."""
    centres, mesh = model.mesh.centres(), model.mesh
    cells = mesh.all_cells()
    low, high = mesh.levels(*cells.T)
    table = np.array([t.PROPERTIES[code][which] for code in t.CODES])
    total, count = np.zeros(len(centres)), 0
    for du in (-1 / 3, 0.0, 1 / 3):
        for dv in (-1 / 3, 0.0, 1 / 3):
            for dw in (-1 / 3, 0.0, 1 / 3):
                x = centres[:, 0] + du * mesh.u[cells[:, 0]] - t.ORIGIN[0]
                y = centres[:, 1] + dv * mesh.v[cells[:, 1]] - t.ORIGIN[1]
                total += table[np.maximum(t.rock(x, y, centres[:, 2] + dw * (high - low)), 0)]
                count += 1
    return np.asarray(total.reshape(mesh.shape) / count)


def near(model: BlockModel, place: tuple[float, float], reach: float, deeper_than: float) -> np.ndarray:
    """Which cells lie within a reach of a place in plan, below an elevation."""
    centres = model.mesh.centres().reshape(*model.mesh.shape, 3)
    away = np.hypot(centres[..., 0] - t.ORIGIN[0] - place[0], centres[..., 1] - t.ORIGIN[1] - place[1])
    return np.asarray((away < reach) & (centres[..., 2] < deeper_than))


def held_against_the_truth(model: BlockModel, name: str, which: int, sensitivity: str) -> tuple[float, str]:
    """Correlation in the cells that are seen, and how the model stands at the skarn, the gabbro and the granite."""
    values, true = model.properties[name], truth_in(model, which)
    seen = np.isfinite(values) & (np.nan_to_num(model.properties[sensitivity]) >= SEEN)
    found = []
    for body, place, reach in (("gabbro", t.GABBRO, 400.0), ("cupola", t.APEX, 400.0)):
        here = near(model, place, reach, 350.0) & seen
        found.append(f"{body} {values[here].mean():.3g}")
    around = near(model, t.SKARN_CUPOLA, 700.0, np.inf) & np.isfinite(values)
    skarn = around & (truth_in(model, 1) > 0.02)
    found.append(f"all {values[seen].mean():.3g}")
    found.append(f"skarn {values[skarn].mean():.3g}, around it {values[around & ~skarn].mean():.3g}")
    return float(np.corrcoef(values[seen], true[seen])[0, 1]), ", ".join(found)


def emberlow_against_its_truth() -> Iterator[Row]:
    """Magnetics, gravity and both, with and without what was measured in the holes."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "Emberlow.lamp"
        shutil.copytree(build.ensure(), copy)
        with Project.open(copy) as lamp:
            holes = next(e for e in lamp.items if e.kind == "holes")
            dense = next(n for n, a in holes.attributes.items() if a.quantity == "density")
            magnetic = next(n for n, a in holes.attributes.items() if a.quantity == "susceptibility")
            known: dict[str, Any] = {"holes": holes.id, "background": REDUCTION, "hole_reach": 200.0}
            both = {
                "lines": "Airborne magnetics", "stations": "Gravity stations", "magnetic_reading": "TMI_ANOM_nT",
                "gravity_reading": "Bouguer_mGal", "gravity_noise": 0.05,
            }  # fmt: skip
            runs: tuple[tuple[str, str, dict[str, Any], tuple[tuple[str, int, str], ...]], ...] = (
                ("Magnetics", "invert-magnetics", MAGNETICS, (("susceptibility", 1, "sensitivity"),)),
                ("Magnetics with holes", "invert-magnetics",
                 MAGNETICS | known | {"measured": magnetic, "background": 0.0}, (("susceptibility", 1, "sensitivity"),)),
                ("Gravity", "invert-gravity", GRAVITY, (("density_contrast", 0, "sensitivity"),)),
                ("Gravity with holes", "invert-gravity", GRAVITY | known | {"measured": dense},
                 (("density_contrast", 0, "sensitivity"),)),
                ("Both", "invert-together", both,
                 (("susceptibility", 1, "magnetic_sensitivity"), ("density_contrast", 0, "gravity_sensitivity"))),
                ("Both with holes", "invert-together",
                 both | known | {"measured_density": dense, "measured_susceptibility": magnetic},
                 (("susceptibility", 1, "magnetic_sensitivity"), ("density_contrast", 0, "gravity_sensitivity"))),
            )  # fmt: skip
            for what, operation, params, properties in runs:
                made: dict[str, str] = {}
                took = seconds(lambda o=operation, p=params, m=made: m.update(lamp.run(o, **CELLS, **p)))  # type: ignore[misc]
                model = lamp[made["model"]]
                assert isinstance(model, BlockModel)
                for name, which, sensitivity in properties:
                    likeness, bodies = held_against_the_truth(model, name, which, sensitivity)
                    yield Row(
                        f"Emberlow, {what.lower()}: {name.replace('_', ' ')}",
                        f"correlation {likeness:.2f}",
                        f"{took:.1f} s",
                        bodies,
                    )

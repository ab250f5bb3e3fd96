"""Distance to the nearest sample, against all pairs; on given cells, below the ground, within a reach."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.base import Item
from innerlamp.core.items.fields import BlockModel, Grid
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.drilling.nearest_sample import DISTANCE
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"


def samples(count: int = 60) -> PointSet:
    rng = np.random.default_rng(1)
    xyz = rng.uniform(0, 200, (count, 3)) + np.array([402000.0, 7502000.0, 3900.0])
    table = pd.DataFrame({**dict(zip("xyz", xyz.T, strict=True)), "Cu_pct": rng.uniform(0, 1, count)})
    table.loc[:9, "Cu_pct"] = np.nan
    return PointSet(name="Chips", crs=CRS, table=table)


def field(inputs: dict[str, Item], **values: Any) -> BlockModel:
    op = OPERATIONS["sample-distance"]
    made = op.run(Inputs({"samples": samples(), **inputs}, CRS), op.check(values), SILENT)["field"]
    assert isinstance(made, BlockModel)
    return made


def test_every_cell_has_the_least_of_all_distances_to_samples_with_a_value() -> None:
    made = field({}, attribute="Cu_pct", cell=15.0, margin=40.0)
    t = samples().table.iloc[10:]
    centres = made.mesh.centres()
    every = np.linalg.norm(centres[:, None, :] - t[["x", "y", "z"]].to_numpy(float)[None], axis=2).min(axis=1)
    assert made.properties[DISTANCE].ravel() == pytest.approx(every)
    # Edges at whole cells, around the samples and their margin.
    west, east, *_ = made.mesh.bounds
    assert west % 15.0 == pytest.approx(0.0) and west <= t["x"].min() - 40.0 and east >= t["x"].max() + 40.0


def test_cells_of_a_model_are_filled_and_those_above_the_ground_or_too_far_stay_empty() -> None:
    mesh = TensorMesh.even((402000.0, 7502000.0, 3900.0), (20.0, 20.0, 20.0), (10, 10, 12), 25.0)
    model = BlockModel(name="M", crs=CRS, mesh=mesh, properties={"v": np.zeros(mesh.shape)})
    ground = Grid(
        name="G", crs=CRS, values=np.full((40, 40), 4000.0), x0=401900.0, y0=7501900.0, dx=10.0, dy=10.0,
        attribute="elevation", unit="m", quantities={"elevation": "elevation"},
    )  # fmt: skip
    made = field({"blocks": model, "ground": ground}, within=50.0)
    assert made.mesh == mesh
    away = made.properties[DISTANCE].ravel()
    z = mesh.centres()[:, 2]
    assert np.isnan(away[z > 4000.0]).all()
    assert np.nanmax(away) <= 50.0


@pytest.mark.parametrize(
    ("values", "words"),
    [({"cell": 0.001}, "too many"), ({"within": 0.0001}, "no cell is left"), ({"attribute": "Au"}, "no 'Au'")],
)
def test_what_can_not_be_filled_is_said(values: dict[str, Any], words: str) -> None:
    op = OPERATIONS["sample-distance"]
    with pytest.raises(LampError, match=words):
        op.run(Inputs({"samples": samples()}, CRS), op.check(values), SILENT)

"""Block models with cells of several sizes: averaged in the largest or kept in the smallest, with nothing lost on the way."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel

PARENT = np.array([20.0, 20.0, 10.0])
START = np.array([402_000.0, 7_502_000.0, 3_950.0])


def cut_model(azimuth: float, seed: int = 4) -> pd.DataFrame:
    """A lattice of 6 by 5 by 4 cells in the Andes of which some are missing and a third is cut in eight, some of these again."""
    rng = np.random.default_rng(seed)
    rows = []

    def add(low: np.ndarray, size: np.ndarray, depth: int) -> None:
        if depth < 2 and rng.random() < 0.33:
            for corner in np.ndindex(2, 2, 2):
                add(low + size / 2 * np.array(corner), size / 2, depth + 1)
        elif rng.random() < 0.95:
            rows.append([*(low + size / 2), *size, rng.lognormal(), rng.integers(1, 5)])

    for cell in np.ndindex(6, 5, 4):
        add(PARENT * np.array(cell), PARENT, 0)
    table = pd.DataFrame(rows, columns=["XC", "YC", "ZC", "XINC", "YINC", "ZINC", "Au ppm", "DOMAIN"])
    east, north = TensorMesh.even((0, 0, 0), (1, 1, 1), (1, 1, 1), azimuth).to_map(
        table["XC"].to_numpy(), table["YC"].to_numpy()
    )
    table["XC"], table["YC"], table["ZC"] = START[0] + east, START[1] + north, START[2] + table["ZC"]
    return table.assign(azimuth=azimuth) if azimuth else table


def brought(tmp_path: Path, table: pd.DataFrame, **params: object) -> BlockModel:
    file = tmp_path / "model.csv"
    table.to_csv(file, index=False, float_format="%.6f")
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        made = project.run("import-blocks", file=str(file), **params)
        item = project[made["blocks"]]
    assert isinstance(item, BlockModel)
    return item


@pytest.mark.parametrize("azimuth", [0.0, 27.0])
def test_averaged_in_the_largest_no_metal_is_lost(tmp_path: Path, azimuth: float) -> None:
    table = cut_model(azimuth)
    made = brought(tmp_path, table)
    assert made.mesh.shape == (6, 5, 4)
    volume = table[["XINC", "YINC", "ZINC"]].prod(axis=1)
    share, whole = made.properties["filled share"], PARENT.prod()
    assert np.nansum(share) * whole == pytest.approx(volume.sum(), rel=1e-9)
    metal = np.nansum(made.properties["Au ppm"] * share) * whole
    assert metal == pytest.approx((volume * table["Au ppm"]).sum(), rel=1e-6)
    domain = made.properties["DOMAIN"]
    assert set(np.unique(domain[np.isfinite(domain)])) <= {1.0, 2.0, 3.0, 4.0}  # codes have no mean
    # By hand for each of the largest cells, found by the centres of what lies in it.
    turn = TensorMesh.even((0, 0, 0), (1, 1, 1), (1, 1, 1), azimuth)
    east, north = turn.from_map(table["XC"].to_numpy() - START[0], table["YC"].to_numpy() - START[1])
    place = np.floor(np.column_stack([east, north, table["ZC"] - START[2]]) / PARENT).astype(int)
    for (i, j, k), part in table.assign(v=volume).groupby([*place.T]):
        assert made.properties["Au ppm"][i, j, k] == pytest.approx(
            np.average(part["Au ppm"], weights=part["v"]), rel=1e-5
        )
        sums = part.groupby("DOMAIN")["v"].sum()
        assert sums[domain[i, j, k]] == sums.max()


def test_kept_in_the_smallest_every_cell_has_its_value(tmp_path: Path) -> None:
    table = cut_model(27.0)
    made = brought(tmp_path, table, sub_blocks="kept in the smallest")
    assert made.mesh.shape == (24, 20, 16)
    centres = table[["XC", "YC", "ZC"]].to_numpy()
    told = made.mesh.values_at(made.properties["Au ppm"], *(centres + 0.01).T)
    np.testing.assert_allclose(told, table["Au ppm"], rtol=1e-5)
    filled = np.isfinite(made.properties["Au ppm"]).sum() * 5.0 * 5.0 * 2.5
    assert filled == pytest.approx(table[["XINC", "YINC", "ZINC"]].prod(axis=1).sum())
    assert "filled share" not in made.properties


def test_codes_that_are_texts_come_in_by_their_names(tmp_path: Path) -> None:
    table = cut_model(0.0)
    table["ROCA"] = np.where(table["DOMAIN"] > 2, "Pórfido", "Andesita")
    table.loc[::7, "ROCA"] = ""
    made = brought(tmp_path, table)
    assert made.names["ROCA"] == ("Andesita", "Pórfido")
    told = made.properties["ROCA"]
    alone = np.flatnonzero((table["XINC"] == 20.0) & (table["ROCA"] != ""))
    at = made.mesh.values_at(told, *table.loc[alone, ["XC", "YC", "ZC"]].to_numpy().T)
    assert [made.names["ROCA"][int(k)] for k in at] == table.loc[alone, "ROCA"].tolist()


@pytest.mark.parametrize(
    ("change", "sub_blocks", "words"),
    [
        ("twice", "averaged in the largest", "cells overlap in 1 places"),
        ("across", "averaged in the largest", "lies across two of the largest cells"),
        ("odd", "kept in the smallest", "no multiples of the smallest along easting"),
        ("off", "averaged in the largest", "the largest cells are on no lattice along northing"),
        ("flat", "averaged in the largest", "a size above zero"),
    ],
)
def test_what_fits_onto_no_lattice_is_said(tmp_path: Path, change: str, sub_blocks: str, words: str) -> None:
    table = cut_model(0.0)
    small = table.index[table["XINC"] < 20.0][0]
    large = table.index[table["XINC"] == 20.0][3]
    if change == "twice":
        table = pd.concat([table, table.loc[[large]]])
    if change == "across":
        table.loc[small, "XC"] += 0.9 * table.loc[small, "XINC"] + 5.0
    if change == "odd":
        table.loc[small, "XINC"] *= 0.77
    if change == "off":
        table.loc[large, "YC"] += 3.0
    if change == "flat":
        table.loc[small, "ZINC"] = 0.0
    with pytest.raises(InputError, match=words):
        brought(tmp_path, table, sub_blocks=sub_blocks)

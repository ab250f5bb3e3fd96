"""Tiles of a ground come in as one, those of other grids beside each other do not; base records with a remark above."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from innerlamp.api import Project
from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.importing import intake, offers
from innerlamp.core.importing.base_record import read_base
from innerlamp.core.items.fields import Grid
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
WEST, SOUTH, CELL = 500_000.0, 7_000_000.0, 10.0


def height(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """A plane at 4,000 m."""
    return np.asarray(4_000.0 + 0.1 * (x - WEST) - 0.05 * (y - SOUTH))


def ascii_tile(path: Path, col: int, row: int, count: int = 30, cell: float = CELL, add: float = 0.0) -> Path:
    x = WEST + cell * (col * count + np.arange(count) + 0.5)
    y = SOUTH + cell * (row * count + np.arange(count)[::-1] + 0.5)
    head = (
        f"ncols {count}\nnrows {count}\nxllcorner {WEST + cell * col * count}\nyllcorner {SOUTH + cell * row * count}\n"
    )
    rows = "\n".join(" ".join(f"{v:.4f}" for v in height(x, np.full(count, b)) + add) for b in y)
    path.write_text(f"{head}cellsize {cell}\nNODATA_value -9999\n{rows}\n")
    return path


@pytest.mark.parametrize("places", [[(0, 0), (1, 0)], [(0, 1), (1, 0), (0, 0), (1, 1)], [(0, 0), (0, 1), (0, 2)]])
def test_tiles_of_a_ground_are_one_ground(tmp_path: Path, places: list[tuple[int, int]]) -> None:
    for k, (col, row) in enumerate(places):
        ascii_tile(tmp_path / f"dem_{k}.asc", col, row)
    (tmp_path / "collar.csv").write_text(f"HoleID,East,North,Depth\nA,{WEST + 250},{SOUTH + 120},100\n")
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        project.bring([*sorted(tmp_path.glob("*.asc")), tmp_path / "collar.csv"])
        (ground,) = [project.store.load(e.id) for e in project.items if e.kind == "grid"]
        (holes,) = [project.store.load(e.id) for e in project.items if e.kind == "holes"]
    assert isinstance(ground, Grid)
    x, y = np.meshgrid(
        ground.x0 + ground.dx * np.arange(ground.values.shape[1]),
        ground.y0 + ground.dy * np.arange(ground.values.shape[0]),
    )
    known = np.isfinite(ground.values)
    assert known.sum() == 900 * len(places) and ground.name.lower() == "dem"
    assert ground.values[known] == pytest.approx(height(x, y)[known], abs=1e-3)
    # Holes without elevations take theirs from the whole.
    assert holes.collars["z"].item() == pytest.approx(height(WEST + 250, SOUTH + 120), abs=0.01)  # type: ignore[attr-defined]


def test_rasters_with_a_seam_of_a_few_cells_are_tiles_too(tmp_path: Path) -> None:
    for k, col in enumerate((0, 27)):
        x = WEST + CELL * (col + np.arange(30) + 0.5)
        values = np.repeat(height(x, np.full(30, SOUTH))[None], 20, axis=0).astype("float32")
        with rasterio.open(
            tmp_path / f"DTM {k}.tif", "w", driver="GTiff", width=30, height=20, count=1, dtype="float32", crs=CRS,
            transform=from_origin(WEST + CELL * col, SOUTH + 200, CELL, CELL),
        ) as out:  # fmt: skip
            out.write(values, 1)
    found = [o for f in sorted(tmp_path.glob("*.tif")) for o in offers.offers_of(f)]
    (run,) = intake.plan(found)
    assert run.operation == "import-grid" and len(run.params["tiles"]) == 1 and run.params["name"] == "DTM"


@pytest.mark.parametrize(
    ("names", "places", "cells"),
    [
        (("dem_a", "dem_b"), [(0, 0), (0, 0)], (10.0, 10.0)),  # the same ground twice
        (("dem_a", "dem_b"), [(0, 0), (5, 0)], (10.0, 10.0)),  # apart
        (("dem_a", "dem_b"), [(0, 0), (1, 0)], (10.0, 30.0)),  # of other cells
        (("tmi", "gravity"), [(0, 0), (1, 0)], (10.0, 10.0)),  # of other things
    ],
)
def test_what_is_no_tile_stays_a_grid_of_its_own(
    tmp_path: Path, names: tuple[str, str], places: list[tuple[int, int]], cells: tuple[float, float]
) -> None:
    for name, (col, row), cell in zip(names, places, cells, strict=True):
        ascii_tile(tmp_path / f"{name}.asc", col, row, cell=cell)
    found = [o for f in sorted(tmp_path.glob("*.asc")) for o in offers.offers_of(f)]
    assert [len(run.files) for run in intake.plan(found)] == [1, 1]


def test_a_tile_in_another_unit_is_refused(tmp_path: Path) -> None:
    one = ascii_tile(tmp_path / "a.asc", 0, 0)
    other = tmp_path / "b.tif"
    with rasterio.open(
        other, "w", driver="GTiff", width=30, height=30, count=1, dtype="float32", crs=CRS,
        transform=from_origin(WEST + 300, SOUTH + 300, CELL, CELL),
    ) as out:  # fmt: skip
        out.write(np.ones((30, 30), "float32"), 1)
        out.units = ("ft",)
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project, pytest.raises(InputError, match=r"b\.tif: the tile is in"):
        project.run("import-grid", file=str(one), tiles=[str(other)], attribute="elevation")


@pytest.mark.parametrize(
    "remark", ["# base, camp 3, sensor 12", "Base record, camp 3", "/ base camp", "Estación base: 7000123 N"]
)
@pytest.mark.parametrize(
    "body",
    [
        "Date,Time,nT\n2024-03-01,10:00:00,23400.1\n2024-03-01,10:01:00,23400.9\n",
        "Time,Reading nT\n10:00:00,23400.1\n10:01:00,23401.5\n",
    ],
)
def test_a_remark_above_a_base_record_is_no_heading(tmp_path: Path, remark: str, body: str) -> None:
    (tmp_path / "b.csv").write_text(f"{remark}\n{body}", encoding="utf-8")
    assert offers.offers_of(tmp_path / "b.csv")[0].kind == "base"
    record = read_base(str(tmp_path / "b.csv"), "auto", Findings())
    assert len(record.time) == 2 and record.field[0] == 23400.1

"""Mine grids by known points: places, heights and directions follow; what does not fit is said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import shapely

from innerlamp.api import Project
from innerlamp.core.errors import CrsError, LampError
from innerlamp.core.importing import intake
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.page import Page, checked
from innerlamp.core.items.points import PointSet
from innerlamp.core.local_grid import lines_across, local_grid
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
TURN, SCALE, EAST, NORTH, UP = np.radians(37.0), 0.9996, 456_000.0, 7_432_000.0, 2_900.0


def there(x: float, y: float) -> tuple[float, float]:
    """A mine grid whose north lies 37 degrees east of the project's: by sines and cosines, no complex numbers."""
    east = SCALE * (x * np.cos(TURN) + y * np.sin(TURN))
    north = SCALE * (-x * np.sin(TURN) + y * np.cos(TURN))
    return EAST + east, NORTH + north


def points(*places: tuple[float, float], heights: bool = True, off: float = 0.0) -> str:
    parts = []
    for k, (x, y) in enumerate(places):
        e, n = there(x, y)
        up = f" {100 + k}", f" {100 + k + UP}"
        parts.append(f"{x} {y}{up[0] if heights else ''} = {e + off * (k == 0):.4f} {n:.4f}{up[1] if heights else ''}")
    return "; ".join(parts)


THREE = points((1000, 2000), (1500, 2100), (900, 2800))


@pytest.mark.parametrize(
    "text",
    [
        THREE,
        points((1000, 2000), (1500, 2100)),
        THREE.replace(" ", ",").replace(",=,", "=").replace(";,", ";"),
    ],
)
def test_known_points_give_shift_turn_scale_and_heights(text: str) -> None:
    grid = local_grid(text)
    x, y = grid.to_project(np.array([0.0, 3000.0]), np.array([100.0, -500.0]))
    assert (x[0], y[0]) == pytest.approx(there(0, 100), abs=0.002) and (x[1], y[1]) == pytest.approx(
        there(3000, -500), abs=0.01
    )
    assert grid.azimuth == pytest.approx(37.0, abs=1e-4) and grid.scale == pytest.approx(SCALE, abs=1e-6)
    assert grid.up == pytest.approx(UP) and not grid.doubtful


@pytest.mark.parametrize(
    "text", ["1 2 = 3 4", "1 2 = 3 4; 1 2 = 3 4", "1 2 = 3; 5 6 = 7 8", "a b = c d; 1 2 = 3 4", "=", "1,2=3,4;;x"]
)
def test_points_that_give_no_grid_are_refused(text: str) -> None:
    with pytest.raises(CrsError):
        local_grid(text)


def test_holes_and_structures_of_a_mine_grid_lie_and_point_right(tmp_path: Path) -> None:
    (tmp_path / "collar.csv").write_text(
        "HoleID,East,North,RL,Depth,Azimuth,Dip\nA,1200,2300,150,100,0,0\nB,1250,2300,150,100,90,0\n"
    )
    (tmp_path / "planes.csv").write_text("East,North,RL,Dip direction,Dip\n1200,2300,150,10,60\n")
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        project.bring([tmp_path / "collar.csv", tmp_path / "planes.csv"], intake.Choices(coordinates=THREE))
        holes = next(project.store.load(e.id) for e in project.items if e.kind == "holes")
        planes = next(project.store.load(e.id) for e in project.items if e.kind == "points")
    assert isinstance(holes, HoleSet) and isinstance(planes, PointSet)
    assert holes.collars[["x", "y"]].to_numpy() == pytest.approx(
        np.array([there(1200, 2300), there(1250, 2300)]), abs=0.01
    )
    assert holes.collars["z"].tolist() == pytest.approx([150 + UP] * 2)
    assert holes.surveys["azimuth"].tolist() == pytest.approx([37.0, 127.0], abs=0.001)
    # A hole towards local north must run to where the known points say that local north is (but for the scale).
    last = holes.stations[holes.stations["hole"] == "A"].iloc[-1]
    assert (last.x, last.y) == pytest.approx(there(1200, 2300 + 100 / SCALE), abs=0.02)
    assert planes.table["dip direction"].item() == pytest.approx(47.0, abs=0.001)
    assert planes.table["z"].item() == pytest.approx(150 + UP)
    told = holes.findings[holes.findings["what"] == "coordinates are in a local grid"]
    assert told["severity"].tolist() == ["note"] and "turned 37.000°" in told["done"].item()


def test_points_that_do_not_fit_each_other_are_said(tmp_path: Path) -> None:
    (tmp_path / "collar.csv").write_text("HoleID,East,North,RL,Depth\nA,1200,2300,150,100\n")
    Store.create(tmp_path / "p.lamp", CRS).close()
    odd = points((1000, 2000), (1500, 2100), (900, 2800), off=25.0)
    with Project.open(tmp_path / "p.lamp") as project:
        project.bring([tmp_path / "collar.csv"], intake.Choices(coordinates=odd))
        holes = next(project.store.load(e.id) for e in project.items if e.kind == "holes")
    assert isinstance(holes, HoleSet)
    told = holes.findings[holes.findings["what"] == "coordinates are in a local grid"]
    assert told["severity"].tolist() == ["look"] and "largest residual" in told["done"].item()


def test_directions_follow_a_turned_projection(tmp_path: Path) -> None:
    """A rotated PROJ text: azimuths from its north, against the way from a place to one a hundred metres north of it there."""
    import pyproj

    text = "+proj=omerc +lat_0=-23.2 +lonc=-69.4 +alpha=37 +gamma=0 +k=1 +x_0=5000 +y_0=5000 +datum=WGS84 +units=m"
    turned = pyproj.Transformer.from_crs(text, CRS, always_xy=True)
    (e0, n0), (e1, n1) = turned.transform(5200, 5300), turned.transform(5200, 5400)
    wanted = np.degrees(np.arctan2(e1 - e0, n1 - n0)) % 360
    (tmp_path / "collar.csv").write_text("HoleID,East,North,RL,Depth,Azimuth,Dip\nA,5200,5300,4100,100,0,-60\n")
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        project.bring([tmp_path / "collar.csv"], intake.Choices(coordinates=text))
        holes = next(project.store.load(e.id) for e in project.items if e.kind == "holes")
    assert isinstance(holes, HoleSet)
    assert (holes.collars["x"].item(), holes.collars["y"].item()) == pytest.approx((e0, n0), abs=0.01)
    assert abs((holes.surveys["azimuth"].item() - wanted + 180) % 360 - 180) < 0.002 and 20 < wanted < 340


def test_a_named_grid_is_known_to_every_import_by_its_name(tmp_path: Path) -> None:
    import geopandas as gpd
    import rasterio
    import shapely
    from rasterio.transform import from_origin

    from innerlamp.core.items.features import Features
    from innerlamp.core.items.fields import Grid
    from innerlamp.core.items.picture import Picture

    (tmp_path / "collar.csv").write_text("HoleID,East,North,RL,Depth\nA,1200,2300,150,100\n")
    box = shapely.box(1000, 2000, 1200, 2100)
    with pytest.warns(UserWarning, match="'crs' was not provided"):
        gpd.GeoDataFrame({"name": ["pit"]}, geometry=[box]).to_file(tmp_path / "pit.gpkg")
    rows = np.repeat(np.linspace(200.0, 100.0, 21)[:, None], 21, axis=1)  # falls to the south by 1 m a 2 m
    head = "ncols 21\nnrows 21\nxllcenter 1000\nyllcenter 2000\ncellsize 10\nNODATA_value -9999\n"
    (tmp_path / "dem.asc").write_text(head + "\n".join(" ".join(f"{v:g}" for v in r) for r in rows) + "\n")
    with rasterio.open(
        tmp_path / "map.tif", "w", driver="GTiff", width=40, height=30, count=3, dtype="uint8",
        transform=from_origin(1000, 2300, 10, 10),
    ) as out:  # fmt: skip
        out.write(np.full((3, 30, 40), 120, dtype=np.uint8))
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        project.run("import-holes", collar=str(tmp_path / "collar.csv"), coordinates=f"Mine grid: {THREE}")
        named = "mine GRID"
        ring = project[project.run("import-features", file=str(tmp_path / "pit.gpkg"), coordinates=named)["features"]]
        dem = project[
            project.run("import-grid", file=str(tmp_path / "dem.asc"), attribute="elevation", coordinates=named)["grid"]
        ]
        sheet = project[project.run("import-picture", file=str(tmp_path / "map.tif"), coordinates=named)["picture"]]
        step = project.store.entries()[-1].chain[0]
        with pytest.raises(LampError, match="Other grid"):
            project.run("import-features", file=str(tmp_path / "pit.gpkg"), coordinates="Other grid")
    assert step.params["coordinates"] == f"Mine grid: {THREE}"  # the recipe says all that it needs
    assert isinstance(ring, Features) and isinstance(dem, Grid) and isinstance(sheet, Picture)
    corners = {tuple(np.round(there(x, y), 1)) for x in (1000, 1200) for y in (2000, 2100)}
    assert {tuple(np.round(v, 1)) for v in ring.vertices[:, :2]} == corners
    e, n = there(1100.0, 2100.0)
    col, row = (e - dem.x0) / dem.dx, (n - dem.y0) / dem.dy
    assert dem.values[round(row), round(col)] == pytest.approx(150 + UP, abs=0.5 * dem.dx)
    a, b, c, d, e2, f = sheet.affine
    for x, y in ((0, 0), (40, 30)):
        assert (a * x + b * y + c, d * x + e2 * y + f) == pytest.approx(there(1000 + 10 * x, 2300 - 10 * y), abs=0.01)


def test_places_come_back_from_the_project() -> None:
    grid = local_grid(f"Camp: {THREE}")
    x, y = np.array([1234.5, -700.0]), np.array([2222.0, 15_000.0])
    assert np.array(grid.to_local(*grid.to_project(x, y))) == pytest.approx(np.array([x, y]), abs=1e-6)


def test_lines_of_a_turned_grid_are_cut_off_at_the_map() -> None:
    """Against shapely: each line is the intersection of the rectangle with the line through two places far outside."""
    grid = local_grid(f"Camp: {THREE}")
    (e,), (n,) = grid.to_project(np.array([1500.0]), np.array([2500.0]))
    ground = (e - 700.0, e + 900.0, n - 300.0, n + 500.0)
    box = shapely.box(ground[0], ground[2], ground[1], ground[3])
    lines = lines_across(grid, ground, 250.0)
    found = {(line.along, line.value): line.ends for line in lines}
    for k in range(-40, 60):
        v = 250.0 * k
        for along, ends in (("E", ([v, v], [-9e3, 9e3])), ("N", ([-9e3, 9e3], [v, v]))):
            x, y = grid.to_project(*np.array(ends))
            part = shapely.LineString(np.column_stack([x, y])).intersection(box)
            assert ((along, v) in found) == (part.length > 1e-6)
            if part.length > 1e-6:
                mine = shapely.LineString(np.array(found[along, v]).reshape(2, 2))
                assert mine.hausdorff_distance(part) < 1e-4
    assert lines_across(grid, ground, 1.0) == []  # too many to be of use


def test_a_page_stands_in_a_mine_grid(tmp_path: Path) -> None:
    """Ends, azimuth and heights of its sections are those of the mine; what is no local grid is told."""
    grid = local_grid(THREE)
    (tmp_path / "collar.csv").write_text("HoleID,East,North,RL,Depth\nA,1100,2200,150,100\nB,1300,2200,150,100\n")
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        holes = project.run(
            "import-holes", collar=str(tmp_path / "collar.csv"), coordinates=f"Mine grid: {THREE}", name="H"
        )["holes"]
        page = project[
            project.run("make-page", around=holes, coordinates="mine grid", section="1000 2200; 1400 2200")["page"]
        ]
        sheets = project[
            project.run(
                "section-pages", around=holes, coordinates="Mine grid", azimuth=90.0, lowest=0.0, highest=200.0
            )["page"]
        ]
        with pytest.raises(LampError, match="'EPSG:4326' is no local grid"):
            project.run("make-page", around=holes, coordinates="EPSG:4326")
    assert isinstance(page, Page) and isinstance(sheets, Page)
    section = next(e for e in page.layout if e.kind == "section")
    assert section.line == pytest.approx((*there(1000, 2200), *there(1400, 2200)), abs=0.01)
    assert {e.local for e in page.layout if e.kind in ("map", "section")} == {grid}
    title = next(e for e in page.layout if e.kind == "title")
    assert title.fields["Grid"].startswith("Mine grid, turned")
    across = next(e for e in sheets.layout if e.kind == "section")
    assert across.elevation == pytest.approx(100.0 + UP, abs=1e-6)
    assert across.line is not None
    east, north = grid.to_local(np.array(across.line[::2]), np.array(across.line[1::2]))
    assert north[1] - north[0] == pytest.approx(0.0, abs=0.01) and east[1] > east[0]  # along the mine's east
    with pytest.raises(LampError, match="no known point"):
        checked([{"kind": "map", "x": 0, "y": 0, "w": 9, "h": 9, "system": "x = y"}])

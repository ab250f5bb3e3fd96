"""Inverting surveys through the declared operations: at 4,000 m in the south, from lines, points and grids, and what is refused."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.potential import fields, prisms
from innerlamp.core.compute.potential.bodies import dice
from innerlamp.core.compute.potential.mainfield import main_field
from innerlamp.core.crs import grid_convergence, to_lonlat
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import BlockModel, Grid
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"
WEST, SOUTH = 402_000.0, 7_502_000.0
BODY = np.array([WEST + 800.0, SOUTH + 700.0, 3850.0])
SIDE = 200.0  # of a cube


def ground(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Relief of 900 m."""
    return 4300.0 + 450.0 * np.sin((x - WEST) / 500.0 - 1.0) * np.cos((y - SOUTH) / 600.0)


def cube() -> TensorMesh:
    corner = BODY - SIDE / 2
    return TensorMesh.even(tuple(corner), (SIDE, SIDE, SIDE), (1, 1, 1))


@pytest.fixture
def lamp(tmp_path: Path) -> Iterator[Project]:
    with Project.create(tmp_path / "south.lamp", CRS) as project:
        x, y = WEST - 100 + 20.0 * np.arange(95), SOUTH - 100 + 20.0 * np.arange(85)
        heights = ground(*np.meshgrid(x, y))
        corner: dict[str, Any] = {"crs": CRS, "dx": 20.0, "dy": 20.0, "x0": x[0], "y0": y[0]}
        project.store.put(
            Grid(
                name="Ground",
                values=heights,
                attribute="elevation",
                unit="m",
                quantities={"elevation": "elevation"},
                **corner,
            )
        )
        rng = np.random.default_rng(0)
        lines = pd.DataFrame(
            {"line": np.repeat([f"L{k}" for k in range(15)], 80), "x": np.tile(WEST + 20.0 * np.arange(80), 15)}
        )
        lines["y"] = SOUTH + 100.0 * np.repeat(np.arange(15), 80)
        lines["z"] = ground(lines["x"].to_numpy(), lines["y"].to_numpy()) + 60.0
        obs = lines[["x", "y", "z"]].to_numpy(float)
        lon, lat = to_lonlat(CRS, *BODY[:2])
        field = main_field(float(lon), float(lat), 4300.0, "2023-06-01")
        assert field.inclination < 0  # the south
        kind = fields.total_field(
            field.inclination, field.declination - grid_convergence(CRS, *BODY[:2]), field.intensity
        )
        values = prisms.kernel_matrix(cube(), obs, kind)[:, 0] * 0.08
        lines["TMI_nT"] = values + 3.0 + 0.002 * (lines["x"] - WEST) + rng.normal(0, 0.5, len(lines))
        project.store.put(SurveyLines(name="Flights", crs=CRS, table=lines, units={"TMI_nT": "nT"}, date="2023-06-01"))
        at = np.column_stack([WEST + rng.uniform(0, 1600, 350), SOUTH + rng.uniform(0, 1400, 350)])
        z = ground(*at.T)
        pull = prisms.gravity_kernel(cube(), np.column_stack([at, z + 0.5]))[:, 0] * 600.0
        stations = pd.DataFrame({"x": at[:, 0], "y": at[:, 1], "z": z, "Bouguer_mGal": pull + rng.normal(0, 0.01, 350)})
        project.store.put(
            PointSet(name="Stations", crs=CRS, table=stations, units={"Bouguer_mGal": "mGal"}, content="stations")
        )
        yield project


def middle(model: BlockModel, name: str) -> np.ndarray:
    values = model.properties[name].ravel()
    strong = np.where(values > 0.5 * np.nanmax(values), np.nan_to_num(values), 0.0)
    return np.asarray(np.average(model.mesh.centres(), axis=0, weights=strong))


CELLS = {"cell": 80.0, "cell_z": 50.0, "depth": 500.0, "growth": 1.15}


def test_a_body_below_900_m_of_relief_is_found_from_lines(lamp: Project) -> None:
    made = lamp.run("invert-magnetics", lines="Flights", ground="Ground", attribute="TMI_nT", noise=0.5, **CELLS)
    model, fit = lamp[made["model"]], lamp[made["fit"]]
    assert isinstance(model, BlockModel) and isinstance(fit, SurveyLines)
    found = middle(model, "susceptibility")
    assert np.hypot(*(found - BODY)[:2]) < 60.0
    assert abs(found[2] - BODY[2]) < 130.0
    table = fit.table
    assert np.mean(table["normalised_residual"] ** 2) == pytest.approx(1.0, abs=0.1)
    assert (table["observed"] - table["predicted"]).tolist() == pytest.approx(table["residual"].tolist())
    # The regional is what was put in, as far as a plane can tell it from the body's own.
    slope = np.polyfit(table["x"] - WEST, table["regional"], 1)[0]
    assert slope == pytest.approx(0.002, abs=0.001)
    sensitivity = model.properties["sensitivity"]
    assert np.nanmax(sensitivity) == pytest.approx(100.0)
    deep = model.mesh.centres()[:, 2].reshape(model.mesh.shape) < 3700
    assert np.nanmedian(sensitivity[deep]) < 0.5 * np.nanmedian(sensitivity)
    # No sensor lies in a cell.
    obs = table[["x", "y", "z"]].to_numpy(float)
    inside = model.mesh.values_at(model.properties["susceptibility"], *obs.T)
    assert np.isnan(inside).all()


@pytest.mark.parametrize("choice", ["one direction, to be found", "any direction"])
def test_magnetisation_of_another_direction_is_inverted_to_its_end(lamp: Project, choice: str) -> None:
    """A body magnetised straight down, where the main field points up at 20 degrees or so."""
    entry = next(e for e in lamp.items if e.name == "Flights")
    item = lamp[entry.id]
    assert isinstance(item, SurveyLines)
    lon, lat = to_lonlat(CRS, *BODY[:2])
    field = main_field(float(lon), float(lat), 4300.0, "2023-06-01")
    kinds = fields.magnetisation_fields(
        field.inclination, field.declination - grid_convergence(CRS, *BODY[:2]), field.intensity
    )
    table = item.table.iloc[::4].copy()
    down = prisms.kernel_matrix(cube(), table[["x", "y", "z"]].to_numpy(float), kinds[2])[:, 0] * -0.08
    table["TMI_nT"] = down + np.random.default_rng(1).normal(0, 0.5, len(table))
    lamp.store.put(SurveyLines(name="Old lava", crs=CRS, table=table, units={"TMI_nT": "nT"}, date="2023-06-01"))
    made = lamp.run(
        "invert-magnetics", lines="Old lava", ground="Ground", attribute="TMI_nT", noise=0.5, magnetisation=choice,
        cell=100.0, cell_z=70.0, depth=500.0, growth=1.2, iterations=15,
    )  # fmt: skip
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    strength = model.properties["magnetisation"]
    inside = np.isfinite(strength)
    assert inside.sum() == np.isfinite(model.properties["sensitivity"]).sum() > 1000
    assert np.nanmax(model.properties["sensitivity"]) == pytest.approx(100.0)
    assert np.hypot(*(middle(model, "magnetisation") - BODY)[:2]) < SIDE
    table = lamp[made["fit"]].table  # type: ignore[attr-defined]
    assert np.mean(table["normalised_residual"] ** 2) == pytest.approx(1.0, abs=0.1)
    # It points down, as the body does, and not up as the field; how steeply is hard to tell through 900 m of relief.
    inclination = np.radians(model.properties["inclination"][inside])
    down_part = float((strength[inside] * np.sin(inclination)).sum() / strength[inside].sum())
    assert down_part > (0.4 if choice.startswith("one") else 0.05)


def test_layers_parallel_to_the_ground_keep_their_thickness(lamp: Project) -> None:
    made = lamp.run(
        "invert-magnetics", lines="Flights", ground="Ground", attribute="TMI_nT", noise=0.5,
        layers="parallel to the ground", **CELLS | {"depth": 800.0},
    )  # fmt: skip
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    thickness = model.mesh.thickness  # type: ignore[attr-defined]
    assert np.ptp(thickness, axis=(0, 1)).max() == 0.0 and thickness[0, 0, -1] == 50.0
    assert thickness[0, 0, 0] == pytest.approx(50.0 * 1.15 ** (thickness.shape[2] - 1))
    found = middle(model, "susceptibility")
    assert np.hypot(*(found - BODY)[:2]) < 60.0 and abs(found[2] - BODY[2]) < 150.0


def test_gravity_stations_on_the_ground_give_the_mass_below(lamp: Project) -> None:
    made = lamp.run(
        "invert-gravity", stations="Stations", ground="Ground", attribute="Bouguer_mGal", noise=0.01, relative=0.0,
        trend="none", lower=0.0, **CELLS,
    )  # fmt: skip
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    density = np.nan_to_num(model.properties["density_contrast"].ravel())
    assert model.units["density_contrast"] == "g/cm³"
    mass = float((density * 1000.0 * model.mesh.volumes()).sum())
    assert mass == pytest.approx(600.0 * SIDE**3, rel=0.12)  # a survey only three depths wide
    assert np.hypot(*(middle(model, "density_contrast") - BODY)[:2]) < 60.0


def test_a_grid_is_inverted_at_a_height_above_ground_inside_of_an_area(lamp: Project) -> None:
    flights = lamp["Flights"]
    assert isinstance(flights, SurveyLines)
    gridded = lamp.run("grid-minimum-curvature", samples="Flights", attribute="TMI_nT", cell=50)["grid"]
    area = lamp.run(
        "draw-feature", points=f"{WEST + 200} {SOUTH + 100}; {WEST + 1500} {SOUTH + 100}; {WEST + 1400} {SOUTH + 1300}; {WEST + 200} {SOUTH + 1300}", value="A",
    )["features"]  # fmt: skip
    assert isinstance(lamp[area], Features)
    made = lamp.run(
        "invert-magnetics", lines=gridded, ground="Ground", area=area, heights="above ground", height=60.0, date="2023",
        noise=1.0, **CELLS,
    )  # fmt: skip
    fit = lamp[made["fit"]]
    assert isinstance(fit, SurveyLines)
    table = fit.table
    assert table["x"].min() >= WEST + 200 and table["y"].max() <= SOUTH + 1300
    over = table["z"] - ground(table["x"].to_numpy(), table["y"].to_numpy())
    assert np.abs(over - 60.0).max() < 3.0
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    assert np.hypot(*(middle(model, "susceptibility") - BODY)[:2]) < 80.0


def test_flat_ground_and_one_elevation_need_no_grid(lamp: Project) -> None:
    rows = lamp["Flights"].table.assign(z=np.nan)  # type: ignore[attr-defined]
    lamp.store.put(SurveyLines(name="Without", crs=CRS, table=rows, units={"TMI_nT": "nT"}))
    with pytest.raises(InputError, match="no elevations"):
        lamp.run("invert-magnetics", lines="Without", attribute="TMI_nT", flat=4300, date="2023", **CELLS)
    made = lamp.run(
        "invert-magnetics", lines="Without", attribute="TMI_nT", heights="one elevation", height=4800, flat=4300,
        date="2023", noise=0.5, each=2, thinning="nearest to the middle", spacing=160, **CELLS,
    )  # fmt: skip
    fit = lamp[made["fit"]]
    assert set(fit.table["z"]) == {4800.0}  # type: ignore[attr-defined]


def test_a_model_of_before_is_a_start_or_a_reference(lamp: Project) -> None:
    base: dict[str, Any] = {"lines": "Flights", "ground": "Ground", "attribute": "TMI_nT", "noise": 0.5, **CELLS}
    first = lamp.run("invert-magnetics", **base, iterations=2)["model"]
    whole = lamp.run("invert-magnetics", **base, start=first, role_of_known="start")
    fit = lamp[whole["fit"]]
    assert np.mean(fit.table["normalised_residual"] ** 2) == pytest.approx(1.0, abs=0.1)  # type: ignore[attr-defined]
    flat = lamp[first]
    assert isinstance(flat, BlockModel)
    known = {"susceptibility": np.where(np.isfinite(flat.properties["susceptibility"]), 0.004, np.nan)}
    reference = lamp.store.put(
        BlockModel(name="Known", crs=CRS, mesh=flat.mesh, properties=known, units={"susceptibility": "SI"})
    )
    drawn = lamp[lamp.run("invert-magnetics", **base, start=reference, trust=50.0)["model"]]
    assert isinstance(drawn, BlockModel)
    assert np.nanmedian(drawn.properties["susceptibility"]) == pytest.approx(0.004, rel=0.3)
    with pytest.raises(LampError, match="no attribute 'density'"):
        lamp.run("invert-magnetics", **base, start=reference, known="density")


def test_measurements_in_a_hole_hold_the_model_around_it(lamp: Project, tmp_path: Path) -> None:
    # A hole beside the body that measured 0.02 SI all along, where the readings see next to nothing.
    x, y = WEST + 300.0, SOUTH + 1100.0
    top = float(ground(np.array([x]), np.array([y]))[0])
    (tmp_path / "collars.csv").write_text(f"HOLE,EAST,NORTH,ELEV,DEPTH\nA,{x},{y},{top},200\n", encoding="ascii")
    rows = "".join(f"A,{d},{d + 2},20\n" for d in range(0, 200, 2))
    (tmp_path / "assays.csv").write_text(f"HOLE,FROM,TO,Susceptibility (10^-3 SI)\n{rows}", encoding="ascii")
    (tmp_path / "surveys.csv").write_text("HOLE,DEPTH,AZIMUTH,DIP\nA,0,0,-90\n", encoding="ascii")
    files = {"collar": "collars", "survey": "surveys", "assay": "assays"}
    holes = lamp.run("import-holes", name="Holes", **{k: str(tmp_path / f"{v}.csv") for k, v in files.items()})["holes"]
    measured = next(n for n, a in lamp[holes].attributes.items() if a.quantity == "susceptibility")
    asked = {"lines": "Flights", "ground": "Ground", "attribute": "TMI_nT", "noise": 0.5, **CELLS}
    models = [
        lamp[lamp.run("invert-magnetics", **asked, **more)["model"]]
        for more in ({}, {"holes": holes, "measured": measured, "hole_reach": 60.0})
    ]
    around = []
    for model in models:
        assert isinstance(model, BlockModel)
        along = np.column_stack([np.full(8, x), np.full(8, y), top - np.linspace(20, 180, 8)])
        around.append(float(np.nanmean(model.mesh.values_at(model.properties["susceptibility"], *along.T))))
    assert around[0] < 0.005
    assert around[1] == pytest.approx(0.02, rel=0.25)
    with pytest.raises(LampError, match="no measured property"):
        lamp.run("invert-magnetics", **asked, holes=holes)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"date": ""}, "date of the survey is not known"),
        ({"ground": None}, "neither a ground surface nor"),
        ({"attribute": ""}, "no reading is chosen"),
        ({"attribute": "same"}, "all readings are the same"),
        ({"attribute": "none"}, "0 readings have a value"),
        ({"lines": "Degrees"}, "metres, not degrees"),
        ({"lines": "Low"}, "lie below the ground surface, by up to"),
        ({"area": "Elsewhere"}, "no reading lies in the area"),
        ({"heights": "a grid"}, "no grid of sensor elevations"),
        ({"heights": "above ground"}, "without a height"),
        ({"heights": "above ground", "height": -5}, "can't be negative"),
        ({"lines": "Stations"}, "does not fit the input 'lines'"),
        ({"lower": 0.2, "upper": 0.1}, "bounds leave no room"),
        ({"cell": 0.01}, "Take larger cells"),
        ({"noise": 1e6}, "within the noise"),
    ],
)  # fmt: skip
def test_what_can_not_be_inverted_is_said_and_leaves_the_project_as_it_was(
    lamp: Project, change: dict[str, Any], words: str
) -> None:
    flights = lamp["Flights"]
    assert isinstance(flights, SurveyLines)
    table = flights.table.assign(same=5.0, none=np.nan)
    lamp.store.put(SurveyLines(name="Undated", crs=CRS, table=table, units={"TMI_nT": "nT"}))
    lamp.store.put(SurveyLines(name="Low", crs=CRS, table=table.assign(z=table["z"] - 200), units={"TMI_nT": "nT"}))
    degrees = table.assign(x=-69.9 + 1e-6 * (table["x"] - WEST), y=-22.6)
    lamp.store.put(SurveyLines(name="Degrees", crs=CRS, table=degrees, units={"TMI_nT": "nT"}))
    lamp.run("draw-feature", points="500000 7600000; 500100 7600000; 500100 7600100", value="A", name="Elsewhere")
    before = {e.id: e.version for e in lamp.items}
    asked = {"lines": "Undated", "ground": "Ground", "attribute": "TMI_nT", "date": "2023-06-01", "noise": 0.5, **CELLS}
    with pytest.raises(LampError, match=words):
        lamp.run("invert-magnetics", **{k: v for k, v in (asked | change).items() if v is not None})
    assert {e.id: e.version for e in lamp.items} == before


def test_sizes_are_proposed_from_what_the_survey_can_show(lamp: Project) -> None:
    from innerlamp.core.operations.geophysics.cells import proposed_cells

    flights, stations, dem = lamp["Flights"], lamp["Stations"], lamp["Ground"]
    assert isinstance(dem, Grid)
    sizes = proposed_cells(flights, dem)
    assert sizes["cell"] == 50.0 and sizes["cell_z"] == 25.0  # lines 100 m apart, flown at 60 m
    assert 350.0 <= sizes["depth"] <= 500.0
    assert proposed_cells(stations, dem)["cell"] == 50.0  # about 80 m apart


def test_a_family_of_runs_says_where_they_agree(lamp: Project) -> None:
    made = lamp.run(
        "invert-magnetics", lines="Flights", ground="Ground", attribute="TMI_nT", noise=0.5, family="six runs", **CELLS
    )
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    agreement, places = model.properties["agreement"], model.mesh.centres().reshape(*model.mesh.shape, 3)
    known = np.isfinite(agreement)
    assert set(np.round(np.unique(agreement[known]) * 6 / 100, 6)) <= set(range(7))
    away = np.hypot(*(places[..., :2] - BODY[:2]).transpose(3, 0, 1, 2))
    near = known & (away < 80.0) & (np.abs(places[..., 2] - BODY[2]) < 120.0)
    assert agreement[near].mean() > 60.0
    assert agreement[known & (away > 500.0)].mean() < 5.0
    assert 0 < (agreement[known] == 100.0).sum() < 0.05 * known.sum()


def test_gravity_and_magnetics_together_give_one_body(lamp: Project) -> None:
    asked: dict[str, Any] = {
        "lines": "Flights", "stations": "Stations", "ground": "Ground", "magnetic_reading": "TMI_nT",
        "gravity_reading": "Bouguer_mGal", "magnetic_noise": 0.5, "gravity_noise": 0.01, "trend": "constant", **CELLS,
    }  # fmt: skip
    apart, both = (
        lamp.run("invert-together", **asked, coupling_weight=0),
        lamp.run("invert-together", **asked, coupling_weight=5),
    )

    def likeness(made: dict[str, str]) -> float:
        model = lamp[made["model"]]
        assert isinstance(model, BlockModel)
        a, b = model.properties["susceptibility"], model.properties["density_contrast"]
        there = np.isfinite(a)
        return float(np.corrcoef(a[there], b[there])[0, 1])

    assert likeness(both) > likeness(apart) + 0.03
    for slot in ("fit", "gravity_fit"):
        table = lamp[both[slot]].table  # type: ignore[attr-defined]
        assert np.mean(table["normalised_residual"] ** 2) == pytest.approx(1.0, abs=0.15)
    model = lamp[both["model"]]
    assert isinstance(model, BlockModel)
    for name in ("susceptibility", "density_contrast"):
        assert np.hypot(*(middle(model, name) - BODY)[:2]) < 70.0
    with pytest.raises(InputError, match="smooth, one run"):
        lamp.run("invert-together", **asked, character="compact")


def block(name: str, where: slice, value: float, shape: tuple[int, int, int] = (10, 8, 6)) -> BlockModel:
    mesh = TensorMesh.even((WEST, SOUTH, 3000.0), (20.0, 20.0, 10.0), shape)
    values = np.zeros(shape)
    values[where, 2:5, 1:4] = value
    values[9, 7, 5] = value  # one cell apart
    return BlockModel(name=name, crs=CRS, mesh=mesh, properties={"v": values}, units={"v": "SI"})


def test_bodies_where_two_models_stand_out_have_the_volume_counted_by_hand(lamp: Project) -> None:
    one, other = lamp.store.put(block("One", slice(1, 6), 0.05)), lamp.store.put(block("Other", slice(4, 8), -0.3))
    asked = {
        "first": one,
        "second": other,
        "first_property": "v",
        "second_property": "v",
        "first_from": 0.01,
        "second_from": -0.1,
    }
    made = lamp.run("coincidence", **asked)
    model, found = lamp[made["model"]], lamp[made["bodies"]]
    assert isinstance(model, BlockModel) and isinstance(found, PointSet)
    # In common: columns 4 and 5, 2 x 3 x 3 cells of 4,000 m3, and the one apart.
    assert found.table["volume"].tolist() == pytest.approx([18 * 4000 / 1e6, 4000 / 1e6])
    first = found.table.iloc[0]
    assert first[["x", "y", "z"]].tolist() == pytest.approx([WEST + 100.0, SOUTH + 70.0, 3025.0])
    assert first["mean v"] == pytest.approx(0.05) and first["mean v, second"] == pytest.approx(-0.3)
    kinds = model.properties["stands_out"]
    assert [(kinds == k).sum() for k in (1, 2, 3)] == [27, 18, 19]
    only = lamp.run("coincidence", **asked, smallest=5000)
    assert len(lamp[only["bodies"]].table) == 1  # type: ignore[attr-defined]
    with pytest.raises(LampError, match="stands out from 9"):
        lamp.run("coincidence", **asked | {"first_from": 9})
    apart = lamp.store.put(block("Apart", slice(6, 8), 0.05))
    with pytest.raises(LampError, match=r"no body|nothing stands out in both"):
        lamp.run("coincidence", **asked | {"first": apart, "second": one, "second_from": 0.01, "smallest": 5000})


def test_overlap_is_the_share_in_common() -> None:
    a, b = np.zeros((4, 1, 1), bool), np.zeros((4, 1, 1), bool)
    a[:2], b[1:] = True, True
    volumes = np.array([1.0, 2.0, 3.0, 4.0]).reshape(4, 1, 1)
    assert dice(a, b, volumes) == pytest.approx(2 * 2.0 / (3.0 + 9.0))
    assert dice(a, a, volumes) == 1.0 and dice(a, ~a, volumes) == 0.0


def test_what_a_year_alone_leaves_open_of_the_main_field_is_said(lamp: Project) -> None:
    op = OPERATIONS["invert-magnetics"]
    assert op.estimate is not None
    items = Inputs({"lines": lamp["Flights"], "ground": lamp["Ground"]}, CRS)
    words = op.estimate(items, op.check({"attribute": "TMI_nT", "date": "2023", **CELLS})).text
    lon, lat = to_lonlat(CRS, *BODY[:2])
    first, last = (main_field(float(lon), float(lat), 4300.0, f"2023-{day}") for day in ("01-01", "12-31"))
    assert f"within 2023 it changes by {abs(last.intensity - first.intensity):.0f} nT" in words
    whole = op.estimate(items, op.check({"attribute": "TMI_nT", "date": "2023-06-01", **CELLS})).text
    assert "within" not in whole and "inclination -" in whole

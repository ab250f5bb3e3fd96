"""What is known of the ground: units, cover, layering, rock classes; blocks of other dates; units forward; the regional."""

from __future__ import annotations

import dataclasses
import os
import signal
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.geometry.structural_field import normals_near
from innerlamp.core.compute.potential import fields, parts, prisms, scrutiny
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.compute.potential.mainfield import main_field
from innerlamp.core.compute.potential.roughness import Roughness, along_planes
from innerlamp.core.compute.potential.unit_fit import fit_units
from innerlamp.core.crs import grid_convergence, to_lonlat
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.operations.geophysics.solving import SolvingParams
from innerlamp.core.progress import CallbackProgress
from innerlamp.core.running import execute

CRS = "EPSG:32719"
WEST, SOUTH, TOP = 402_000.0, 7_502_000.0, 4_000.0
BODY = np.array([WEST + 500.0, SOUTH + 500.0, TOP - 150.0])
SIDE = 160.0
CELLS: dict[str, Any] = {"cell": 50.0, "cell_z": 40.0, "depth": 400.0, "flat": TOP, "noise": 0.5}


def cube(middle: np.ndarray = BODY) -> TensorMesh:
    return TensorMesh.even(tuple(middle - SIDE / 2), (SIDE, SIDE, SIDE), (1, 1, 1))


def main_at(date: str) -> tuple[float, float, float]:
    lon, lat = to_lonlat(CRS, *BODY[:2])
    field = main_field(float(lon), float(lat), TOP + 50.0, date)
    return field.inclination, field.declination - grid_convergence(CRS, *BODY[:2]), field.intensity


@pytest.fixture
def lamp(tmp_path: Path) -> Iterator[Project]:
    """Lines over a cube of 0.05 SI; total field, the northern half flown seven years after the southern one."""
    with Project.create(tmp_path / "known.lamp", CRS) as project:
        rng = np.random.default_rng(3)
        rows = pd.DataFrame({"line": np.repeat([f"{'S' if k < 11 else 'N'}{k}" for k in range(21)], 50)})
        rows["x"] = WEST + np.tile(20.0 * np.arange(50), 21)
        rows["y"] = SOUTH + 50.0 * np.repeat(np.arange(21), 50)
        rows["z"] = TOP + 50.0
        obs, north = rows[["x", "y", "z"]].to_numpy(float), rows["line"].str.startswith("N").to_numpy()
        value = np.empty(len(rows))
        for where, date in ((~north, "2016-06-01"), (north, "2023-06-01")):
            here = main_at(date)
            value[where] = prisms.kernel_matrix(cube(), obs[where], fields.total_field(*here))[:, 0] * 0.05 + here[2]
        rows["TMI_nT"] = value + rng.normal(0, 0.5, len(rows))
        project.store.put(SurveyLines(name="Flights", crs=CRS, table=rows, units={"TMI_nT": "nT"}, date="2016-06-01"))
        here = main_at("2016-06-01")
        whole = prisms.kernel_matrix(cube(), obs, fields.total_field(*here))[:, 0] * 0.05 + rng.normal(
            0, 0.5, len(rows)
        )
        anomaly = rows.drop(columns="TMI_nT").assign(anomaly=whole)
        project.store.put(
            SurveyLines(name="Anomaly", crs=CRS, table=anomaly, units={"anomaly": "nT"}, date="2016-06-01",
                        quantities={"anomaly": "magnetic field"})
        )  # fmt: skip
        yield project


def model_of(lamp: Project, **asked: Any) -> BlockModel:
    made = lamp.run("invert-magnetics", **{"lines": "Anomaly", "attribute": "anomaly", **CELLS, **asked})
    found = lamp[made["model"]]
    assert isinstance(found, BlockModel)
    return found


def test_blocks_flown_in_different_years_have_main_fields_of_their_own(lamp: Project) -> None:
    asked = {**CELLS, "lines": "Flights", "attribute": "TMI_nT", "trend": "none", "iterations": 25}
    flown = [{"lines": "N*", "date": "2023-06-01"}]
    made = lamp.run("invert-magnetics", **asked, flown=flown)
    table = lamp[made["fit"]].table  # type: ignore[attr-defined]
    assert np.mean(table["normalised_residual"] ** 2) == pytest.approx(1.0, abs=0.1)
    # By one date the other half is off by all that the field changed in between, hundreds of nT here.
    step = abs(main_at("2023-06-01")[2] - main_at("2016-06-01")[2])
    assert step > 100.0
    observed = table.groupby(table["line"].str[0])["observed"].median()
    assert abs(observed["N"] - observed["S"]) < 0.1 * step
    told = execute.estimate(
        lamp.store, "invert-magnetics", asked | {"flown": flown}, {"lines": lamp.store.find("Flights").id}
    )
    assert told is None or "2023-06-01" in told.text
    with pytest.raises(LampError, match=r"no line is called 'X\*'"):
        lamp.run("invert-magnetics", **asked, flown=[{"lines": "X*", "date": "2023"}])


def test_units_and_cover_bound_the_model_and_say_what_is_expected(lamp: Project) -> None:
    plain = model_of(lamp)
    mesh, there = plain.mesh, np.isfinite(plain.properties["susceptibility"])
    places = mesh.centres().reshape(*mesh.shape, 3)
    units = np.where(there, np.where(places[..., 0] < BODY[0], 1.0, 2.0), np.nan)
    geology = lamp.store.put(BlockModel(name="Units", crs=CRS, mesh=mesh, properties={"unit": units}))
    rows = [
        {"unit": "1", "highest": 0.004},
        {"unit": "2", "value": 0.002, "trust": 5},
        {"unit": "cover", "highest": 1e-4},
    ]
    bound = model_of(lamp, geology=geology, units=rows, cover=80)
    values = bound.properties["susceptibility"]
    cover = TOP - places[..., 2] < 80.0
    assert values[there & cover].max() <= 1e-4 + 1e-12
    west, east = (there & ~cover & (units == k) for k in (1.0, 2.0))
    assert values[west].max() <= 0.004 + 1e-12 < plain.properties["susceptibility"][west].max()
    # Where the readings see nothing the expected value stands.
    unseen = east & (places[..., 2] < TOP - 350) & (np.hypot(*(places[..., :2] - BODY[:2]).transpose(3, 0, 1, 2)) > 500)
    assert np.median(values[unseen]) == pytest.approx(0.002, rel=0.2)
    base = Grid(
        name="Base", crs=CRS, values=np.full((30, 30), TOP - 80.0), x0=WEST - 300, y0=SOUTH - 300, dx=60.0, dy=60.0,
        attribute="elevation", unit="m", quantities={"elevation": "elevation"},
    )  # fmt: skip
    again = model_of(lamp, geology=geology, units=rows, base_of_cover=lamp.store.put(base))
    assert np.nanmax(np.abs(again.properties["susceptibility"] - values)) < 1e-9
    for change, words in (
        ({"units": [{"unit": "9", "highest": 1}]}, "the unit '9' does not lie below the readings"),
        ({"units": []}, "nothing is known of them"),
        ({"units": [rows[0], rows[0]]}, "stands in the table twice"),
        ({"magnetisation": "any direction"}, "what is known of one property"),
    ):
        with pytest.raises(LampError, match=words):
            model_of(lamp, **{"geology": geology, "units": rows, "cover": 80, **change})


def test_the_measure_along_layering_is_symmetric_and_lets_change_go_across() -> None:
    mesh = TensorMesh(0.0, 0.0, np.full(9, 10.0), np.full(8, 12.0), 25.0, 0.0, np.full(7, 7.0))
    rng = np.random.default_rng(0)
    some = rng.random(mesh.shape) > 0.2
    count = int(some.sum())
    level = along_planes(np.tile([0.0, 0.0, 1.0], (count, 1)), 1.0, mesh)
    x, y = rng.normal(size=(2, count))
    # The same length in all directions is the plain measure.
    assert Roughness(mesh, some, 20.0, directions=level).apply(x) == pytest.approx(Roughness(mesh, some, 20.0).apply(x))
    normals = rng.normal(size=(count, 3))
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    whole = Roughness(mesh, some, 20.0, directions=along_planes(normals, 4.0, mesh))
    assert x @ whole.apply(y) == pytest.approx(y @ whole.apply(x)) and x @ whole.apply(x) > 0
    # Closed form: the integral of g'Tg of a linear function, per cell, on inner cells of an even mesh.
    n = np.array([np.sin(0.6) * np.sin(0.3), np.sin(0.6) * np.cos(0.3), np.cos(0.6)])
    every = np.ones(mesh.shape, bool)
    tilted = Roughness(
        mesh, every, 20.0, size=np.zeros(mesh.size), directions=along_planes(np.tile(n, (mesh.size, 1)), 4.0, mesh)
    )
    inner = np.zeros(mesh.shape, bool)
    inner[1:-1, 1:-1, 1:-1] = True
    bump = np.where(inner, rng.random(mesh.shape), 0.0).ravel()
    along = np.cross(n, [0.0, 0.0, 1.0]) / np.linalg.norm(np.cross(n, [0.0, 0.0, 1.0]))
    places = mesh.centres()
    for way, square in ((n, 20.0**2), (along, (4.0 * 20.0) ** 2)):
        # The second derivative of a quadratic along a direction: x'Q bump = -square * 2 * sum(bump).
        assert bump @ tilted.apply((places @ way) ** 2) == pytest.approx(-2.0 * square * bump.sum(), rel=1e-6)


def test_the_way_of_layering_near_readings_has_no_sense() -> None:
    at = np.array([[0.0, 0.0, 0.0], [10.0, 0.0, 0.0], [500.0, 0.0, 0.0]])
    plane = np.array([np.sin(0.5), 0.0, np.cos(0.5)])
    normals, share = normals_near(
        np.array([[5.0, 0.0, 0.0], [250.0, 0.0, 0.0]]), at, np.array([plane, -plane, [0.0, 1.0, 0.0]]), 50.0
    )
    assert abs(normals[0] @ plane) == pytest.approx(1.0) and share[0] == pytest.approx(1.0)
    assert share[1] == 0.0


def test_a_model_is_drawn_to_rock_classes_and_still_fits(lamp: Project) -> None:
    plain = model_of(lamp)
    drawn = model_of(lamp, classes=[{"value": 0.0}, {"value": 0.05}], pull=30)

    def mixed(model: BlockModel) -> float:
        values = model.properties["susceptibility"]
        return float(np.mean((values > 0.008) & (values < 0.042)))

    assert mixed(drawn) < 0.5 * mixed(plain)
    strong = drawn.properties["susceptibility"] > 0.03
    volume = float(drawn.mesh.volumes().reshape(drawn.mesh.shape)[strong].sum())
    assert volume == pytest.approx(SIDE**3, rel=0.5)
    middle = drawn.mesh.centres()[strong.ravel()].mean(axis=0)
    assert np.abs(middle - BODY).max() < 50.0
    with pytest.raises(LampError, match="two classes"):
        model_of(lamp, classes=[{"value": 0.05}])


def test_a_dip_makes_the_model_smooth_along_it(lamp: Project) -> None:
    def lean(model: BlockModel) -> float:
        # How far deep parts of the body lie east of shallow ones.
        values, places = np.nan_to_num(model.properties["susceptibility"].ravel()), model.mesh.centres()
        strong = values > 0.25 * values.max()
        return float(np.cov(places[strong, 0], places[strong, 2], aweights=values[strong])[0, 1])

    east = model_of(lamp, dip=50, dip_direction=90, stretch=6)
    west = model_of(lamp, dip=50, dip_direction=270, stretch=6)
    assert lean(east) < 0 < lean(west)  # down to the east: lower where farther east
    readings = pd.DataFrame({"x": BODY[0], "y": BODY[1], "z": [TOP, TOP - 10], "dip": 50.0, "dip direction": 90.0})
    stops = PointSet(
        name="Stops", crs=CRS, table=readings, units={"dip": "°", "dip direction": "°"},
        quantities={"dip": "dip", "dip direction": "direction"},
    )  # fmt: skip
    near = model_of(lamp, structures=lamp.store.put(stops), structure_reach=2000, stretch=6)
    assert np.nanmax(np.abs(near.properties["susceptibility"] - east.properties["susceptibility"])) < 0.01
    with pytest.raises(LampError, match="together or not at all"):
        model_of(lamp, dip=50)


def test_parts_held_by_processes_or_a_cluster_give_the_same_and_a_killed_worker_costs_its_part() -> None:
    rng = np.random.default_rng(0)
    mesh = TensorMesh.even((0, 0, 0), (25, 25, 25), (14, 12, 8))
    obs = np.column_stack([rng.uniform(0, 350, 90), rng.uniform(0, 300, 90), 210 + 50 * rng.random(90)])
    active, kinds = np.ones(mesh.size, bool), [fields.total_field(60, 3, 50_000)]
    x, d = rng.random(mesh.size), rng.random(90)
    whole = Lattice(mesh, obs, kinds, active)
    pieces = parts.parts_of(mesh, obs, kinds, active, 2)
    with parts.Parted(pieces) as kernel:
        there, back = kernel.apply(x), kernel.transposed(d)
        assert np.abs(there - whole.apply(x)).max() < 1e-6 * np.abs(there).max()
        assert np.abs(back - whole.transposed(d)).max() < 1e-6 * np.abs(back).max()
        assert isinstance(kernel.workers, parts.Processes)
        before = kernel.workers.pids
        os.kill(before[1], signal.SIGKILL)
        assert (kernel.apply(x) == there).all()
        after = kernel.workers.pids
        assert after[0] == before[0] and after[1] != before[1]
    from dask.distributed import LocalCluster

    with (
        LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,  # type: ignore[no-untyped-call]
        parts.Parted(pieces, lambda p: parts.Cluster(p, cluster.scheduler_address)) as kernel,
    ):
        assert np.abs(kernel.apply(x) - there).max() < 1e-6 * np.abs(there).max()
        assert np.allclose(kernel.column_norms(), whole.column_norms(), rtol=1e-4)
        with pytest.raises(InputError, match=r"stopped .*Error"):  # a model of another length
            kernel.apply(x[:-1])
        os.kill(next(iter(cluster.workers.values())).pid, signal.SIGKILL)
        assert np.abs(kernel.transposed(d) - back).max() < 1e-6 * np.abs(back).max()
    with pytest.raises(InputError, match="no cluster answers there"):
        parts.Cluster([], "tcp://127.0.0.1:9")
    for elsewhere in (
        "tcp://203.0.113.7:8786",
        "203.0.113.7:8786",
        "tcp://[2001:db8::1]:8786",
        "ws://localhost.example:1",
    ):
        with pytest.raises(InputError, match="by TLS only"):
            parts.Cluster([], elsewhere)


class Pickled:
    """What opens a file where it is unpickled."""

    def __init__(self, mark: str) -> None:
        self.mark = mark

    def __reduce__(self) -> tuple[object, ...]:
        return open, (self.mark, "w")


ASKED: dict[str, str] = {}


def odd_answer(*_: object) -> object:
    """What a worker that means harm, or has another version, might answer."""
    kinds: dict[str, object] = {"short": b"12345678", "nan": np.full(6, np.nan).tobytes(), "list": [1.0] * 6}
    return kinds.get(ASKED["kind"]) or Pickled(ASKED["mark"])


@pytest.mark.parametrize("answer", ["pickle", "short", "nan", "list"])
def test_what_a_worker_of_a_cluster_answers_is_never_unpickled_and_checked(
    answer: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from dask.distributed import LocalCluster

    mesh = TensorMesh.even((0, 0, 0), (25, 25, 25), (4, 4, 3))
    obs = np.column_stack([np.arange(6) * 10.0, np.zeros(6), np.full(6, 100.0)])
    pieces = parts.parts_of(mesh, obs, [fields.vertical_gravity()], np.ones(mesh.size, bool), 1)
    mark = tmp_path / "RAN"
    ASKED.update(kind=answer, mark=str(mark))
    monkeypatch.setattr(parts, "packed", odd_answer)
    with (
        LocalCluster(n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None) as cluster,  # type: ignore[no-untyped-call]
        pytest.raises(InputError, match="answers something"),
    ):
        workers = parts.Cluster([p for _, p in pieces], cluster.scheduler_address)
        try:
            workers.ask("apply", [np.ones(mesh.size)])
        finally:
            workers.close()
    assert not mark.exists()


def test_an_inversion_in_parts_is_the_inversion(lamp: Project) -> None:
    one, two = model_of(lamp, iterations=3), model_of(lamp, iterations=3, parts=2)
    values = one.properties["susceptibility"]
    assert np.nanmax(np.abs(two.properties["susceptibility"] - values)) < 1e-4 * np.nanmax(values)


def test_spikes_jumps_levels_repeats_and_crossings_are_told_from_readings() -> None:
    rng = np.random.default_rng(1)
    line, x = np.repeat(np.arange(12), 60), np.tile(10.0 * np.arange(60), 12)
    y = 100.0 * line.astype(float)
    smooth = 200.0 * np.exp(-((x - 300) ** 2 + (y - 500) ** 2) / 60.0**2) + 0.1 * x
    values = smooth + rng.normal(0, 0.5, len(x)) + 6.0 * (line == 7)
    values[[130, 400]] += [60.0, -45.0]
    assert scrutiny.spikes(values, line).tolist() == [130, 400]
    lines, shifts = scrutiny.level_shifts(x, y, values, line)
    assert lines.tolist() == [7] and shifts[0] == pytest.approx(6.0, abs=1.0)
    z = np.full(len(x), 80.0)
    z[200:] += 35.0
    assert scrutiny.jumps(x, y, z, line).tolist() == [200]
    # Noise of 0.3 in readings of one place, and where lines cross, is that of one reading.
    places = np.repeat(rng.uniform(0, 1000, (200, 2)), 3, axis=0)
    twice = np.repeat(rng.normal(0, 50, 200), 3) + rng.normal(0, 0.3, 600)
    sigma, count = scrutiny.noise_of_repeats(*places.T, twice)
    assert sigma == pytest.approx(0.3, rel=0.1) and count == 400
    cross, along = np.repeat(np.arange(20), 200), np.tile(np.linspace(0, 995, 200), 20)
    a = np.concatenate([along, 25.0 + 50.0 * cross])
    b = np.concatenate([25.0 + 50.0 * cross, along])
    read = 0.02 * a + 0.01 * b + rng.normal(0, 0.3, len(a))
    sigma, count = scrutiny.noise_of_crossings(a, b, read, np.concatenate([cross, 100 + cross]))
    # Between two readings their noise is averaged: at most a third less.
    assert 0.2 < sigma < 0.33 and count == 400
    with pytest.raises(InputError, match="lines cross 0 times"):
        scrutiny.noise_of_crossings(x, y, values, line)
    with pytest.raises(InputError, match="0 readings repeat"):
        scrutiny.noise_of_repeats(x, y, values)


def test_what_a_look_finds_is_said_before_the_run_and_spikes_are_left_out(lamp: Project) -> None:
    item = lamp["Anomaly"]
    assert isinstance(item, SurveyLines)
    table = item.table.copy()
    table.loc[333, "anomaly"] += 400.0
    spiked = lamp.store.put(dataclasses.replace(item, name="Spiked", table=table))
    told = execute.estimate(lamp.store, "invert-magnetics", {**CELLS, "attribute": "anomaly"}, {"lines": spiked})
    assert told is not None and told.sketch is not None
    assert "1 spikes on lines S6 are left out" in told.notes
    kept = model_of(lamp, lines=spiked, cell=40.0, spacing=20.0)
    assert np.nanmax(kept.properties["susceptibility"]) < 0.08


def test_a_body_outside_of_the_area_is_taken_off_by_a_wider_inversion(lamp: Project) -> None:
    item = lamp["Anomaly"]
    assert isinstance(item, SurveyLines)
    obs = item.table[["x", "y", "z"]].to_numpy(float)
    aside = cube(BODY + np.array([420.0, 0.0, 0.0]))
    more = prisms.kernel_matrix(aside, obs, fields.total_field(*main_at("2016-06-01")))[:, 0] * 0.15
    both = dataclasses.replace(item, name="Both", table=item.table.assign(anomaly=item.table["anomaly"] + more))
    corners = "; ".join(f"{WEST + e} {SOUTH + n}" for e, n in ((200, 200), (700, 200), (700, 800), (200, 800)))
    area = lamp.run("draw-feature", points=corners, value="A")["features"]
    asked = {"survey": lamp.store.put(both), "attribute": "anomaly", "area": area, **CELLS}
    asked.pop("noise")
    made = lamp.run("regional-of-survey", **asked)
    table = lamp[made["regional"]].table  # type: ignore[attr-defined]
    assert (table["observed"] - table["regional"]).tolist() == pytest.approx(table["residual"].tolist())
    true = pd.Series(more, index=pd.MultiIndex.from_arrays(obs[:, :2].T)).loc[
        list(zip(table["x"], table["y"], strict=True))
    ]
    off = table["regional"].to_numpy() - true.to_numpy()
    plane = lamp[lamp.run("regional-of-survey", **asked, way="plane")["regional"]].table  # type: ignore[attr-defined]
    flat = plane["regional"].to_numpy() - true.to_numpy()
    assert np.std(off) < 0.5 * np.std(flat)


def test_units_are_measured_as_closed_forms_say_and_their_values_are_found_again(lamp: Project) -> None:
    # Far away a cube is a point mass and a dipole (Blakely 1995, equations 3.2 and 4.13).
    shape = (20, 20, 10)
    mesh = TensorMesh.even((WEST, SOUTH, TOP - 400.0), (40.0, 40.0, 40.0), shape)
    units = np.ones(shape)
    units[9:11, 9:11, 4:6] = 2.0
    geology = lamp.store.put(BlockModel(name="Rocks", crs=CRS, mesh=mesh, properties={"unit": units}))
    middle = np.array([WEST + 400.0, SOUTH + 400.0, TOP - 200.0])
    x, y = np.meshgrid(np.linspace(0, 800, 12), np.linspace(0, 800, 12))
    obs = np.column_stack([WEST + x.ravel(), SOUTH + y.ravel(), np.full(x.size, TOP + 150.0)])
    to = obs - middle
    r = np.linalg.norm(to, axis=1)
    pull = 6.67430e-11 * 300.0 * 80.0**3 * to[:, 2] / r**3 * 1e5
    table = pd.DataFrame({"x": obs[:, 0], "y": obs[:, 1], "z": obs[:, 2], "g": pull + 4.0})
    stations = lamp.store.put(
        PointSet(name="Far", crs=CRS, table=table, units={"g": "mGal"}, content="stations", quantities={"g": "gravity"})
    )
    rows = [{"unit": "1", "value": 2.67}, {"unit": "2", "value": 2.8, "lowest": 2.5, "highest": 3.5}]
    named = BlockModel(
        name="Named", crs=CRS, mesh=mesh, properties={"unit": units - 1.0}, names={"unit": ("Host", "Ore")}
    )
    rows_named = [{**row, "unit": name} for row, name in zip(rows, ("Host", "Ore"), strict=True)]
    by_name = lamp.run(
        "response-of-units", model=lamp.store.put(named), stations=stations, attribute="unit", units=rows_named, reading="g",
        values="fitted",
    )  # fmt: skip
    found = lamp[by_name["model"]]
    assert isinstance(found, BlockModel) and np.nanmax(found.properties["density"]) == pytest.approx(2.97, abs=0.01)
    asked: dict[str, Any] = {"model": geology, "stations": stations, "attribute": "unit", "units": rows, "reading": "g"}
    made = lamp.run("response-of-units", **asked, values="fitted")
    fitted = lamp[made["model"]]
    assert isinstance(fitted, BlockModel)
    assert np.unique(np.round(fitted.properties["density"], 2)).tolist() == [2.67, 2.97]
    out = lamp[made["stations"]].table  # type: ignore[attr-defined]
    assert np.abs(out["computed"] - pull).max() < 0.01 * pull.max() and out["shift"].iloc[0] == pytest.approx(
        4.0, abs=1e-3
    )
    here = main_at("2020-01-01")
    field, way = fields.field_direction(*here[:2]), fields.field_direction(-20.0, 75.0)
    moment = (0.02 * here[2] * field + 4e-7 * np.pi * 2.0 * 1e9 * way) * 80.0**3 / (4 * np.pi)
    unit = to / r[:, None]
    dipole = ((3 * (unit @ moment)[:, None] * unit - moment) / r[:, None] ** 3) @ field
    remanent = [{"unit": "2", "value": 0.02, "remanence": 2.0, "inclination": -20, "declination": 75}]
    made = lamp.run(
        "response-of-units", **asked | {"units": remanent, "reading": ""}, measured="total field", date="2020-01-01"
    )
    got = lamp[made["stations"]].table["computed"].to_numpy()  # type: ignore[attr-defined]
    assert np.abs(got - dipole).max() < 0.02 * np.abs(dipole).max()
    with pytest.raises(LampError, match="needs readings and a table"):
        lamp.run("response-of-units", **asked | {"reading": ""}, values="fitted")
    with pytest.raises(InputError, match="can't tell"):
        fit_units(np.ones((1, 2)), np.ones(1), np.zeros(2), np.ones(2), np.ones((1, 1)))


def test_the_model_of_an_iteration_is_shown_to_those_who_look(lamp: Project) -> None:
    task = execute.prepare(
        lamp.store,
        "invert-magnetics",
        {**CELLS, "attribute": "anomaly", "iterations": 3},
        {"lines": lamp.store.find("Anomaly").id},
    )
    seen: list[object] = []
    execute.perform(task, CallbackProgress(lambda *_: None, wanted=lambda: len(seen) < 2, view=seen.append))
    assert len(seen) == 2 and all(isinstance(item, BlockModel) for item in seen)
    assert isinstance(seen[1], BlockModel) and np.nanmax(seen[1].properties["susceptibility"]) > 0
    assert SolvingParams.model_fields["parts"].default == 1


def test_two_models_are_compared_cell_by_cell_and_the_course_is_kept(lamp: Project) -> None:
    one = model_of(lamp)
    course = one.course
    assert course["misfit"].iloc[-1] == pytest.approx(1.0, abs=0.1) and (course["beta"] > 0).all()
    assert course["misfit"].iloc[0] > course["misfit"].iloc[-1] and course["size"].iloc[0] < course["size"].iloc[-1]
    assert one.facts["Misfit"].endswith(f"after {len(course)} steps")
    twice = dataclasses.replace(one, name="Twice", properties={"k": 2.0 * one.properties["susceptibility"] + 0.001})
    first, second = lamp.store.put(dataclasses.replace(one, name="One")), lamp.store.put(twice)
    made = lamp.run("compare-models", first=first, second=second, second_property="k")
    difference = lamp[made["model"]]
    assert isinstance(difference, BlockModel)
    expected = -one.properties["susceptibility"] - 0.001
    assert np.nanmax(np.abs(difference.properties["difference"] - expected)) < 1e-12
    told: list[str] = []
    task = execute.prepare(
        lamp.store,
        "compare-models",
        {"second_property": "k", "second_is": "scaled to the first", "seen_from": 0},
        {"first": first, "second": second},
    )
    execute.perform(task, CallbackProgress(lambda _f, message, _m: told.append(message)))
    assert any("correlation 1.000" in words for words in told)
    with pytest.raises(LampError, match="has no attribute 'k'"):
        lamp.run("compare-models", first=first, second=second, first_property="k")

"""The prospect's truth and the fields made from it, against closed forms and sums that share no code with them."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.drilling.desurvey import direction
from innerlamp.core.geometry.mesh import CORNERS, Mesh
from innerlamp.demo import truth as t
from innerlamp.demo.build import FILES
from innerlamp.demo.making import core, drilling, forward, potential
from innerlamp.demo.truth import facts, land, ore, rocks

from ..scale import LONG, fifth, long_run

KNOWN = json.loads((FILES / "planted.json").read_text())


def read(name: str) -> pd.DataFrame:
    return pd.read_csv(FILES / name)


def _points(
    mesh: Mesh, values: np.ndarray, near: np.ndarray, reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres, volumes and values of cells; those near some of the places are cut into 216 pieces."""
    flat = np.flatnonzero(np.isfinite(values.ravel()) & (values.ravel() != 0))
    cells = np.column_stack(np.unravel_index(flat, mesh.shape))
    corners = mesh.corners(cells)
    middle, volume, amount = corners.mean(axis=1), mesh.volumes(cells), values.ravel()[flat]
    close = np.zeros(len(cells), dtype=bool)
    for place in near:
        close |= np.linalg.norm(middle - place, axis=1) < reach
    # A turned cell is cut along its own edges: from its first corner to those one step off along each axis.
    first = corners[close][:, np.flatnonzero((CORNERS == 0).all(axis=1))[0]]
    steps = [corners[close][:, np.flatnonzero((np.eye(3)[k] == CORNERS).all(axis=1))[0]] - first for k in range(3)]
    share = (np.arange(6) + 0.5) / 6
    pieces = np.stack(np.meshgrid(share, share, share, indexing="ij"), axis=-1).reshape(-1, 3)
    fine = sum((pieces[None, :, k, None] * steps[k][:, None, :] for k in range(3)), first[:, None, :]).reshape(-1, 3)
    return (
        np.concatenate([middle[~close], fine]),
        np.concatenate([volume[~close], np.repeat(volume[close] / 216, 216)]),
        np.concatenate([amount[~close], np.repeat(amount[close], 216)]),
    )


@pytest.fixture(scope="module")
def stations() -> np.ndarray:
    rng = np.random.default_rng(20)
    x, y = rng.uniform(300, t.WIDTH - 300, 20), rng.uniform(300, t.HEIGHT - 300, 20)
    x[:3], y[:3] = (t.SKARN_CUPOLA[0], t.GABBRO[0], t.APEX[0]), (t.SKARN_CUPOLA[1], t.GABBRO[1], t.APEX[1])
    return np.column_stack([x, y, t.ground(x, y) + 60.0])[: 20 if LONG else 5]


def test_magnetics_of_the_truth_are_those_of_a_sum_of_dipoles(stations: np.ndarray) -> None:
    # A small magnet of moment m (A m2): T = mu0/4pi (3 (m.r) r / r^5 - m / r^3) (Blakely 1995, eq. 4.13).
    main, declination = potential.field()
    i, d = np.radians(main.inclination), np.radians(declination)
    f = np.array([np.cos(i) * np.sin(d), np.cos(i) * np.cos(d), -np.sin(i)])
    total = np.zeros(len(stations))
    for mesh, values in potential.magnetic_blocks():
        at, volume, k = _points(mesh, values, stations, 260.0)
        moment = k * volume * main.intensity / (4 * np.pi)  # nT m3: mu0 M = k B, mu0/4pi taken in
        for row, place in enumerate(stations):
            r = place - at
            far = np.linalg.norm(r, axis=1)
            total[row] += np.sum(moment * (3 * (r @ f) ** 2 / far**5 - 1 / far**3))
    mine = potential.magnetic_anomaly(stations)
    assert np.abs(mine).max() > 100
    assert mine == pytest.approx(total, abs=0.01 * np.abs(total).max(), rel=0.02)


@long_run
def test_gravity_of_the_truth_is_that_of_a_sum_of_masses(stations: np.ndarray) -> None:
    total = np.zeros(len(stations))
    for mesh, values in potential.gravity_blocks():
        at, volume, rho = _points(mesh, values, stations, 160.0)
        for row, place in enumerate(stations):
            r = place - at
            total[row] += 6.6743e-11 * 1e5 * np.sum(rho * volume * r[:, 2] / np.linalg.norm(r, axis=1) ** 3)
    mine = potential.gravity_anomaly(stations)
    assert np.ptp(mine) > 1.5
    assert mine == pytest.approx(total, abs=0.01)


def test_the_lens_has_the_volume_of_its_ellipsoid() -> None:
    a, b, c = rocks.LENS_AXES
    found = facts.body_facts(ore.BODIES[2])
    # Less where the porphyry's branch and the graphitic slate do not change it: greisen is drawn over both.
    assert found["volume"] == pytest.approx(4 / 3 * np.pi * a * b * c, rel=0.05)
    assert found["Sn"] == pytest.approx(4_350, rel=0.03)
    assert 120 < found["cover"] < 250


def test_blind_bodies_are_covered_and_no_hole_has_met_them() -> None:
    for hole in drilling.drilled():
        inside = ore.body(*hole.places.T)
        assert not inside.any(), hole.name
    for name in fifth(ore.BODIES):
        found = facts.body_facts(name)
        assert found["volume"] > 5e5
        assert found["cover"] > 60
    for place in KNOWN["places"]:
        assert t.ORIGIN[0] < place["easting"] < t.ORIGIN[0] + t.WIDTH
        assert t.ORIGIN[1] < place["northing"] < t.ORIGIN[1] + t.HEIGHT
    body = {p["name"]: p for p in KNOWN["places"] if p["kind"] == "blind body"}
    assert set(body) == set(ore.BODIES)
    z = np.arange(-350.0, 320.0, 2.0)
    for number, name in enumerate(ore.BODIES, start=1):
        x, y = body[name]["easting"] - t.ORIGIN[0], body[name]["northing"] - t.ORIGIN[1]
        near = [(x + dx, y + dy) for dx in (-60, -30, 0, 30, 60) for dy in (-60, -30, 0, 30, 60)]
        assert any((ore.body(np.full(z.shape, a), np.full(z.shape, b), z) == number).any() for a, b in near), name


def test_each_fooler_shows_what_it_is_said_to_show() -> None:
    soil = read("geochemistry/soils_emberlow.csv")
    tin = pd.to_numeric(soil["Sn ppm"].astype(str).str.lstrip("<"), errors="coerce")
    x, y = soil["East"] - t.ORIGIN[0], soil["North"] - t.ORIGIN[1]
    top = tin > tin.quantile(0.99)
    moved = np.array([x[top].median() - t.APEX[0], y[top].median() - t.APEX[1]])
    a = np.radians(t.ICE_TOWARDS)
    assert moved @ np.array([np.sin(a), np.cos(a)]) == pytest.approx(t.ICE_DRAG, abs=110)
    mag = read("geophysics/airborne_magnetics.csv")
    best = mag.loc[mag["TMI_ANOM_nT"].idxmax()]
    assert np.hypot(best["X_UTM"] - t.ORIGIN[0] - t.GABBRO[0], best["Y_UTM"] - t.ORIGIN[1] - t.GABBRO[1]) < 500
    fence = [e["line"] - 2 for e in KNOWN["errors"] if e["what"] == "spike of the fence"]
    assert mag.loc[fence, "LINE"].nunique() >= 8
    # The graphitic slate where it is said to crop out.
    place = next(p for p in KNOWN["places"] if p["name"] == "graphitic slate")
    gx = place["easting"] - t.ORIGIN[0] + np.arange(-250.0, 251.0, 5.0)
    gy = np.full(gx.shape, place["northing"] - t.ORIGIN[1])
    assert (t.rock(gx, gy, t.bedrock(gx, gy) - 5.0) == t.CODES.index("GRSL")).any()
    low = read("geophysics/resistivity_line_6.csv")
    conductive = low["rhoa_ohmm"] < 100
    assert conductive.sum() > 30
    assert low.loc[conductive, "chargeability_mV_V"].median() > 15
    blanks = [e for e in KNOWN["errors"] if e["what"] == "blank above its limit"]
    assert len(blanks) == 4


def test_the_eastern_limb_is_overturned_and_the_throw_dies_out_northwards() -> None:
    x, y = np.full(3, 3_680.0), np.full(3, 2_500.0)
    z = np.array([100.0, 110.0, 120.0])
    assert (np.diff(rocks.bed_height(x, y, z)) < 0).all()  # older beds lie higher
    assert (np.diff(rocks.bed_height(np.full(3, 2_300.0), y, z)) > 0).all()
    assert rocks.fault_share(np.array([1_000.0, 2_900.0, 4_400.0, 5_000.0])).tolist() == [1.0, 1.0, 0.0, 0.0]
    east, west = np.array([2_900.0]), np.array([2_000.0])
    at = np.array([2_500.0]), np.array([200.0])
    assert rocks.restored(east, *at)[2] - at[1] == pytest.approx(t.FAULT_THROW)
    assert rocks.restored(west, *at)[2] == at[1]


def test_the_ground_is_as_steep_and_as_wet_as_was_asked() -> None:
    x, y = np.meshgrid(np.arange(0.0, t.WIDTH, 20.0), np.arange(0.0, t.HEIGHT, 20.0))
    z = t.ground(x, y)
    assert np.ptp(z) == pytest.approx(350, abs=15)
    assert (t.slope(x, y) > land.STEEP).mean() > 0.005
    down = np.arange(4_900.0, 50.0, -50.0)
    assert (np.diff(t.ground(land.stream_easting(down), down)) < 0.2).all()  # water runs down
    uses = {
        f["properties"]["use"] for f in json.loads((FILES / "terrain" / "land_use.geojson").read_text())["features"]
    }
    assert uses >= {"track", "stream", "protected", "pit", "steep", "fence"}


@long_run
def test_facts_are_printed() -> None:
    out = subprocess.run(
        [sys.executable, "-m", "innerlamp.demo.generate", "--facts"], capture_output=True, text=True, check=True
    ).stdout
    for name in (*ore.BODIES, *t.NAMES.values()):
        assert name in out


def test_alpha_and_beta_of_worked_cases() -> None:
    # A hole to the north at -60, worked by hand.
    along = direction(np.array([0.0]), np.array([-60.0]))[0]
    flat = core.alpha_beta(np.array([0.0, 0.0, 1.0]), along)
    assert flat[0] == pytest.approx(60.0)  # a level plane makes the hole's own dip with the axis
    assert flat[1] == pytest.approx(180.0)  # it reaches farthest down hole on the core's upper side
    # A vertical plane that strikes with the hole holds its axis.
    assert core.alpha_beta(np.array([1.0, 0.0, 0.0]), along)[0] == pytest.approx(0.0, abs=1e-9)
    # A plane that dips 60 to the north contains the axis too.
    dips = np.array([0.0, np.sin(np.radians(60)), np.cos(np.radians(60))])
    assert core.alpha_beta(dips, along)[0] == pytest.approx(0.0, abs=1e-9)


def test_forward_of_the_lines_knows_uniform_and_layered_ground() -> None:
    electrodes = 25.0 * np.arange(24)
    abmn = np.array([(i + 1, i, i + 1 + n, i + 2 + n) for n in range(1, 7) for i in range(0, 24 - n - 2)])
    flat = forward.uniform_flat(electrodes, abmn)

    def level(s: np.ndarray) -> np.ndarray:
        return np.zeros(np.shape(s))

    rho, charge = forward.apparent(
        electrodes, abmn, level, lambda _, z: (np.full(z.shape, 340.0), np.full(z.shape, 0.025)), flat
    )
    assert rho == pytest.approx(np.full(len(abmn), 340.0), rel=1e-6)
    assert charge == pytest.approx(np.full(len(abmn), 0.025), rel=1e-6)
    # Two layers by images: V = I rho1 / 2 pi (1/r + 2 sum k^n / sqrt(r^2 + (2 n h)^2)) (Telford et al. 1990, ch. 8).
    h, one, two = 22.0, 100.0, 900.0
    k = (two - one) / (two + one)
    n = np.arange(1, 400)

    def green(r: np.ndarray) -> np.ndarray:
        return 1 / r + 2 * (k**n / np.sqrt(r[:, None] ** 2 + (2 * n * h) ** 2)).sum(axis=1)

    a, b, m, q = (electrodes[abmn[:, c]] for c in range(4))
    pairs = [(np.abs(m - a), 1), (np.abs(m - b), -1), (np.abs(q - a), -1), (np.abs(q - b), 1)]
    exact = one * sum(s * green(r) for r, s in pairs) / sum(s / r for r, s in pairs)
    rho, _ = forward.apparent(
        electrodes, abmn, level, lambda _, z: (np.where(z < h, one, two), np.zeros(z.shape)), flat
    )
    assert rho == pytest.approx(exact, rel=0.04)


def test_loops_give_the_reduced_values_once_their_drift_is_taken_off() -> None:
    loops, reduced = read("geophysics/gravity_loops.csv"), read("geophysics/gravity_stations.csv").set_index("Station")
    seconds = pd.to_datetime(loops["Date"] + " " + loops["Time"])
    off = []
    for name, loop in loops.groupby("Loop"):
        base = loop[loop["Station"] == "BASE"]
        assert len(base) == 2
        when = (seconds[loop.index] - seconds[base.index[0]]).dt.total_seconds().to_numpy()
        drift = np.diff(base["Reading_mGal"])[0] * when / when[-1]
        held = loop["Reading_mGal"].to_numpy() - base["Reading_mGal"].iloc[0] - drift
        keep = loop["Station"].to_numpy() != "BASE"
        station = reduced.loc[loop["Station"].to_numpy()[keep]]
        # Free air, plate and terrain by hand; latitude by the change of normal gravity, 0.0008 mGal a metre here.
        h = station["Elevation (m)"].to_numpy()
        north = station["Northing"].to_numpy()
        made = (
            held[keep]
            + 0.3086 * h
            - 0.04193 * 2.67 * h
            + station["Terrain_mGal"].to_numpy()
            - 7.93e-4 * (north - 5.6e6)
        )
        off.append(pd.Series(made - station["Bouguer_mGal"].to_numpy(), index=[name] * len(made)))
    apart = pd.concat(off)
    apart -= apart.median()
    by_loop = apart.groupby(level=0).agg(lambda v: v.max() - v.min())
    assert by_loop.idxmax() == "P14"  # the tare
    assert apart.drop("P14").abs().max() < 0.09


def test_the_demo_s_inversion_agrees_with_the_rocks_that_it_was_made_of(demo_path: Path) -> None:
    from innerlamp.api import Project
    from innerlamp.core.items.fields import BlockModel

    with Project.open(demo_path) as lamp:
        model = lamp[lamp.store.find("Susceptibility of Airborne magnetics").id]
    assert isinstance(model, BlockModel)
    centres = model.mesh.centres() - np.array([*t.ORIGIN, 0.0])
    table = np.array([t.PROPERTIES[code][1] for code in t.CODES])
    true = table[np.maximum(t.rock(*centres.T), 0)].reshape(model.mesh.shape)
    found, seen = model.properties["susceptibility"], model.properties["sensitivity"]
    inside = np.isfinite(found) & (seen >= 1.0)
    assert np.corrcoef(found[inside], true[inside])[0, 1] > 0.45
    # The gabbro is found where it is; at its margin the model is not as strong as in its middle.
    away = np.hypot(centres[:, 0] - t.GABBRO[0], centres[:, 1] - t.GABBRO[1]).reshape(model.mesh.shape)
    high = (centres[:, 2] > 50.0).reshape(model.mesh.shape)
    middle, margin = (found[inside & high & ring].mean() for ring in (away < 300, (away > 900) & (away < 1200)))
    assert middle > 10 * margin

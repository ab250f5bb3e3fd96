"""Airborne magnetics with its base station, and gravity as raw loops and as reduced values.

Both fields are sums of closed-form prisms (see `core.compute.potential.prisms`) over cells of the
truth: 20 to 40 m cells for the stock and the skarns, cells as thin as the dykes and turned along them,
the till as a layer of its own thickness.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pandas as pd

from ...core.compute.potential import prisms
from ...core.compute.potential.mainfield import MainField, main_field
from ...core.crs import grid_convergence, to_lonlat
from ...core.geometry.mesh import DrapedMesh, Mesh, TensorMesh
from .. import truth as t
from ..truth import FloatArray, frame, land, rocks
from ..truth.frame import REDUCTION
from .noting import Planted, chance, east, north

FLOWN = ("2024-05-16", "2024-05-17")
_LINES, _SPACING, _TIES = 80, 75.0, 6
_MARGIN = 800.0
_FLOOR = -1_400.0  # metres; what lies deeper is part of the regional field
Block = tuple[Mesh, FloatArray]


def field() -> tuple[MainField, float]:
    """The main field over the prospect on the day of the flight, and its declination from grid north in degrees."""
    x, y = t.ORIGIN[0] + t.WIDTH / 2, t.ORIGIN[1] + t.HEIGHT / 2
    lon, lat = to_lonlat(t.CRS, x, y)
    main = main_field(float(lon), float(lat), 350.0, FLOWN[0])
    return main, main.declination - grid_convergence(t.CRS, x, y)


def _places(mesh: Mesh) -> tuple[FloatArray, FloatArray, FloatArray]:
    c = mesh.centres().T.reshape(3, *mesh.shape)
    return c[0], c[1], c[2]


def _turned(
    middle: tuple[float, float],
    half: tuple[float, float],
    floor: float,
    top: float,
    step: tuple[float, float, float],
    azimuth: float,
) -> TensorMesh:
    """A mesh turned to an azimuth of its second axis, around a middle, of whole cells."""
    a = np.radians(azimuth)
    counts = tuple(max(1, round(2 * h / s)) for h, s in zip(half, step[:2], strict=True))
    across, along = counts[0] * step[0] / 2, counts[1] * step[1] / 2
    x0 = middle[0] - across * np.cos(a) - along * np.sin(a)
    y0 = middle[1] + across * np.sin(a) - along * np.cos(a)
    return TensorMesh.even((x0, y0, floor), step, (counts[0], counts[1], round((top - floor) / step[2])), azimuth)


@cache
def magnetic_blocks() -> tuple[Block, ...]:
    """Cells of the magnetic rocks with their susceptibilities (SI): stock, skarns, porphyry, dolerites."""
    out: list[Block] = []

    def add(mesh: TensorMesh, *codes: str) -> None:
        x, y, z = _places(mesh)
        code = t.rock(x, y, z)
        values = np.full(mesh.shape, np.nan)
        for name in codes:
            values[code == t.CODES.index(name)] = t.PROPERTIES[name][1]
        values[z > t.bedrock(x, y)] = np.nan
        out.append((mesh, values))

    add(_turned(t.GABBRO, (480.0, 420.0), -900.0, 460.0, (40.0, 40.0, 40.0), 0.0), "GABB")
    for middle in ((t.APEX[0] + 420.0, t.APEX[1] - 60.0), t.SKARN_CUPOLA, t.LENS_CUPOLA):
        add(_turned(middle, (620.0, 620.0), -460.0, 400.0, (20.0, 20.0, 20.0), 0.0), "SKARN")
    for middle, half in (((t.APEX[0] - 90.0, t.APEX[1]), 3_000.0), (rocks.BRANCH, 520.0)):
        # The fault moved its eastern side across the dyke: the mesh is wide enough for both sides.
        add(_turned((middle[0], middle[1]), (78.0, half), -600.0, 420.0, (6.0, 40.0, 40.0), t.DYKE_STRIKE), "PORPH")
    for northing, wide in rocks.DOLERITES:
        add(
            _turned((3_000.0, northing), (wide / 2, 3_480.0), -700.0, 460.0, (wide, 40.0, 40.0), frame.DOLERITE_STRIKE),
            "DOLR",
        )
    return tuple(out)


def magnetic_anomaly(obs: FloatArray) -> FloatArray:
    """Total-field anomaly of the truth in nT at places (n, 3) in local coordinates, without regional or noise."""
    main, declination = field()
    total = np.zeros(len(obs))
    for mesh, values in magnetic_blocks():
        total += prisms.magnetics_of(mesh, values, obs, main.inclination, declination, main.intensity, near=250.0)
    return total


@cache
def gravity_blocks() -> tuple[Block, ...]:
    """Cells with their density contrasts (kg/m3): till as its own layer, rocks averaged over eight points a cell.

    Contrasts are to the density of reduction above sea level and to the slates below it.
    """
    cell, high = 50.0, 25.0
    nx, ny = round((t.WIDTH + 2 * _MARGIN) / cell), round((t.HEIGHT + 2 * _MARGIN) / cell)
    plan = TensorMesh.even((-_MARGIN, -_MARGIN, _FLOOR), (cell, cell, high), (nx, ny, round((550.0 - _FLOOR) / high)))
    density = np.array([p[0] for p in t.PROPERTIES.values()])
    x, y = (c.reshape(plan.shape) for c in plan.centres().T[:2])
    z = plan.z_centres
    mean = np.zeros(plan.shape)
    for dx in (-cell / 4, cell / 4):
        for dy in (-cell / 4, cell / 4):
            for dz in (-high / 4, high / 4):
                px, py, pz = x + dx, y + dy, np.broadcast_to(z + dz, plan.shape)
                code = t.rock(px, py, pz)
                rho = np.where(code == 0, density[2], density[code])  # the till is a layer of its own
                there = pz < t.bedrock(px, py)
                mean += np.where(there, rho - np.where(pz > 0, REDUCTION, t.PROPERTIES["SLATE"][0]), 0.0) / 8
    mean *= 1_000.0
    mean[np.abs(mean) < 0.5] = np.nan
    px, py = plan.plan_centres
    layer = DrapedMesh(plan.x0, plan.y0, plan.u, plan.v, 0.0, t.ground(px, py), t.till(px, py)[:, :, None])
    till = np.full(layer.shape, 1_000.0 * (t.PROPERTIES["TILL"][0] - REDUCTION))
    return (plan, mean), (layer, till)


def gravity_anomaly(obs: FloatArray) -> FloatArray:
    """Complete Bouguer anomaly of the truth in mGal at places (n, 3) in local coordinates, without regional or noise."""
    return np.asarray(sum(prisms.gravity_of(mesh, values, obs, near=400.0) for mesh, values in gravity_blocks()))


def magnetics(folder: Path, planted: Planted) -> None:
    """80 north-south lines and 6 tie lines, draped at about 60 m, and the base station."""
    rng = chance("magnetics")
    main, _ = field()
    rows: list[tuple[str, int, pd.Timestamp, float, float]] = []
    fid, clock = 1000, pd.Timestamp(f"{FLOWN[0]} 08:02:11")

    def fly(name: str, start: FloatArray, along: FloatArray, steps: FloatArray) -> None:
        nonlocal fid, clock
        wobble = np.cumsum(rng.normal(0, 0.35, len(steps)))
        side = np.array([-along[1], along[0]])
        for k, s in enumerate(steps + rng.normal(0, 0.8, len(steps))):
            fid += 1
            x, y = start + s * along + (wobble[k] - wobble.mean()) * side
            rows.append((name, fid, clock, float(x), float(y)))
            clock += pd.Timedelta(seconds=0.35)
        clock += pd.Timedelta(seconds=50)

    for number in range(_LINES):
        if number == 46:
            clock = pd.Timestamp(f"{FLOWN[1]} 07:48:40")
        steps = np.arange(10.0, t.HEIGHT - 10.0, 20.0)
        steps = steps if number % 2 == 0 else steps[::-1]
        if number == 33:
            steps = steps[(steps < 2_700) | (steps > 2_880)]
            planted.note("airborne_magnetics.csv", None, "gap in line", value="L1330")
        fly(f"L{1000 + 10 * number}", np.array([37.5 + number * _SPACING, 0.0]), np.array([0.0, 1.0]), steps)
    for number in range(_TIES):
        steps = np.arange(40.0, t.WIDTH - 40.0, 20.0)
        fly(f"T{9000 + 10 * number}", np.array([0.0, 400.0 + number * 830.0]), np.array([1.0, 0.0]), steps)
    table = pd.DataFrame(rows, columns=["LINE", "FID", "clock", "x", "y"])
    x, y = table["x"].to_numpy(), table["y"].to_numpy()
    smooth = sum(t.ground(x, y + d) for d in (-60, -30, 0, 30, 60)) / 5
    z = np.maximum(smooth + 60.0 + rng.normal(0, 1.0, len(table)), t.ground(x, y) + 42.0)
    anomaly = magnetic_anomaly(np.column_stack([x, y, z]))
    anomaly = anomaly + 0.004 * (x - 3_000.0) + 0.003 * (y - 2_500.0) + rng.normal(0, 0.6, len(table))
    fence = _off_fence(x, y) < 14.0
    anomaly[fence] += 42.0
    for row in np.flatnonzero(fence):
        planted.note("airborne_magnetics.csv", int(row), "spike of the fence")
    raw = anomaly + main.intensity + _diurnal(_seconds(table["clock"]))
    free = np.flatnonzero(~fence)
    spikes = np.sort(rng.choice(free, 6, replace=False))
    raw[spikes] += rng.choice([-1, 1], 6) * rng.uniform(60, 160, 6)
    for row in spikes:
        planted.note("airborne_magnetics.csv", int(row), "spike in raw field")
    out = pd.DataFrame(
        {
            "LINE": table["LINE"],
            "FID": table["FID"],
            "Date": table["clock"].dt.strftime("%Y-%m-%d"),
            "Time": table["clock"].dt.strftime("%H:%M:%S.%f").str[:10],
            "X_UTM": east(x),
            "Y_UTM": north(y),
            "GPS_ALT": np.round(z, 1),
            "RAW_TMI_nT": np.round(raw, 2),
            "TMI_ANOM_nT": np.round(anomaly, 2),
        }
    )
    out.to_csv(folder / "airborne_magnetics.csv", index=False)
    _base_station(folder, main.intensity)


def _base_station(folder: Path, intensity: float) -> None:
    rng = chance("base")
    rows = []
    for date in FLOWN:
        for second in range(7 * 3600, 13 * 3600, 30):
            at = pd.Timestamp(date) + pd.Timedelta(seconds=second)
            value = intensity - 41.3 + float(_diurnal(np.float64(second))) + rng.normal(0, 0.15)
            rows.append((date, at.strftime("%H:%M:%S"), round(value, 2)))
    pd.DataFrame(rows, columns=["Date", "Time", "Base_nT"]).to_csv(folder / "magnetic_base_station.csv", index=False)


def _seconds(clock: pd.Series) -> FloatArray:
    return np.asarray((clock - clock.dt.normalize()).dt.total_seconds().to_numpy())


def _diurnal(seconds: FloatArray | np.float64) -> FloatArray:
    return np.asarray(14.0 * np.sin((seconds - 5 * 3600) / 7200.0) + 2.0 * np.sin(seconds / 700.0))


def _off_fence(x: FloatArray, y: FloatArray) -> FloatArray:
    (x0, y0), (x1, y1) = land.FENCE
    long = np.hypot(x1 - x0, y1 - y0)
    s = np.clip(((x - x0) * (x1 - x0) + (y - y0) * (y1 - y0)) / long**2, 0, 1)
    return np.asarray(np.hypot(x - x0 - s * (x1 - x0), y - y0 - s * (y1 - y0)))


def gravity(folder: Path, planted: Planted) -> None:
    """700 stations: the complete Bouguer anomaly, and the meter's readings in loops from one base."""
    rng = chance("gravity")
    gx, gy = np.meshgrid(np.linspace(90, t.WIDTH - 90, 28), np.linspace(90, t.HEIGHT - 90, 25))
    n = gx.size
    x, y = gx.ravel() + rng.normal(0, 22, n), gy.ravel() + rng.normal(0, 22, n)
    x[0], y[0] = 1_480.0, 2_300.0  # the base, on the track
    z = np.round(t.ground(x, y), 2)
    obs = np.column_stack([x, y, z + 0.3])
    anomaly = -18.0 + gravity_anomaly(obs) + 0.00025 * (x - 3_000) - 0.0002 * (y - 2_500) + rng.normal(0, 0.025, n)
    names = np.array([f"G{k:04d}" for k in range(1, n + 1)])
    correction = _terrain_correction(obs, z)
    pd.DataFrame(
        {
            "Station": names,
            "Easting": east(x),
            "Northing": north(y),
            "Elevation (m)": z,
            "Terrain_mGal": np.round(correction, 3),
            "Bouguer_mGal": np.round(anomaly, 3),
        }
    ).to_csv(folder / "gravity_stations.csv", index=False)
    _, lat = to_lonlat(t.CRS, x + t.ORIGIN[0], y + t.ORIGIN[1])
    observed = _normal(np.asarray(lat)) - 0.3086 * z + 0.04193 * REDUCTION * z - correction + anomaly
    _loops(folder, names, x, y, z, observed - observed[0], planted)


def _terrain_correction(obs: FloatArray, z: FloatArray) -> FloatArray:
    """What the flat plate of the Bouguer reduction has too much, in mGal: plate less ground, both within the margins."""
    cell = 20.0
    nx, ny = round((t.WIDTH + 2 * _MARGIN) / cell), round((t.HEIGHT + 2 * _MARGIN) / cell)
    plan = TensorMesh.even((-_MARGIN, -_MARGIN, 0.0), (cell, cell, 1.0), (nx, ny, 1))
    px, py = plan.plan_centres
    tops = t.ground(px, py)
    columns = DrapedMesh(plan.x0, plan.y0, plan.u, plan.v, 0.0, tops, tops[:, :, None])
    density = np.full(columns.shape, 1_000.0 * REDUCTION)
    below = prisms.gravity_of(columns, density, obs, near=150.0)
    plate = np.empty(len(obs))
    for k, (place, high) in enumerate(zip(obs, z, strict=True)):
        slab = TensorMesh.even((-_MARGIN, -_MARGIN, 0.0), (nx * cell, ny * cell, float(high)), (1, 1, 1))
        plate[k] = prisms.gravity_of(slab, np.full((1, 1, 1), 1_000.0 * REDUCTION), place[None])[0]
    return plate - below


def _normal(lat: FloatArray) -> FloatArray:
    """Normal gravity of the ellipsoid GRS80 in mGal (Somigliana's formula; Moritz 2000)."""
    s = np.sin(np.radians(lat)) ** 2
    return np.asarray(978_032.67715 * (1 + 0.001931851353 * s) / np.sqrt(1 - 0.0066943800229 * s))


def _loops(
    folder: Path, names: np.ndarray, x: FloatArray, y: FloatArray, z: FloatArray, relative: FloatArray, planted: Planted
) -> None:
    """Readings of a meter that takes out the tides itself: loops from the base and back, with drift and one tare."""
    rng = chance("loops")
    order = np.concatenate([[k for k in np.lexsort((x * (1 - 2 * (np.round(y / 190) % 2)), np.round(y / 190))) if k]])
    rows: list[tuple[object, ...]] = []
    clock, drift, tare = pd.Timestamp("2024-06-03 07:30:00"), 0.0, 0.0
    size = 27
    for loop, begin in enumerate(range(0, len(order), size), start=1):
        inside = [0, *order[begin : begin + size], 0]
        if loop > 1:  # one station of the last loop once more
            inside.insert(1, int(order[begin - 5]))
        rate = 0.018 + rng.normal(0, 0.008)  # mGal an hour
        for position, k in enumerate(inside):
            if loop == 14 and position == 12:
                tare += 0.145
                planted.note("gravity_loops.csv", len(rows), "tare", value="0.145 mGal")
            reading = 4_213.5 + relative[k] + drift + tare + rng.normal(0, 0.008)
            rows.append(
                (
                    f"P{loop:02d}",
                    "BASE" if k == 0 else names[k],
                    clock.strftime("%Y-%m-%d"),
                    clock.strftime("%H:%M:%S"),
                    float(east(x[k])),
                    float(north(y[k])),
                    z[k],
                    round(reading, 3),
                    0.30,
                )
            )
            minutes = rng.uniform(5.0, 11.0)
            drift += rate * minutes / 60.0
            clock += pd.Timedelta(minutes=float(minutes)).floor("s")
        clock = (
            clock.normalize() + pd.Timedelta(hours=31, minutes=30)
            if clock.hour >= 15
            else clock + pd.Timedelta("25min")
        )
    columns = [
        "Loop",
        "Station",
        "Date",
        "Time",
        "Easting",
        "Northing",
        "Elevation (m)",
        "Reading_mGal",
        "Height of meter (m)",
    ]
    pd.DataFrame(rows, columns=columns).to_csv(folder / "gravity_loops.csv", index=False)

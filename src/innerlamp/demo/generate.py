"""Writes the files of the prospect Emberlow from its truth: `python -m innerlamp.demo.generate FOLDER`.

The seed is fixed, so every run gives the same files. The clerical errors that real files have are
planted on purpose and listed in ``planted.json``.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import pandas as pd

from ..core.compute.drilling.desurvey import desurvey, locate
from ..core.compute.potential import prisms
from ..core.compute.potential.mainfield import main_field
from ..core.crs import grid_convergence, to_lonlat
from ..core.geometry.mesh import TensorMesh
from . import papers
from . import truth as t
from .resistivity import apparent_resistivity

SEED = 20240517
FLOWN = ("2024-05-16", "2024-05-17")


def write_all(folder: Path) -> None:
    """Write every file of the prospect under `folder`."""
    rng = np.random.default_rng(SEED)
    for name in ("drilling", "drilling_second_phase", "geochemistry", "terrain", "geophysics", "geology"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    planted: list[dict[str, object]] = []
    terrain(folder / "terrain")
    soils(folder / "geochemistry", rng, planted)
    drilling(folder, rng, planted)
    magnetics(folder / "geophysics", rng, planted)
    gravity(folder / "geophysics", rng)
    resistivity(folder / "geophysics", rng)
    geology(folder / "geology", rng)
    papers.controls(folder / "drilling", planted)
    papers.scanned_map(folder / "geology")
    (folder / "planted.json").write_text(json.dumps(planted, indent=1) + "\n", encoding="utf-8")


def terrain(folder: Path) -> None:
    """DEM and bedrock surface as ESRI ASCII, 20 m cells."""
    cell, margin = 20.0, 200.0
    xs = np.arange(-margin + cell / 2, t.WIDTH + margin, cell)
    ys = np.arange(-margin + cell / 2, t.HEIGHT + margin, cell)
    x, y = np.meshgrid(xs, ys)
    for name, values in (("dem_20m.asc", t.ground(x, y)), ("bedrock_20m.asc", t.ground(x, y) - t.till(x, y))):
        with (folder / name).open("w", encoding="ascii") as handle:
            handle.write(
                f"ncols {len(xs)}\nnrows {len(ys)}\nxllcorner {t.ORIGIN[0] - margin:.1f}\nyllcorner {t.ORIGIN[1] - margin:.1f}\ncellsize {cell:g}\nNODATA_value -9999\n"
            )
            np.savetxt(handle, values[::-1], fmt="%.2f")


def soils(folder: Path, rng: np.random.Generator, planted: list[dict[str, object]]) -> None:
    """2,400 soil samples, 60 lines of 40."""
    gx, gy = np.meshgrid(np.linspace(40, t.WIDTH - 40, 60), np.linspace(40, t.HEIGHT - 40, 40))
    x, y = gx.ravel() + rng.normal(0, 5, 2400), gy.ravel() + rng.normal(0, 5, 2400)
    slope_x, slope_y = t.ground(x + 10, y) - t.ground(x - 10, y), t.ground(x, y + 10) - t.ground(x, y - 10)
    up_x, up_y = x + 12 * slope_x, y + 12 * slope_y
    total = {k: np.zeros(2400) for k in ("Sn", "W", "Cu", "As")}
    for depth, weight in ((14, 0.3), (35, 0.25), (60, 0.2), (90, 0.15), (130, 0.1)):
        for dx, dy in ((0, 0), (18, 9), (-18, 9), (9, -18), (-9, -18)):
            z = t.ground(up_x + dx, up_y + dy) - depth
            for k, v in t.grades(up_x + dx, up_y + dy, z).items():
                total[k] += weight * v / 5
    thin = np.exp(-t.till(x, y) / 18.0)
    local = rng.normal(0, 1, 2400)
    table = pd.DataFrame(
        {
            "Sample No": [f"EMS{n:05d}" for n in range(1, 2401)],
            "East": np.round(x + t.ORIGIN[0], 1),
            "North": np.round(y + t.ORIGIN[1], 1),
        }
    )
    table["Sn ppm"] = _cells(
        np.exp(0.35 * local + rng.normal(0, 0.3, 2400)) * (3.0 + 0.16 * thin * total["Sn"]), 0.5, 1
    )
    table["W ppm"] = _cells(np.exp(0.35 * local + rng.normal(0, 0.35, 2400)) * (1.6 + 0.14 * thin * total["W"]), 0.2, 1)
    table["Cu ppm"] = np.round(np.exp(rng.normal(0, 0.35, 2400)) * (22.0 + 1100.0 * thin * total["Cu"]), 0)
    table["As ppm"] = np.round(np.exp(0.3 * local + rng.normal(0, 0.3, 2400)) * (12.0 + 0.22 * thin * total["As"]), 0)
    table["Horizon"] = np.where(rng.random(2400) < 0.12, "A", "B")
    table.loc[777, "Sn ppm"] = "n.s.s."
    planted.append({"file": "soils_emberlow.csv", "line": 779, "what": "not a number", "value": "n.s.s."})
    for row in map(
        int,
        np.flatnonzero(
            table["Sn ppm"].astype(str).str.startswith("<") | table["W ppm"].astype(str).str.startswith("<")
        ),
    ):
        planted.append({"file": "soils_emberlow.csv", "line": int(row) + 2, "what": "below detection"})
    table.to_csv(folder / "soils_emberlow.csv", index=False)


def _cells(values: np.ndarray, limit: float, digits: int) -> list[str]:
    return [f"<{limit:g}" if v < limit else f"{v:.{digits}f}" for v in values]


def drilling(folder: Path, rng: np.random.Generator, planted: list[dict[str, object]]) -> None:
    """Two phases of drillholes; the first has the clerical errors."""
    plans = _hole_plans(rng)
    for phase, target in ((1, folder / "drilling"), (2, folder / "drilling_second_phase")):
        chosen = [p for p in plans if p["phase"] == phase]
        collar, survey, assay, litho = _drill(chosen, rng)
        if phase == 1:
            assay = _plant(collar, survey, assay, litho, planted)
        collar.to_csv(target / "collars.csv", index=False)
        survey.to_csv(target / "downhole_surveys.csv", index=False, sep=";")
        assay.to_csv(target / "assays.csv", index=False)
        litho.to_csv(target / "geology_log.csv", index=False)


def _hole_plans(rng: np.random.Generator) -> list[dict[str, float]]:
    plans = []
    along, across = np.radians(t.VEIN_STRIKE), np.radians(t.VEIN_STRIKE - 90)
    for i, u in enumerate(np.linspace(-330, 330, 9)):
        for v in (-150, -20, 110, 240):
            if (i % 2 == 1 and v == 240) or (abs(u) > 300 and v == 110):
                continue
            x = t.APEX[0] + u * np.sin(along) - v * np.sin(across)
            y = t.APEX[1] + u * np.cos(along) - v * np.cos(across)
            plans.append(
                {
                    "x": x,
                    "y": y,
                    "azimuth": t.VEIN_STRIKE - 90 + 360,
                    "dip": rng.choice([-55, -60, -65]),
                    "depth": rng.choice([180, 220, 260, 300]),
                    "phase": 1,
                }
            )
    for x, y in (
        (1980, 1150),
        (2080, 1260),
        (2040, 1380),
        (2190, 1180),
        (2130, 1420),
        (1900, 980),
        (2280, 1330),
        (1200, 1700),
        (900, 1000),
        (2500, 1900),
    ):
        plans.append(
            {
                "x": x,
                "y": y,
                "azimuth": rng.choice([250.0, 270.0, 290.0]),
                "dip": rng.choice([-60, -70, -80]),
                "depth": rng.choice([280, 340, 400]),
                "phase": 1,
            }
        )
    for _ in range(18):
        du, dv = rng.uniform(-400, 400), rng.uniform(-200, 330)
        x = t.APEX[0] + du * np.sin(along) - dv * np.sin(across)
        y = t.APEX[1] + du * np.cos(along) - dv * np.cos(across)
        plans.append(
            {
                "x": x,
                "y": y,
                "azimuth": t.VEIN_STRIKE - 90 + 360 + rng.uniform(-8, 8),
                "dip": rng.choice([-55, -62, -70]),
                "depth": rng.choice([240, 300, 380]),
                "phase": 2,
            }
        )
    for number, plan in enumerate(plans, start=1):
        plan["number"] = number
    return plans


def _drill(
    plans: list[dict[str, float]], rng: np.random.Generator
) -> tuple[pd.DataFrame, pd.DataFrame, pd.DataFrame, pd.DataFrame]:
    collars, surveys, assays, logs = [], [], [], []
    sample = 10_000 * int(plans[0]["phase"])
    for order, plan in enumerate(plans):
        hole = f"EMB{int(plan['number']):03d}"
        x, y = plan["x"] + rng.normal(0, 4), plan["y"] + rng.normal(0, 4)
        z = float(t.ground(np.array(x), np.array(y)))
        depth = float(plan["depth"] + np.round(rng.uniform(0, 9), 1))
        day = pd.Timestamp("2022-04-04" if plan["phase"] == 1 else "2024-06-03") + pd.Timedelta(days=3 * order)
        written = day.strftime("%Y-%m-%d") if order % 3 else day.strftime("%d/%m/%Y")
        collars.append(
            (
                hole,
                round(x + t.ORIGIN[0], 2),
                round(y + t.ORIGIN[1], 2),
                round(z, 2),
                depth,
                written,
                "Rig 2" if order % 2 else "Rig 1",
            )
        )
        stations = np.unique(np.append(np.arange(0, depth, 30.0), round(depth - 1.5, 1)))
        azimuth = plan["azimuth"] + np.cumsum(rng.normal(0.25, 0.45, len(stations)))
        dip = np.clip(plan["dip"] + np.cumsum(rng.normal(0.22, 0.3, len(stations))), -89, -5)
        azimuth, dip = np.round(azimuth % 360, 1), np.round(dip, 1)
        surveys += [(hole, s, a, -d) for s, a, d in zip(stations, azimuth, dip, strict=True)]
        path = desurvey(
            np.array([[x, y, z]]), np.array([depth]), np.zeros(len(stations), np.int64), stations, azimuth, dip
        )
        steps = np.arange(0.1, depth, 0.2)
        p = locate(path, np.zeros(len(steps), np.int64), steps)
        codes = t.rock(p[:, 0], p[:, 1], p[:, 2])
        edges = np.flatnonzero(np.diff(codes)) + 1
        tops = np.round(np.concatenate([[0.0], steps[edges] - 0.1]), 1)
        ends = np.append(tops[1:], depth)
        for a, b, c in zip(tops, ends, codes[np.concatenate([[0], edges])], strict=True):
            if b - a > 0.05:
                logs.append((hole, round(a, 1), round(b, 1), t.CODES[c], _remark(t.CODES[c], rng)))
        expected = t.grades(p[:, 0], p[:, 1], p[:, 2])
        at = 4.0
        while at < depth - 0.5:
            length = float(rng.choice([1.0, 1.5, 2.0, 2.0, 2.0]))
            end = min(at + length, depth)
            inside = (steps >= at) & (steps < end)
            grade = {k: v[inside].mean() for k, v in expected.items()} if inside.any() else dict.fromkeys(expected, 0.0)
            # Barren rock is sampled only here and there.
            if grade["Sn"] > 40 or grade["Cu"] > 0.05 or rng.random() < 0.55:
                sample += 1
                common = rng.normal(0, 0.45)
                sn, w, arsenic = (grade[k] * np.exp(common + rng.normal(0, 0.35)) for k in ("Sn", "W", "As"))
                cu = grade["Cu"] * np.exp(rng.normal(0, 0.4))
                assays.append(
                    (
                        hole,
                        round(at, 1),
                        round(end, 1),
                        f"EM{sample}",
                        f"{sn:.0f}" if sn >= 5 else "<5",
                        f"{w:.0f}" if w >= 2 else "<2",
                        f"{cu:.3f}",
                        f"{arsenic:.0f}",
                    )
                )
            at = end
    return (
        pd.DataFrame(collars, columns=["HOLE_ID", "East (m)", "North (m)", "RL (m)", "EOH (m)", "Date drilled", "Rig"]),
        pd.DataFrame(surveys, columns=["Hole", "Depth", "Azi grid", "Dip"]),
        pd.DataFrame(assays, columns=["BHID", "From", "To", "Sample", "Sn_ppm", "W_ppm", "Cu_pct", "As_ppm"]),
        pd.DataFrame(logs, columns=["Hole", "Depth from", "Depth to", "Rock", "Remark"]),
    )


def _remark(code: str, rng: np.random.Generator) -> str:
    words = {
        "TILL": ("boulder till", "sandy till"),
        "CLAY": ("soft white clay", "clay, relic slaty cleavage"),
        "SLATE": ("grey slate", "spotted slate", "slate with quartz veinlets"),
        "CARB": ("marble", "banded marble"),
        "SKARN": ("pyrrhotite skarn", "garnet-pyrrhotite skarn"),
        "GRAN": ("coarse granite", "muscovite granite"),
        "GREIS": ("quartz-muscovite greisen, cassiterite", "greisen vein, wolframite blades"),
        "PORPH": ("quartz porphyry",),
    }
    return str(rng.choice(words[code]))


def _plant(
    collar: pd.DataFrame,
    survey: pd.DataFrame,
    assay: pd.DataFrame,
    litho: pd.DataFrame,
    planted: list[dict[str, object]],
) -> pd.DataFrame:
    """Put the clerical errors into the first phase; returns the assays, the others are changed in place."""

    def note(file: str, row: int, hole: str, what: str) -> None:
        planted.append({"file": file, "line": row + 2, "hole": hole, "what": what})

    row = 6
    name = str(collar.at[row, "HOLE_ID"])
    note("collars.csv", row, name, "trailing space")
    collar.at[row, "HOLE_ID"] = name + " "
    bare = str(collar.at[38, "HOLE_ID"])
    assay = assay[assay["BHID"] != bare].reset_index(drop=True)
    planted.append({"file": "assays.csv", "line": 0, "hole": bare, "what": "no assay rows"})

    assay.at[2, "Sn_ppm"] = "<0.5"
    row = int(np.flatnonzero(survey["Hole"] == "EMB012")[-1])
    depth = float(collar.loc[collar["HOLE_ID"] == "EMB012", "EOH (m)"].iloc[0])
    note("downhole_surveys.csv", row, "EMB012", "survey beyond end of hole")
    survey.at[row, "Depth"] = round(depth + 21.5, 1)

    row = int(np.flatnonzero(assay["BHID"] == "EMB009")[20])
    note("assays.csv", row, "EMB009", "overlapping interval")
    assay.at[row, "From"] = round(assay["To"].to_numpy(float)[row - 1] - 0.6, 1)
    row = int(np.flatnonzero(assay["BHID"] == "EMB017")[12])
    note("assays.csv", row, "EMB017", "reversed interval")
    start, stop = (assay[c].to_numpy(float)[row] for c in ("From", "To"))
    assay.at[row, "From"], assay.at[row, "To"] = float(stop), float(start)
    row = int(np.flatnonzero(assay["BHID"] == "EMB021")[5])
    note("assays.csv", row, "EMB021", "not a number")
    assay.at[row, "Sn_ppm"] = "insuff."
    for row in map(
        int, np.flatnonzero(assay[["Sn_ppm", "W_ppm"]].apply(lambda c: c.astype(str).str.startswith("<")).any(axis=1))
    ):
        note("assays.csv", int(row), str(assay.at[row, "BHID"]), "below detection")
    row = int(np.flatnonzero(litho["Hole"] == "EMB004")[1])
    note("geology_log.csv", row, "EMB044X", "hole without collar")
    litho.at[row, "Hole"] = "EMB044X"
    row = int(np.flatnonzero(litho["Hole"] == "EMB015")[2])
    note("geology_log.csv", row, "EMB-015", "hole written differently")
    litho.at[row, "Hole"] = "EMB-015"
    for row in map(int, np.flatnonzero(collar["Date drilled"].str.contains("/"))):
        note("collars.csv", int(row), str(collar.at[row, "HOLE_ID"]).strip(), "day-first date")
    return assay


def magnetics(folder: Path, rng: np.random.Generator, planted: list[dict[str, object]]) -> None:
    """Airborne magnetics on 60 north-south lines, draped at about 60 m, and its base station."""
    lines, fid = [], 1000
    lon, lat = to_lonlat(t.CRS, t.ORIGIN[0] + t.WIDTH / 2, t.ORIGIN[1] + t.HEIGHT / 2)
    field = main_field(float(lon), float(lat), 350.0, FLOWN[0])
    declination = field.declination - grid_convergence(t.CRS, t.ORIGIN[0] + t.WIDTH / 2, t.ORIGIN[1])
    clock = pd.Timestamp(f"{FLOWN[0]} 08:02:11")
    for number in range(60):
        x0 = 105.0 + number * 50.0
        north = np.arange(10.0, t.HEIGHT - 10.0, 20.0)
        north = north if number % 2 == 0 else north[::-1]
        if number == 33:
            north = north[(north < 1500) | (north > 1680)]
        if number == 30:
            clock = pd.Timestamp(f"{FLOWN[1]} 07:48:40")
        wobble = np.cumsum(rng.normal(0, 0.35, len(north)))
        for k, y in enumerate(north + rng.normal(0, 0.8, len(north))):
            fid += 1
            lines.append((1000 + 10 * number, fid, clock, x0 + wobble[k] - wobble.mean(), y))
            clock += pd.Timedelta(seconds=0.8)
        clock += pd.Timedelta(seconds=75)
    table = pd.DataFrame(lines, columns=["LINE", "FID", "clock", "x", "y"])
    x, y = table["x"].to_numpy(), table["y"].to_numpy()
    smooth = sum(t.ground(x, y + d) for d in (-60, -30, 0, 30, 60)) / 5
    z = np.maximum(smooth + 60.0 + rng.normal(0, 1.0, len(table)), t.ground(x, y) + 42.0)
    mesh, code = _voxels(40.0, 25.0, 900.0)
    susceptibility = np.array([t.PROPERTIES[c][1] for c in t.CODES])[code]
    susceptibility = np.where(np.isin(code, [4, 7]), susceptibility, 0.0)
    susceptibility = np.where(_under_ground(mesh), susceptibility, np.nan)
    anomaly = prisms.magnetics_of(
        mesh, susceptibility, np.column_stack([x, y, z]), field.inclination, declination, field.intensity, near=250.0
    )
    anomaly = anomaly + 0.006 * (x - 1600.0) + 0.004 * (y - 1300.0) + rng.normal(0, 0.6, len(table))
    seconds = (table["clock"] - table["clock"].dt.normalize()).dt.total_seconds().to_numpy()
    diurnal = _diurnal(seconds)
    spikes = rng.choice(len(table), 6, replace=False)
    raw = anomaly + field.intensity + diurnal
    raw[spikes] += rng.choice([-1, 1], 6) * rng.uniform(60, 160, 6)
    for row in spikes:
        planted.append({"file": "airborne_magnetics.csv", "line": int(row) + 2, "what": "spike in raw field"})
    out = pd.DataFrame(
        {
            "LINE": "L" + table["LINE"].astype(str),
            "FID": table["FID"],
            "Date": table["clock"].dt.strftime("%Y-%m-%d"),
            "Time": table["clock"].dt.strftime("%H:%M:%S.%f").str[:10],
        }
    )
    out["X_UTM"], out["Y_UTM"] = np.round(x + t.ORIGIN[0], 1), np.round(y + t.ORIGIN[1], 1)
    out["GPS_ALT"], out["RAW_TMI_nT"], out["TMI_ANOM_nT"] = np.round(z, 1), np.round(raw, 2), np.round(anomaly, 2)
    out.to_csv(folder / "airborne_magnetics.csv", index=False)
    rows = []
    for date in FLOWN:
        for second in range(7 * 3600, 11 * 3600, 30):
            at = pd.Timestamp(date) + pd.Timedelta(seconds=second)
            rows.append(
                (
                    date,
                    at.strftime("%H:%M:%S"),
                    round(field.intensity - 41.3 + float(_diurnal(np.float64(second))) + rng.normal(0, 0.15), 2),
                )
            )
    pd.DataFrame(rows, columns=["Date", "Time", "Base_nT"]).to_csv(folder / "magnetic_base_station.csv", index=False)


def _diurnal(seconds: np.ndarray | np.float64) -> np.ndarray:
    return np.asarray(14.0 * np.sin((seconds - 5 * 3600) / 7200.0) + 2.0 * np.sin(seconds / 700.0))


def _voxels(cell: float, cell_z: float, depth: float) -> tuple[TensorMesh, np.ndarray]:
    margin = 800.0
    nx, ny = int((t.WIDTH + 2 * margin) / cell), int((t.HEIGHT + 2 * margin) / cell)
    top, low = 450.0, 450.0 - np.ceil((450.0 - 200.0 + depth) / cell_z) * cell_z
    mesh = TensorMesh.even((-margin, -margin, low), (cell, cell, cell_z), (nx, ny, int((top - low) / cell_z)))
    return mesh, t.rock(*_places(mesh))


def _under_ground(mesh: TensorMesh) -> np.ndarray:
    x, y, z = _places(mesh)
    return np.asarray(z < t.ground(x, y))


def _places(mesh: TensorMesh) -> list[np.ndarray]:
    """Eastings, northings and elevations of all cell centres, each of the shape of the mesh."""
    return [column.reshape(mesh.shape) for column in mesh.centres().T]


def gravity(folder: Path, rng: np.random.Generator) -> None:
    """500 gravity stations: complete Bouguer anomaly for a density of 2.67."""
    gx, gy = np.meshgrid(np.linspace(80, t.WIDTH - 80, 25), np.linspace(80, t.HEIGHT - 80, 20))
    x, y = gx.ravel() + rng.normal(0, 18, 500), gy.ravel() + rng.normal(0, 18, 500)
    z = t.ground(x, y)
    mesh, code = _voxels(80.0, 50.0, 1400.0)
    contrast = (np.array([t.PROPERTIES[c][0] for c in t.CODES])[code] - 2.74) * 1000.0
    contrast = np.where(_under_ground(mesh) & (np.abs(contrast) > 5), contrast, np.nan)
    g = prisms.gravity_of(mesh, contrast, np.column_stack([x, y, z + 1.0]), near=400.0)
    anomaly = -18.0 + g + 0.0009 * (x - 1600) - 0.0006 * (y - 1300) + rng.normal(0, 0.03, 500)
    pd.DataFrame(
        {
            "Station": [f"G{n:04d}" for n in range(1, 501)],
            "Easting": np.round(x + t.ORIGIN[0], 1),
            "Northing": np.round(y + t.ORIGIN[1], 1),
            "Elevation (m)": np.round(z, 2),
            "Bouguer_mGal": np.round(anomaly, 3),
        }
    ).to_csv(folder / "gravity_stations.csv", index=False)


def resistivity(folder: Path, rng: np.random.Generator) -> None:
    """Four dipole-dipole lines of 48 electrodes across the crest, each with its electrode table."""
    ohm = np.array([t.PROPERTIES[c][2] for c in t.CODES])
    along = np.radians(t.VEIN_STRIKE - 90.0)
    electrodes = 20.0 * np.arange(48, dtype=np.float64)
    abmn = np.array(
        [
            (i + s, i, i + s + n * s, i + 2 * s + n * s)
            for s in (1, 2)
            for n in range(1, 9)
            for i in range(0, 48)
            if i + 2 * s + n * s < 48
        ]
    )
    for number, shift in enumerate((-240.0, -80.0, 80.0, 240.0), start=1):
        cx = t.APEX[0] + shift * np.sin(np.radians(t.VEIN_STRIKE))
        cy = t.APEX[1] + shift * np.cos(np.radians(t.VEIN_STRIKE))
        x0, y0 = cx - 470.0 * np.sin(along), cy - 470.0 * np.cos(along)

        def section(s: np.ndarray, depth: np.ndarray, x0: float = x0, y0: float = y0) -> np.ndarray:
            x, y = x0 + s * np.sin(along), y0 + s * np.cos(along)
            return ohm[t.rock(x, y, t.ground(x, y) - depth)]

        rho = apparent_resistivity(electrodes, abmn, section)
        a, b, m, n = (electrodes[abmn[:, k]] for k in range(4))
        factor = 2 * np.pi / (1 / np.abs(m - a) - 1 / np.abs(m - b) - 1 / np.abs(n - a) + 1 / np.abs(n - b))
        error = 0.02 + 2e-4 * np.abs(factor) / np.abs(factor).min() ** 0.5
        rho = rho * (1 + rng.normal(0, 1, len(rho)) * np.minimum(error, 0.15))
        x, y = x0 + electrodes * np.sin(along), y0 + electrodes * np.cos(along)
        pd.DataFrame(
            {
                "electrode": np.arange(1, 49),
                "distance_m": electrodes,
                "x": np.round(x + t.ORIGIN[0], 1),
                "y": np.round(y + t.ORIGIN[1], 1),
                "z": np.round(t.ground(x, y), 2),
            }
        ).to_csv(folder / f"resistivity_line_{number}_electrodes.csv", index=False)
        pd.DataFrame(
            {
                "a": abmn[:, 0] + 1,
                "b": abmn[:, 1] + 1,
                "m": abmn[:, 2] + 1,
                "n": abmn[:, 3] + 1,
                "rhoa_ohmm": np.round(rho, 1),
                "err_pct": np.round(100 * np.minimum(error, 0.15), 1),
            }
        ).to_csv(folder / f"resistivity_line_{number}.csv", index=False)


def geology(folder: Path, rng: np.random.Generator) -> None:
    """Geological map as GeoJSON (cells of bedrock joined to units, their shared edges smoothed), structural readings, old workings."""
    import shapely
    from rasterio import features
    from rasterio.transform import from_origin

    cell = 5.0
    xs, ys = np.arange(cell / 2, t.WIDTH, cell), np.arange(cell / 2, t.HEIGHT, cell)
    x, y = np.meshgrid(xs, ys)
    code = t.rock(x, y, t.ground(x, y) - t.till(x, y) - 45.0)
    code = np.where(code == 6, 2, code).astype(np.int32)
    transform = from_origin(t.ORIGIN[0], t.ORIGIN[1] + t.HEIGHT, cell, cell)
    cells = [(int(v), shapely.geometry.shape(g)) for g, v in features.shapes(code[::-1].copy(), transform=transform)]
    whole = [shapely.union_all([g for v, g in cells if v == k]) for k in sorted({v for v, _ in cells})]
    parts = [
        (k, p) for k, g in zip(sorted({v for v, _ in cells}), whole, strict=True) for p in getattr(g, "geoms", [g])
    ]
    edges = shapely.coverage_simplify([p for _, p in parts], 18.0)
    shapes = [
        {
            "type": "Feature",
            "properties": {"unit": t.CODES[k]},
            "geometry": shapely.geometry.mapping(shapely.set_precision(p, 0.1)),
        }
        for (k, _), p in zip(parts, edges, strict=True)
        if not p.is_empty
    ]
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32629"}}
    fault = np.radians(t.FAULT_STRIKE)
    line = [
        [t.ORIGIN[0] + 1930 + s * np.sin(fault), t.ORIGIN[1] + 1300 + s * np.cos(fault)]
        for s in (-1100, -400, 300, 1000)
    ]
    shapes.append(
        {
            "type": "Feature",
            "properties": {"unit": "fault"},
            "geometry": {"type": "LineString", "coordinates": np.round(line, 1).tolist()},
        }
    )
    (folder / "geological_map.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "crs": crs, "features": shapes}), encoding="utf-8"
    )
    n = 140
    x, y = rng.uniform(100, t.WIDTH - 100, n), rng.uniform(100, t.HEIGHT - 100, n)
    kind = rng.choice(["bedding", "cleavage", "vein", "joint"], n, p=[0.4, 0.25, 0.2, 0.15])
    mean = {"bedding": (28, 100), "cleavage": (62, 115), "vein": (80, 152), "joint": (85, 60)}
    dip = [np.clip(mean[k][0] + rng.normal(0, 7), 1, 90) for k in kind]
    towards = [(mean[k][1] + rng.normal(0, 11)) % 360 for k in kind]
    pd.DataFrame(
        {
            "Stop": np.arange(1, n + 1),
            "E": np.round(x + t.ORIGIN[0], 0),
            "N": np.round(y + t.ORIGIN[1], 0),
            "Elev": np.round(t.ground(x, y), 1),
            "Feature": kind,
            "Dip": np.round(dip, 0),
            "Dip direction": np.round(towards, 0),
        }
    ).to_csv(folder / "structural_readings.csv", index=False)
    places = [
        ("Upper shaft", 1490, 1380, "shaft"),
        ("Lower adit", 1395, 1150, "adit"),
        ("Old trench", 1720, 1450, "trench"),
        ("East pit", 2060, 1240, "pit"),
        ("Water adit", 1250, 1010, "adit"),
    ]
    pd.DataFrame(
        [
            (n_, px + t.ORIGIN[0], py + t.ORIGIN[1], round(float(t.ground(np.array(px), np.array(py))), 1), k)
            for n_, px, py, k in places
        ],
        columns=["Name", "Easting", "Northing", "Elevation", "Kind"],
    ).to_csv(folder / "old_workings.csv", index=False)


if __name__ == "__main__":
    write_all(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "files")

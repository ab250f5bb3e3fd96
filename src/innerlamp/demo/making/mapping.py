"""The geological map with its units, contacts, dykes and faults; structural readings; old workings."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from .. import truth as t
from ..truth import frame, rocks
from .noting import Planted, chance, east, north
from .surface import write_shapes

_CELL = 10.0


def geological_map(folder: Path) -> None:
    """Units of the bedrock as polygons whose shared edges were smoothed; contacts, faults and dolerites as lines."""
    import shapely
    from rasterio import features
    from rasterio.transform import from_origin

    x, y = np.meshgrid(np.arange(_CELL / 2, t.WIDTH, _CELL), np.arange(_CELL / 2, t.HEIGHT, _CELL))
    z = t.bedrock(x, y) - 45.0
    code = t.rock(x, y, z)
    slate, greisen, dolerite = (t.CODES.index(c) for c in ("SLATE", "GREIS", "DOLR"))
    # Veins and dolerites are too thin for areas at this scale: the first are left out, the others are lines.
    for name in (greisen, dolerite):
        code = np.where(code == name, _without(x, y, z, name), code)
    code = np.where(code == t.CODES.index("CLAY"), slate, code).astype(np.int32)
    transform = from_origin(t.ORIGIN[0], t.ORIGIN[1] + t.HEIGHT, _CELL, _CELL)
    pieces = [(int(v), shapely.geometry.shape(g)) for g, v in features.shapes(code[::-1].copy(), transform=transform)]
    kinds = sorted({v for v, _ in pieces})
    parts = [
        (k, p)
        for k in kinds
        for g in [shapely.union_all([g for v, g in pieces if v == k])]
        for p in getattr(g, "geoms", [g])
    ]
    edges = shapely.coverage_simplify([p for _, p in parts], 20.0)
    shapes: list[tuple[dict[str, object], dict[str, object]]] = []
    for (k, _), p in zip(parts, edges, strict=True):
        if not p.is_empty:
            what: dict[str, object] = {"unit": t.NAMES[t.CODES[k]], "code": t.CODES[k]}
            shapes.append((what, shapely.geometry.mapping(shapely.set_precision(p, 0.1))))
    contact = shapely.line_merge(shapely.union_all([p.boundary for p in edges]))
    sheet = shapely.box(*(np.array([0.0, 0.0, t.WIDTH, t.HEIGHT]) + np.tile(t.ORIGIN, 2))).boundary.buffer(1.0)
    for line in getattr(contact.difference(sheet), "geoms", []):
        if line.length > 150.0:
            shapes.append(({"unit": "contact", "code": ""}, shapely.geometry.mapping(shapely.set_precision(line, 0.1))))
    shapes.append(({"unit": "fault", "code": ""}, _line(_fault())))
    a = np.radians(frame.DOLERITE_STRIKE)
    for northing, _ in rocks.DOLERITES:
        along = np.linspace(-2_980.0, 2_980.0, 9)
        points = np.column_stack([3_000.0 + along * np.sin(a), northing + along * np.cos(a)])
        points = points[(points[:, 1] > 0) & (points[:, 1] < t.HEIGHT)]
        shapes.append(({"unit": "Dolerite", "code": "DOLR"}, _line(points)))
    write_shapes(folder / "geological_map.geojson", shapes)


def _without(x: np.ndarray, y: np.ndarray, z: np.ndarray, code: int) -> np.ndarray:
    """The rock beside places, so that bodies thinner than the step disappear from a map of areas."""
    beside = t.rock(x, y + 2 * _CELL, z)
    return np.where(beside == code, t.CODES.index("SLATE"), beside)


def _fault() -> np.ndarray:
    """Trace of the fault on the bedrock, to where its throw has died out."""
    along = np.arange(-2_450.0, 1_900.0, 60.0)
    a, slope = np.radians(t.FAULT_STRIKE), np.tan(np.radians(t.FAULT_DIP))
    x0, y0, z0 = frame.FAULT_POINT
    x, y = x0 + along * np.sin(a), y0 + along * np.cos(a)
    for _ in range(4):
        off = (z0 - t.bedrock(x, y)) / slope
        x, y = x0 + along * np.sin(a) + off * np.cos(a), y0 + along * np.cos(a) - off * np.sin(a)
    return np.column_stack([x, y])


def _line(points: np.ndarray) -> dict[str, object]:
    return {"type": "LineString", "coordinates": np.round(points + np.array(t.ORIGIN), 1).tolist()}


def readings(folder: Path, planted: Planted) -> None:
    """300 readings of bedding, cleavage, veins and joints; bedding from the fold itself."""
    rng = chance("structures")
    n = 300
    x, y = rng.uniform(100, t.WIDTH - 100, n), rng.uniform(100, t.HEIGHT - 100, n)
    kind = rng.choice(["bedding", "cleavage", "vein", "joint"], n, p=[0.45, 0.22, 0.18, 0.15])
    over = np.flatnonzero(kind == "vein")
    r, a = 480.0 * np.sqrt(rng.random(len(over))), rng.uniform(0, 2 * np.pi, len(over))
    x[over], y[over] = t.APEX[0] + r * np.sin(a), t.APEX[1] + r * np.cos(a)
    bed_dip, bed_to, turned = rocks.bedding(x, y, t.bedrock(x, y) - 2.0)
    mean = {"cleavage": (84.0, 110.0), "vein": (t.VEIN_DIP, t.VEIN_STRIKE + 90.0), "joint": (86.0, 61.0)}
    dip = np.array([bed_dip[i] if k == "bedding" else mean[k][0] for i, k in enumerate(kind)]) + rng.normal(0, 4.5, n)
    to = np.array([bed_to[i] if k == "bedding" else mean[k][1] for i, k in enumerate(kind)]) + rng.normal(0, 7.0, n)
    over_upright = dip > 90.0
    dip, to = np.where(over_upright, 180.0 - dip, np.abs(dip)), np.where(over_upright, to + 180.0, to) % 360.0
    table = pd.DataFrame(
        {
            "Stop": np.arange(1, n + 1),
            "E": east(x, 0),
            "N": north(y, 0),
            "Elev": np.round(t.ground(x, y), 1),
            "Feature": kind,
            "Dip": np.round(np.clip(dip, 0, 90), 0),
            "Dip direction": np.round(to % 360.0, 0),
            "Remark": np.where((kind == "bedding") & turned, "overturned", ""),
        }
    )
    table.loc[141, "Dip"] = 118.0
    planted.note("structural_readings.csv", 141, "dip above 90", value="118")
    table.to_csv(folder / "structural_readings.csv", index=False)


def workings(folder: Path) -> None:
    """Old workings, all of them on what cropped out."""
    places = [
        ("Upper shaft", -160, 80, "shaft"),
        ("Lower adit", -255, -150, "adit"),
        ("Old trench", 70, 150, "trench"),
        ("North pit", -105, 115, "pit"),
        ("East pit", 420, -90, "pit"),
        ("Water adit", -400, -290, "adit"),
    ]
    rows = []
    for name, dx, dy, kind in places:
        x, y = t.APEX[0] + dx, t.APEX[1] + dy
        rows.append((name, x + t.ORIGIN[0], y + t.ORIGIN[1], round(float(t.ground(np.array(x), np.array(y))), 1), kind))
    pd.DataFrame(rows, columns=["Name", "Easting", "Northing", "Elevation", "Kind"]).to_csv(
        folder / "old_workings.csv", index=False
    )

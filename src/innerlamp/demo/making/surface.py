"""What lies on the ground: its elevations, soils, rock chips, shallow holes to the bedrock, what the land is used for."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd

from .. import truth as t
from ..truth import land, ore
from .noting import Planted, cells, chance, east, north

_SOIL_LINES, _SOIL_STATIONS = 80, 40


def terrain(folder: Path) -> None:
    """DEM as ESRI ASCII, 20 m cells."""
    cell, margin = 20.0, 200.0
    xs = np.arange(-margin + cell / 2, t.WIDTH + margin, cell)
    ys = np.arange(-margin + cell / 2, t.HEIGHT + margin, cell)
    with (folder / "dem_20m.asc").open("w", encoding="ascii") as handle:
        handle.write(
            f"ncols {len(xs)}\nnrows {len(ys)}\nxllcorner {t.ORIGIN[0] - margin:.1f}\nyllcorner {t.ORIGIN[1] - margin:.1f}\ncellsize {cell:g}\nNODATA_value -9999\n"
        )
        np.savetxt(handle, t.ground(*np.meshgrid(xs, ys))[::-1], fmt="%.2f")


def bedrock_holes(folder: Path, planted: Planted) -> None:
    """30 shallow holes that found the bedrock, one that did not."""
    rng = chance("bedrock")
    x, y = rng.uniform(200, t.WIDTH - 200, 31), rng.uniform(200, t.HEIGHT - 200, 31)
    depth = np.round(t.till(x, y) + rng.normal(0, 0.3, 31), 1)
    written = [f"{d:.1f}" for d in depth]
    written[17] = f">{depth[17] - 2.0:.1f}"
    planted.note("bedrock_depths.csv", 17, "bedrock not reached", value=written[17])
    pd.DataFrame(
        {
            "Site": [f"SB{n:02d}" for n in range(1, 32)],
            "Easting": east(x),
            "Northing": north(y),
            "Elevation": np.round(t.ground(x, y), 1),
            "Bedrock depth (m)": written,
        }
    ).to_csv(folder / "bedrock_depths.csv", index=False)


def soils(folder: Path, planted: Planted) -> None:
    """3,200 soil samples, 80 lines of 40; what they hold was dragged by the ice."""
    rng = chance("soils")
    gx, gy = np.meshgrid(np.linspace(60, t.WIDTH - 60, _SOIL_LINES), np.linspace(60, t.HEIGHT - 60, _SOIL_STATIONS))
    n = gx.size
    x, y = gx.ravel() + rng.normal(0, 6, n), gy.ravel() + rng.normal(0, 6, n)
    up_x, up_y = ore.soil_source(x, y)
    total = {k: np.zeros(n) for k in t.ELEMENTS}
    # Till mixes what the ice scraped along the last part of its way; most is from one drag away.
    for share, weight in ((1.0, 0.5), (0.75, 0.2), (0.5, 0.15), (0.25, 0.1), (0.0, 0.05)):
        sx, sy = x + share * (up_x - x), y + share * (up_y - y)
        rock = {k: np.zeros(n) for k in total}
        for depth, part in ((4, 0.5), (12, 0.3), (30, 0.2)):
            for dx, dy in ((0, 0), (18, 9), (-18, 9), (9, -18), (-9, -18)):
                z = t.bedrock(sx + dx, sy + dy) - depth
                for k, v in t.grades(sx + dx, sy + dy, z).items():
                    rock[k] += part * v / 5
        for k in total:
            total[k] += weight * rock[k]
    thin = np.exp(-t.till(x, y) / 14.0)
    local = rng.normal(0, 1, n)

    def noisy(element: str, ground: float, factor: float, common: float, own: float) -> np.ndarray:
        return np.asarray(np.exp(common * local + rng.normal(0, own, n)) * (ground + factor * thin * total[element]))

    table = pd.DataFrame({"Sample No": [f"EMS{k:05d}" for k in range(1, n + 1)], "East": east(x), "North": north(y)})
    table["Sn ppm"] = cells(noisy("Sn", 3.0, 0.6, 0.3, 0.25), 0.5, 1)
    table["W ppm"] = cells(noisy("W", 1.6, 0.4, 0.3, 0.3), 0.2, 1)
    table["Cu ppm"] = np.round(noisy("Cu", 22.0, 1_100.0, 0.0, 0.35), 0)
    table["As ppm"] = np.round(noisy("As", 11.0, 0.5, 0.25, 0.25), 0)
    table["Zn ppm"] = np.round(noisy("Zn", 40.0, 0.3, 0.2, 0.25), 0)
    table["Bi ppm"] = cells(noisy("Bi", 0.15, 0.2, 0.3, 0.35), 0.1, 2)
    table["Horizon"] = np.where(rng.random(n) < 0.12, "A", "B")
    table.loc[777, "Sn ppm"] = "n.s.s."
    planted.note("soils_emberlow.csv", 777, "not a number", value="n.s.s.")
    planted.below("soils_emberlow.csv", table, ["Sn ppm", "W ppm", "Bi ppm"])
    table.to_csv(folder / "soils_emberlow.csv", index=False)


def rock_chips(folder: Path, planted: Planted) -> None:
    """150 chips of what crops out, with the faint signs of what lies below."""
    rng = chance("chips")
    n = 150
    x, y = rng.uniform(100, t.WIDTH - 100, 6 * n), rng.uniform(100, t.HEIGHT - 100, 6 * n)
    near = np.hypot(x - t.APEX[0], y - t.APEX[1]) < 700
    bare = np.flatnonzero((t.till(x, y) < 5.5) | near)[:n]
    x, y = x[bare], y[bare]
    z = t.bedrock(x, y) - 1.0
    code = t.rock(x, y, z)
    grade = t.grades(x, y, z)
    common = rng.normal(0, 0.6, len(x))
    table = pd.DataFrame(
        {
            "Chip": [f"EMR{k:03d}" for k in range(1, len(x) + 1)],
            "Easting": east(x, 0),
            "Northing": north(y, 0),
            "Rock type": [t.NAMES[t.CODES[c]] for c in code],
        }
    )
    for element, limit, digits in (("Sn", 1.0, 0), ("W", 1.0, 0), ("As", 5.0, 0), ("Zn", 2.0, 0), ("Bi", 0.2, 1)):
        values = grade[element] * np.exp(common + rng.normal(0, 0.4, len(x)))
        table[f"{element}_ppm"] = cells(values, limit, digits)
    table["Cu_ppm"] = np.round(1e4 * grade["Cu"] * np.exp(rng.normal(0, 0.5, len(x))), 0)
    planted.below("rock_chips.csv", table, [c for c in table.columns if c.endswith("_ppm")])
    table.to_csv(folder / "rock_chips.csv", index=False)


def land_use(folder: Path) -> None:
    """Track, stream, wetland under protection, old pits and ground too steep for a rig, as GeoJSON."""
    import shapely
    from rasterio import features
    from rasterio.transform import from_origin

    cell = 20.0
    x, y = np.meshgrid(np.arange(cell / 2, t.WIDTH, cell), np.arange(cell / 2, t.HEIGHT, cell))
    steep = (t.slope(x, y) > land.STEEP).astype(np.uint8)
    transform = from_origin(t.ORIGIN[0], t.ORIGIN[1] + t.HEIGHT, cell, cell)
    parts = [shapely.geometry.shape(g) for g, v in features.shapes(steep[::-1].copy(), transform=transform) if v]
    north_of = np.arange(20.0, t.HEIGHT, 60.0)
    stream = np.column_stack([land.stream_easting(north_of), north_of])[::-1]

    def whole(points: object) -> list[list[float]]:
        corners: list[list[float]] = np.round(np.asarray(points, dtype=float) + t.ORIGIN, 1).tolist()
        return corners

    def ring(points: object) -> list[list[list[float]]]:
        corners = whole(points)
        return [[*corners, corners[0]]]

    found: list[tuple[str, str, dict[str, object]]] = [
        ("track", "Access track", {"type": "LineString", "coordinates": whole(land.TRACK)}),
        ("stream", "Ember Water", {"type": "LineString", "coordinates": whole(stream)}),
        ("protected", "Wetland under protection", {"type": "Polygon", "coordinates": ring(land.WETLAND)}),
        ("fence", "Wire fence", {"type": "LineString", "coordinates": whole(land.FENCE)}),
    ]
    found += [("pit", name, {"type": "Polygon", "coordinates": ring(corners)}) for name, corners in land.PITS]
    for part in parts:
        if part.area > 2_000.0:
            smooth = shapely.set_precision(part.simplify(12.0), 0.1)
            found.append(("steep", f"Steeper than {land.STEEP:g}°", shapely.geometry.mapping(smooth)))
    write_shapes(folder / "land_use.geojson", [({"use": use, "name": name}, shape) for use, name, shape in found])


def write_shapes(path: Path, shapes: list[tuple[dict[str, object], dict[str, object]]]) -> None:
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::" + t.CRS.split(":")[1]}}
    rows = [{"type": "Feature", "properties": of, "geometry": shape} for of, shape in shapes]
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": rows}), encoding="utf-8")

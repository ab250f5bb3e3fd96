"""What the truth holds, in numbers: relief, volumes of the rocks, the blind bodies with their tonnes and grades."""

from __future__ import annotations

import numpy as np

from . import land, ore, rocks
from .frame import APEX, CODES, HEIGHT, LENS_CUPOLA, NAMES, PROPERTIES, SKARN_CUPOLA, VEIN_STRIKE, WIDTH

Box = tuple[tuple[float, float], tuple[float, float], tuple[float, float]]


def body_boxes() -> dict[str, tuple[Box, float]]:
    """Box around each blind body and a cell size that resolves it, metres."""
    t = np.radians(VEIN_STRIKE)
    ex, ey = APEX[0] + 830.0 * np.sin(t), APEX[1] + 830.0 * np.cos(t)
    bx, by = SKARN_CUPOLA
    cx, cy = LENS_CUPOLA
    return {
        ore.BODIES[0]: (((ex - 420.0, ex + 420.0), (ey - 330.0, ey + 330.0), (-80.0, 320.0)), 3.0),
        ore.BODIES[1]: (((bx - 500.0, bx + 500.0), (by - 500.0, by + 500.0), (-350.0, 300.0)), 8.0),
        ore.BODIES[2]: (((cx - 190.0, cx + 190.0), (cy - 130.0, cy + 130.0), (90.0, 210.0)), 4.0),
    }


def body_facts(name: str) -> dict[str, float]:
    """Volume (m3), tonnes, mean Sn, W (ppm) and Cu (%), top below the ground (m) of a blind body, by its cells."""
    (bx, by, bz), cell = body_boxes()[name]
    number = ore.BODIES.index(name) + 1
    volume = mass = 0.0
    metal = dict.fromkeys(("Sn", "W", "Cu"), 0.0)
    cover = np.inf
    density = np.array([p[0] for p in PROPERTIES.values()])
    ys, zs = np.arange(by[0] + cell / 2, by[1], cell), np.arange(bz[0] + cell / 2, bz[1], cell)
    for x in np.arange(bx[0] + cell / 2, bx[1], cell):
        y, z = np.meshgrid(ys, zs, indexing="ij")
        inside = ore.body(np.full(y.shape, x), y, z) == number
        if not inside.any():
            continue
        px, py, pz = np.full(int(inside.sum()), x), y[inside], z[inside]
        grams = density[rocks.rock(px, py, pz)] * cell**3
        volume += float(len(px) * cell**3)
        mass += float(grams.sum())
        grade = ore.grades(px, py, pz)
        for element in metal:
            metal[element] += float((grade[element] * grams).sum())
        cover = min(cover, float((land.ground(px, py) - pz).min()))
    return {"volume": volume, "tonnes": mass, "cover": cover} | {k: v / mass for k, v in metal.items()}


def rock_volumes(cell: float = 25.0, floor: float = -400.0) -> dict[str, float]:
    """Volume of each rock under the ground and above `floor` in m3, by cells of `cell` metres."""
    out = dict.fromkeys(CODES, 0.0)
    x, y = np.meshgrid(np.arange(cell / 2, WIDTH, cell), np.arange(cell / 2, HEIGHT, cell), indexing="ij")
    top = land.ground(x, y)
    for z in np.arange(floor + cell / 2, float(top.max()), cell):
        under = z < top
        found = np.bincount(rocks.rock(x[under], y[under], np.full(int(under.sum()), z)), minlength=len(CODES))
        for code, count in zip(CODES, found, strict=True):
            out[code] += float(count) * cell**3
    return out


def lines() -> list[str]:
    """The facts as lines of text."""
    x, y = np.meshgrid(np.arange(0.0, WIDTH, 20.0), np.arange(0.0, HEIGHT, 20.0))
    z, steep = land.ground(x, y), land.slope(x, y)
    out = [
        f"Ground {WIDTH:.0f} x {HEIGHT:.0f} m, elevation {z.min():.0f} to {z.max():.0f} m, "
        f"{100 * (steep > land.STEEP).mean():.1f} % steeper than {land.STEEP:g} degrees",
        "Rocks under the ground and above -400 m, million m3:",
    ]
    out += [f"  {code:6s} {NAMES[code]:16s} {v / 1e6:10.1f}" for code, v in rock_volumes().items()]
    out.append("Blind bodies:")
    for name in ore.BODIES:
        f = body_facts(name)
        out.append(
            f"  {name}: {f['volume'] / 1e6:.2f} million m3, {f['tonnes'] / 1e6:.2f} Mt, "
            f"Sn {f['Sn']:.0f} ppm, W {f['W']:.0f} ppm, Cu {f['Cu']:.2f} %, top {f['cover']:.0f} m under the ground"
        )
    return out

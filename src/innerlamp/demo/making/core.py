"""What was measured on the core and in the holes: recovery, density, susceptibility, structures, wireline logs."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from ...core.compute.drilling.desurvey import direction
from .. import truth as t
from ..truth import rocks
from .drilling import ALTERED, Hole
from .noting import Planted, chance

_ORIENTED = 25  # holes with a reference line along the bottom of the core
_LOGGED = ("EMB002", "EMB008", "EMB014", "EMB019", "EMB025", "EMB031")


def alteration(folder: Path, holes: list[Hole]) -> None:
    """Alteration by interval, with its strength from 1 to 3."""
    rng = chance("alteration")
    rows = []
    for hole in holes:
        for a, b, code in hole.runs():
            if b - a >= 1.0 and code in ALTERED:
                strength = 3 if code in ("GREIS", "SKARN") else int(rng.integers(1, 3))
                rows.append((hole.name, a, b, ALTERED[code], strength))
    table = pd.DataFrame(rows, columns=["Hole", "From", "To", "Alteration", "Strength"])
    table.to_csv(folder / "alteration.csv", index=False)


def recovery(folder: Path, holes: list[Hole], planted: Planted) -> None:
    """Core recovery and RQD by run of 3 m, densities of pieces of core."""
    rng = chance("recovery")
    runs, pieces = [], []
    for hole in holes:
        for start in np.arange(0.0, hole.depth - 0.5, 3.0):
            end = min(start + 3.0, hole.depth)
            code = t.CODES[hole.codes[min(int((start + 1.5) / 0.2), len(hole.codes) - 1)]]
            mean = {"TILL": 35.0, "CLAY": 62.0, "GRSL": 80.0}.get(code, 97.0)
            got = float(np.clip(mean + rng.normal(0, 5.0), 5.0, 100.0))
            quality = float(np.clip(got * rng.uniform(0.55, 0.98) if mean > 90 else got * 0.3, 0.0, got))
            runs.append(
                (hole.name, round(float(start), 1), round(float(end), 1), f"{got:.0f}", f"{np.floor(quality):.0f}")
            )
        for at in np.arange(rng.uniform(8, 20), hole.depth - 1.0, 20.0):
            code = t.CODES[hole.codes[int(at / 0.2)]]
            if code not in ("TILL", "CLAY"):
                rho = t.PROPERTIES[code][0] + rng.normal(0, 0.035)
                pieces.append((hole.name, round(float(at), 1), round(float(at) + 0.2, 1), f"{rho:.2f}"))
    table = pd.DataFrame(runs, columns=["Hole", "From", "To", "Recovery (%)", "RQD (%)"])
    table.loc[60, "Recovery (%)"] = "170"
    planted.note("core_recovery.csv", 60, "recovery above 100 %", str(table.at[60, "Hole"]), value="170")
    table.to_csv(folder / "core_recovery.csv", index=False)
    pd.DataFrame(pieces, columns=["Hole", "From", "To", "Density (g/cm3)"]).to_csv(folder / "density.csv", index=False)


def susceptibility(folder: Path, holes: list[Hole]) -> None:
    """Hand-held susceptibility readings each two metres, in 10^-3 SI."""
    rng = chance("susceptibility")
    rows = []
    for hole in holes:
        at = np.arange(2.0, hole.depth - 0.5, 2.0)
        code = hole.codes[(at / 0.2).astype(int)]
        k = np.array([p[1] for p in t.PROPERTIES.values()])[code]
        values = 1e3 * k * np.exp(rng.normal(0, 0.5, len(at)))
        rows += [(hole.name, f"{a:.1f}", f"{a + 0.1:.1f}", f"{v:.3g}") for a, v in zip(at, values, strict=True)]
    table = pd.DataFrame(rows, columns=["Hole", "From", "To", "Susceptibility (10^-3 SI)"])
    table.to_csv(folder / "magnetic_susceptibility.csv", index=False)


def alpha_beta(normal: np.ndarray, along: np.ndarray) -> tuple[float, float]:
    """Angles of a plane in core: alpha to the core's axis, beta from the bottom line clockwise looking down hole.

    Beta is measured to the lowest point of the plane's ellipse down the hole, as is the trade's
    habit (common practice, no source). `normal` and `along` are unit vectors east, north, up.
    """
    n = normal if normal @ along > 0 else -normal
    alpha = np.degrees(np.arcsin(np.clip(n @ along, -1, 1)))
    down = np.array([0.0, 0.0, -1.0])
    bottom = down - (down @ along) * along
    bottom /= np.linalg.norm(bottom)
    right = np.cross(along, bottom)  # clockwise from the bottom for one who looks down the hole
    # The long axis of the ellipse lies where the plane runs farthest down hole: against the normal's part across.
    low = -(n - (n @ along) * along)
    return float(alpha), float(np.degrees(np.arctan2(low @ right, low @ bottom)) % 360.0)


def structures(folder: Path, holes: list[Hole]) -> None:
    """Oriented core of 25 holes: veins, bedding and joints as alpha and beta, with the quality of the orientation."""
    rng = chance("oriented")
    rows = []
    for hole in holes[:_ORIENTED]:
        spans = hole.stations["at"].to_numpy()
        for at in np.sort(rng.uniform(12.0, hole.depth - 2.0, 26)):
            place = hole.places[int(at / 0.2)]
            k = int(np.clip(np.searchsorted(spans, at) - 1, 0, len(spans) - 1))
            station = hole.stations.iloc[k]
            along = direction(np.array([station.azimuth]), np.array([station.dip]))[0]
            near_vein = rocks.vein_distance(*place) < 4.0 and t.over_crest(*place) > 0.25
            kind = "vein" if near_vein else str(rng.choice(["bedding", "joint", "vein"], p=[0.6, 0.25, 0.15]))
            dip, to = _plane(kind, place)
            dip, to = dip + rng.normal(0, 4.0), to + rng.normal(0, 6.0)
            d, a = np.radians(dip), np.radians(to)
            normal = np.array([np.sin(a) * np.sin(d), np.cos(a) * np.sin(d), np.cos(d)])
            alpha, beta = alpha_beta(normal, along)
            beta_words = "" if alpha > 85.0 else f"{beta:.0f}"
            rows.append((hole.name, f"{at:.2f}", kind, f"{alpha:.0f}", beta_words, "bottom", int(rng.integers(1, 4))))
    columns = ["Hole", "Depth", "Type", "Alpha", "Beta", "Reference line", "Orientation quality"]
    pd.DataFrame(rows, columns=columns).to_csv(folder / "oriented_core.csv", index=False)


def _plane(kind: str, place: np.ndarray) -> tuple[float, float]:
    if kind == "vein":
        return t.VEIN_DIP, t.VEIN_STRIKE + 90.0
    if kind == "joint":
        return 86.0, 61.0
    dip, to, _ = rocks.bedding(*place)
    return float(dip), float(to)


def wireline(folder: Path, holes: list[Hole]) -> None:
    """LAS 2.0 logs of six holes: density, susceptibility and resistivity each 0.5 m, with gaps where the hole had caved."""
    for hole in holes:
        if hole.name not in _LOGGED:
            continue
        rng = chance(hole.name)
        depth = np.arange(6.0, hole.depth - 1.0, 0.5)
        code = hole.codes[(depth / 0.2).astype(int)]
        table = np.array(list(t.PROPERTIES.values()))[code]
        values = np.column_stack(
            [
                depth,
                table[:, 0] + rng.normal(0, 0.03, len(depth)),
                1e3 * table[:, 1] * np.exp(rng.normal(0, 0.35, len(depth))),
                table[:, 2] * np.exp(rng.normal(0, 0.2, len(depth))),
            ]
        )
        gap = int(rng.integers(40, len(depth) - 40))
        values[gap : gap + 9, 1:] = -999.25
        x, y, z = hole.collar
        head = (
            "~Version\n VERS. 2.0 : CWLS log ASCII standard\n WRAP. NO : one line per depth\n~Well\n"
            f" STRT.M {depth[0]:.2f} : start\n STOP.M {depth[-1]:.2f} : stop\n STEP.M 0.50 : step\n NULL. -999.25 : null\n"
            f" WELL. {hole.name} : hole\n XCOORD.M {x + t.ORIGIN[0]:.1f} : easting\n YCOORD.M {y + t.ORIGIN[1]:.1f} : northing\n"
            f" ELEV.M {z:.1f} : collar\n~Curve\n DEPT.M : depth\n DENS.G/CC : bulk density\n"
            " SUSC.1E-3SI : susceptibility\n RES.OHMM : resistivity\n~ASCII\n"
        )
        rows = "\n".join(f"{d:9.2f} {r:9.3f} {k:10.3f} {o:10.1f}" for d, r, k, o in values)
        (folder / f"{hole.name}.las").write_text(head + rows + "\n", encoding="ascii")

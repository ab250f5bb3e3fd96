"""Every set of places is held against itself and against the rest of the project, and what may have gone wrong is named."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

import numpy as np
import pyproj
from numpy.typing import NDArray

from ..compute.geometry import strays
from ..crs import transformers
from ..findings import Findings

FloatArray = NDArray[np.float64]
Area = tuple[float, float, float, float]
_Turn = Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray]]


def check_places(
    x: FloatArray,
    y: FloatArray,
    line: NDArray[np.int64],
    found: Findings,
    file: str,
    table: str,
    crs: str,
    area: Area | None = None,
    hole: NDArray[np.object_] | None = None,
    strict: bool = False,
) -> None:
    """Report places that lie far from the rest of their table, and tables that lie far from the rest of the project.

    Where one change would bring a place home (easting and northing changed round, a sign, a digit, degrees, the next
    zone, the other hemisphere) that is said. Nothing is moved.

    Parameters
    ----------
    x, y
        Metres, shape (n,); NaN is passed over.
    area
        West, east, south and north of what the project holds already, None for nothing.
    strict
        Whether each row must lie in the area (collars on the ground they were drilled from), not only the table.
    """
    known = np.isfinite(x) & np.isfinite(y)
    if not known.any():
        return
    away = strays.far_from_rest(x, y)
    core = strays.core_box(x, y, away)
    home = core
    if area is not None:
        if strict:
            home = _widened(area)
            away = known & ~_inside(x, y, home)
        elif not _meet(core, area):
            _whole_table(x, y, int(known.sum()), found, file, table, crs, area)
    if not away.any():
        return
    rows = np.flatnonzero(away)
    why = _reasons(x[rows], y[rows], crs, home)
    what = [f"({a:.0f}, {b:.0f}) {w}" for a, b, w in zip(x[rows], y[rows], why, strict=True)]
    ids = hole[rows] if hole is not None else ""
    found.add("look", what, "kept", file=file, table=table, line=line[rows], hole=ids)


def _widened(area: Area) -> Area:
    """An area with a quarter of its size and 1 km around it."""
    wide, high = 0.25 * (area[1] - area[0]) + 1000.0, 0.25 * (area[3] - area[2]) + 1000.0
    return area[0] - wide, area[1] + wide, area[2] - high, area[3] + high


def _whole_table(
    x: FloatArray, y: FloatArray, count: int, found: Findings, file: str, table: str, crs: str, area: Area
) -> None:
    mx, my = strays.middle_of(x, y)
    home = _widened(area)
    off = np.hypot(mx - 0.5 * (area[0] + area[1]), my - 0.5 * (area[2] + area[3]))
    why = _reasons(np.array([mx]), np.array([my]), crs, home)[0]
    found.add(
        "look",
        f"the {count:,} places lie about {off / 1000.0:,.0f} km from the rest of the project: the middle one {why}",
        "kept",
        file=file,
        table=table,
    )


def _inside(x: FloatArray, y: FloatArray, box: Area) -> NDArray[np.bool_]:
    with np.errstate(invalid="ignore"):
        return np.asarray((x >= box[0]) & (x <= box[1]) & (y >= box[2]) & (y <= box[3]))


def _meet(core: Area, area: Area) -> bool:
    """Whether two boxes come as near as the larger of them is wide, and 5 km."""
    reach = max(core[1] - core[0], core[3] - core[2], area[1] - area[0], area[3] - area[2], 5000.0)
    return (
        core[0] - reach <= area[1]
        and core[1] + reach >= area[0]
        and core[2] - reach <= area[3]
        and core[3] + reach >= area[2]
    )


def _reasons(x: FloatArray, y: FloatArray, crs: str, home: Area) -> list[str]:
    """Return in words what may be wrong with places that lie away from home; a margin of a tenth is left around it."""
    margin = 0.1 * max(home[1] - home[0], home[3] - home[2]) + 500.0
    box = (home[0] - margin, home[1] + margin, home[2] - margin, home[3] + margin)
    out = np.full(len(x), "", dtype=object)
    for words, turn in _changes(crs):
        with np.errstate(all="ignore"):
            tx, ty = turn(x, y)
        hit = (out == "") & _inside(np.asarray(tx, dtype=float), np.asarray(ty, dtype=float), box)
        out[hit] = words
        if (out != "").all():
            break
    out[out == ""] = "lies far from the rest: another zone or system?"
    return [str(w) for w in out]


def _changes(crs: str) -> Iterator[tuple[str, _Turn]]:
    yield "looks as if easting and northing were changed round", lambda x, y: (y, x)
    yield "looks as if a sign was lost", lambda x, y: (-x, -y)
    yield "looks as if the sign of the easting was lost", lambda x, y: (-x, y)
    yield "looks as if the sign of the northing was lost", lambda x, y: (x, -y)
    for times in (10.0, 0.1):
        digit = "lacks" if times > 1 else "has"
        more = "a digit" if times > 1 else "a digit too many"
        yield f"looks as if the easting {digit} {more}", partial(_scaled, times, 1.0)
        yield f"looks as if the northing {digit} {more}", partial(_scaled, 1.0, times)
    yield "looks as if it were in feet", lambda x, y: (x * 0.3048, y * 0.3048)
    yield "looks like degrees", lambda x, y: _turned("EPSG:4326", crs, x, y, np.abs(x) <= 180)
    yield "looks like degrees, latitude first", lambda x, y: _turned("EPSG:4326", crs, y, x, np.abs(x) <= 90)
    yield "looks as if it were counted from the equator, not from 10,000 km south of it", lambda x, y: (x, y + 1e7)
    yield "looks as if it were counted from 10,000 km south of the equator", lambda x, y: (x, y - 1e7)
    for zone, code in _next_zones(crs):
        yield f"looks as if it were in zone {zone} ({code})", partial(_from_zone, code, crs)


def _scaled(east: float, north: float, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    return x * east, y * north


def _from_zone(code: str, crs: str, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    return _turned(code, crs, x, y, x > 1000)


def _turned(
    source: str, target: str, x: FloatArray, y: FloatArray, fits: NDArray[np.bool_]
) -> tuple[FloatArray, FloatArray]:
    if not fits.any():
        return np.full(len(x), np.nan), np.full(len(x), np.nan)
    east, north = transformers(source, target)[0](x, y)
    return np.where(fits, east, np.nan), np.where(fits, north, np.nan)


def _next_zones(crs: str) -> Iterator[tuple[str, str]]:
    """Yield the UTM zones beside that of a system, of the same datum, with their codes."""
    system = pyproj.CRS.from_user_input(crs)
    zone, code = system.utm_zone, system.to_epsg()
    if not zone or not code:
        return
    number, half = int(zone[:-1]), zone[-1]
    for step in (-1, 1, -2, 2):
        try:
            other = pyproj.CRS.from_epsg(code + step)
        except pyproj.exceptions.CRSError:
            continue
        if other.utm_zone == f"{number + step}{half}":
            yield other.utm_zone, f"EPSG:{code + step}"

"""What an inversion takes of a survey: readings at sensors, thinned, with their noise, and the ground below them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
import pandas as pd

from ...compute.geometry.sampling import bilinear
from ...compute.geometry.sketching import within_outline
from ...compute.potential import meshing, scrutiny
from ...declaring.operation import Input, Inputs, Maybe, Params, Places, ground_slot, param
from ...errors import InputError
from ...items.attributes import measuring
from ...items.base import Item
from ...items.features import Features
from ...items.fields import Grid
from ...items.points import PointSet, SurveyLines
from ..grids.sampling import outside

Heights = Literal["their own", "above ground", "one elevation", "a grid"]
Thinning = Literal["nearest to the middle", "mean"]
NoiseFrom = Literal["the noise given", "repeated readings", "line crossings"]
# What an item may measure so that it can't be meant where another quantity is asked for.
_OTHERS = (
    "magnetic field",
    "gravity",
    "elevation",
    "grade",
    "resistivity",
    "chargeability",
    "susceptibility",
    "density",
)
SLOTS = (
    ground_slot(help="Without one the ground is taken as flat"),
    Input("sensors", "Sensor elevations", ("grid",), optional=True, proposed=False, help="A grid of them, in metres"),
    Input(
        "area",
        "Polygons of an area",
        ("features",),
        optional=True,
        proposed=False,
        help="Only readings inside of its polygons",
    ),
)


class ReadingParams(Params):
    """Parameters of the data of an inversion; what is inverted adds its own before them."""

    outline: Places = param(
        (), "Area", editor="area", help="Corners of it, easting and northing in metres; the whole survey when empty"
    )
    heights: Heights = param(
        "their own", "Sensors are at", help="Their own elevations are those of the table", more=True
    )
    height: Maybe = param(
        None,
        "Height",
        unit="m",
        help="Above ground, or the one elevation, by what the sensors are said to be at",
        more=True,
    )
    flat: Maybe = param(
        None, "Flat ground at", unit="m", help="Elevation of the ground where no surface is given", more=True
    )
    spacing: float = param(
        0.0,
        "Data spacing",
        unit="m",
        low=0.0,
        help="Readings are thinned to squares of this side; 0 takes the cell size",
    )
    each: int = param(1, "Readings a square", low=1, high=1000, more=True)
    thinning: Thinning = param("nearest to the middle", "Which are taken", more=True)
    spikes: Literal["are left out", "stay"] = param(
        "are left out", "Spikes", help="Readings that stand alone on their line, far beyond its noise", more=True
    )
    noise_from: NoiseFrom = param(
        "the noise given",
        "Noise from",
        help="Readings repeated at one place, or where lines cross, tell the noise of one reading",
        more=True,
    )
    relative: float = param(
        2.0, "Relative noise", unit="%", low=0.0, high=50.0, help="Added part of each reading's size"
    )


def may_measure(quantity: str) -> Callable[[Any], bool]:
    """Return whether an item may hold readings of a quantity: it does, or nothing says that it measures something else."""

    def fits(entry: Any) -> bool:
        attributes = entry.attributes
        return bool(measuring(attributes, quantity)) or not any(measuring(attributes, other) for other in _OTHERS)

    return fits


@dataclass(frozen=True)
class Readings:
    """Readings that are inverted.

    Attributes
    ----------
    obs
        Sensors (n, 3), metres.
    values
        Readings (n,).
    line
        Line of each, '' for those of points and grids.
    ground
        Elevation of the ground below each sensor, metres; NaN where it is not known.
    words
        What was done with the survey, and what to look at, in short sentences.
    all_places
        Easting and northing (m, 2) of all readings, for `all_values` and `all_lines`.
    """

    obs: np.ndarray
    values: np.ndarray
    line: np.ndarray
    ground: np.ndarray
    words: tuple[str, ...]
    all_values: np.ndarray = field(repr=False, default_factory=lambda: np.zeros(0))
    all_lines: np.ndarray = field(repr=False, default_factory=lambda: np.zeros(0, dtype=np.int64))
    all_places: np.ndarray = field(repr=False, default_factory=lambda: np.zeros((0, 2)))


def read(inputs: Inputs, slot: str, attribute: str, p: ReadingParams, cell: float) -> Readings:
    """Return the readings of a survey inside of the area, thinned.

    Raises
    ------
    InputError
        When too few are left, heights are not known, or sensors lie below the ground.
    """
    item = inputs.need(slot, SurveyLines, PointSet, Grid)
    table = _table(item, attribute)
    x, y, values = (table[c].to_numpy(float) for c in ("x", "y", "value"))
    z = _sensors(inputs, item, table, p)
    good = np.isfinite(x) & np.isfinite(y) & np.isfinite(values)
    lost = int((good & ~np.isfinite(z)).sum())
    good &= np.isfinite(z)
    words = []
    if lost:
        words.append(f"{lost:,} readings without an elevation are left out")
    area = inputs.maybe("area", Features)
    if area is not None or p.outline:
        inside = np.ones(len(x), dtype=bool)
        if area is not None:
            inside &= ~outside(area, np.nan_to_num(x), np.nan_to_num(y))
        if p.outline:
            inside &= within_outline(p.outline, np.nan_to_num(x), np.nan_to_num(y), "area")
        if not (good & inside).any():
            raise InputError("no reading lies in the area", where=item.name if area is None else area.name)
        words.append(f"{int((good & ~inside).sum()):,} readings lie outside of the area")
        good &= inside
    if good.sum() < 10:
        raise InputError(
            f"{int(good.sum())} readings have a value and a place; at least ten are needed", where=item.name
        )
    rows = np.flatnonzero(good)
    if np.ptp(values[rows]) == 0:
        raise InputError("all readings are the same", where=item.name, fix="Look at the attribute that is inverted")
    if max(np.ptp(x[rows]), np.ptp(y[rows])) < 1.0:
        raise InputError(
            "all readings lie within a metre of each other",
            where=item.name,
            fix="Check that their places are metres, not degrees",
        )
    line = table["line"].to_numpy(str)
    codes = pd.factorize(line)[0].astype(np.int64)
    rows, seen = _looked_at(x, y, z, values, line, codes, rows, p)
    words += seen
    places = np.column_stack([x, y])[rows]
    x, y, z, taken, which = _thinned(x, y, z, values, rows, p, p.spacing or cell)
    obs = np.column_stack([x, y, z])
    ground = ground_at(inputs, p, obs)
    return Readings(obs, taken, line[which], ground, tuple(words), values[rows], codes[rows], places)


def _looked_at(
    x: np.ndarray,
    y: np.ndarray,
    z: np.ndarray,
    values: np.ndarray,
    line: np.ndarray,
    codes: np.ndarray,
    rows: np.ndarray,
    p: ReadingParams,
) -> tuple[np.ndarray, list[str]]:
    """The rows that are taken, and what a look at them found with what is done about it."""
    words = []
    same = len(rows) - len(np.unique(np.round(np.column_stack([x, y, z])[rows], 2), axis=0))
    if same:
        words.append(f"{same:,} readings lie on another one: one of a square is taken, or their mean")
    if (line == "").all():
        return rows, words
    a, b, c, v, number = x[rows], y[rows], z[rows], values[rows], codes[rows]
    lone = scrutiny.spikes(v, number)
    if len(lone):
        words.append(f"{len(lone):,} spikes on lines {_some(line[rows][lone])} {p.spikes}")
    high = scrutiny.jumps(a, b, c, number)
    if len(high):
        words.append(
            f"the sensor jumps in height at {len(high):,} readings on lines {_some(line[rows][high])}: taken as they are"
        )
    off, shifts = scrutiny.level_shifts(a, b, v, number)
    if len(off):
        names = [f"{line[rows][number == k][0]} by {shift:.3g}" for k, shift in zip(off, shifts, strict=True)]
        more = "" if len(names) < 4 else f" and {len(names) - 3:,} more"
        words.append(f"levels differ from the lines beside on {', '.join(names[:3])}{more}: level them first")
    return (np.delete(rows, lone) if p.spikes == "are left out" else rows), words


def _some(names: np.ndarray) -> str:
    different = list(dict.fromkeys(names.tolist()))
    return ", ".join(different[:3]) + (" …" if len(different) > 3 else "")


def _table(item: Item, attribute: str) -> pd.DataFrame:
    if isinstance(item, Grid):
        gx, gy = np.meshgrid(item.x, item.y)
        flat = item.values.ravel()
        return pd.DataFrame({"line": "", "x": gx.ravel(), "y": gy.ravel(), "z": np.nan, "value": flat})
    assert isinstance(item, SurveyLines | PointSet)
    table = item.table
    if not attribute:
        raise InputError("no reading is chosen", where=item.name, fix="Name the attribute to invert")
    if attribute not in table:
        raise InputError(f"there is no attribute '{attribute}'", where=item.name)
    line = table["line"].astype(str) if isinstance(item, SurveyLines) else ""
    values = pd.to_numeric(table[attribute], errors="coerce")
    return pd.DataFrame({"line": line, "x": table["x"], "y": table["y"], "z": table["z"], "value": values})


def _sensors(inputs: Inputs, item: Item, table: pd.DataFrame, p: ReadingParams) -> np.ndarray:
    x, y = table["x"].to_numpy(float), table["y"].to_numpy(float)
    if p.heights == "a grid" or (p.heights == "their own" and "sensors" in inputs):
        grid = inputs.maybe("sensors", Grid)
        if grid is None:
            raise InputError("no grid of sensor elevations is given", where=item.name)
        return np.asarray(bilinear(grid.values, grid.x0, grid.y0, grid.dx, grid.dy, x, y))
    if p.heights == "their own":
        own = table["z"].to_numpy(float)
        if not np.isfinite(own).any():
            raise InputError(
                "the readings have no elevations",
                where=item.name,
                fix="Say their height above ground, one elevation, or give a grid of elevations",
            )
        return own
    if p.height is None:
        raise InputError(f"the sensors are at '{p.heights}' without a height", where=item.name, fix="Give it in metres")
    if p.heights == "one elevation":
        return np.full(len(x), p.height)
    if p.height < 0:
        raise InputError("a height above ground can't be negative", where=item.name)
    return ground_at(inputs, p, np.column_stack([x, y])) + p.height


def ground_at(inputs: Inputs, p: ReadingParams, places: np.ndarray) -> np.ndarray:
    """Elevation of the ground at places (n, 2 or more); beyond the edge of the surface the nearest ground goes on."""
    dem = inputs.maybe("ground", Grid)
    if dem is None:
        if p.flat is None:
            raise InputError(
                "neither a ground surface nor the elevation of flat ground is given",
                fix="Give the ground surface, or 'flat', in metres",
            )
        return np.full(len(places), p.flat)
    x = np.clip(places[:, 0], dem.x0, dem.x[-1])
    y = np.clip(places[:, 1], dem.y0, dem.y[-1])
    return np.asarray(bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, x, y))


def column_ground(inputs: Inputs, p: ReadingParams, x: np.ndarray, y: np.ndarray, u: float, v: float) -> np.ndarray:
    """Mean ground of columns of plan u by v metres; where nothing is known the mean of all ground."""
    parts = []
    for share in (-1 / 3, 0.0, 1 / 3):
        for other in (-1 / 3, 0.0, 1 / 3):
            at = np.column_stack([(x + share * u).ravel(), (y + other * v).ravel()])
            parts.append(ground_at(inputs, p, at).reshape(x.shape))
    stack = np.stack(parts)
    known = np.isfinite(stack)
    if not known.any():
        raise InputError("the ground surface does not lie under the readings")
    total = np.where(known, stack, 0.0).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
    return np.where(known.any(axis=0), total, float(np.mean(stack[known])))


def above_ground(data: Readings, name: str, tolerance: float) -> str:
    """What to say of sensors below the ground, '' for nothing.

    Ground surfaces are known to some metres, so that a sensor on the ground may seem to lie below it.

    Raises
    ------
    InputError
        When some lie further below it than the tolerance in metres.
    """
    height = data.obs[:, 2] - data.ground
    deep = int(np.sum(height < -tolerance))
    if deep:
        raise InputError(
            f"{deep:,} readings lie below the ground surface, by up to {-np.nanmin(height):,.0f} m",
            where=name,
            fix="Check that their elevation is that of the sensor, in metres, and that the ground is the right one",
        )
    shallow = int(np.sum(height <= 0))
    return f"{shallow:,} lie up to {-np.nanmin(height):.1f} m below the ground surface, which yields" if shallow else ""


def told_noise(data: Readings, level: float, p: ReadingParams, name: str) -> float:
    """The noise that was given, or what repeats or crossings of lines tell; 0 where neither is.

    Raises
    ------
    InputError
        When there are too few of them.
    """
    x, y = data.all_places.T
    try:
        if p.noise_from == "repeated readings":
            return scrutiny.noise_of_repeats(x, y, data.all_values)[0]
        if p.noise_from == "line crossings":
            return scrutiny.noise_of_crossings(x, y, data.all_values, data.all_lines)[0]
    except InputError as error:
        raise InputError(error.what, where=name, fix=error.fix) from error
    return level


def noise_of(data: Readings, level: float, p: ReadingParams, least: float, name: str, unit: str) -> np.ndarray:
    """Standard deviation of each reading: what was given, or the random noise along lines and `least`, and a part of its size.

    Raises
    ------
    InputError
        When nothing is given and it can't be estimated.
    """
    level = told_noise(data, level, p, name)
    if level == 0.0:
        level = meshing.line_noise(data.all_values, data.all_lines) if len(set(data.line)) > 1 else np.nan
        if not np.isfinite(level):
            raise InputError(
                "the noise can't be estimated from these readings", where=name, fix=f"Give a noise level in {unit}"
            )
        level = float(np.hypot(level, least))
    return np.asarray(np.hypot(level, p.relative / 100.0 * np.abs(data.values - np.median(data.values))))


def gravity_noise(data: Readings, level: float, p: ReadingParams, name: str) -> np.ndarray:
    """Standard deviation of each gravity reading; where no level is given a share of their range, and nothing relative."""
    known = gravity_level(data, level, p, name)
    plain = level == 0.0 and p.noise_from == "the noise given"
    relative = 0.0 if plain else p.relative / 100.0
    return np.asarray(np.hypot(known, relative * np.abs(data.values - np.median(data.values))))


def gravity_level(data: Readings, level: float, p: ReadingParams, name: str) -> float:
    """The level of the noise that was given or told by repeats, 2 % of the range of the readings where none was."""
    return told_noise(data, level, p, name) or 0.02 * float(np.ptp(data.values))


def _thinned(
    x: np.ndarray, y: np.ndarray, z: np.ndarray, values: np.ndarray, rows: np.ndarray, p: ReadingParams, side: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Places and values of what is left, and a row of each."""
    if p.thinning == "mean":
        keys = np.stack([np.floor(x[rows] / side), np.floor(y[rows] / side)], axis=1)
        _, first, group = np.unique(keys, axis=0, return_index=True, return_inverse=True)
        count = np.bincount(group.ravel())
        mean = [np.bincount(group.ravel(), weights=v[rows]) / count for v in (x, y, z, values)]
        return mean[0], mean[1], mean[2], mean[3], rows[first]
    kept = rows[meshing.thin_by_cell(x[rows], y[rows], side, p.each)]
    return x[kept], y[kept], z[kept], values[kept], kept

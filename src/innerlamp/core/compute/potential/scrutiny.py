"""A look at survey readings before they are inverted: spikes, levels of lines, sensors that jump, repeats and crossings."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...errors import InputError
from ..statistics.spikes import isolated

FloatArray = NDArray[np.float64]
Rows = NDArray[np.int64]
_NORMAL = 1.4826  # turns the median absolute deviation of normal noise into its standard deviation
_STEEP = 8.0  # noise of the second difference from which a lone reading is a spike
_SAME = 1.0  # metres within which two readings are of one place


def spikes(values: FloatArray, line: Rows) -> Rows:
    """Return the rows of readings that stand alone on their line, of 7 readings or more, far beyond its noise (see `isolated`).

    Parameters
    ----------
    values, line
        Readings in their unit and the number of the line of each, shape (n,), in the order in which they were made.
    """
    found = []
    for rows in _by_line(line):
        if len(rows) >= 7:
            lone, _ = isolated(values[rows], 3, _STEEP)
            found.append(rows[lone])
    return np.sort(np.concatenate(found)) if found else np.zeros(0, np.int64)


def jumps(x: FloatArray, y: FloatArray, z: FloatArray, line: Rows) -> Rows:
    """Return the rows at which a sensor rises or falls more steeply than 45 degrees, and by more than 10 m, from the one before on its line.

    Places and line numbers have the shape (n,), metres.
    """
    step, rise = np.hypot(np.diff(x), np.diff(y)), np.abs(np.diff(z))
    return np.flatnonzero((line[1:] == line[:-1]) & (rise > np.maximum(10.0, step))) + 1


def level_shifts(x: FloatArray, y: FloatArray, values: FloatArray, line: Rows) -> tuple[Rows, FloatArray]:
    """Return lines that lie above or below what their neighbours on both sides say, and by how much.

    Each line is cut to pieces about as long as lines are apart, and the mean of each is held against what lies between
    the nearest pieces on each side of it. A line is named when the median of that is beyond four times the scatter of
    all lines' medians, and three times its own standard error.

    Parameters
    ----------
    x, y, values, line
        Shape (n,): metres, readings, numbers of lines.

    Returns
    -------
    lines, shifts
        Numbers of the lines and shifts in the unit of the readings; none where there are fewer than five lines.
    """
    from scipy.spatial import cKDTree

    lines = _by_line(line)
    nothing = np.zeros(0, np.int64), np.zeros(0)
    if len(lines) < 5:
        return nothing
    length = sum(float(np.hypot(np.diff(x[r]), np.diff(y[r])).sum()) for r in lines)
    apart = float(np.ptp(x) * np.ptp(y)) / max(length, 1.0)
    if not apart > 0:
        return nothing
    along = np.empty(len(x))
    for rows in lines:
        along[rows] = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(x[rows]), np.diff(y[rows])))])
    frame = pd.DataFrame({"x": x, "y": y, "v": values, "line": line, "piece": (along / apart).astype(np.int64)})
    table = frame.groupby(["line", "piece"]).mean().reset_index()
    places, v, own = table[["x", "y"]].to_numpy(float), table["v"].to_numpy(float), table["line"].to_numpy(np.int64)
    away, near = cKDTree(places).query(places, k=min(17, len(places)))
    # Of each piece the nearest one of another line, and the nearest on the other side of it.
    good = (own[np.minimum(near, len(own) - 1)] != own[:, None]) & (away < 4.0 * apart)
    to = places[np.minimum(near, len(own) - 1)] - places[:, None, :]
    one = np.argmax(good, axis=1)
    every = np.arange(len(places))
    across = good & (np.einsum("nki,ni->nk", to, to[every, one]) < 0)
    two = np.argmax(across, axis=1)
    here = np.flatnonzero(good.any(axis=1) & across.any(axis=1))
    if not len(here):
        return nothing
    first, second = near[here, one[here]], near[here, two[here]]
    a, b = away[here, one[here]], away[here, two[here]]
    share = b / np.maximum(a + b, 1e-9)
    found: dict[int, float] = {}
    for _ in range(len(lines)):  # the worst first: a line that is off makes those beside it look so
        off = v[here] - share * v[first] - (1.0 - share) * v[second]
        each = pd.DataFrame({"line": own[here], "off": off}).groupby("line")["off"]
        medians, counts = each.median(), each.count()
        spread = each.apply(lambda part: _NORMAL * float(np.median(np.abs(part - part.median()))))
        many = counts >= 5
        if many.sum() < 5:
            break
        middle = float(medians[many].median())
        usual = _NORMAL * float((medians[many] - middle).abs().median())
        over = (medians - middle).abs() / np.maximum(4.0 * usual, 3.0 * spread / np.sqrt(counts)).clip(lower=1e-300)
        worst = over[many].idxmax()
        if not over[worst] > 1.0:
            break
        shift = float(medians[worst])
        found[int(worst)] = found.get(int(worst), 0.0) + shift
        v = np.where(own == worst, v - shift, v)
    numbers = np.array(sorted(found), dtype=np.int64)
    return numbers, np.array([found[int(k)] for k in numbers])


def noise_of_repeats(x: FloatArray, y: FloatArray, values: FloatArray) -> tuple[float, int]:
    """Return the standard deviation of one reading from readings at one place (within a metre), and how many there are.

    The pooled standard deviation of the groups (ISO 5725-2): that of one reading, not of a mean.

    Raises
    ------
    InputError
        When fewer than three readings repeat another.
    """
    from scipy.spatial import cKDTree

    # By distance: on a raster two readings beside each other may lie in two cells, and two far apart in one. A pair counts
    # by one over the readings around it, so that k readings at one place have k - 1 degrees of freedom, as pooled ones have.
    one, two = cKDTree(np.column_stack([x, y])).query_pairs(_SAME, output_type="ndarray").T
    around = 1.0 + np.bincount(one, minlength=len(x)) + np.bincount(two, minlength=len(x))
    weight = 2.0 / (around[one] + around[two])
    freedom = round(2.0 * float(weight.sum()))
    if freedom < 3:
        raise InputError(
            f"{freedom} readings repeat another at one place; three are needed to tell the noise",
            fix="Give a noise level",
        )
    squares = float(weight @ (values[one] - values[two]) ** 2)
    return float(np.sqrt(squares / (2.0 * float(weight.sum())))), freedom


def noise_of_crossings(x: FloatArray, y: FloatArray, values: FloatArray, line: Rows) -> tuple[float, int]:
    """Return the standard deviation of one reading from where lines cross, and how many crossings there are.

    Places (metres), readings and line numbers have the shape (n,). Readings are drawn straight to each crossing; the scaled median absolute difference is that of two readings.

    Raises
    ------
    InputError
        When lines cross fewer than five times.
    """
    import shapely

    lines = [rows for rows in _by_line(line) if len(rows) > 1]
    shapes = [shapely.LineString(np.column_stack([x[rows], y[rows]])) for rows in lines]
    tree = shapely.STRtree(shapes)
    first, second = tree.query(shapes, predicate="crosses") if shapes else (np.zeros(0, int), np.zeros(0, int))
    differences = []
    along = [np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(x[r]), np.diff(y[r])))]) for r in lines]
    for a, b in zip(first, second, strict=True):
        if a >= b:
            continue
        for point in shapely.get_parts(shapely.intersection(shapes[a], shapes[b])):
            if point.geom_type == "Point":
                one, two = (
                    float(np.interp(shapes[k].project(point), along[k], values[lines[k]])) for k in (int(a), int(b))
                )
                differences.append(one - two)
    if len(differences) < 5:
        raise InputError(
            f"lines cross {len(differences)} times; five crossings are needed to tell the noise",
            fix="Give a noise level",
        )
    d = np.array(differences)
    return float(_NORMAL * np.median(np.abs(d - np.median(d))) / np.sqrt(2.0)), len(d)


def _by_line(line: Rows) -> list[Rows]:
    """Rows of each line, in their order."""
    order = np.argsort(line, kind="stable")
    cuts = np.flatnonzero(np.diff(line[order])) + 1
    return [np.asarray(part) for part in np.split(order, cuts)] if len(line) else []

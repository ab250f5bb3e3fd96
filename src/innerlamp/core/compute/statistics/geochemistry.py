"""Geochemistry: thresholds, anomalies, levelling by unit, principal components."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


def threshold_of_logs(values: FloatArray, deviations: float) -> float:
    """Return mean plus so many standard deviations of the logarithms, turned back (Hawkes & Webb 1962).

    Values have shape (n,), NaN where missing; the result is in their unit.

    Raises
    ------
    InputError
        With fewer than three positive values.
    """
    logs = np.log(values[np.isfinite(values) & (values > 0)])
    if len(logs) < 3:
        raise InputError("fewer than three values are above 0")
    return float(np.exp(logs.mean() + deviations * logs.std(ddof=1)))


def threshold_by_break(values: FloatArray) -> float:
    """Return the value at which the cumulative probability plot of logarithms bends most (Sinclair 1974).

    Two straight lines through the plot, the break that leaves least misfit; the lowest and highest
    twentieth do not carry it.

    Raises
    ------
    InputError
        With fewer than twenty positive values.
    """
    from scipy.special import ndtri

    logs = np.sort(np.log(values[np.isfinite(values) & (values > 0)]))
    n = len(logs)
    if n < 20:
        raise InputError("fewer than twenty values are above 0: a break can't be told")
    score = ndtri((np.arange(1, n + 1) - 0.5) / n)
    step = max(1, n // 400)
    x, y = score[::step], logs[::step]
    best, place = np.inf, float(y[len(y) // 2])
    for k in range(max(3, len(x) // 20), min(len(x) - 3, len(x) - len(x) // 20)):
        # A hinge: one line before the break, another after, meeting at it.
        design = np.column_stack([np.ones(len(x)), x, np.maximum(x - x[k], 0.0)])
        left = y - design @ np.linalg.lstsq(design, y, rcond=None)[0]
        if (misfit := float(left @ left)) < best:
            best, place = misfit, float(y[k])
    return float(np.exp(place))


@dataclass(frozen=True)
class Group:
    """Samples over a threshold that lie together: rows, outline (n, 2) round them, holes in it, and the area between, m²."""

    rows: IntArray
    outline: FloatArray
    area: float
    holes: tuple[FloatArray, ...] = ()


def groups_over(x: FloatArray, y: FloatArray, over: NDArray[np.bool_], link: float, least: int = 2) -> list[Group]:
    """Return groups of samples that are over the threshold and linked by no more than `link` metres, the largest first.

    The outline is the hull of discs of half the link about the samples, so that even a row of
    samples has an area (common practice, no source).
    """
    import shapely
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    rows = np.flatnonzero(over)
    if not len(rows):
        return []
    xy = np.column_stack([x[rows], y[rows]])
    pairs = cKDTree(xy).query_pairs(link, output_type="ndarray")
    n = len(rows)
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    count, member = connected_components(graph, directed=False)
    out = []
    for k in range(count):
        mine = np.flatnonzero(member == k)
        if len(mine) < least:
            continue
        shape = shapely.union_all(shapely.buffer(shapely.points(xy[mine]), 0.55 * link))
        if shape.geom_type != "Polygon":
            shape = shapely.convex_hull(shape)
        rings = [np.asarray(ring.coords, dtype=float) for ring in (shape.exterior, *shape.interiors)]
        out.append(Group(rows[mine], rings[0], float(shape.area), tuple(rings[1:])))
    return sorted(out, key=lambda g: -len(g.rows))


def levelled(values: FloatArray, unit: NDArray[np.object_], least: int = 8) -> FloatArray:
    """Return robust z-scores of logarithms within each unit, so that units with other backgrounds compare.

    The score is the distance from the unit's median in scaled median absolute deviations. Values of
    units with fewer than `least` samples are scored within all samples.

    Values and units have shape (n,).
    """
    logs = np.log(np.where(values > 0, values, np.nan))
    out = np.full(len(values), np.nan)

    def score(rows: NDArray[np.bool_], within: NDArray[np.bool_]) -> None:
        known = logs[within & np.isfinite(logs)]
        if not len(known):
            return
        middle = float(np.median(known))
        spread = 1.4826 * float(np.median(np.abs(known - middle)))
        out[rows] = (logs[rows] - middle) / spread if spread > 0 else 0.0 * logs[rows]

    every = np.ones(len(values), dtype=bool)
    for name in set(unit.tolist()):
        rows = unit == name
        score(rows, rows if int((rows & np.isfinite(logs)).sum()) >= least else every)
    return out


@dataclass(frozen=True)
class Components:
    """Principal components: loadings (variables, components), explained share of each, and scores (rows, components)."""

    loadings: FloatArray
    explained: FloatArray
    scores: FloatArray


def principal_components(table: FloatArray, logs: bool = True) -> Components:
    """Return the components of standardised columns (Hotelling 1933); rows with a missing value have no scores.

    Parameters
    ----------
    table
        Shape (rows, variables).
    logs
        Take centred log-ratios first, which frees compositions of their closure (Aitchison 1986).

    Raises
    ------
    InputError
        With fewer than two variables, too few whole rows, or a variable that does not vary.
    """
    if table.ndim != 2 or table.shape[1] < 2:
        raise InputError("components need two columns at least")
    data = np.log(np.where(table > 0, table, np.nan)) if logs else table.astype(float)
    if logs:
        data = data - data.mean(axis=1, keepdims=True)
    whole = np.isfinite(data).all(axis=1)
    if whole.sum() < table.shape[1] + 2:
        raise InputError(
            f"{int(whole.sum())} rows have all {table.shape[1]} values: too few", fix="Leave out the columns with gaps"
        )
    mean, spread = data[whole].mean(axis=0), data[whole].std(axis=0, ddof=1)
    if (spread <= 1e-12 * np.maximum(np.abs(mean), 1.0)).any():
        raise InputError("a column does not vary", fix="Leave it out")
    z = (data - mean) / spread
    values, axes = np.linalg.eigh(np.corrcoef(z[whole], rowvar=False))
    order = np.argsort(values)[::-1]
    values, axes = np.maximum(values[order], 0.0), axes[:, order]
    axes = axes * np.where(axes[np.abs(axes).argmax(axis=0), np.arange(axes.shape[1])] < 0, -1.0, 1.0)
    scores = np.full(table.shape, np.nan)
    scores[whole] = z[whole] @ axes
    return Components(axes * np.sqrt(values), values / values.sum(), scores)

"""Properties of units and a shift that explain readings, linear in both, within bounds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class UnitFit:
    """Values of the units (u,), their standard errors (u,), NaN at a bound or where nothing tells them, and the shift (n,)."""

    values: FloatArray
    errors: FloatArray
    shift: FloatArray


def shift_columns(kind: str, places: FloatArray) -> FloatArray:
    """Return columns (n, k) of a shift: ``none``, ``constant`` or ``plane`` over places (n, 2 or 3), scaled to about 1."""
    n = len(places)
    if kind == "none":
        return np.zeros((n, 0))
    if kind == "constant":
        return np.ones((n, 1))
    middle = places[:, :2].mean(axis=0)
    return np.column_stack(
        [np.ones(n), (places[:, :2] - middle) / max(float(np.ptp(places[:, :2], axis=0).max()), 1.0)]
    )


def fit_units(
    responses: FloatArray, data: FloatArray, lower: FloatArray, upper: FloatArray, columns: FloatArray
) -> UnitFit:
    """Return the values of units that fit data best in least squares (bounded: Stark & Parker 1995, Computational Statistics 10).

    Parameters
    ----------
    responses
        What a value of 1 of each unit is measured as, shape (n, u), in the unit of the data.
    lower, upper
        Bounds (u,) of the values; a unit whose bounds are one value is held there.
    columns
        Of a shift (n, k), free; see `shift_columns`.

    Raises
    ------
    InputError
        When a lower bound is above the upper one, or there are fewer data than unknowns.
    """
    from scipy.optimize import lsq_linear

    n, count = responses.shape
    if (lower > upper).any():
        raise InputError("a lowest value is above the highest", fix="Look at the table of units")
    free = np.flatnonzero(lower < upper)
    if n < len(free) + columns.shape[1]:
        raise InputError(f"{n} readings can't tell {len(free)} units and a shift")
    held = np.where(lower == upper, lower, 0.0)
    rest = data - responses @ held
    whole = np.hstack([responses[:, free], columns])
    size = np.maximum(np.linalg.norm(whole, axis=0), 1e-300)
    low = np.concatenate([lower[free], np.full(columns.shape[1], -np.inf)]) * size
    high = np.concatenate([upper[free], np.full(columns.shape[1], np.inf)]) * size
    if whole.shape[1]:
        found = lsq_linear(
            whole / size, rest, (low, high), method="bvls" if np.isfinite(low).all() else "trf", tol=1e-12
        )
        x = found.x / size
    else:
        x = np.zeros(0)
    values = held.copy()
    values[free] = x[: len(free)]
    residual = rest - whole @ x
    errors = np.full(count, np.nan)
    inside = np.array([lower[k] + 1e-9 < values[k] < upper[k] - 1e-9 for k in free], dtype=bool)
    used = np.concatenate([inside, np.ones(columns.shape[1], dtype=bool)])
    if used.any() and n > used.sum():
        part = whole[:, used]
        spread = np.linalg.pinv(part.T @ part)
        sigma = np.sqrt(np.maximum(np.diag(spread), 0.0) * float(residual @ residual) / (n - used.sum()))
        errors[free[inside]] = sigma[: int(inside.sum())]
    return UnitFit(values, errors, columns @ x[len(free) :])

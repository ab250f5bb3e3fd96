"""Planes and lines on the lower hemisphere, in equal-area projection: places, density, means and girdles.

Vectors are (east, north, down), unit length. The net has radius 1; its centre is straight down.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


def line_vectors(plunge: FloatArray, trend: FloatArray) -> FloatArray:
    """Return unit vectors (n, 3) of lines; degrees, trend clockwise from north."""
    p, t = np.radians(np.asarray(plunge, dtype=float)), np.radians(np.asarray(trend, dtype=float))
    return np.stack([np.cos(p) * np.sin(t), np.cos(p) * np.cos(t), np.sin(p)], axis=-1)


def pole_vectors(dip: FloatArray, direction: FloatArray) -> FloatArray:
    """Return unit vectors (n, 3) of the poles of planes that dip towards a direction; they point down."""
    return line_vectors(90.0 - np.asarray(dip, dtype=float), np.asarray(direction, dtype=float) + 180.0)


def plunge_and_trend(vectors: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return plunge and trend in degrees of vectors, turned to the lower hemisphere."""
    v = np.where(vectors[..., 2:3] < 0, -vectors, vectors)
    plunge = np.degrees(np.arcsin(np.clip(v[..., 2], -1.0, 1.0)))
    return plunge, np.degrees(np.arctan2(v[..., 0], v[..., 1])) % 360.0


def project(vectors: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return places on the equal-area net (Lambert 1772; Schmidt 1925): east and north, within radius 1."""
    v = np.where(vectors[..., 2:3] < 0, -vectors, vectors)
    scale = 1.0 / np.sqrt(1.0 + np.clip(v[..., 2], 0.0, 1.0))
    return v[..., 0] * scale, v[..., 1] * scale


def unproject(x: FloatArray, y: FloatArray) -> FloatArray:
    """Return the vectors (…, 3) at places on the net; NaN outside of it."""
    r2 = np.square(x) + np.square(y)
    with np.errstate(invalid="ignore"):
        side = np.sqrt(np.where(r2 <= 1.0 + 1e-12, 2.0 - r2, np.nan))
    return np.stack([x * side, y * side, 1.0 - r2], axis=-1)


def great_circle(dip: float, direction: float, count: int = 91) -> FloatArray:
    """Return places (count, 2) on the net along a plane, from strike to strike."""
    strike, down = (
        line_vectors(np.array(0.0), np.array(direction - 90.0)),
        line_vectors(np.array(dip), np.array(direction)),
    )
    angle = np.linspace(0.0, np.pi, count)[:, None]
    return np.column_stack(project(np.cos(angle) * strike + np.sin(angle) * down))


def density(vectors: FloatArray, at: FloatArray, sigma: float = 3.0) -> FloatArray:
    """Return the density of axes in standard deviations of a uniform one (Kamb 1959, exponential after Vollmer 1995).

    Parameters
    ----------
    vectors
        Axes, shape (n, 3).
    at
        Where it is wanted, shape (m, 3).
    sigma
        Radius of the counting cone: so many deviations are expected in it.

    Raises
    ------
    InputError
        Without axes.
    """
    n = len(vectors)
    if n < 1:
        raise InputError("there is no reading to count")
    f = 2.0 * (1.0 + n / sigma**2)
    unit = np.sqrt(n * (f / 2.0 - 1.0) / f**2)
    total = np.exp(f * (np.abs(at @ vectors.T) - 1.0)).sum(axis=1)
    return np.asarray(np.maximum((total - 0.5) / unit, 0.0))


@dataclass(frozen=True)
class Axes:
    """What a set of axes has in common.

    `mean` is the axis nearest to all (Scheidegger 1965), `girdle` the pole of the great circle
    nearest to all; `strength` is ln(S1/S3) and `shape` ln(S1/S2) / ln(S2/S3), above 1 for clusters and
    below for girdles (Woodcock 1977).
    """

    count: int
    mean: FloatArray
    girdle: FloatArray
    strength: float
    shape: float


def common_axes(vectors: FloatArray) -> Axes:
    """Return mean and girdle of axes (n, 3) from the eigenvectors of their orientation tensor.

    Raises
    ------
    InputError
        With fewer than two axes.
    """
    if len(vectors) < 2:
        raise InputError("a mean needs two readings at least")
    values, axes = np.linalg.eigh(vectors.T @ vectors / len(vectors))
    s3, s2, s1 = (max(float(v), 1e-12) for v in values)
    mean, girdle = (v if v[2] >= 0 else -v for v in (axes[:, 2], axes[:, 0]))
    between = np.log(s2 / s3)
    return Axes(
        len(vectors),
        mean,
        girdle,
        float(np.log(s1 / s3)),
        float(np.log(s1 / s2) / between) if between > 1e-9 else float("inf"),
    )

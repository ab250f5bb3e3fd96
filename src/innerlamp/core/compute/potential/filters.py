"""Filters of gridded potential fields in the wavenumber domain, with gaps and edges handled.

A grid is filled where it is blank, freed of its plane, continued beyond its edges and tapered to
zero there, transformed, filtered, transformed back and cut to where it had values. Wavenumbers
are in radians per metre; z counts downward, as in Blakely (1995), whose chapters 11 and 12 give the
operators.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
Operator = Callable[[FloatArray, FloatArray, FloatArray], Any]
_GRAVITY = 6.67430e-11
_LOWEST = 20.0  # inclination below which reduction to the pole limits how much it blows up noise


@dataclass(frozen=True)
class Spread:
    """A grid made ready: the half of its spectrum that a real field needs, wavenumbers, and what is needed to come back."""

    spectrum: ComplexArray
    kx: FloatArray
    ky: FloatArray
    k: FloatArray
    rows: slice
    columns: slice
    shape: tuple[int, ...]
    blank: NDArray[np.bool_]
    plane: FloatArray


def filled(values: FloatArray) -> FloatArray:
    """Return a grid whose gaps are filled: by the nearest value, then smoothed within the gap until it lies flat.

    `values` has shape (ny, nx), NaN where blank, in any unit.

    Raises
    ------
    InputError
        When no cell has a value.
    """
    from scipy.ndimage import distance_transform_edt

    gap = ~np.isfinite(values)
    if not gap.any():
        return values
    if gap.all():
        raise InputError("the grid has no values")
    j, i = distance_transform_edt(gap, return_distances=False, return_indices=True)
    out = values[j, i]
    for _ in range(60):  # a few sweeps of Laplace's equation take the steps out; their far ends are tapered anyway
        padded = np.pad(out, 1, mode="edge")
        mean = 0.25 * (padded[:-2, 1:-1] + padded[2:, 1:-1] + padded[1:-1, :-2] + padded[1:-1, 2:])
        out = np.where(gap, mean, out)
    return np.asarray(out)


def _plane(values: FloatArray, known: NDArray[np.bool_]) -> FloatArray:
    """Return the plane that fits the known values best, by sums along rows and columns: no matrix of the whole grid."""
    ny, nx = values.shape
    y, x = np.linspace(-1, 1, ny), np.linspace(-1, 1, nx)
    rows, columns = known.sum(axis=1, dtype=float), known.sum(axis=0, dtype=float)
    held = np.where(known, values, 0.0)
    by_row, by_column = held.sum(axis=1), held.sum(axis=0)
    cross = float(y @ (known @ x))
    total = rows.sum()
    sx, sy = float(columns @ x), float(rows @ y)
    normal = np.array([[total, sx, sy], [sx, columns @ x**2, cross], [sy, cross, rows @ y**2]])
    right = np.array([by_row.sum(), by_column @ x, by_row @ y])
    a, b, c = np.linalg.lstsq(normal, right, rcond=None)[0]
    return np.asarray(a + b * x[None, :] + c * y[:, None])


def spread(values: FloatArray, dx: float, dy: float, share: float = 0.25) -> Spread:
    """Return a grid made ready; `share` of its size is added on each side, mirrored and tapered by a cosine.

    Raises
    ------
    InputError
        When it has no values or fewer than eight rows or columns.
    """
    from scipy.fft import next_fast_len, rfft2

    ny, nx = values.shape
    if min(nx, ny) < 8:
        raise InputError(f"a grid of {nx} × {ny} cells is too small to be filtered")
    blank = ~np.isfinite(values)
    whole = filled(values)
    plane = _plane(whole, ~blank)
    rest = whole - plane
    pads = []
    for n in (ny, nx):
        total = next_fast_len(n + 2 * max(8, int(share * n)), real=True)
        before = (total - n) // 2
        pads.append((before, total - n - before))
    extended = (
        np.pad(rest, pads, mode="reflect", reflect_type="odd")
        if max(map(max, pads)) < min(nx, ny)
        else np.pad(rest, pads, mode="edge")
    )
    for axis, n in ((0, ny), (1, nx)):
        weight = np.ones(extended.shape[axis])
        before, after = pads[axis]
        weight[:before] = 0.5 - 0.5 * np.cos(np.pi * np.arange(before) / before)
        weight[before + n :] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(after) + 1.0) / after)
        extended *= weight[:, None] if axis == 0 else weight[None, :]
    ky, kx = np.meshgrid(
        2 * np.pi * np.fft.fftfreq(extended.shape[0], dy),
        2 * np.pi * np.fft.rfftfreq(extended.shape[1], dx),
        indexing="ij",
    )
    rows, columns = slice(pads[0][0], pads[0][0] + ny), slice(pads[1][0], pads[1][0] + nx)
    return Spread(rfft2(extended, workers=-1), kx, ky, np.hypot(kx, ky), rows, columns, extended.shape, blank, plane)


def applied(ready: Spread, operator: Operator | NDArray[Any], with_plane: bool = False) -> FloatArray:
    """Return the grid after an operator, an array or a function of (kx, ky, |k|); blanks come back blank.

    `with_plane` adds the plane again that was taken off: for operators that leave a plane as it is.
    """
    from scipy.fft import irfft2

    factor = operator(ready.kx, ready.ky, ready.k) if callable(operator) else operator
    out = irfft2(ready.spectrum * factor, s=ready.shape, workers=-1)[ready.rows, ready.columns]
    if with_plane:
        out = out + ready.plane
    return np.where(ready.blank, np.nan, out)


def _slopes(ready: Spread, dx: float, dy: float) -> tuple[float, float]:
    # The plane's own slopes, which derivatives must not lose.
    return float(ready.plane[0, 1] - ready.plane[0, 0]) / dx, float(ready.plane[1, 0] - ready.plane[0, 0]) / dy


def derivatives(values: FloatArray, dx: float, dy: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return the derivatives to the east, to the north and downward, per metre."""
    ready = spread(values, dx, dy)
    east, north = _slopes(ready, dx, dy)
    return (
        applied(ready, 1j * ready.kx) + east,
        applied(ready, 1j * ready.ky) + north,
        applied(ready, ready.k),
    )


def horizontal_gradient(values: FloatArray, dx: float, dy: float) -> FloatArray:
    """Return the length of the horizontal gradient, per metre; its ridges follow steep contacts (Cordell & Grauch 1985)."""
    east, north, _ = derivatives(values, dx, dy)
    return np.hypot(east, north)


def total_gradient(values: FloatArray, dx: float, dy: float) -> FloatArray:
    """Return the length of the gradient in all three directions, per metre (Nabighian 1972; Roest et al. 1992)."""
    east, north, down = derivatives(values, dx, dy)
    return np.sqrt(east**2 + north**2 + down**2)


def tilt(values: FloatArray, dx: float, dy: float) -> FloatArray:
    """Return the tilt angle in degrees, from -90 to 90 (Miller & Singh 1994); zero over the edges of vertical contacts."""
    east, north, down = derivatives(values, dx, dy)
    return np.degrees(np.arctan2(down, np.hypot(east, north)))


def continued(values: FloatArray, dx: float, dy: float, height: float) -> FloatArray:
    """Return the field at another height: up for positive metres, down for negative ones.

    Downward continuation blows noise up; wavelengths shorter than four times the distance are
    damped by a cosine, and going deeper than half the grid's size is refused.

    Raises
    ------
    InputError
        When the distance makes no sense for the grid.
    """
    ny, nx = values.shape
    if height < 0 and -height > 0.5 * min(nx * dx, ny * dy):
        raise InputError(f"the grid is too small to be continued {-height:g} m downward")
    ready = spread(values, dx, dy)

    def operator(kx: FloatArray, ky: FloatArray, k: FloatArray) -> Any:
        factor = np.exp(-np.minimum(k * height, 700.0)) if height >= 0 else np.exp(np.minimum(-k * height, 60.0))
        if height < 0:
            limit = 2 * np.pi / (4.0 * -height)
            edge = np.clip((k - limit) / limit, 0.0, 1.0)
            factor = factor * (0.5 + 0.5 * np.cos(np.pi * edge))
        return factor

    return applied(ready, operator, with_plane=True)


def _theta(kx: FloatArray, ky: FloatArray, k: FloatArray, inclination: float, declination: float) -> ComplexArray:
    i, d = np.radians(inclination), np.radians(declination)
    with np.errstate(divide="ignore", invalid="ignore"):
        out = np.sin(i) + 1j * (np.cos(i) * np.sin(d) * kx + np.cos(i) * np.cos(d) * ky) / k
    out[k == 0] = 1.0
    return np.asarray(out)


def _to_pole(inclination: float, declination: float) -> Operator:
    def operator(kx: FloatArray, ky: FloatArray, k: FloatArray) -> Any:
        theta = _theta(kx, ky, k, inclination, declination)
        if abs(inclination) >= _LOWEST:
            return 1.0 / theta**2
        # Near the equator the amplitude is that of a steeper field, the phase the true one (MacLeod et al. 1993).
        steep = _theta(kx, ky, k, np.copysign(_LOWEST, inclination if inclination else 1.0), declination)
        return np.exp(-2j * np.angle(theta)) / np.abs(steep) ** 2

    return operator


def reduced_to_pole(values: FloatArray, dx: float, dy: float, inclination: float, declination: float) -> FloatArray:
    """Return the anomaly as it would be in a vertical field, magnetisation and field in one direction (Baranov & Naudy 1964).

    Values (ny, nx) in nT, cell sizes in metres; inclination is positive downward, declination from grid north,
    degrees. Below 20 degrees of inclination the amplitude is limited. Level and plane of the grid are taken off
    and stay off: they are no anomaly, and a field that is constant has no pole.
    """
    return applied(spread(values, dx, dy), _to_pole(inclination, declination))


def pseudo_gravity(
    values: FloatArray, dx: float, dy: float, inclination: float, declination: float, ratio: float = 1000.0
) -> FloatArray:
    """Return the gravity in mGal of bodies that make a total-field anomaly in nT (Baranov 1957).

    `ratio` is density over magnetisation in kg/m3 per A/m (Poisson's relation). The mean is not
    determined and comes out as zero.
    """
    pole = _to_pole(inclination, declination)
    scale = _GRAVITY * ratio / 1e-7 * 1e-9 * 1e5  # nT to T, and m/s2 to mGal

    def operator(kx: FloatArray, ky: FloatArray, k: FloatArray) -> Any:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(k > 0, scale * pole(kx, ky, k) / k, 0.0)

    return applied(spread(values, dx, dy, share=0.35), operator)


def band_pass(values: FloatArray, dx: float, dy: float, shortest: float, longest: float) -> FloatArray:
    """Return the wavelengths between two, in metres, with cosine edges of a third; 0 leaves an end open.

    Raises
    ------
    InputError
        When nothing would be left.
    """
    if longest and shortest >= longest:
        raise InputError("the shortest wavelength must be below the longest")

    def operator(kx: FloatArray, ky: FloatArray, k: FloatArray) -> Any:
        out = np.ones(k.shape)
        with np.errstate(divide="ignore"):
            wave = np.where(k > 0, 2 * np.pi / np.where(k > 0, k, 1.0), np.inf)
        if shortest:
            out *= 0.5 - 0.5 * np.cos(np.pi * np.clip((wave - shortest * 2 / 3) / (shortest * 2 / 3), 0, 1))
        if longest:
            out *= 0.5 + 0.5 * np.cos(np.pi * np.clip((wave - longest * 2 / 3) / (longest * 2 / 3), 0, 1))
        return out

    return applied(spread(values, dx, dy), operator, with_plane=not longest)


def polynomial(values: FloatArray, order: int) -> FloatArray:
    """Return the polynomial surface of an order (0 to 6) that fits a grid best; blanks are filled by it.

    Raises
    ------
    InputError
        When the grid has fewer values than the polynomial has coefficients.
    """
    from numpy.polynomial import chebyshev

    ny, nx = values.shape
    powers = [(i, j) for i in range(order + 1) for j in range(order + 1 - i)]
    known = np.flatnonzero(np.isfinite(values.ravel()))
    if len(known) < len(powers):
        raise InputError(f"{len(known)} values are too few for a surface of order {order}")
    some = known[:: max(1, len(known) // 200_000)]
    ax, ay = np.linspace(-1, 1, nx), np.linspace(-1, 1, ny)
    tx, ty = chebyshev.chebvander(ax, order)[some % nx], chebyshev.chebvander(ay, order)[some // nx]
    design = np.stack([ty[:, i] * tx[:, j] for i, j in powers], axis=1)
    coefficients = np.zeros((order + 1, order + 1))
    coefficients[tuple(np.transpose(powers))] = np.linalg.lstsq(design, values.ravel()[some], rcond=None)[0]
    return np.asarray(chebyshev.chebgrid2d(ay, ax, coefficients), dtype=np.float64)


def radial_spectrum(values: FloatArray, dx: float, dy: float) -> tuple[FloatArray, FloatArray]:
    """Return wavenumbers in cycles per metre and the logarithm of the mean power on rings (Spector & Grant 1970).

    Sources whose tops lie at depth h make a slope of ``-4 pi h`` in these units.
    """
    ny, nx = values.shape
    ready = spread(values, dx, dy, share=0.1)
    # The half that is not kept mirrors the one that is: all columns but the first stand for two.
    power = np.abs(ready.spectrum) ** 2
    twice = np.where(ready.kx > 0, 2.0, 1.0)
    step = 1.0 / min(nx * dx, ny * dy)
    ring = np.round(ready.k / (2 * np.pi) / step).astype(np.int64)
    most = int(0.5 / max(dx, dy) / step)
    total = np.bincount(ring.ravel(), (power * twice).ravel(), ring.max() + 1)[1:most]
    count = np.bincount(ring.ravel(), twice.ravel(), ring.max() + 1)[1:most]
    good = (count > 0) & (total > 0)
    return step * (np.arange(1, most)[good]), np.log(total[good] / count[good])


def depth_from_slope(
    frequency: FloatArray, log_power: FloatArray, low: float, high: float, power: float = 0.0
) -> float:
    """Return the depth in metres below the measurements that a stretch of a radial spectrum tells.

    Parameters
    ----------
    frequency, log_power
        Rings in cycles per metre and the logarithm of their mean power, shape (n,), as of `radial_spectrum`.
    low, high
        Ends of the stretch in cycles per metre.
    power
        Power of the wavenumber that the sources themselves have in the spectrum; it is taken off first. 0 for
        the tops of many blocks that are wide and deep (Spector & Grant 1970) and for point masses in gravity; 2
        for compact sources of a magnetic field (dipoles), 1 for long thin ones such as pipes and ledges
        (Blakely 1995, ch. 11): their spectra rise before they fall, and without this they seem too shallow.

    Raises
    ------
    InputError
        When fewer than three rings lie in the stretch.
    """
    inside = (frequency >= low) & (frequency <= high)
    if inside.sum() < 3:
        raise InputError("fewer than three rings of the spectrum lie in that stretch", fix="Take a wider one")
    bare = log_power[inside] - power * np.log(frequency[inside])
    slope = float(np.polyfit(frequency[inside], bare, 1)[0])
    return -slope / (4.0 * np.pi)

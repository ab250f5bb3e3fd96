"""Coordinate reference systems: checked once at the door, projected metres inside."""

from __future__ import annotations

import functools
from collections.abc import Callable

import numpy as np
import pyproj
from numpy.typing import NDArray

from .errors import CrsError

pyproj.network.set_network_enabled(False)  # type: ignore[attr-defined]


def is_metric(system: pyproj.CRS) -> bool:
    """Whether coordinates of a system are in metres."""
    return bool(system.axis_info) and abs(system.axis_info[0].unit_conversion_factor - 1.0) < 1e-9


@functools.lru_cache(maxsize=32)
def parse_crs(text: str) -> pyproj.CRS:
    """Return the projected CRS in metres that `text` names (``EPSG:32629``).

    Raises
    ------
    CrsError
        When it is unknown, geographic, or not in metres.
    """
    crs = parse_any(text)
    if not crs.is_projected:
        raise CrsError(
            f"'{text}' is in degrees, and projects are kept in metres",
            fix="Give a projected system, such as the UTM zone of the place",
        )
    if not is_metric(crs):
        raise CrsError(f"'{text}' is not in metres", fix="Give a projected system in metres")
    return crs


def parse_any(text: str) -> pyproj.CRS:
    """Return the coordinate system that `text` names, in degrees or metres.

    Raises
    ------
    CrsError
        When it is unknown.
    """
    try:
        return pyproj.CRS.from_user_input(text)
    except (pyproj.exceptions.CRSError, ValueError) as error:
        raise CrsError(f"'{text}' is not a known coordinate system", fix="Give a code such as EPSG:32629") from error


def plan_and_height(text: str) -> tuple[str, str]:
    """Return the horizontal part of a coordinate system and the unit of its heights ('' where it has none).

    Raises
    ------
    CrsError
        When the system is unknown.
    """
    system = parse_any(text)
    if not system.is_compound:
        return text, ""
    plan, height = system.sub_crs_list[:2]
    known = plan.to_authority()
    return ":".join(known) if known else plan.to_wkt(), str(height.axis_info[0].unit_name).lower()


def same_system(first: str, second: str) -> bool:
    """Return whether two texts name the same coordinate system, whatever its axis order.

    Raises
    ------
    CrsError
        When one of them is unknown.
    """
    a, b = parse_any(first), parse_any(second)
    return bool(a.equals(b, ignore_axis_order=True) or (a.to_epsg() is not None and a.to_epsg() == b.to_epsg()))


def transformers(
    source: str, target: str
) -> tuple[
    Callable[..., tuple[NDArray[np.float64], NDArray[np.float64]]],
    Callable[..., tuple[NDArray[np.float64], NDArray[np.float64]]],
]:
    """Return functions that turn x and y of one coordinate system into the other, and back."""
    return transformer(source, target).transform, transformer(target, source).transform


def transformer(source: object, target: object) -> pyproj.Transformer:
    """Return what turns x and y of one coordinate system into those of another.

    Raises
    ------
    CrsError
        When one of them is unknown, or their definitions lead nowhere.
    """
    try:
        return pyproj.Transformer.from_crs(source, target, always_xy=True)
    except (pyproj.exceptions.ProjError, ValueError) as error:
        raise CrsError(
            f"'{str(source)[:60]}' can't be turned into '{str(target)[:60]}'", fix="Give the system's code"
        ) from error


def describe(text: str) -> str:
    """Return code and name for people: ``EPSG:32629 · WGS 84 / UTM zone 29N``."""
    return f"{text} · {parse_crs(text).name}"


def to_lonlat(
    crs: str, x: NDArray[np.float64] | float, y: NDArray[np.float64] | float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return longitude and latitude in degrees (WGS 84) of eastings and northings in metres."""
    lon, lat = transformer(parse_crs(crs), "EPSG:4326").transform(x, y)
    return np.asarray(lon, dtype=float), np.asarray(lat, dtype=float)


def grid_convergences(crs: str, x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the angles (n,) in degrees from true north to grid north, clockwise positive, at places (n,) in metres."""
    lon, lat = to_lonlat(crs, x, y)
    factors = pyproj.Proj(parse_crs(crs)).get_factors(np.atleast_1d(lon), np.atleast_1d(lat))
    return np.asarray(factors.meridian_convergence, dtype=float)


def grid_convergence(crs: str, x: float, y: float) -> float:
    """Return the angle in degrees from true north to grid north, clockwise positive, at a place."""
    return float(grid_convergences(crs, np.array([x]), np.array([y]))[0])

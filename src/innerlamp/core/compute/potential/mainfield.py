"""The geomagnetic main field (International Geomagnetic Reference Field, IGRF-14; IAGA 2024, doi 10.5281/zenodo.14012302)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FIRST_YEAR, LAST_YEAR = 1900, 2030


@dataclass(frozen=True)
class MainField:
    """Intensity in nT; inclination (positive down) and declination (clockwise from true north) in degrees."""

    intensity: float
    inclination: float
    declination: float
    north: float
    east: float
    down: float


def parse_date(text: str) -> datetime:
    """Return the moment that an ISO date (``2024-05-17``) names.

    Raises
    ------
    InputError
        When it is not an ISO date, or outside the years the field model covers.
    """
    try:
        date = datetime.fromisoformat(text.strip())
    except ValueError as error:
        raise InputError(f"'{text}' is not a date", fix="Write it as year-month-day, such as 2024-05-17") from error
    if not FIRST_YEAR <= date.year < LAST_YEAR:
        raise InputError(
            f"the main field is not known for {date.year}", fix=f"Give a date from {FIRST_YEAR} to {LAST_YEAR - 1}"
        )
    return date.replace(tzinfo=None)


def declinations(
    lon: NDArray[np.float64], lat: NDArray[np.float64], height_m: NDArray[np.float64], date: str
) -> NDArray[np.float64]:
    """Return the IGRF declination (n,), degrees clockwise from true north, at places (n,) in degrees on one ISO date.

    Raises
    ------
    InputError
        For a bad date or places that are not on Earth.
    """
    moment = parse_date(date)
    if not (((lon >= -180) & (lon <= 360)).all() and (np.abs(lat) < 90).all()):
        raise InputError("a place is none on Earth", fix="Check the coordinate system of the data")
    import ppigrf

    east, north, _ = (np.ravel(v) for v in ppigrf.igrf(lon, lat, height_m / 1000.0, moment))
    return np.degrees(np.arctan2(east, north))


def main_field(lon: float, lat: float, height_m: float, date: str) -> MainField:
    """Return the IGRF main field at a place (degrees, metres above the ellipsoid) and ISO date.

    Raises
    ------
    InputError
        For a bad date or a place that is not on Earth.
    """
    moment = parse_date(date)
    if not (-180 <= lon <= 360 and -90 < lat < 90):
        raise InputError(
            f"longitude {lon:g}, latitude {lat:g} is no usable place", fix="Check the coordinate system of the data"
        )
    import ppigrf

    east, north, up = (float(np.ravel(v)[0]) for v in ppigrf.igrf(lon, lat, height_m / 1000.0, moment))
    horizontal = float(np.hypot(east, north))
    return MainField(
        float(np.hypot(horizontal, up)),
        float(np.degrees(np.arctan2(-up, horizontal))),
        float(np.degrees(np.arctan2(east, north))),
        north,
        east,
        -up,
    )

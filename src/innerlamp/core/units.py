"""Units of grades and lengths as they are written in tables, and factors between them."""

from __future__ import annotations

import re

from .errors import UnitError

# Mass fractions as whole numbers of ppb, so that factors are exact; 1 g/t is 1 ppm by definition.
_FRACTIONS = {"%": 1e7, "pct": 1e7, "kg/t": 1e6, "ppm": 1e3, "ppb": 1.0, "g/t": 1e3, "gpt": 1e3, "mg/kg": 1e3}
_LENGTHS = {"m": 1.0, "km": 1000.0, "ft": 0.3048, "cm": 0.01}
_SHOWN = {"pct": "%", "gpt": "g/t", "mgal": "mGal", "nt": "nT", "deg": "°", "si": "SI"}
_SUFFIX = re.compile(r"(?i)(?:^|[\s_\-(\[])(ppm|ppb|pct|%|g/t|gpt|nT|mGal|SI|deg|ft|km|m)[)\]]?\s*$")


def factor(source: str, target: str) -> float:
    """Return what a value in `source` is multiplied by to be in `target`.

    Raises
    ------
    UnitError
        When the two are not units of the same thing or one is unknown.
    """
    for family in (_FRACTIONS, _LENGTHS):
        if source.lower() in family and target.lower() in family:
            return family[source.lower()] / family[target.lower()]
    raise UnitError(f"no factor from '{source}' to '{target}'", fix="Use ppm, ppb, %, g/t, m or ft")


_METRES = {
    "m": 1.0,
    "metre": 1.0,
    "metres": 1.0,
    "meter": 1.0,
    "meters": 1.0,
    "km": 1000.0,
    "cm": 0.01,
    "ft": 0.3048,
    "foot": 0.3048,
    "feet": 0.3048,
    "international foot": 0.3048,
    "us-ft": 1200.0 / 3937.0,
    "us survey foot": 1200.0 / 3937.0,
    "us_survey_foot": 1200.0 / 3937.0,
    "ftus": 1200.0 / 3937.0,
}


def in_metres(unit: str) -> float | None:
    """Return the length of a unit in metres, None when it is no length (feet: international yard and pound agreement of 1959)."""
    return _METRES.get(unit.strip().lower())


def without_unit_in_heading(heading: str) -> str:
    """Return what a column heading names, without the unit that it ends with: ``Au (ppb)`` and ``Au_gpt`` name ``Au``."""
    return _SUFFIX.sub("", heading.strip()).strip(" _-([") or heading.strip()


def unit_in_heading(heading: str) -> str:
    """Return the unit that a column heading ends with (``Sn_ppm``, ``Depth (m)``), or ''."""
    found = _SUFFIX.search(heading.strip())
    return _SHOWN.get(found.group(1).lower(), found.group(1)) if found else ""

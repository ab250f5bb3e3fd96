"""Units of grades and lengths as they are written in tables, and factors between them."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from .errors import UnitError

# Mass fractions as whole numbers of ppb, so that factors are exact; 1 g/t is 1 ppm by definition.
# A troy ounce is 31.1034768 g and a pennyweight a twentieth of it; a short ton has 907.18474 kg, a long one 1016.0469088 kg:
# definitions of the avoirdupois and troy pounds (NIST Handbook 44, appendix C).
_OUNCE = 31.1034768
_TONS = {"t": 0.90718474, "st": 0.90718474, "lt": 1.0160469088, "tonne": 1.0}
# Units of "a ton" that may be any of them: they are read as of a short ton, and asked about.
OF_A_TON = ("oz/t", "dwt/t")
_FRACTIONS = {
    "%": 1e7,
    "pct": 1e7,
    "wt%": 1e7,
    "kg/t": 1e6,
    "ppm": 1e3,
    "g/t": 1e3,
    "gpt": 1e3,
    "g/tm": 1e3,
    "g/tonne": 1e3,
    "gr/t": 1e3,
    "mg/kg": 1e3,
    "µg/g": 1e3,
    "ug/g": 1e3,
    "ppb": 1.0,
    "µg/kg": 1.0,
    "ug/kg": 1.0,
    "mg/t": 1.0,
    **{f"oz/{ton}": 1e3 * _OUNCE / mass for ton, mass in _TONS.items()},
    **{f"dwt/{ton}": 1e3 * _OUNCE / 20.0 / mass for ton, mass in _TONS.items()},
    "opt": 1e3 * _OUNCE / 0.90718474,
}
# How a ton is written behind ounces and pennyweights.
_TON_WORDS = {
    "t": ("t", "ton", "tn", "tons"),
    "st": ("st", "short ton", "ston", "s.ton", "sh ton", "short"),
    "lt": ("lt", "long ton", "lton", "l.ton", "long"),
    "tonne": ("tonne", "mt", "metric ton", "metric tonne", "tm", "tonelada", "t metric", "metric t"),
}
_LENGTHS = {"m": 1.0, "km": 1000.0, "ft": 0.3048, "cm": 0.01, "mm": 0.001}
# The names that coordinate systems and tables have for the foot of surveys in the United States: 1200/3937 m by definition.
_SURVEY_FEET = dict.fromkeys(("us-ft", "us survey foot", "us_survey_foot", "ftus"), 1200.0 / 3937.0)
# Spellings of one unit, in the languages that headings come in.
_SPELT = {
    "pct": "%",
    "percent": "%",
    "porcentaje": "%",
    "wt%": "%",
    "gpt": "g/t",
    "g/tm": "g/t",
    "g/tonne": "g/t",
    "gr/t": "g/t",
    "opt": "oz/t",
    "opst": "oz/st",
    "oplt": "oz/lt",
    "ozt": "oz/t",
    "ozst": "oz/st",
    "dwt": "dwt/t",
    "dwts": "dwt/t",
    "pwt": "dwt/t",
    "pennyweight": "dwt/t",
    "pennyweights": "dwt/t",
    **{
        f"{weight}{by}{word}": f"{unit}/{ton}"
        for unit, weights in (
            ("oz", ("oz", "tr oz", "troz", "toz", "troy oz", "onzas", "onz")),
            ("dwt", ("dwt", "pwt")),
        )
        for weight in weights
        for by in ("/", " / ", " per ", "_", " ")
        for ton, words in _TON_WORDS.items()
        for word in words
    },
    "mgal": "mGal",
    "µgal": "µGal",
    "μgal": "µGal",
    "ugal": "µGal",
    "microgal": "µGal",
    "nt": "nT",
    "gamma": "nT",
    "gammas": "nT",
    "deg": "°",
    "degrees": "°",
    "grados": "°",
    "grad": "°",
    "astetta": "°",
    "si": "SI",
    "metros": "m",
    "metres": "m",
    "meters": "m",
    "mètres": "m",
    "meter": "m",
    "metri": "m",
    "metriä": "m",
    "feet": "ft",
    "foot": "ft",
    "international foot": "ft",
    "metre": "m",
    "pies": "ft",
    "pieds": "ft",
    "pés": "ft",
    "fuss": "ft",
    "fuß": "ft",
    "jalkaa": "ft",
    "fot": "ft",
    "mv/v": "mV/V",
    "msec": "ms",
    "g/cc": "g/cm³",
    "g/cm3": "g/cm³",
    "t/m3": "t/m³",
    "kg/m3": "kg/m³",
    # A power of ten before or after SI is part of the unit: without it the values would be a thousand times as large.
    **{
        text: f"10{shown} SI"
        for power, shown in (("3", "⁻³"), ("5", "⁻⁵"))
        for text in (
            *(
                f"{times}10{hat}-{power}{gap}si"
                for times in ("", "x", "x ", "×", "× ")
                for hat in ("", "^")
                for gap in ("", " ")
            ),
            *(
                f"si{gap}{times}10{hat}-{power}"
                for times in ("x", "x ", "*", "* ", "×", "× ")
                for hat in ("", "^")
                for gap in ("", " ")
            ),
            *(f"1e-{power}{gap}si" for gap in ("", " ")),
            *(f"10{shown}{gap}si" for gap in ("", " ")),
            *(f"si{gap}×{space}10{shown}" for gap in ("", " ") for space in ("", " ")),
        )
    },
    "msi": "10⁻³ SI",
    "10^-6 cgs": "10⁻⁶ cgs",
    "10-6 cgs": "10⁻⁶ cgs",
    "1e-6 cgs": "10⁻⁶ cgs",
    "ohm.m": "ohm.m",
    "ohmm": "ohm.m",
    "ohm-m": "ohm.m",
    "ohm*m": "ohm.m",
    "Ω.m": "ohm.m",
    "Ωm": "ohm.m",
}
_KNOWN = (
    *_FRACTIONS,
    *_LENGTHS,
    *_SPELT,
    "°",
    "%",
    "nT",
    "mGal",
    "µGal",
    "SI",
    "10⁻³ SI",
    "10⁻⁵ SI",
    "10⁻⁶ cgs",
    "mV/V",
    "mV",
    "mA",
    "V",
    "A",
    "ms",
    "ohm",
    "mrad",
    "g/cm³",
    "t/m³",
    "kg/m³",
)
_BY_TEXT = {text.lower(): text for text in _KNOWN}
_ENDINGS = sorted(
    (
        re.escape(t)
        for t in (*_FRACTIONS, *_LENGTHS, *_SPELT, "nT", "mGal", "SI", "mV/V", "mV", "mA", "ms", "ohm", "mrad")
    ),
    key=len,
)[::-1]
_SUFFIX = re.compile(r"(?i)(?:^|[\s_\-(\[])(" + "|".join(_ENDINGS) + r")[)\]]?\s*$")
_GRADE_ANYWHERE = re.compile(
    r"(?i)(?<![a-z0-9%])("
    + "|".join(sorted((re.escape(t) for t in (*_FRACTIONS, "percent")), key=len)[::-1])
    + r")(?![a-z0-9])"
)


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


def by_factor(values: NDArray[np.float64], times: float) -> NDArray[np.float64]:
    """Return values times a factor of units; one that makes them smaller divides, so that 700 ppb are just 0.7 ppm."""
    return (
        values / round(1.0 / times, 9)
        if 0 < times < 1 and abs(1.0 / times - round(1.0 / times)) < 1e-9
        else values * times
    )


def in_metres(unit: str) -> float | None:
    """Return the length of a unit in metres, None when it is no length (feet: international yard and pound agreement of 1959)."""
    text = unit.strip().lower()
    return _LENGTHS.get(_SPELT.get(text, text), _SURVEY_FEET.get(text))


def unit_alone(text: str) -> str:
    """Return the unit that a text is nothing but (``ppb``, ``(m)``, ``[g/t]``), '' when it is something else."""
    bare = text.strip().strip("()[]{}").strip()
    known = _BY_TEXT.get(bare.lower(), "")
    return _SPELT.get(known.lower(), known)


def without_unit_in_heading(heading: str) -> str:
    """Return what a column heading names, without the unit that it ends with: ``Au (ppb)`` and ``Au_gpt`` name ``Au``."""
    return _SUFFIX.sub("", heading.strip()).strip(" _-([") or heading.strip()


def unit_in_heading(heading: str) -> str:
    """Return the unit that a heading ends with (``Sn_ppm``, ``Depth (m)``), or that of a grade within it (``Au_ppm_FA``); or ''."""
    bracketed = re.search(r"[(\[]([^()\[\]]+)[)\]]\s*$", heading)
    if bracketed and unit_alone(bracketed.group(1)):
        return unit_alone(bracketed.group(1))
    found = _SUFFIX.search(heading.strip()) or _GRADE_ANYWHERE.search(heading.strip())
    if not found:
        return "%" if heading.strip().endswith("%") else ""
    return _SPELT.get(found.group(1).lower(), _BY_TEXT.get(found.group(1).lower(), found.group(1)))


def without_units(heading: str) -> str:
    """Return a heading without the unit of a grade wherever it stands: ``Au_ppm_FA`` becomes ``Au__FA``."""
    return _GRADE_ANYWHERE.sub("", without_unit_in_heading(heading)).rstrip("% ")

"""What an attribute is: its unit, the quantity that it measures, and its role in its item.

Meaning is decided once, where values come from: an operation says what it made, an import tells it by
the heading and the unit (`told_by`) or is told by the user. From there on only the quantity counts.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

AnyQuantity = Literal[
    "auto",
    "grade",
    "elevation",
    "magnetic field",
    "gravity",
    "field gradient",
    "susceptibility",
    "density",
    "resistivity",
    "resistance",
    "conductivity",
    "chargeability",
    "thickness",
    "length",
    "area",
    "volume",
    "dip",
    "direction",
    "angle",
    "score",
    "deviation",
    "recovery",
    "count",
    "code",
    "number",
]
Sense = Literal["more", "less", ""]
Spread = Literal["auto", "linear", "log", "even", "whole"]


@dataclass(frozen=True)
class Quantity:
    """What values measure, and how such values are shown unless the user wants otherwise.

    Attributes
    ----------
    label
        In the words of the trade.
    units
        Units that belong to it alone: a unit tells the quantity.
    ramp, diverging
        Colour ramps of values on one side of zero, and around it. Each quantity has its own.
    spread
        auto: logarithmic where values are skewed; linear; log; even: from 0 to 1; whole: from lowest to highest.
    sense
        Whether more or less of it speaks for a target.
    decimals
        Digits after the point where it is read out; -1 for four significant ones.
    words
        Headings that tell it, in small letters without blanks, marks and unit; ``*`` at the end takes any ending.
    """

    label: str
    units: tuple[str, ...] = ()
    ramp: str = "shoal"
    diverging: str = "split"
    spread: Spread = "auto"
    sense: Sense = ""
    decimals: int = -1
    words: tuple[str, ...] = ()


QUANTITIES: dict[str, Quantity] = {
    "grade": Quantity(
        "Grade",
        (
            "%",
            "ppm",
            "ppb",
            "g/t",
            "kg/t",
            "oz/t",
            "oz/st",
            "oz/lt",
            "oz/tonne",
            "dwt/t",
            "dwt/st",
            "dwt/lt",
            "dwt/tonne",
        ),
        "ember",
        sense="more",
    ),
    "elevation": Quantity(
        "Elevation",
        ramp="grey",
        spread="whole",
        decimals=1,
        words=("elevation", "elev", "rl", "altitude", "altitud", "dem", "dtm", "topo*", "hohe", "cota", "korkeus"),
    ),
    "magnetic field": Quantity(
        "Magnetic field", ("nT",), "tide", "split", "linear", decimals=1, words=("tmi*", "mag", "magnetic*")
    ),
    "gravity": Quantity(
        "Gravity", ("mGal", "µGal"), "moss", "fern", "linear", decimals=3, words=("grav*", "bouguer*", "freeair")
    ),
    "field gradient": Quantity("Gradient of a field", ("nT/m", "mGal/m", "nT/m²", "mGal/m²", "E"), "tide", "slate"),
    "susceptibility": Quantity(
        "Magnetic susceptibility",
        ("SI", "10⁻³ SI", "1e-3 SI", "10⁻⁵ SI", "10⁻⁶ cgs"),
        "dusk",
        "slate",
        "linear",
        "more",
        words=("susc*", "magsus*"),
    ),
    "density": Quantity(
        "Density",
        ("g/cm³", "g/cm3", "kg/m³", "kg/m3", "t/m³", "t/m3"),
        "earth",
        "fern",
        "linear",
        words=("density", "densidad", "densite", "dichte", "sg", "tiheys", "densitet"),
    ),
    "resistivity": Quantity(
        "Resistivity", ("ohm.m", "ohm m", "Ωm", "Ω·m"), "frost", spread="log", sense="less", words=("resistiv*", "rho*")
    ),
    "resistance": Quantity("Resistance", ("ohm", "Ω"), "frost", spread="log"),
    "conductivity": Quantity(
        "Conductivity", ("S/m", "mS/m"), "frost", spread="log", sense="more", words=("conductiv*",)
    ),
    "chargeability": Quantity(
        "Chargeability", ("mV/V", "ms", "mrad"), "heath", sense="more", words=("chargeab*", "cargab*", "ip")
    ),
    "thickness": Quantity(
        "Thickness", ramp="shoal", decimals=1, words=("thickness", "thick", "width", "potencia", "espesor")
    ),
    "length": Quantity("Length", ("m", "km", "cm", "ft"), "shoal", decimals=1),
    "area": Quantity("Area", ("ha", "m²", "km²"), "shoal"),
    "volume": Quantity("Volume", ("m³", "Mm³"), "shoal"),
    "dip": Quantity("Dip or plunge", ramp="shoal", spread="linear", decimals=0, words=("dip", "plunge", "inclination")),
    "direction": Quantity(
        "Direction", ramp="ring", spread="linear", decimals=0, words=("dipdirection", "azimuth", "trend", "strike")
    ),
    "angle": Quantity("Angle", ("°", "deg"), "shoal", spread="linear", decimals=1),
    "score": Quantity("Score", ramp="mist", diverging="fern", spread="even", sense="more", decimals=2),
    "deviation": Quantity("Deviations from the usual", ("deviations",), "ember", "fern", "linear", "more", 2),
    "recovery": Quantity("Recovery", ramp="moss", spread="linear", words=("recovery*", "rqd*", "rec")),
    "count": Quantity("Count", ramp="shoal", decimals=0),
    "code": Quantity("Code"),
    "number": Quantity("Number"),
}
ROLES = ("", "raw", "residual", "predicted", "noise", "level", "line weight", "closing", "from", "to", "sampled")
_SPARE = re.compile(r"[\s_\-.()\[\]]+")


@dataclass(frozen=True)
class Attribute:
    """One attribute of an item, as the catalogue keeps it.

    Attributes
    ----------
    unit
        '' for numbers without one and for codes.
    quantity
        A key of `QUANTITIES`.
    role
        What it does in its item: raw readings that others were made from; residual, predicted and noise of a fit, the level of a contour line and
        how that is drawn, ends and sampled part of a composite; '' for what was measured, logged or computed.
    """

    unit: str = ""
    quantity: str = "number"
    role: str = ""

    @property
    def is_code(self) -> bool:
        return self.quantity == "code"

    @property
    def shown(self) -> Quantity:
        """How its values are shown."""
        return QUANTITIES.get(self.quantity, QUANTITIES["number"])

    def said(self, value: float) -> str:
        """Return a value as it is read out, without its unit."""
        decimals = self.shown.decimals
        return (
            f"{value:,.{decimals}f}"
            if decimals >= 0 and (abs(value) >= 10.0**-decimals or not value)
            else f"{value:.4g}"
        )

    def tick(self, value: float) -> str:
        """Return a value as it stands beside a colour bar: heights in whole metres, the rest in three digits."""
        return f"{value:,.0f}".replace(",", "\u2009") if self.shown.spread == "whole" else plain_number(value)

    def to_json(self) -> list[str]:
        return [self.unit, self.quantity, self.role]

    @classmethod
    def from_json(cls, data: Any) -> Attribute:
        return cls(*(str(v) for v in data))


def plain_number(value: float) -> str:
    """Return a number in three digits without powers of ten where people can read it so."""
    if value == 0 or not 1e-4 <= abs(value) < 1e7:
        return f"{value:.3g}"
    places = 2 - math.floor(math.log10(abs(value)))
    text = f"{round(value, places):,.{max(0, places)}f}".replace(",", "\u2009")
    return text.rstrip("0").rstrip(".") if "." in text else text


def of_unit(unit: str) -> str:
    """Return the quantity that a unit belongs to, '' when it tells none."""
    return next((name for name, q in QUANTITIES.items() if unit and unit in q.units), "")


def told_by(heading: str, unit: str, codes: bool = False) -> str:
    """Return the quantity that a heading and a unit tell: what an import takes unless it is told otherwise.

    A unit that belongs to one quantity decides; a length or an angle is told further by the heading, and what has no
    unit by the heading alone. The words are common practice in several languages (no source).
    """
    if codes:
        return "code"
    by_unit = of_unit(unit)
    if by_unit not in ("", "length", "angle"):
        return "recovery" if unit == "%" and _by_word(heading, unit) == "recovery" else by_unit
    found = _by_word(heading, unit)
    fits = {"length": ("elevation", "thickness"), "angle": ("dip", "direction")}.get(by_unit)
    return found if found and (fits is None or found in fits) else by_unit or "number"


def _by_word(heading: str, unit: str) -> str:
    word = _SPARE.sub("", heading.lower())
    word = word.removesuffix(_SPARE.sub("", unit.lower())) if unit else word
    for name, q in QUANTITIES.items():
        if any(word.startswith(w[:-1]) if w.endswith("*") else word == w for w in q.words):
            return name
    return ""


def told_of_old(attributes: Mapping[str, Attribute]) -> tuple[dict[str, str], dict[str, str]]:
    """Return quantities and roles of attributes that were stored before these were kept: as their names tell."""
    quantities = {n: told_by(n, a.unit, a.is_code) for n, a in attributes.items()}
    names, roles = set(attributes), {n: n for n in ("residual", "predicted", "noise") if n in attributes}
    if {"weight", "round"} <= names:
        rest = [n for n in attributes if n not in ("weight", "round")]
        roles |= {"weight": "line weight", "round": "closing"} | dict.fromkeys(rest[:1], "level")
    roles |= {n: r for n, r in (("from_m", "from"), ("to_m", "to"), ("sampled_m", "sampled")) if n in names}
    if "dip direction" in names:
        quantities["dip direction"] = "direction"
    return quantities, roles


def roles_told(headings: Iterable[str]) -> dict[str, str]:
    """Return the roles that headings tell: readings that are called raw or uncorrected."""
    return {h: "raw" for h in headings if re.match(r"(raw|uncorr|unlevel|brut|bruto|roh)", h.strip().lower())}


def measuring(attributes: Mapping[str, Attribute], quantity: str) -> str:
    """Return the name of the first attribute of a quantity, '' when there is none."""
    return next((name for name, a in attributes.items() if a.quantity == quantity), "")


def in_role(attributes: Mapping[str, Attribute], role: str) -> str:
    """Return the name of the first attribute in a role, '' when there is none."""
    return next((name for name, a in attributes.items() if a.role == role), "")


def orientation(attributes: Mapping[str, Attribute]) -> tuple[str, str] | None:
    """Return the names of dip and dip direction where an item has both, else None."""
    dip, direction = measuring(attributes, "dip"), measuring(attributes, "direction")
    return (dip, direction) if dip and direction else None


def is_ground(attributes: Mapping[str, Attribute]) -> bool:
    """Whether values are heights: a grid of them is a surface in space."""
    return bool(measuring(attributes, "elevation"))


def are_contours(attributes: Mapping[str, Attribute]) -> bool:
    """Whether lines are contours of a level."""
    return bool(in_role(attributes, "level"))


def described(
    names: Iterable[str],
    units: Mapping[str, str],
    quantities: Mapping[str, str],
    roles: Mapping[str, str],
    codes: Iterable[str] = (),
) -> dict[str, Attribute]:
    """Return attributes by name; what no one said is told by the unit alone."""
    texts = set(codes)
    found = {}
    for name in names:
        unit = units.get(name, "")
        told = quantities.get(name) or ("code" if name in texts else of_unit(unit) or "number")
        found[name] = Attribute(unit, told, roles.get(name, ""))
    return found

"""Legends: how the values of an attribute are coloured, shared by all panes."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..units import unit_in_heading, without_unit_in_heading
from .attributes import Attribute
from .signs import line_sign, pattern_for

Scale = Literal["linear", "log", "quantile", "classes"]
RAMPS = {
    "ember": "CET_L18",
    "tide": "CET_L9",
    "dusk": "CET_L8",
    "moss": "CET_L11",
    "split": "CET_D1A",
    "earth": "CET_L10",
    "grey": "CET_L1",
    "frost": "CET_L19",
    "heath": "CET_L7",
    "shoal": "CET_L20",
    "mist": "CET_L12",
    "dawn": "CET_CBL2",
    "fern": "CET_D2",
    "slate": "CET_D7",
    "ring": "CET_CBC1",
    "rainbow": "CET_R4",
}
LINE_COLOUR = "#4A4A4A"  # of contacts, faults and other lines with a sign of their own
# Class colours for colour-blind readers that leave words, lines and samples readable on them: the light scheme of
# Tol 2021 (Colour schemes, technical note SRON/EPS/TN/09-002), then darker ones of the same hues.
CLASS_COLOURS = (
    "#DDDDDD",
    "#77AADD",
    "#EEDD88",
    "#EE8866",
    "#44BB99",
    "#FFAABB",
    "#99DDFF",
    "#BBCC33",
    "#AAAA00",
    "#B58DB6",
    "#C49C6B",
    "#5F8FA8",
)


@dataclass(frozen=True)
class Legend:
    """Colour rule of one attribute.

    Attributes
    ----------
    quantity
        What the attribute measures; decides how ticks are written.
    ramp
        Name of a colour ramp in `RAMPS`.
    scale
        linear or log between `low` and `high`, quantile by `breaks`, or classes parted by `breaks`.
    low, high
        Values at the ends of the ramp.
    cutoff
        Values below it are hidden where hiding makes sense (voxels, intervals); None hides nothing.
    classes
        For text attributes: colour of each class.
    patterns
        For units of a map: the pattern (one of `signs.PATTERNS`) of each class that has one.
    order
        Classes from the youngest to the oldest; those that are not in it come last.
    hidden
        Classes that are switched off: what is of them is not drawn.
    """

    attribute: str
    unit: str = ""
    quantity: str = "number"
    ramp: str = "ember"
    scale: Scale = "linear"
    low: float = 0.0
    high: float = 1.0
    cutoff: float | None = None
    breaks: tuple[float, ...] = ()
    classes: dict[str, str] = field(default_factory=dict)
    patterns: dict[str, str] = field(default_factory=dict)
    order: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()

    @property
    def ordered(self) -> list[str]:
        """Classes in age order, youngest first."""
        known = [c for c in self.order if c in self.classes]
        return known + [c for c in self.classes if c not in known]

    def with_classes(self, other: Legend) -> Legend:
        """Return the legend with the classes that only another one has, in colours that are free where there are any."""
        fresh = [c for c in other.ordered if c not in self.classes]
        if not fresh:
            return self
        colours, patterns = dict(self.classes), dict(self.patterns)
        for name in fresh:
            used = set(colours.values())
            wanted = other.classes[name]
            free = (
                [wanted, *CLASS_COLOURS]
                if wanted == LINE_COLOUR
                else [c for c in (wanted, *CLASS_COLOURS) if c not in used]
            )
            colours[name] = free[0] if free else wanted
            if name in other.patterns:
                patterns[name] = other.patterns[name]
        return dataclasses.replace(self, classes=colours, patterns=patterns)

    @property
    def label(self) -> str:
        """Attribute as written on screen, its unit after it."""
        bare = without_unit(self.attribute, self.unit).replace("_", " ")
        return f"{bare} ({self.unit})" if self.unit else bare

    def tick(self, value: float) -> str:
        """Return a value as it stands beside the colour bar."""
        span = abs(self.high - self.low)
        if 0 < span < 0.02 * max(abs(self.high), abs(self.low)):  # a total field: three digits would all be the same
            digits = max(0, 2 - int(np.floor(np.log10(span))))
            return f"{value:,.{digits}f}".replace(",", "\u2009")
        return Attribute(self.unit, self.quantity).tick(value)

    def to_json(self) -> dict[str, Any]:
        return dataclasses.asdict(self)

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Legend:
        known = {f.name for f in dataclasses.fields(cls)}
        values = {k: v for k, v in data.items() if k in known}
        for name in ("breaks", "order", "hidden"):
            values[name] = tuple(values.get(name, ()))
        return cls(**values)


def without_unit(attribute: str, unit: str) -> str:
    """Return the name of an attribute without the unit it ends with: ``Sn_ppm`` becomes ``Sn``, ``Mag (nT)`` ``Mag``."""
    for ending in (f"({unit})", f"[{unit}]") if unit else ():
        if attribute.lower().endswith(ending.lower()) and len(attribute) > len(ending):
            return attribute[: -len(ending)].rstrip("_ ")
    if unit and unit_in_heading(attribute) == unit:
        return without_unit_in_heading(attribute)
    for ending in {unit.lower(), unit.lower().replace("%", "pct")} - {""}:
        if attribute.lower().endswith(ending) and attribute[: -len(ending)].endswith(("_", " ", "(")):
            return attribute[: -len(ending)].rstrip("_ (")
    return attribute


def position(legend: Legend, values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the place of each value on the ramp, 0..1; NaN stays NaN."""
    values = np.asarray(values, dtype=float)
    if legend.scale == "quantile" and len(legend.breaks) > 1:
        inner = np.asarray(legend.breaks)
        return np.where(np.isnan(values), np.nan, np.interp(values, inner, np.linspace(0.0, 1.0, len(inner))))
    if legend.scale == "classes" and legend.breaks:
        number = np.searchsorted(np.asarray(legend.breaks), values, "right")
        return np.where(np.isnan(values), np.nan, number / len(legend.breaks))
    low, high = legend.low, legend.high
    if legend.scale == "log" and low > 0:
        with np.errstate(invalid="ignore", divide="ignore"):
            values = np.log(np.maximum(values, low * 1e-6))
        low, high = float(np.log(low)), float(np.log(max(high, low * (1 + 1e-9))))
    return np.clip((values - low) / (high - low if high > low else 1.0), 0.0, 1.0)


def value_at(legend: Legend, place: float) -> float:
    """Return the value at a place 0..1 of the ramp (the inverse of `position`)."""
    if legend.scale == "quantile" and len(legend.breaks) > 1:
        return float(np.interp(place, np.linspace(0.0, 1.0, len(legend.breaks)), legend.breaks))
    if legend.scale == "classes" and legend.breaks:
        return float(
            np.interp(
                place,
                np.linspace(0.0, 1.0, max(len(legend.breaks), 2)),
                np.resize(legend.breaks, max(len(legend.breaks), 2)),
            )
        )
    if legend.scale == "log" and legend.low > 0:
        return float(legend.low * (legend.high / legend.low) ** place)
    return legend.low + (legend.high - legend.low) * place


def is_line(legend: Legend, name: str) -> bool:
    """Whether a class is one of lines that have a sign, such as a fault of a map; a unit called 'Quartz veins' is none."""
    return bool(line_sign(name)) and legend.classes.get(name, LINE_COLOUR) == LINE_COLOUR


def propose(attribute: str, known: Attribute, values: NDArray[Any], lines: bool = True) -> Legend:
    """Return the legend that suits a quantity and its values: its own ramp, log where values are skewed, classes for text.

    `lines` tells whether classes may be lines, which have signs and no colours: those of maps may.
    """
    unit, shown = known.unit, known.shown
    array = np.asarray(values)
    if array.dtype.kind not in "fiu":
        counts = pd.Series(array).astype(str).value_counts()
        texts = sorted(set(counts.index) - {"", "nan", "None", "NaT", "<NA>"})
        # What is there most gets the quietest colour; signs of lines need none.
        signed = {t for t in texts if lines and line_sign(t)}
        by_turn = sorted(texts, key=lambda t: (t in signed, -int(counts[t]), t))
        turn = {t: k for k, t in enumerate(by_turn)}
        colours = {t: LINE_COLOUR if t in signed else CLASS_COLOURS[turn[t] % len(CLASS_COLOURS)] for t in texts}
        patterns = {t: p for t in texts if (p := pattern_for(t)) != "plain"} if not unit else {}
        return Legend(attribute, unit, known.quantity, classes=colours, patterns=patterns)
    array = array.astype(float)
    array = array[np.isfinite(array)]
    if array.size == 0:
        return Legend(attribute, unit, known.quantity, shown.ramp)
    if shown.spread == "even":  # always of the whole, so that scores of different runs compare
        return Legend(attribute, unit, known.quantity, shown.ramp, "linear", 0.0, 1.0)
    low, mid, high = (float(v) for v in np.percentile(array, [2, 50, 98]))
    if shown.spread == "whole":
        return Legend(attribute, unit, known.quantity, shown.ramp, "linear", float(array.min()), float(array.max()))
    if low < 0 < high < 20 * -low:
        top = _round(max(-low, high))
        return Legend(attribute, unit, known.quantity, shown.diverging, "linear", -top, top)
    if known.quantity == "susceptibility":
        return Legend(
            attribute, unit, known.quantity, shown.ramp, "linear", 0.0, _round(float(np.percentile(array, 99.7)))
        )
    # Resistivities are read by their decades, whatever their spread.
    skewed = array.min() >= 0 and high > 0 and mid > 0 and (high / mid > 8 or shown.spread == "log")
    if skewed and shown.spread in ("auto", "log"):
        positive = array[array > 0]
        low = float(np.percentile(positive, 5))
        return Legend(
            attribute, unit, known.quantity, shown.ramp, "log", _round(low), _round(float(np.percentile(positive, 99)))
        )
    if high <= low:
        low, high = float(array.min()), float(array.max())
    return Legend(attribute, unit, known.quantity, shown.ramp, "linear", *_ends(low, high))


def _ends(low: float, high: float) -> tuple[float, float]:
    """Round ends of a ramp: in two digits, or in as many as tell them apart."""
    if 0 < high - low < 0.1 * max(abs(low), abs(high)):
        step = 10.0 ** np.floor(np.log10(high - low) - 1.0)
        return float(np.floor(low / step) * step), float(np.ceil(high / step) * step)
    return _round(low), _round(high)


def _round(value: float) -> float:
    return float(f"{value:.2g}")

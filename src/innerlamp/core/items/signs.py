"""Signs of the geological map: patterns of units, kinds of lines, signs of structural readings, symbols of classes.

The signs of lines and readings are those that geological maps share (the standard for geological
map symbols is FGDC-STD-013-2006); the patterns are a set of our own, in which rocks get what maps
commonly give them (common practice, no source).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

PATTERNS = (
    "plain",
    "dots",
    "pebbles",
    "dashes",
    "rules",
    "slants",
    "lattice",
    "blocks",
    "crosses",
    "wedges",
    "ripples",
    "flecks",
)
_COMMON = (
    ("wedges", ("porph", "volc", "basalt", "andes", "rhyol", "tuff", "lava", "doler", "dolr", "diabas")),
    ("crosses", ("granit", "gran", "diorit", "gabb", "syenit", "tonal", "leuco", "intrus")),
    ("blocks", ("carb", "limest", "dolom", "marble", "marbl", "skarn")),
    ("dashes", ("slat", "shale", "mudst", "silt", "argil", "phyl", "clay", "graphit", "grsl")),
    ("ripples", ("schist", "gneis", "mylon", "amphib")),
    ("dots", ("sand", "quartzit", "qtzt", "qzt", "arkos", "greyw", "gritst")),
    ("pebbles", ("till", "congl", "gravel", "alluv", "drift", "morain", "brecc")),
    ("flecks", ("greis", "vein", "altered", "quartz")),
)


def pattern_for(unit: str) -> str:
    """Return the pattern that maps commonly give to a rock of this name; 'plain' for others."""
    word = unit.lower()
    return next((pattern for pattern, starts in _COMMON if any(s in word for s in starts)), "plain")


Mark = Literal["", "ticks", "teeth", "arrows out", "arrows in", "double"]


@dataclass(frozen=True)
class LineSign:
    """How a kind of line is drawn: width in points, dashes and gaps (times the width), marks along it."""

    width: float
    dashes: tuple[float, ...] = ()
    mark: Mark = ""


LINE_SIGNS: dict[str, LineSign] = {
    "contact": LineSign(0.8),
    "contact, inferred": LineSign(0.8, (6.0, 4.0)),
    "fault": LineSign(1.8),
    "fault, inferred": LineSign(1.8, (5.0, 3.0)),
    "normal fault": LineSign(1.8, (), "ticks"),
    "thrust": LineSign(1.8, (), "teeth"),
    "anticline": LineSign(1.2, (), "arrows out"),
    "syncline": LineSign(1.2, (), "arrows in"),
    "dyke": LineSign(2.2, (), "double"),
    "vein": LineSign(1.4),
    "lineament": LineSign(1.2, (3.0, 2.0)),
}


def line_sign(text: str) -> str:
    """Return the name of the sign that a text of a line's kind means; '' for none."""
    word = text.lower()
    if word in LINE_SIGNS:
        return word
    inferred = any(w in word for w in ("infer", "approx", "conceal", "covered"))
    if "thrust" in word or "reverse" in word:
        return "thrust"
    if "normal" in word and "fault" in word:
        return "normal fault"
    for name in ("anticlin", "synclin", "dyke", "dike", "vein", "lineament"):
        if name in word:
            return {"anticlin": "anticline", "synclin": "syncline", "dike": "dyke"}.get(name, name)
    if "fault" in word or "shear" in word:
        return "fault, inferred" if inferred else "fault"
    if "contact" in word or "bound" in word:
        return "contact, inferred" if inferred else "contact"
    return ""


PlaneMark = Literal["tick", "overturned", "filled wedge", "box", "bars", "arrow"]
PLANE_SIGNS: tuple[tuple[str, PlaneMark, tuple[str, ...]], ...] = (
    ("overturned bedding", "overturned", ("overturn", "invert")),
    ("lineation", "arrow", ("lineat", "fold axis", "slickenl", "plunge", "striae")),
    ("foliation", "filled wedge", ("foliat", "cleav", "schistos", "gneissos")),
    ("joint", "box", ("joint", "fractur")),
    ("vein", "bars", ("vein", "dyke", "dike")),
    ("bedding", "tick", ("bed", "layer", "strat")),
)


def plane_sign(text: str) -> PlaneMark:
    """Return the mark of a structural reading by the text of its kind; that of bedding for what is not known."""
    word = text.lower()
    return next((mark for _, mark, starts in PLANE_SIGNS if any(s in word for s in starts)), "tick")


SYMBOLS = ("o", "s", "t1", "d", "star", "+", "x", "t", "p", "h")

"""The made-up prospect Emberlow: one truth from which all its data are generated.

Folded slates with a marble, a quartzite and a graphitic slate; a granite with three cupolas, of
which one is drilled; sheeted greisen veins over its crest, cut by a normal fault; skarn where the
marble meets a hidden cupola; a blind greisen lens on another; a barren gabbro, dolerite dykes, till
that the ice dragged. Local coordinates are metres east and north of `ORIGIN`; elevations are metres
above sea level. Everything is invented.
"""

from __future__ import annotations

from .frame import (
    APEX,
    CODES,
    CRS,
    DYKE_STRIKE,
    FAULT_DIP,
    FAULT_STRIKE,
    FAULT_THROW,
    GABBRO,
    HEIGHT,
    ICE_DRAG,
    ICE_TOWARDS,
    LENS_CUPOLA,
    NAMES,
    ORIGIN,
    PROPERTIES,
    SKARN_CUPOLA,
    VEIN_DIP,
    VEIN_STRIKE,
    WIDTH,
    FloatArray,
)
from .land import bedrock, ground, oxidation, slope, till
from .ore import BODIES, ELEMENTS, body, grades
from .rocks import dyke_distance, fault_side, granite_top, over_crest, rock, vein_distance

__all__ = [
    "APEX",
    "BODIES",
    "CODES",
    "CRS",
    "DYKE_STRIKE",
    "ELEMENTS",
    "FAULT_DIP",
    "FAULT_STRIKE",
    "FAULT_THROW",
    "GABBRO",
    "HEIGHT",
    "ICE_DRAG",
    "ICE_TOWARDS",
    "LENS_CUPOLA",
    "NAMES",
    "ORIGIN",
    "PROPERTIES",
    "SKARN_CUPOLA",
    "VEIN_DIP",
    "VEIN_STRIKE",
    "WIDTH",
    "FloatArray",
    "bedrock",
    "body",
    "dyke_distance",
    "fault_side",
    "grades",
    "granite_top",
    "ground",
    "over_crest",
    "oxidation",
    "rock",
    "slope",
    "till",
    "vein_distance",
]

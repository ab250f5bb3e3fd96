"""How an item is drawn: what the user chose for it. It is kept with the item and can be undone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

# How items of a kind can stand in 3D, the usual way first.
FORMS: dict[str, tuple[str, ...]] = {
    "surface": ("solid", "with edges", "wire", "with a picture"),
    "grid": ("on the ground", "own relief"),
    "blocks": ("from the cut-off", "band of the ramp", "slices", "slice at a plane", "isosurface"),
    "holes": ("tubes", "lines", "markers"),
}


@dataclass(frozen=True)
class Style:
    """How an item is drawn in all panes.

    Attributes
    ----------
    colour_by
        Attribute that colours it; '' for the one that suits it, '-' for none.
    opacity
        0 (not seen) to 1; less lets what lies under it show through.
    shape_by
        Points: column of texts; each class has a symbol of its own.
    size_by
        Points: column of numbers; circles whose area grows with the value. Holes: their width in 3D and the bars beside them.
    label_by
        Points: column that is written beside each, where there is space.
    label_from
        Points: numbers below it are not written; None writes all.
    size
        Points: diameter in pixels of a symbol, of the largest one with `size_by`; 0 takes what suits them.
    form
        3D: how it stands there, one of `FORMS` of its kind; '' for the first of them.
    every
        3D: contour lines on a surface or on relief, each so many metres; 0 draws none.
    raised
        3D: metres by which a grid stands above the ground.
    slices
        3D: where the three slices of a block model lie, shares of its extent along both axes and up.
    plane
        3D: the plane at which a block model is sliced: dip and dip direction in degrees, and metres by which it is
        moved along its upward normal from the middle of the model.
    faded
        Block models with a sensitivity: whether what the readings can't see is faded.
    """

    colour_by: str = ""
    shape_by: str = ""
    size_by: str = ""
    label_by: str = ""
    label_from: float | None = None
    size: float = 0.0
    opacity: float = 1.0
    form: str = ""
    every: float = 0.0
    raised: float = 0.0
    slices: tuple[float, float, float] = (0.5, 0.5, 0.5)
    plane: tuple[float, float, float] = (60.0, 90.0, 0.0)
    faded: bool = True

    def to_json(self) -> dict[str, Any]:
        """What differs from the default."""
        return {k: v for k, v in vars(self).items() if v != getattr(Style, k)}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Style:
        known = {k: v for k, v in data.items() if k in cls.__dataclass_fields__}
        for name in ("slices", "plane"):  # lists, as JSON has them
            if name in known:
                known[name] = tuple(float(v) for v in known[name])
        return cls(**known)

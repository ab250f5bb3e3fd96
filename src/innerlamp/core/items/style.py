"""How an item is drawn: what the user chose for it. It is kept with the item and can be undone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


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
    """

    colour_by: str = ""
    shape_by: str = ""
    size_by: str = ""
    label_by: str = ""
    label_from: float | None = None
    size: float = 0.0
    opacity: float = 1.0

    def to_json(self) -> dict[str, Any]:
        """What differs from the default."""
        return {k: v for k, v in vars(self).items() if v != getattr(Style, k)}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Style:
        return cls(**{k: v for k, v in data.items() if k in cls.__dataclass_fields__})

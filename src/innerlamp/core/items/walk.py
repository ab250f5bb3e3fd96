"""Walk-throughs: views of the ground in an order, each with what is lit in it and a caption."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field, field_validator

from .base import Item
from .listed import plain_list, understood

MOST_STOPS = 100


class Stop(BaseModel):
    """One view of a walk-through.

    Attributes
    ----------
    name, caption
        What it is called, and what is said of it.
    lit
        Ids or names of what is shown, the lowest first.
    colour_by
        Attribute that colours an item, by the same ids or names.
    camera
        Where the camera stands and what it looks at (easting, northing, elevation in metres each), what is up (three
        numbers), and its angle of view in degrees; without one the view is given by `looking` and `around`.
    looking
        From which side it is seen (degrees clockwise from north) and from how many degrees above.
    around
        Id or name of the item that fills the view; all that is lit when empty.
    exaggeration
        Vertical exaggeration.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=80)
    caption: str = Field("", max_length=2_000)
    lit: tuple[str, ...] = Field((), max_length=200)
    colour_by: dict[str, str] = {}
    camera: tuple[float, ...] | None = None
    looking: tuple[float, float] = (135.0, 28.0)
    around: str = ""
    exaggeration: float = Field(1.0, gt=0, le=100)

    @field_validator("camera")
    @classmethod
    def _is_a_camera(cls, camera: tuple[float, ...] | None) -> tuple[float, ...] | None:
        if camera is not None and (len(camera) != 10 or not 1.0 <= camera[9] <= 120.0 or camera[:3] == camera[3:6]):
            raise ValueError("must be ten numbers: place, focus, what is up, angle of view from 1 to 120 degrees")
        return camera


@dataclass(frozen=True, kw_only=True)
class Walk(Item):
    """Views in the order in which they are shown (`Stop`, as plain values)."""

    kind: ClassVar[str] = "walk"
    title: ClassVar[str] = "Walk-throughs"
    stops: tuple[dict[str, Any], ...]

    @cached_property
    def views(self) -> list[Stop]:
        """The stops, checked."""
        return understood(Stop, self.stops, "walk-through")

    @property
    def facts(self) -> dict[str, str]:
        return {"Views": str(len(self.stops))}


def checked_stops(stops: Any) -> tuple[dict[str, Any], ...]:
    """Return stops as plain values, after a check.

    Raises
    ------
    InputError
        Says which stop is wrong, and how.
    """
    return plain_list(Stop, stops, "view", "walk-through", 1, MOST_STOPS)

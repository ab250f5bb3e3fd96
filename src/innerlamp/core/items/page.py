"""Pages: sheets of paper on which maps, sections and their furniture are placed at true scale."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from ..errors import CrsError
from ..local_grid import LocalGrid, local_grid
from .base import Item
from .listed import plain_list, understood
from .section_look import MOST_PANELS

PAPERS: dict[str, tuple[float, float]] = {
    "A4": (210.0, 297.0),
    "A3": (297.0, 420.0),
    "A2": (420.0, 594.0),
    "A1": (594.0, 841.0),
    "A0": (841.0, 1189.0),
}
Kind = Literal["map", "section", "log", "legend", "scale bar", "north", "title", "notes", "inset", "picture", "chart"]
PANEL, _LEAST_STRIP, _MOST_STRIP = 16.0, 12.0, 30.0  # millimetres of a panel above a section, and of its plan
MOST_ELEMENTS, MOST_SHEETS, MOST_PICTURE = 1_000, 200, 6_000_000


def strip_height(corridor: float, scale: float) -> float:
    """Return the millimetres of the plan above a section: true to scale (three corridors) as far as that is of use."""
    return min(max(3000.0 * corridor / max(scale, 1e-9), _LEAST_STRIP), _MOST_STRIP)


class Element(BaseModel):
    """One thing on a page, its corner and size in millimetres from the top left of the sheet.

    Attributes
    ----------
    lit
        Ids or names of what a map or section shows, the lowest first; a frame remembers it.
    colour_by
        Attribute that colours an item, by the same ids or names.
    easting, northing, scale
        Middle of a map in metres, and the denominator of its scale; of a section only the scale.
    line, corridor, exaggeration, elevation
        Section: its ends (x0, y0, x1, y1), with the places between them where it is a fence; half width of the corridor (m), vertical exaggeration,
        and the elevation of the frame's middle (m); without one the ground lies near the frame's top.
    grid
        Interval of the coordinate grid in metres: 0 takes a round one, -1 draws none.
    system
        Coordinates in which the grid of a map and its numbers are, and the direction and heights of a section: known points of
        a local grid (`core.local_grid`); the project's when empty.
    side
        Section: which side of it its corridor lies on.
    sheet
        On which sheet of the page it stands, counted from 0.
    beside
        Section: what stands beside its holes (`core.items.section_look`).
    panels, strip, depths
        Section: ids or names of grids that stand as profiles above it, whether a plan of its corridor does, and whether
        depths stand along its holes.
    depth, depth_to, tracks
        Log: the depths (m) at which it begins and ends, 0 for as far as it goes, and its tracks (`core.items.tracks`); without any the rock and the first
        grades are drawn.
    of
        Number of the map (counted among those of its sheet) that a legend, scale bar, north arrow or inset belongs to.
    text, fields
        Words of notes and titles, the name of a log's hole or of a section, what a chart of control samples shows
        (`core.importing.control_series.groups`); rows of the title block, of a chart its grade as ``attribute``.
    data
        A picture's bytes (PNG or JPEG) in base 64.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    kind: Kind
    x: float = Field(ge=-2000, le=5000)
    y: float = Field(ge=-2000, le=5000)
    w: float = Field(gt=1, le=5000)
    h: float = Field(gt=1, le=5000)
    lit: tuple[str, ...] = ()
    colour_by: dict[str, str] = {}
    easting: float = 0.0
    northing: float = 0.0
    scale: float = Field(0.0, ge=0)
    line: tuple[float, ...] | None = Field(None, min_length=4, max_length=400)
    corridor: float = Field(50.0, gt=0)
    exaggeration: float = Field(1.0, gt=0, le=100)
    elevation: float | None = None
    side: Literal["both sides", "behind", "in front"] = "both sides"
    beside: tuple[dict[str, Any], ...] = ()
    panels: tuple[str, ...] = Field((), max_length=MOST_PANELS)
    strip: bool = False
    depths: bool = False
    sheet: int = Field(0, ge=0, lt=MOST_SHEETS)
    depth: float = Field(0.0, ge=0)
    depth_to: float = Field(0.0, ge=0)
    tracks: tuple[dict[str, Any], ...] = ()
    grid: float = Field(0.0, ge=-1)
    system: str = Field("", max_length=20_000)
    of: int = Field(0, ge=0)
    text: str = Field("", max_length=20_000)
    fields: dict[str, str] = {}
    date: str = ""
    data: str = Field("", max_length=MOST_PICTURE)

    @property
    def strip_height(self) -> float:
        """Millimetres of the plan above a section, 0 without one."""
        return strip_height(self.corridor, self.scale) if self.strip else 0.0

    @property
    def above(self) -> float:
        """Millimetres of a section that its panels take; none where its ground would keep less than two centimetres."""
        wanted = self.strip_height + PANEL * len(self.panels)
        return wanted if self.h >= 33.0 + wanted else 0.0

    @field_validator("data")
    @classmethod
    def _is_a_picture(cls, data: str) -> str:
        # PNG or JPEG by their first bytes: other kinds, such as SVG, can refer to files.
        if data and not data.startswith(("iVBORw0KGgo", "/9j/")):
            raise ValueError("must be a PNG or JPEG picture in base 64")
        return data

    @field_validator("system")
    @classmethod
    def _is_a_local_grid(cls, system: str) -> str:
        if system:
            try:
                local_grid(system)
            except CrsError as error:
                raise ValueError(str(error)) from error
        return system

    @property
    def local(self) -> LocalGrid | None:
        """The local grid of its coordinates, None for the project's own."""
        return local_grid(self.system) if self.system else None

    @field_validator("line")
    @classmethod
    def _is_a_section(cls, line: tuple[float, ...] | None) -> tuple[float, ...] | None:
        if line is not None and (len(line) % 2 or len(set(zip(line[::2], line[1::2], strict=True))) < 2):
            raise ValueError("must be x, y, x, y ... of two places or more that lie apart")
        return line


@dataclass(frozen=True, kw_only=True)
class Page(Item):
    """A sheet with its elements (`Element`, as plain values), the lowest first.

    Attributes
    ----------
    width, height
        Of the sheet in millimetres.
    """

    kind: ClassVar[str] = "page"
    title: ClassVar[str] = "Pages"
    width: float
    height: float
    elements: tuple[dict[str, Any], ...]

    @cached_property
    def layout(self) -> list[Element]:
        """The elements, checked."""
        return understood(Element, self.elements, "page")

    @property
    def maps(self) -> list[Element]:
        """The maps that have a scale, in their order."""
        return [e for e in self.layout if e.kind == "map" and e.scale]

    @property
    def sheets(self) -> int:
        """How many sheets it has, one at least."""
        return 1 + max((e.sheet for e in self.layout), default=0)

    def on_sheet(self, sheet: int) -> list[Element]:
        """The elements of one sheet, the lowest first."""
        return [e for e in self.layout if e.sheet == sheet]

    @property
    def paper(self) -> str:
        """Name of the paper, or its size."""
        sides = sorted((self.width, self.height))
        name = next((n for n, (a, b) in PAPERS.items() if abs(a - sides[0]) < 0.6 and abs(b - sides[1]) < 0.6), "")
        shape = "landscape" if self.width > self.height else "portrait"
        return f"{name} {shape}" if name else f"{self.width:g} × {self.height:g} mm"

    @property
    def facts(self) -> dict[str, str]:
        layout = self.layout
        scales = [
            f"1:{e.scale:,.0f}".replace(",", "\u2009") for e in layout if e.kind in ("map", "section") and e.scale
        ]
        many = {"Sheets": str(self.sheets)} if self.sheets > 1 else {}
        return {
            "Paper": self.paper,
            **many,
            "Elements": str(len(layout)),
            "Scale": ", ".join(dict.fromkeys(scales)) or "none",
        }


def scale_words(scale: float) -> str:
    """Return a scale as it is written: ``1:12 500``, thousands set apart by thin spaces."""
    return f"1:{scale:,.0f}".replace(",", "\u2009")


def checked(elements: Any) -> tuple[dict[str, Any], ...]:
    """Return elements as plain values, after a check.

    Raises
    ------
    InputError
        Says which element is wrong, and how.
    """
    return plain_list(Element, elements, "element", "page", 0, MOST_ELEMENTS)

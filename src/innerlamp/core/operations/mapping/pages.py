"""Pages: a finished arrangement for what is on the map, changed arrangements, templates."""

from __future__ import annotations

import dataclasses
import json
from datetime import date
from itertools import pairwise
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator

from ...compute.geometry.planes import SectionPlane
from ...compute.potential.mainfield import parse_date
from ...crs import describe
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...formats.out.page_templates import read_template
from ...items.base import Item
from ...items.page import PAPERS, Page, checked, scale_words
from ...local_grid import LocalGrid, called, is_local, local_grid
from ...progress import Progress

_SCALES = (1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 7.5, 10.0)
MARGIN, SIDE = 8.0, 92.0


def coordinates_of_pages() -> Any:
    """Declare the system in which the grid, directions and heights of a page are."""
    return param(
        "",
        "Coordinates",
        editor="crs",
        help="Of the grid of its maps, and of directions, heights and ends of its sections: a mine's own grid by name or "
        "known points, the project's when empty",
        more=True,
    )


class MakePage(Params):
    paper: Literal["A4", "A3", "A2", "A1", "A0", "custom"] = param("A3", "Paper")
    lying: Literal["landscape", "portrait"] = param("landscape", "Sheet")
    width: float = param(420.0, "Width", unit="mm", low=50.0, high=2000.0, help="Of a custom sheet", more=True)
    height: float = param(297.0, "Height", unit="mm", low=50.0, high=2000.0, help="Of a custom sheet", more=True)
    scale: float = param(
        0.0, "Scale 1 :", unit="metres a metre", low=0.0, high=1e8, help="0 takes the largest round scale that fits"
    )
    lit: Several = param(
        (), "Shows", editor="lines", help="Names of items, the lowest first; what the map is fitted to when empty"
    )
    beside: Several = param(
        (),
        "Second map shows",
        editor="lines",
        help="Names of items for a smaller map beside the first one; none when empty",
    )
    heading: str = param("", "Title")
    second: str = param("", "Second line")
    author: str = param("", "Drawn by")
    notes: str = param("", "Notes", help="Sources, methods, remarks")
    date: str = param(
        "", "Date", editor="date", help="Of the magnetic north arrow and in the title block; today when empty"
    )
    section: str = param(
        "",
        "Section",
        help="Its two ends, to add it below the map, more places for a fence: 503200 5602500; 504300 5601900",
        more=True,
    )
    coordinates: str = coordinates_of_pages()
    template: str = param("", "Template", editor="file", help="A page template to arrange it by", more=True)
    name: str = param("", "Name", help="The title when empty")


def parsed(value: Any) -> Any:
    """Return the elements that a JSON text lists; what is a list already stays one."""
    if not isinstance(value, str):
        return value
    try:
        found = json.loads(value)
    except (json.JSONDecodeError, RecursionError) as error:
        raise ValueError("must be JSON") from error
    if not isinstance(found, list):
        raise ValueError("must be a list of elements")
    return found


class ArrangePage(Params):
    layout: Annotated[tuple[dict[str, Any], ...], BeforeValidator(parsed)] = param(
        ..., "Layout", help="The elements of the page as JSON, as a template has them"
    )
    width: float = param(0.0, "Width", unit="mm", low=0.0, high=2000.0, help="0 keeps it")
    height: float = param(0.0, "Height", unit="mm", low=0.0, high=2000.0, help="0 keeps it")


def local_of(system: str) -> LocalGrid | None:
    """Return the local grid of a page's coordinates, None for the project's own.

    Raises
    ------
    InputError
        When it is no local grid.
    """
    if not system:
        return None
    if not is_local(system):
        raise InputError(
            f"'{system[:60]}' is no local grid that this project knows",
            where="coordinates",
            fix="Name one that its items came in by, or give known points: Mine grid: 1000 2000 = 500123 7001234; …",
        )
    return local_grid(system)


def in_project(ends: tuple[float, ...] | None, grid: LocalGrid | None) -> tuple[float, ...] | None:
    """Return places (x, y, x, y ...) of a local grid in the project's coordinates; those of the project as they are."""
    if ends is None or grid is None:
        return ends
    x, y = grid.to_project(np.array(ends[::2]), np.array(ends[1::2]))
    return tuple(np.column_stack([x, y]).ravel().tolist())


def title_fields(inputs: Inputs, scale: str, when: str, author: str, system: str = "") -> dict[str, str]:
    """Return the rows of a title block; what is not known has none."""
    local = {"Grid": f"{called(system)}, turned {local_grid(system).turned:.3f}°"} if system else {}
    rows = {"Scale": scale, "System": describe(inputs.crs)} | local | {"Date": when, "Drawn by": author}
    return {name: words for name, words in rows.items() if words}


def round_scale(least: float) -> float:
    """Return the smallest round scale denominator that is not below `least`, such as 12 500, 15 000, 20 000 or 25 000."""
    power = 10.0 ** np.floor(np.log10(max(least, 1.0)))
    return float(next(m * power for m in _SCALES if m * power >= least * (1 - 1e-9)))


def ends_of(text: str) -> tuple[float, ...] | None:
    """Return the places of a section (x, y, x, y ...) that a text names, None for an empty one.

    Raises
    ------
    InputError
        When it names no two places that lie apart.
    """
    if not text.strip():
        return None
    try:
        places = [[float(v) for v in part.replace(",", " ").split()] for part in text.split(";")]
        if any(len(place) != 2 for place in places) or len(places) < 2:
            raise ValueError
    except ValueError as error:
        raise InputError(
            f"'{text}' does not name two ends", where="section", fix="Write for example 503200 5602500; 504300 5601900"
        ) from error
    if any(np.hypot(b[0] - a[0], b[1] - a[1]) < 1.0 for a, b in pairwise(places)):
        raise InputError("the ends of the section lie at one place")
    return tuple(v for place in places for v in place)


def _arranged(width: float, height: float, section: bool, second: bool) -> list[dict[str, Any]]:
    """A map with its furniture to the right of it (below it on an upright sheet), and a section below."""
    m, gap = MARGIN, 4.0
    upright = height > width
    side = min(SIDE, 0.3 * width) if not upright else width - 2 * m
    low = 0.24 * height if upright else 0.0
    map_w = width - 2 * m - (0 if upright else side + gap)
    map_h = height - 2 * m - (low + gap if upright else 0)
    sect_h = 0.28 * map_h if section else 0.0
    top_h = map_h - (sect_h + gap if section else 0.0)
    out: list[dict[str, Any]] = [{"kind": "map", "x": m, "y": m, "w": map_w, "h": top_h}]
    if section:
        out.append({"kind": "section", "x": m, "y": m + top_h + gap, "w": map_w, "h": sect_h})
    if upright:
        y, third = height - m - low, (side - 2 * gap) / 3
        if second:
            out.append(
                {
                    "kind": "map",
                    "x": m + third + gap,
                    "y": y + 0.58 * low + 15.0,
                    "w": third,
                    "h": 0.42 * low - 15.0,
                    "grid": -1.0,
                }
            )
        out += [
            {"kind": "legend", "x": m, "y": y, "w": third, "h": low},
            {"kind": "north", "x": m + third + gap, "y": y, "w": 0.5 * third, "h": 0.55 * low},
            {"kind": "inset", "x": m + 1.5 * third + gap, "y": y, "w": 0.5 * third, "h": 0.55 * low},
            {"kind": "scale bar", "x": m + third + gap, "y": y + 0.58 * low, "w": third, "h": 14.0},
            {
                "kind": "notes",
                "x": m + third + gap,
                "y": y + 0.58 * low + 15.0,
                "w": third,
                "h": max(0.42 * low - 15.0, 8.0),
            },
            {"kind": "title", "x": m + 2 * (third + gap), "y": y, "w": third, "h": low},
        ]
        return out
    share = min(max(height / 297.0, 0.6), 1.4)
    x, y, title_h, notes_h, inset_h = width - m - side, m, 40.0 * share, 20.0 * share, 42.0 * share
    small = (0.82 if share >= 0.85 else 0.55) * side + gap if second else 0.0
    if second:
        out.append({"kind": "map", "x": x, "y": y, "w": side, "h": small - gap, "grid": -1.0})
    bar_y = height - m - title_h - notes_h - 2 * gap - 15.0
    out += [
        {"kind": "legend", "x": x, "y": y + small, "w": side, "h": bar_y - inset_h - 2 * gap - y - small},
        {"kind": "north", "x": x, "y": bar_y - inset_h - gap, "w": 0.42 * side, "h": inset_h},
        {"kind": "inset", "x": x + 0.45 * side, "y": bar_y - inset_h - gap, "w": 0.55 * side, "h": inset_h},
        {"kind": "scale bar", "x": x, "y": bar_y, "w": side, "h": 15.0},
        {"kind": "notes", "x": x, "y": height - m - title_h - notes_h - gap, "w": side, "h": notes_h},
        {"kind": "title", "x": x, "y": height - m - title_h, "w": side, "h": title_h},
    ]
    return out


def _run_make(inputs: Inputs, p: MakePage, progress: Progress) -> dict[str, Item]:
    around = inputs["around"]
    west, east, south, north, _, _ = around.bounds
    if not np.isfinite([west, east, south, north]).all():
        raise InputError("it has no place on the map", where=around.name, fix="Choose another item to fit the map to")
    when = p.date or date.today().isoformat()
    parse_date(when)
    line = in_project(ends_of(p.section), local_of(p.coordinates))
    if p.template:
        width, height, made = read_template(p.template)
        elements = [dict(e) for e in made]
    else:
        short, long = PAPERS.get(p.paper, (p.width, p.height))
        width, height = (
            (p.width, p.height) if p.paper == "custom" else (long, short) if p.lying == "landscape" else (short, long)
        )
        elements = _arranged(width, height, line is not None, bool(p.beside))
    lit = list(p.lit) or [around.name]
    scales: list[float] = []
    for e in elements:
        e |= {side: round(e[side], 1) for side in ("x", "y", "w", "h")}
        e.setdefault("date", when)
        if p.coordinates and e["kind"] in ("map", "section"):
            e["system"] = p.coordinates
        if e["kind"] == "map":
            # The coordinate grid's numbers stand in a strip within the frame.
            pad = 0.0 if e.get("grid", 0.0) < 0 else 12.0
            wide, tall, later = e["w"] - pad, e["h"] - pad, bool(scales)
            e["scale"] = (0.0 if later else p.scale) or round_scale(
                max((east - west) / wide, (north - south) / tall, 0.1) * 1000.0
            )
            shown = list(p.beside) if later and p.beside else lit
            e["text"] = e.get("text") or (", ".join(shown) if later else "")
            e |= {"lit": shown, "easting": 0.5 * (west + east), "northing": 0.5 * (south + north)}
            scales.append(e["scale"])
        elif e["kind"] == "section" and line is not None:
            length = SectionPlane.along(line).length
            e["scale"] = round_scale(length / (e["w"] - 24.0) * 1000.0)
            e |= {"lit": lit, "line": line}
        elif e["kind"] == "title":
            e |= {
                "text": "\n".join(t for t in (p.heading or around.name, p.second) if t),
                "fields": title_fields(inputs, scale_words(scales[0]) if scales else "", when, p.author, p.coordinates),
            }
        elif e["kind"] == "notes":
            e["text"] = p.notes or e.get("text", "")
    elements = [e for e in elements if e["kind"] != "section" or "line" in e]
    progress(1.0, f"{width:g} × {height:g} mm" + (f", map at 1:{scales[0]:,.0f}" if scales else ""))
    return {
        "page": Page(
            name=p.name or p.heading or f"Page of {around.name}",
            crs=inputs.crs,
            width=width,
            height=height,
            elements=checked(elements),
        )
    }


def _run_arrange(inputs: Inputs, p: ArrangePage, progress: Progress) -> dict[str, Item]:
    page = inputs.need("page", Page)
    elements = checked(list(p.layout))
    made = dataclasses.replace(page, elements=elements, width=p.width or page.width, height=p.height or page.height)
    progress(1.0, f"{len(elements)} elements")
    return {"page": made}


MAKE = Operation(
    name="make-page",
    example=Example(
        {"around": "Geological map"}, {"heading": "Emberlow", "date": "2024-11-04", "lit": ["Geological map", "Soils"]}
    ),
    title="Make a page",
    area="Maps",
    help="Lays a map out on paper at true scale, with coordinate grid, legend, scale bar, north arrows, inset, notes and title block.",
    params=MakePage,
    run=_run_make,
    inputs=(
        Input(
            "around",
            "Fit the map to",
            ("grid", "features", "points", "lines", "holes", "picture", "electrodes", "blocks", "surface", "targets"),
        ),
    ),
    outputs=(Output("page", "page", "The page"),),
)
ARRANGE = Operation(
    name="arrange-page",
    example=Example({"page": "Emberlow A3"}, {"layout": [{"kind": "notes", "x": 5, "y": 5, "w": 50, "h": 20}]}),
    title="Arrange a page",
    area="Maps",
    help="Gives a page another arrangement; the page pane does it by mouse.",
    params=ArrangePage,
    run=_run_arrange,
    inputs=(Input("page", "Page", ("page",)),),
    outputs=(Output("page", "page", "The page"),),
    replaces={"page": "page"},
    instant=True,
)

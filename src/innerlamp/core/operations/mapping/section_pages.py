"""Pages of sections: one or a series of parallel ones at one scale with a plan and a legend, on as many sheets as it takes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from datetime import date
from functools import partial
from typing import Any, Literal

import numpy as np

from ...compute.geometry.planes import SectionPlane, about
from ...compute.potential.mainfield import parse_date
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel, Surface, sheet_line
from ...items.holes import HoleSet
from ...items.page import MOST_SHEETS, PANEL, PAPERS, Page, checked, scale_words, strip_height
from ...items.points import PointSet
from ...items.section_look import HANDS, MOST_BESIDE, MOST_PANELS, WAYS, Beside, Hand
from ...numbers import number_or_none
from ...progress import Progress
from .pages import MARGIN, SIDE, coordinates_of_pages, ends_of, in_project, local_of, round_scale, title_fields

_FRAME_W, _FRAME_H, _GAP = 24.0, 13.0, 5.0  # millimetres of a section's frame beside its ground, and between sections
_TITLE, _MOST = 34.0, 400


class SectionPages(Params):
    line: str = param(
        "",
        "First section",
        help="Its ends, with places between them for a fence: 503200 5602500; 504300 5601900. The middle of the item when empty",
    )
    azimuth: float = param(
        90.0, "Azimuth", unit="°", low=0.0, high=360.0, help="Of sections without a line, from A to B"
    )
    number: int = param(1, "Number", low=0, high=_MOST, help="Of parallel sections; 0 takes as many as cover the item")
    spacing: float = param(0.0, "Spacing", unit="m", low=0.0, help="Between them; 0 takes twice the corridor")
    corridor: float = param(25.0, "Corridor", unit="m", above=0.0, help="Half width of what is drawn on each section")
    side: Literal["both sides", "behind", "in front"] = param("both sides", "Corridor on", more=True)
    scale: float = param(
        0.0, "Scale 1 :", unit="metres a metre", low=0.0, high=1e8, help="0 takes the largest round scale"
    )
    exaggeration: float = param(1.0, "Vertical exaggeration", above=0.0, high=100.0, more=True)
    lowest: float | None = param(None, "Lowest elevation", unit="m", help="That of the item when empty", more=True)
    highest: float | None = param(None, "Highest elevation", unit="m", help="That of the item when empty", more=True)
    lit: Several = param(
        (), "Shows", editor="lines", help="Names of items, the lowest first; the item alone when empty"
    )
    plan: Several = param(
        (), "Plan shows", editor="lines", help="Names of items; what the sections show when empty", more=True
    )
    colours: Several = param(
        (),
        "Coloured by",
        editor="lines",
        help="Item = column, such as Emberlow holes = Rock; as now when empty",
        more=True,
    )
    beside: Several = param(
        (),
        "Beside holes",
        editor="lines",
        help="Column, way, side, offset and width in metres: Sn_ppm bars right 4 30; ways: intervals, patterns, bars, curve, values, ticks",
        more=True,
    )
    panels: Several = param((), "Profiles above", editor="lines", help="Names of grids, the highest first", more=True)
    strip: bool = param(False, "Plan of the corridor above", more=True)
    depths: bool = param(False, "Depths along holes", more=True)
    coordinates: str = coordinates_of_pages()
    paper: Literal["A4", "A3", "A2", "A1", "A0"] = param("A3", "Paper")
    lying: Literal["landscape", "portrait"] = param("landscape", "Sheet")
    heading: str = param("", "Title")
    author: str = param("", "Drawn by")
    notes: str = param("", "Notes", help="Sources, methods, remarks")
    date: str = param("", "Date", editor="date", help="In the title block; today when empty")
    name: str = param("", "Name", help="The title when empty")


def _run(inputs: Inputs, p: SectionPages, progress: Progress) -> dict[str, Item]:
    around = inputs["around"]
    when = p.date or date.today().isoformat()
    parse_date(when)
    lines = series(around, p)
    low, high = _heights(around, p)
    short, long = PAPERS[p.paper]
    width, height = (long, short) if p.lying == "landscape" else (short, long)
    room_w, room_h = _room(width, height)
    length = max(line.length for line in lines)
    scale = p.scale or _scale(length, (high - low) * p.exaggeration, room_w, room_h, len(lines), partial(_panels, p))
    frame_w = length / scale * 1000.0 + _FRAME_W
    panels = _panels(p, scale)
    frame_h = (high - low) * p.exaggeration / scale * 1000.0 + _FRAME_H + panels
    across, down = int((room_w + _GAP) // (frame_w + _GAP)), int((room_h + _GAP) // (frame_h + _GAP))
    if not across or not down:
        raise InputError(
            f"a section takes {frame_w:.0f} × {frame_h:.0f} mm at {scale_words(scale)}, and the sheet has {room_w:.0f} × {room_h:.0f} mm",
            fix="Take a smaller scale, larger paper, or a shorter line",
        )
    a_sheet = across * down
    sheets = -(-len(lines) // a_sheet)
    if sheets > MOST_SHEETS:
        raise InputError(f"{len(lines)} sections take {sheets} sheets", fix=f"At most {MOST_SHEETS}: draw fewer")
    # The same space for each: what is left is shared out, in the height only as far as it helps.
    frame_w = (room_w - _GAP * (across - 1)) / across
    frame_h = min((room_h - _GAP * (down - 1)) / down, 1.15 * frame_h)
    lit, colours = list(p.lit) or [around.name], _colours(p)
    beside = tuple(asdict(each) for each in _beside(p))
    made: list[dict[str, Any]] = []
    for number, line in enumerate(lines):
        sheet, place = divmod(number, a_sheet)
        row, column = divmod(place, across)
        made.append(
            {
                "kind": "section",
                "x": round(MARGIN + column * (frame_w + _GAP), 1),
                "y": round(MARGIN + row * (frame_h + _GAP), 1),
                "w": round(frame_w, 1),
                "h": round(frame_h, 1),
                "scale": scale,
                "line": tuple(line.places.ravel().tolist()),
                "corridor": p.corridor,
                "side": p.side,
                "exaggeration": p.exaggeration,
                "elevation": 0.5 * (low + high),
                "lit": lit,
                "colour_by": colours,
                "beside": beside,
                "panels": p.panels,
                "strip": p.strip,
                "depths": p.depths,
                "system": p.coordinates,
                "text": str(number + 1) if len(lines) > 1 else "",
                "sheet": sheet,
            }
        )
    for sheet in range(sheets):
        mine = [e for e in made if e["kind"] == "section" and e["sheet"] == sheet]
        made += _furniture(inputs, p, around, mine, width, height, scale, when, sheet, sheets)
    progress(1.0, f"{len(lines)} sections at {scale_words(scale)}" + (f" on {sheets} sheets" if sheets > 1 else ""))
    return {
        "page": Page(
            name=p.name or p.heading or f"Sections of {around.name}",
            crs=inputs.crs,
            width=width,
            height=height,
            elements=checked(made),
        )
    }


def series(around: Item, p: SectionPages) -> list[SectionPlane]:
    """Return the sections that parameters ask for, from the front to the back as the viewer looks.

    Raises
    ------
    InputError
        When the item has no place, or they would be very many.
    """
    west, east, south, north, *_ = around.bounds
    if not np.isfinite([west, east, south, north]).all():
        raise InputError("it has no place on the map", where=around.name, fix="Choose another item")
    grid = local_of(p.coordinates)
    azimuth = p.azimuth + (grid.azimuth if grid is not None else 0.0)
    ends = in_project(ends_of(p.line), grid) or (sheet_line(around) if isinstance(around, BlockModel) else None)
    spacing = p.spacing or 2.0 * p.corridor
    corners = np.array([(west, south), (east, south), (west, north), (east, north)])
    if ends is not None:
        first = SectionPlane.along(ends)
        across = first.to_plane(*corners.T)[1] if not first.bends else np.zeros(1)
        count = p.number or int(np.floor(max(across.max(), 0.0) / spacing)) + 1
        offsets = np.arange(count) * spacing
    else:
        places = _places(around)
        middle = 0.5 * (places.min(axis=0) + places.max(axis=0))
        trial = about(float(middle[0]), float(middle[1]), azimuth, 1000.0)
        along, off = trial.to_plane(*places.T)
        reach = max(float(np.ptp(along)), 100.0)
        a = np.radians(azimuth)
        at = middle + (0.5 * (along.min() + along.max()) - 500.0) * np.array([np.sin(a), np.cos(a)])
        first = about(float(at[0]), float(at[1]), azimuth, 1.1 * reach)
        wide = float(np.ptp(off))
        count = p.number or max(int(np.ceil(wide / spacing)), 1)
        offsets = 0.5 * (off.min() + off.max()) + (np.arange(count) - 0.5 * (count - 1)) * spacing
    if len(offsets) > _MOST:
        raise InputError(f"{len(offsets)} sections are too many", fix="Take a wider spacing, or give their number")
    return [first.stepped(float(o)) for o in offsets]


def _places(around: Item) -> np.ndarray:
    """Eastings and northings (n, 2) that sections are laid through: those of holes and points, else the corners of the item."""
    if isinstance(around, HoleSet):
        xy = around.stations[["x", "y"]].to_numpy(float)
    elif isinstance(around, PointSet):
        xy = around.table[["x", "y"]].to_numpy(float)
    elif isinstance(around, Surface):
        xy = around.vertices[:, :2]
    else:
        west, east, south, north, *_ = around.bounds
        xy = np.array([(west, south), (east, south), (west, north), (east, north)])
    return np.asarray(xy[np.isfinite(xy).all(axis=1)])


def _heights(around: Item, p: SectionPages) -> tuple[float, float]:
    low, high = around.bounds[4:6]
    margin = 0.06 * (high - low) if np.isfinite(high - low) else 0.0
    grid = local_of(p.coordinates)
    up = grid.up if grid is not None else 0.0
    low = p.lowest + up if p.lowest is not None else low - margin
    high = p.highest + up if p.highest is not None else high + 2.0 * margin
    if not np.isfinite([low, high]).all():
        raise InputError("it has no elevations", where=around.name, fix="Give the lowest and the highest elevation")
    if high - low < 1.0:
        raise InputError("the highest elevation must lie above the lowest", where="sections")
    return float(low), float(high)


def _room(width: float, height: float) -> tuple[float, float]:
    """Millimetres that a sheet has for sections: beside the furniture, above it on an upright sheet."""
    if height > width:
        return width - 2 * MARGIN, height - 2 * MARGIN - 0.24 * height - _GAP
    return width - 2 * MARGIN - min(SIDE, 0.3 * width) - _GAP, height - 2 * MARGIN


def _panels(p: SectionPages, scale: float) -> float:
    """Millimetres that stand above the ground of each section."""
    if len(p.panels) > MOST_PANELS:
        raise InputError(f"at most {MOST_PANELS} profiles stand above a section", where="Profiles above")
    return PANEL * len(p.panels) + (strip_height(p.corridor, scale) if p.strip else 0.0)


def _beside(p: SectionPages) -> list[Beside]:
    out = []
    for words in p.beside:
        parts = words.split()
        way = next((k for k in range(len(parts) - 1, 0, -1) if parts[k] in WAYS), None)
        rest = parts[way + 1 :] if way is not None else []
        numbers = [number_or_none(v) for v in rest[1:]]
        if way is None or len(rest) > 3 or (rest and rest[0] not in HANDS) or None in numbers:
            raise InputError(
                f"'{words}' does not say what stands beside the holes",
                fix="Write column, way, side, offset and width: Sn_ppm bars right 4 30",
            )
        offset, width = [*(float(v or 0.0) for v in numbers), *(4.0, 30.0)[len(numbers) :]]
        if not (0.0 <= offset <= 2_000.0 and 1.0 <= width <= 2_000.0):
            raise InputError(f"'{words}': offsets are from 0, widths from 1, to 2 000 m", fix="Give other numbers")
        hand: Hand = "left" if rest[:1] == ["left"] else "right"
        out.append(Beside(next(w for w in WAYS if w == parts[way]), " ".join(parts[:way]), hand, offset, width))
    if len(out) > MOST_BESIDE:
        raise InputError(f"at most {MOST_BESIDE} columns stand beside holes", where="Beside holes")
    return out


def _scale(length: float, rise: float, wide: float, high: float, count: int, panels: Callable[[float], float]) -> float:
    """The largest round scale at which three sections (or all, when fewer) find room on a sheet, panels and all."""
    wanted = min(count, 3)
    best = np.inf
    for across in range(1, wanted + 1):
        down = -(-wanted // across)
        w, h = (wide - _GAP * (across - 1)) / across - _FRAME_W, (high - _GAP * (down - 1)) / down - _FRAME_H
        above = panels(1e9)
        for _ in range(6):  # the plan above is higher at a larger scale: begin with the least that it takes
            if w > 10 and h - above > 10:
                found = max(length / w, rise / (h - above)) * 1000.0
                now = panels(round_scale(found))
                if now <= above + 1e-6:
                    best = min(best, found)
                    break
                above = now
    return round_scale(best if np.isfinite(best) else length / 0.1)


def _colours(p: SectionPages) -> dict[str, str]:
    out = {}
    for words in p.colours:
        item, sign, column = words.rpartition("=")
        if not sign or not item.strip() or not column.strip():
            raise InputError(f"'{words}' does not say what is coloured by what", fix="Write item = column")
        out[item.strip()] = column.strip()
    return out


def _furniture(
    inputs: Inputs,
    p: SectionPages,
    around: Item,
    sections: list[dict[str, Any]],
    width: float,
    height: float,
    scale: float,
    when: str,
    sheet: int,
    sheets: int,
) -> list[dict[str, Any]]:
    """Plan with the sections of the sheet, legend, notes and title."""
    lit = list(p.plan) or sections[0]["lit"]
    at = np.concatenate([np.array(e["line"]).reshape(-1, 2) for e in sections])
    low, high = at.min(axis=0) - p.corridor, at.max(axis=0) + p.corridor
    title = {
        "kind": "title",
        "text": "\n".join(
            t
            for t in (p.heading or f"Sections of {around.name}", f"Sheet {sheet + 1} of {sheets}" if sheets > 1 else "")
            if t
        ),
        "fields": title_fields(inputs, scale_words(scale), when, p.author, p.coordinates),
    }
    if height > width:
        tall = 0.24 * height
        top, third = height - MARGIN - tall, (width - 2 * MARGIN - 2 * _GAP) / 3
        boxes = [(MARGIN + k * (third + _GAP), top, third, tall) for k in range(3)]
        plan, legend, words = boxes
        notes = (words[0], top, third, tall - _TITLE - _GAP)
        block = (words[0], top + tall - _TITLE, third, _TITLE)
    else:
        side = min(SIDE, 0.3 * width)
        x, y = width - MARGIN - side, MARGIN
        tall = min(0.9 * side, 0.3 * height)
        plan = (x, y, side, tall)
        block = (x, height - MARGIN - _TITLE, side, _TITLE)
        notes_h = 16.0 if p.notes else 0.0
        notes = (x, block[1] - notes_h - _GAP, side, notes_h)
        legend = (x, y + tall + _GAP, side, (notes[1] if p.notes else block[1]) - _GAP - y - tall - _GAP)
    fit = round_scale(max((high - low) / (np.array(plan[2:]) - 16.0)) * 1000.0)
    middle = 0.5 * (low + high)
    out = [
        _box("map", plan)
        | {
            "scale": fit,
            "easting": float(middle[0]),
            "northing": float(middle[1]),
            "lit": lit,
            "colour_by": _colours(p),
            "text": "Plan",
            "system": p.coordinates,
        },
        _box("legend", legend),
        _box("title", block) | title,
    ]
    if p.notes and notes[3] > 5.0:
        out.append(_box("notes", notes) | {"text": p.notes})
    return [e | {"sheet": sheet} for e in out]


def _box(kind: str, place: tuple[float, ...]) -> dict[str, Any]:
    return {"kind": kind, **{k: round(float(v), 1) for k, v in zip("xywh", place, strict=True)}}


OPERATION = Operation(
    name="section-pages",
    example=Example({"around": "Emberlow holes"}, {"azimuth": 152.0, "number": 3, "corridor": 40.0}),
    title="Pages of sections",
    area="Drilling",
    help="Lays sections out on paper at one true scale: one, a fence, or a series of parallel ones by azimuth, spacing and number, with a plan that shows where they run, a legend and a title block, on as many sheets as it takes.",
    params=SectionPages,
    run=_run,
    inputs=(
        Input(
            "around",
            "Sections through",
            ("holes", "points", "surface", "blocks", "features", "targets", "electrodes", "lines", "grid"),
        ),
    ),
    outputs=(Output("page", "page", "The page"),),
)

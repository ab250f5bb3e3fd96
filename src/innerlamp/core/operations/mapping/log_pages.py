"""Pages of strip logs: holes with chosen tracks at true scale, broken at depths onto as many sheets as it takes."""

from __future__ import annotations

import json
from datetime import date
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator

from ...compute.potential.mainfield import parse_date
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...items.attributes import orientation
from ...items.base import Item
from ...items.core_pictures import CorePictures
from ...items.holes import HoleSet
from ...items.page import MOST_SHEETS, PAPERS, Page, checked, scale_words
from ...items.points import PointSet
from ...items.tracks import Track, as_data, columns_of, from_data, kinds_for, proposed
from ...progress import Progress
from .pages import MARGIN, round_scale, title_fields

_TITLE, _LEGEND, _GAP = 30.0, 46.0, 4.0  # millimetres
_HEAD = 16.5  # of a log above its tracks


def tracks_in(value: Any) -> Any:
    """Return tracks that a text lists, one a line as ``kind: column, column`` or as JSON; what is a list already stays one."""
    if isinstance(value, str) and value.strip().startswith("["):
        try:
            return tuple(json.loads(value))
        except (json.JSONDecodeError, RecursionError) as error:
            raise ValueError("must be a list of tracks") from error
    return tuple(part.strip() for part in value.split(";") if part.strip()) if isinstance(value, str) else value


class LogPages(Params):
    of: Several = param((), "Holes", editor="lines", help="Their names; the first one when empty")
    tracks: Annotated[tuple[str | dict[str, Any], ...], BeforeValidator(tracks_in)] = param(
        (),
        "Tracks",
        editor="lines",
        help="A column each, or kind: column, such as curve: Density; the usual ones when empty",
    )
    beside: int = param(1, "Holes side by side", low=1, high=6)
    scale: float = param(
        0.0, "Scale 1 :", unit="metres a metre", low=0.0, high=1e6, help="0 fits the longest hole on a sheet"
    )
    paper: Literal["A4", "A3", "A2", "A1", "A0"] = param("A4", "Paper")
    lying: Literal["landscape", "portrait"] = param("portrait", "Sheet")
    heading: str = param("", "Title")
    author: str = param("", "Drawn by")
    date: str = param("", "Date", editor="date", help="In the title block; today when empty")
    name: str = param("", "Name", help="The title when empty")


def _run(inputs: Inputs, p: LogPages, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    planes, pictures = inputs.maybe("planes", PointSet), inputs.maybe("pictures", CorePictures)
    when = p.date or date.today().isoformat()
    parse_date(when)
    deep = dict(zip(holes.collars["hole"].astype(str), holes.collars["depth_m"].to_numpy(float), strict=True))
    names = list(p.of) or list(deep)[:1]
    for name in names:
        if name not in deep:
            raise InputError(f"there is no hole '{name}'", where=holes.name)
        if not deep[name] > 0:
            raise InputError(f"the depth of {name} is not known", where=holes.name)
    tracks = _tracks(holes, planes, pictures, p)
    short, long = PAPERS[p.paper]
    width, height = (long, short) if p.lying == "landscape" else (short, long)
    high = height - 2 * MARGIN - _TITLE - _LEGEND - 2 * _GAP
    room = high - _HEAD  # millimetres of depth on a sheet
    scale = p.scale or round_scale(max(deep[n] for n in names) / room * 1000.0)
    step = room * scale / 1000.0
    step = np.floor(step / 10.0) * 10.0 if step > 20.0 else step  # sheets break at round depths
    wide = (width - 2 * MARGIN - _GAP * (p.beside - 1)) / p.beside
    lit = [holes.name, *(each.name for each in (planes, pictures) if each is not None)]
    made: list[dict[str, Any]] = []
    sheet = 0
    for first in range(0, len(names), p.beside):
        group = names[first : first + p.beside]
        parts = max(int(np.ceil(deep[n] / step - 1e-9)) for n in group)
        for part in range(parts):
            for column, name in enumerate(group):
                if part * step < deep[name] - 1e-9:
                    made.append(
                        {
                            "kind": "log",
                            "x": round(MARGIN + column * (wide + _GAP), 1),
                            "y": MARGIN,
                            "w": round(wide, 1),
                            "h": round(_HEAD + (min(step, deep[name] - part * step)) * 1000.0 / scale + 1.5, 1),
                            "scale": scale,
                            "depth": part * step,
                            "depth_to": min(deep[name], (part + 1) * step),
                            "text": name,
                            "lit": lit,
                            "tracks": as_data(tracks),
                            "sheet": sheet,
                        }
                    )
            sheet += 1
            if sheet > MOST_SHEETS:
                raise InputError(
                    f"the logs take more than {MOST_SHEETS} sheets", fix="Take a smaller scale, or fewer holes"
                )
    heading = p.heading or (f"Log of {names[0]}" if len(names) == 1 else f"Logs of {holes.name}")
    fields = title_fields(inputs, scale_words(scale), when, p.author)
    for k in range(sheet):
        y = height - MARGIN - _TITLE
        made += [
            {"kind": "legend", "x": MARGIN, "y": y - _LEGEND - _GAP, "w": width - 2 * MARGIN, "h": _LEGEND, "sheet": k},
            {
                "kind": "title",
                "x": MARGIN,
                "y": y,
                "w": width - 2 * MARGIN,
                "h": _TITLE,
                "text": heading + (f"\nSheet {k + 1} of {sheet}" if sheet > 1 else ""),
                "fields": fields,
                "sheet": k,
            },
        ]
    progress(
        1.0, f"{len(names)} holes with {len(tracks)} tracks at {scale_words(scale)} on {sheet} sheet{'s' * (sheet > 1)}"
    )
    name = p.name or p.heading or heading
    return {"page": Page(name=name, crs=inputs.crs, width=width, height=height, elements=checked(made))}


def _tracks(holes: HoleSet, planes: PointSet | None, pictures: CorePictures | None, p: LogPages) -> tuple[Track, ...]:
    """The tracks that are asked for.

    Raises
    ------
    InputError
        When a column is not there, or can't be shown as asked.
    """
    if not p.tracks:
        return proposed(holes, planes is not None, pictures is not None)
    out: list[Track] = []
    known = columns_of(holes)
    for each in p.tracks:
        if isinstance(each, dict):
            out += from_data([each])
            continue
        kind, sign, rest = each.rpartition(":")
        kind, names = kind.strip(), [n.strip() for n in (rest if sign else each).split(",") if n.strip()]
        if kind == "planes" or each.strip() == "planes":
            if planes is None:
                raise InputError("a track of planes needs the readings of oriented core")
            out.append(Track("planes", (), 76))
            continue
        if kind == "pictures" or each.strip() == "pictures":
            if pictures is None:
                raise InputError("a track of pictures needs pictures of core")
            out.append(Track("pictures", (), 90))
            continue
        for name in names:
            if name not in known:
                raise InputError(
                    f"the holes have no column '{name}'", where=holes.name, fix="There are: " + ", ".join(known)
                )
        ways = kinds_for(holes, names[0]) if names else ()
        way = next((w for w in ways if w == kind), None) if kind else next(iter(ways), None)
        if way is None:
            raise InputError(
                f"'{each}' can't be drawn", fix=f"Take one of: {', '.join(ways)}" if ways else "Name a column"
            )
        out.append(Track(way, tuple(names), {"rock": 46, "notes": 130, "values": 54}.get(way, 70)))
    return tuple(out)


OPERATION = Operation(
    name="log-pages",
    example=Example({"holes": "Emberlow holes"}, {"of": ["EMB014"], "scale": 1000.0}),
    title="Pages of logs",
    area="Drilling",
    help="Lays strip logs out on paper at true scale: holes with chosen tracks, alone or side by side, broken at round depths onto as many sheets as it takes.",
    params=LogPages,
    run=_run,
    inputs=(
        Input("holes", "Drillholes", ("holes",)),
        Input(
            "planes",
            "Oriented core",
            ("points",),
            optional=True,
            proposed=False,
            need=lambda e: orientation(e.attributes) is not None,
            help="Readings for a track of planes",
        ),
        Input(
            "pictures",
            "Core pictures",
            ("core",),
            optional=True,
            proposed=False,
            help="Pictures for a track of them",
        ),
    ),
    outputs=(Output("page", "page", "The page"),),
)

"""Lines, outlines and notes drawn on sections or in 3D: they live in space, and join sections to bodies later."""

from __future__ import annotations

import dataclasses
from typing import Annotated, Any, Literal

import numpy as np
import pandas as pd
from pydantic import BeforeValidator

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items import feature_keys
from ...items.base import Item
from ...items.features import (
    LINE,
    NOTE,
    POINT,
    SAME,
    Features,
    is_closed,
    one_each,
    part_vertices,
    starts_of,
    with_parts,
    with_row,
)
from ...progress import Progress

_MOST = 5_000


def places_in_space(value: Any) -> Any:
    """Return places that a text lists as triples; what is a list already stays one."""
    if not isinstance(value, str):
        return value
    try:
        found = [tuple(float(v) for v in part.replace(",", " ").split()) for part in value.split(";") if part.strip()]
    except ValueError as error:
        raise ValueError("must be easting northing elevation; easting northing elevation ...") from error
    if any(len(place) != 3 for place in found):
        raise ValueError("must have three numbers a place: easting northing elevation")
    return found


Spaces = Annotated[tuple[tuple[float, float, float], ...], BeforeValidator(places_in_space)]


class DrawInSpace(Params):
    shape: Literal["line", "outline", "note"] = param("line", "Shape")
    points: Spaces = param(
        ...,
        "Places",
        help="Easting, northing and elevation of each in metres: 503600 5602300 310; 503650 5602300 280",
    )
    value: str = param("", "Unit or vein", help="What it bounds or follows, such as Granite")
    column: str = param("body", "Column", help="The column that holds it", more=True)
    words: str = param("", "Words", help="Of a note")
    name: str = param("", "Name of a new drawing", help="Used when no map is chosen")


class MovePlace(Params):
    action: Literal["move", "remove"] = param("move", "Do")
    x: float = param(..., "Easting", unit="m", help="Of the place that is there")
    y: float = param(..., "Northing", unit="m")
    z: float = param(..., "Elevation", unit="m")
    to_x: float = param(0.0, "New easting", unit="m")
    to_y: float = param(0.0, "New northing", unit="m")
    to_z: float = param(0.0, "New elevation", unit="m")


def _apart(at: np.ndarray) -> np.ndarray:
    """Places without those that lie on the one before."""
    keep = np.concatenate([[True], np.linalg.norm(np.diff(at, axis=0), axis=1) > SAME])
    return np.asarray(at[keep])


def _drawn(p: DrawInSpace) -> tuple[np.ndarray, int]:
    at = np.array(p.points, dtype=float).reshape(-1, 3)
    if not len(at) or not np.isfinite(at).all() or len(at) > _MOST:
        raise InputError("there is no place to draw at" if not len(at) else f"a drawing has at most {_MOST} places")
    if p.shape == "note":
        if not p.words.strip():
            raise InputError("a note needs words")
        return at[:1], POINT
    at = _apart(at)
    if p.shape == "outline":
        at = at[:-1] if np.linalg.norm(at[0] - at[-1]) <= SAME else at
        if len(at) < 3:
            raise InputError("an outline needs three places")
        return np.concatenate([at, at[:1]]), LINE
    if len(at) < 2:
        raise InputError("a line needs two places")
    return at, LINE


def _run_draw(inputs: Inputs, p: DrawInSpace, progress: Progress) -> dict[str, Item]:
    at, part_type = _drawn(p)
    item = inputs.maybe("features", Features)
    if item is None:
        table = pd.DataFrame({p.column: pd.Series([], dtype=object), NOTE: pd.Series([], dtype=object)})
        item = Features(name=p.name or "Interpretation", crs=inputs.crs, table=table, **one_each([], LINE))
    keys = feature_keys.keys_of(item)
    table = item.table
    for column in (p.column, NOTE):
        if column not in table.columns:
            table = table.assign(**{column: ""})
    said = {p.column: p.value, NOTE: p.words.strip()}
    parts = [part_vertices(item, k) for k in range(len(item.part_types))]
    made = dataclasses.replace(
        item,
        table=with_row(table, said),
        vertices=np.concatenate([*parts, at]),
        starts=starts_of([*parts, at]),
        owner=np.append(item.owner, len(table)).astype(np.int64),
        part_types=np.append(item.part_types, part_type).astype(np.int8),
        keys=np.append(keys, feature_keys.free_key(feature_keys.made_key(p.shape, at), keys)),
    )
    progress(1.0, f"{p.value or p.shape} drawn")
    return {"features": made}


def _run_move(inputs: Inputs, p: MovePlace, progress: Progress) -> dict[str, Item]:
    item = feature_keys.keyed(inputs.need("features", Features))
    hit = np.linalg.norm(np.nan_to_num(item.vertices, nan=np.inf) - [p.x, p.y, p.z], axis=1) <= SAME
    if not hit.any():
        raise InputError("nothing is drawn at that place", where=item.name)
    if p.action == "move":
        vertices = item.vertices.copy()
        vertices[hit] = [p.to_x, p.to_y, p.to_z]
        progress(1.0, "Moved")
        return {"features": dataclasses.replace(item, vertices=vertices)}
    parts = []
    for k in range(len(item.part_types)):
        rows = slice(int(item.starts[k]), int(item.starts[k + 1]))
        v, gone = item.vertices[rows], hit[rows]
        if gone.any():
            closed = is_closed(v)
            v = v[~gone]
            if closed and len(v) and not is_closed(v):  # the place where it began has gone
                v = np.concatenate([v, v[:1]])
            if len(v) < (4 if closed else 2):
                raise InputError(
                    "nothing would be left of it", where=item.name, fix="Remove the feature in its table instead"
                )
        parts.append(v)
    progress(1.0, "Removed")
    return {"features": with_parts(item, parts)}


_BACK = {"features": "features"}
DRAW = Operation(
    name="draw-in-space",
    example=Example(
        {}, {"points": "503100 5601500 290; 503160 5601500 250; 503230 5601500 205", "value": "Vein 1", "shape": "line"}
    ),
    title="Draw in space",
    area="Drilling",
    help="Adds a line, an outline or a note that lies in space to a drawing, or begins one; Draw of the section does it by mouse, and snaps to intervals of holes.",
    params=DrawInSpace,
    run=_run_draw,
    inputs=(Input("features", "Drawing", ("features",), optional=True, help="None begins a new one"),),
    outputs=(Output("features", "features", "The drawing"),),
    replaces=_BACK,
    instant=True,
)
MOVE = Operation(
    name="move-in-space",
    example=Example(
        {"features": "@draw-in-space.features"},
        {"x": 503160.0, "y": 5601500.0, "z": 250.0, "to_x": 503155.0, "to_y": 5601500.0, "to_z": 246.0},
        after=("draw-in-space",),
    ),
    title="Move or remove a place in space",
    area="Drilling",
    help="Changes one corner of what was drawn in space; all that meet there go with it.",
    params=MovePlace,
    run=_run_move,
    inputs=(Input("features", "Drawing", ("features",)),),
    outputs=(Output("features", "features", "The drawing"),),
    replaces=_BACK,
    instant=True,
)

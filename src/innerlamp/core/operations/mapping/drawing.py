"""Drawing and editing the features of a map: new ones, corners, splitting, joining, merging by unit."""

from __future__ import annotations

import dataclasses
from typing import Annotated, Any, Literal

import numpy as np
import pandas as pd
from pydantic import BeforeValidator

from ...compute.geometry import sketching as sk
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Places, Several, param
from ...errors import InputError
from ...formats.shapes import edits
from ...formats.shapes.features import polygons_of, shapes_of
from ...items import feature_keys
from ...items.base import Item
from ...items.features import HOLE, LINE, RING, Features, one_each, part_vertices, texts_of, with_parts, with_row
from ...numbers import parse_number
from ...progress import Progress


def numbers(value: Any) -> Any:
    """Return whole numbers of a text such as ``0; 3``; what is a list already stays one."""
    return tuple(value.replace(";", " ").replace(",", " ").split()) if isinstance(value, str) else value


Rows = Annotated[tuple[int, ...], BeforeValidator(numbers)]
_ROWS = "Row numbers of the table as it is now, counted from 0; kept by what the features are, whatever row they come to stand in"
_MEANT = "The features by their keys, as panes name them; instead of rows"


class DrawFeature(Params):
    shape: Literal["polygon", "line", "point"] = param("polygon", "Shape")
    points: Places = param(
        ..., "Corners", help="Easting and northing of each in metres: 503600 5602300; 503700 5602400"
    )
    value: str = param("", "Unit or kind", help="Such as Granite, or fault, inferred")
    column: str = param("unit", "Column", help="The column that holds it", more=True)
    over: Literal["cut others", "fill gaps", "lie over"] = param(
        "cut others",
        "Where polygons are already",
        help="cut others: takes the ground from them. fill gaps: takes only what no polygon has. Either way boundaries are shared",
    )
    name: str = param("", "Name of a new map", help="Used when no map is chosen")


class EditCorner(Params):
    action: Literal["move", "add", "remove"] = param("move", "Do")
    x: float = param(..., "Easting", unit="m", help="Of the corner; for a new one the place on an edge")
    y: float = param(..., "Northing", unit="m")
    to_x: float = param(0.0, "New easting", unit="m")
    to_y: float = param(0.0, "New northing", unit="m")


class EditFeatures(Params):
    action: Literal["set value", "remove"] = param("set value", "Do")
    rows: Rows = param((), "Features", help=_ROWS)
    column: str = param("unit", "Column")
    value: str = param("", "New value")
    meant: Several = param((), "Features meant", help=_MEANT, editor="lines", more=True)


class SplitFeatures(Params):
    points: Places = param(..., "Line", help="Easting and northing of each place of the cutting line, in metres")
    rows: Rows = param((), "Features", help=f"Only these; all that the line crosses when empty. {_ROWS}")
    meant: Several = param((), "Features meant", help=_MEANT, editor="lines", more=True)


class JoinFeatures(Params):
    rows: Rows = param((), "Features", help=f"They become one; the first gives its values. {_ROWS}")
    meant: Several = param((), "Features meant", help=_MEANT, editor="lines", more=True)


class MergeByUnit(Params):
    column: str = param(
        "", "Column", editor="code", of="features", help="Polygons that touch and have the same value become one"
    )


def _polygonal(shape: Any) -> Any:
    """What of a shape is polygon: differences may leave lines where only edges met."""
    import shapely

    if sk.is_area(shape):
        return shape
    parts = [p for p in getattr(shape, "geoms", []) if sk.is_area(p)]
    return shapely.union_all(parts) if parts else shapely.Polygon()


def _rows(item: Features, p: EditFeatures | SplitFeatures | JoinFeatures, least: int = 1) -> list[int]:
    """Rows that parameters mean."""
    chosen = feature_keys.rows_meant(item, p.meant) if p.meant else sorted(set(p.rows))
    if len(chosen) < least:
        raise InputError(f"choose {'a feature' if least == 1 else f'{least} features'} at least", where=item.name)
    return _there(item, chosen)


def _there(item: Features, rows: list[int]) -> list[int]:
    """Rows, once they are known to be in the table."""
    if min(rows) < 0 or max(rows) >= len(item.table):
        raise InputError(f"there is no feature {max(rows) + 1}", where=item.name, fix=f"There are {len(item.table)}")
    return rows


def _pinned(item: Item, params: dict[str, Any]) -> dict[str, Any]:
    """Name features by their keys instead of by rows, which are others when the file comes in anew."""
    if not isinstance(item, Features) or not params["rows"]:
        return params
    rows = _there(item, sorted(set(params["rows"])))
    return {**params, "rows": [], "meant": feature_keys.texts(item, rows)}


def _run_draw(inputs: Inputs, p: DrawFeature, progress: Progress) -> dict[str, Item]:
    import shapely

    at = np.array(p.points, dtype=float).reshape(-1, 2)
    if not len(at) or not np.isfinite(at).all():
        raise InputError("there is no place to draw at")
    item = inputs.maybe("features", Features)
    if item is None:
        table = pd.DataFrame({p.column: pd.Series([], dtype=object)})
        item = Features(name=p.name or "Drawn map", crs=inputs.crs, table=table, **one_each([], RING))
    item = feature_keys.keyed(item)
    table = item.table
    if p.column not in table.columns:
        table = table.assign(**{p.column: ""})
    shapes: dict[int, Any] = {}
    if p.shape == "point":
        new: Any = shapely.Point(at[0])
    elif p.shape == "line":
        if len(np.unique(np.round(at, 3), axis=0)) < 2:
            raise InputError("a line needs two places")
        new = shapely.LineString(at)
    else:
        new = sk.polygon(at)
        near = edits.shapes_at(item, edits.rows_near(item, new.bounds)) if p.over != "lie over" else {}
        area = {k: s for k, s in near.items() if sk.is_area(s)}
        if p.over == "cut others":
            shapes = {k: _polygonal(shapely.difference(s, new)) for k, s in area.items() if s.intersects(new)}
        elif p.over == "fill gaps" and area:
            new = _polygonal(shapely.difference(new, shapely.union_all(list(area.values()))))
            if new.is_empty:
                raise InputError("other polygons cover all of this ground", fix="Cut them, or lie over them")
    keys = feature_keys.keys_of(item)
    key = feature_keys.free_key(feature_keys.made_key(p.shape, at), keys)
    count = len(item.table)
    sources = np.append(np.arange(count), -1)
    sources[list(shapes)] = -1
    made = edits.changed(
        item, sources, {**shapes, count: new}, with_row(table, {p.column: p.value}), np.append(keys, key)
    )
    progress(1.0, f"{p.value or p.shape} drawn")
    # Where an old edge was cut its new corners lie on the edges of the new feature, and the other way round.
    west, south, east, north = new.bounds
    v = made.vertices[:, :2]
    near_new = (v >= [west - 1.0, south - 1.0]).all(axis=1) & (v <= [east + 1.0, north + 1.0]).all(axis=1)
    return {"features": _sharing(made, np.unique(np.concatenate([at, v[near_new]]), axis=0))}


def _sharing(item: Features, places: np.ndarray) -> Features:
    """Give every edge that a place lies on a corner there, so that boundaries stay shared when corners move."""
    boxes = edits.part_boxes(item)
    low, high = places.min(axis=0) - sk.SAME, places.max(axis=0) + sk.SAME
    near = (boxes[:, :2] <= high).all(axis=1) & (boxes[:, 2:] >= low).all(axis=1)
    near &= np.isin(item.part_types, (LINE, RING, HOLE))
    fresh: dict[int, np.ndarray] = {}
    for k in np.flatnonzero(near).tolist():
        v = part_vertices(item, k)
        inside = (places >= boxes[k, :2] - sk.SAME).all(axis=1) & (places <= boxes[k, 2:] + sk.SAME).all(axis=1)
        with_them = sk.with_corners(v, places[inside])
        if len(with_them) != len(v):
            fresh[k] = with_them
    if not fresh:
        return item
    return with_parts(item, [fresh.get(k, part_vertices(item, k)) for k in range(len(item.part_types))])


def _run_corner(inputs: Inputs, p: EditCorner, progress: Progress) -> dict[str, Item]:
    item = feature_keys.keyed(inputs.need("features", Features))
    here = np.array([p.x, p.y])
    touched = np.abs(item.vertices[:, 0] - p.x) <= sk.SAME  # few are: the exact distance is asked of them alone
    touched[touched] = np.hypot(*(item.vertices[touched, :2] - here).T) <= sk.SAME
    if p.action == "add":
        made = _sharing(item, here[None, :])
        if len(made.vertices) == len(item.vertices):
            raise InputError(
                "no edge passes there" if not touched.any() else "there is a corner already", where=item.name
            )
        return {"features": made}
    if not touched.any():
        raise InputError("there is no corner at that place", where=item.name)
    part_of = np.repeat(np.arange(len(item.part_types)), np.diff(item.starts))
    if p.action == "move":
        vertices = item.vertices.copy()
        vertices[touched, 0], vertices[touched, 1] = p.to_x, p.to_y
        made = dataclasses.replace(item, vertices=vertices)
    else:
        parts = []
        for k in range(len(item.part_types)):
            v = part_vertices(item, k)
            gone = np.hypot(*(v[:, :2] - here).T) <= sk.SAME
            if gone.any() and item.part_types[k] in (RING, HOLE):
                rest = v[:-1][~gone[:-1]]
                if len(rest) < 3:
                    raise InputError("a polygon needs three corners", where=item.name, fix="Remove the feature instead")
                v = np.concatenate([rest, rest[:1]])
            elif gone.any():
                v = v[~gone]
                if len(v) < (2 if item.part_types[k] == LINE else 1):
                    raise InputError(
                        "nothing would be left of the feature", where=item.name, fix="Remove the feature instead"
                    )
            parts.append(v)
        made = with_parts(item, parts)
    if np.isin(item.part_types[np.unique(part_of[touched])], (RING, HOLE)).any():
        near = np.isin(made.owner, item.owner[np.unique(part_of[touched])])
        polygons_of(made, np.flatnonzero(near))  # says so when one would cross itself
    progress(1.0, f"{len(np.unique(part_of[touched]))} boundaries changed")
    return {"features": made}


def _run_edit(inputs: Inputs, p: EditFeatures, progress: Progress) -> dict[str, Item]:
    item = feature_keys.keyed(inputs.need("features", Features))
    rows = _rows(item, p)
    keys = feature_keys.keys_of(item)
    if p.action == "remove":
        gone = set(rows)
        keep = [k for k in range(len(item.table)) if k not in gone]
        if not keep:
            raise InputError("nothing would be left", where=item.name, fix="Remove the item from the shelf instead")
        return {"features": edits.changed(item, keep, {}, item.table.iloc[keep].reset_index(drop=True), keys[keep])}
    table = item.table.copy()
    if p.column not in table.columns:
        table[p.column] = ""
    if table[p.column].dtype.kind in "fiu":
        table.loc[rows, p.column] = parse_number(p.value, p.column) if p.value.strip() else np.nan
    else:
        table[p.column] = table[p.column].astype(object)
        table.loc[rows, p.column] = p.value
    progress(1.0, f"{len(rows)} features are {p.value or 'empty'} now")
    return {"features": dataclasses.replace(item, table=table)}


def _run_split(inputs: Inputs, p: SplitFeatures, progress: Progress) -> dict[str, Item]:
    import shapely

    item = feature_keys.keyed(inputs.need("features", Features))
    at = np.array(p.points, dtype=float).reshape(-1, 2)
    if len(at) < 2:
        raise InputError("a cutting line needs two places")
    cut = shapely.LineString(at)
    chosen = set(_rows(item, p)) if p.rows or p.meant else set(range(len(item.table)))
    before = feature_keys.keys_of(item)
    near = edits.shapes_at(item, [r for r in edits.rows_near(item, cut.bounds) if r in chosen])
    halves = {row: sk.split(shape, cut) for row, shape in near.items() if shape.intersects(cut)}
    halves = {row: parts for row, parts in halves.items() if len(parts) > 1}
    if not halves:
        raise InputError(
            "the line does not cross any feature from side to side",
            where=item.name,
            fix="Start and end it outside of the feature",
        )
    rows: list[int] = []
    sources: list[int] = []
    keys: list[Any] = []
    shapes: dict[int, Any] = {}
    for row in range(len(item.table)):
        for k, part in enumerate(halves.get(row, [None])):
            if part is not None:
                shapes[len(rows)] = part
            rows.append(row)
            sources.append(row if part is None else -1)
            # Each part is a feature of its own: what was meant for the whole is not meant for one of them.
            keys.append(before[row] if part is None else feature_keys.made_key(before[row], k))
    progress(1.0, f"{len(halves)} features split")
    table = item.table.iloc[rows].reset_index(drop=True)
    return {"features": edits.changed(item, sources, shapes, table, np.array(keys, dtype=np.uint64))}


def _run_join(inputs: Inputs, p: JoinFeatures, progress: Progress) -> dict[str, Item]:
    import shapely

    item = feature_keys.keyed(inputs.need("features", Features))
    rows = _rows(item, p, 2)
    shapes = edits.shapes_at(item, rows)
    kinds = {shapes[k].geom_type.removeprefix("Multi") for k in rows}
    if len(kinds) > 1:
        raise InputError(f"{' and '.join(sorted(kinds))} can't be joined", where=item.name)
    whole = shapely.union_all([shapes[k] for k in rows])
    if kinds == {"LineString"}:
        whole = shapely.line_merge(whole)
    gone = set(rows) - {rows[0]}
    keep = [k for k in range(len(item.table)) if k not in gone]
    keys = feature_keys.keys_of(item).copy()
    keys[rows[0]] = feature_keys.made_key(*sorted(keys[rows].tolist()))
    progress(1.0, f"{len(rows)} features joined")
    sources = [-1 if k == rows[0] else k for k in keep]
    table = item.table.iloc[keep].reset_index(drop=True)
    return {"features": edits.changed(item, sources, {keep.index(rows[0]): whole}, table, keys[keep])}


def _run_merge(inputs: Inputs, p: MergeByUnit, progress: Progress) -> dict[str, Item]:
    import shapely

    item = feature_keys.keyed(inputs.need("features", Features))
    names, shapes, before = texts_of(item, p.column), shapes_of(item), feature_keys.keys_of(item)
    out: list[Any] = []
    rows: list[int] = []
    keys: list[Any] = []
    for name in dict.fromkeys(names):
        mine = [k for k in range(len(shapes)) if names[k] == name]
        area = [k for k in mine if sk.is_area(shapes[k])]
        if area:
            whole = shapely.union_all([shapes[k] for k in area])
            parts = list(getattr(whole, "geoms", [whole]))
            out += parts
            rows += [area[0]] * len(parts)
            same = len(parts) == len(area) == 1
            keys += [
                before[area[0]] if same else feature_keys.made_key(*sorted(before[area].tolist()), k)
                for k in range(len(parts))
            ]
        for k in mine:
            if k not in area:
                out.append(shapes[k])
                rows.append(k)
                keys.append(before[k])
    progress(1.0, f"{len(shapes)} features, {len(out)} after merging")
    table = item.table.iloc[rows].reset_index(drop=True)
    merged = edits.changed(item, np.full(len(out), -1), dict(enumerate(out)), table, np.array(keys, dtype=np.uint64))
    return {"features": merged}


_MAP = Input("features", "Map", ("features",))
_MADE = (Output("features", "", "The map"),)
_BACK = {"features": "features"}
DRAW = Operation(
    name="draw-feature",
    example=Example({}, {"points": "503000 5601400; 503400 5601400; 503400 5601700", "value": "DIORITE"}),
    title="Draw a feature",
    area="Maps",
    help="Adds a polygon, line or point to a map, or begins a new map; the Draw button of the map pane does it by mouse.",
    params=DrawFeature,
    run=_run_draw,
    inputs=(Input("features", "Map", ("features",), optional=True, help="None begins a new map"),),
    outputs=(Output("features", "features", "The map"),),
    replaces=_BACK,
    instant=True,
)
CORNER = Operation(
    name="edit-corner",
    example=Example(
        {"features": "@draw-feature.features"},
        {"action": "move", "x": 503400.0, "y": 5601400.0, "to_x": 503350.0, "to_y": 5601420.0},
        after=("draw-feature",),
    ),
    title="Move, add or remove a corner",
    area="Maps",
    help="Changes one corner of all boundaries that meet there, so that neighbours stay neighbours.",
    params=EditCorner,
    run=_run_corner,
    inputs=(_MAP,),
    outputs=_MADE,
    replaces=_BACK,
    instant=True,
)
EDIT = Operation(
    name="edit-features",
    example=Example({"features": "@draw-feature.features"}, {"rows": "0", "value": "GABBRO"}, after=("draw-feature",)),
    title="Change or remove features",
    area="Maps",
    help="Gives features another unit or kind, or takes them out.",
    params=EditFeatures,
    run=_run_edit,
    inputs=(_MAP,),
    outputs=_MADE,
    replaces=_BACK,
    instant=True,
    pin=_pinned,
)
SPLIT = Operation(
    name="split-features",
    example=Example(
        {"features": "@draw-feature.features"}, {"points": "503200 5601000; 503300 5602000"}, after=("draw-feature",)
    ),
    title="Split features",
    area="Maps",
    help="Cuts polygons and lines in two along a line that is drawn across them.",
    params=SplitFeatures,
    run=_run_split,
    inputs=(_MAP,),
    outputs=_MADE,
    replaces=_BACK,
    instant=True,
    pin=_pinned,
)
JOIN = Operation(
    name="join-features",
    example=Example({"features": "@draw-feature.features"}, {"rows": "0; 1"}, after=("draw-feature", "split-features")),
    title="Join features",
    area="Maps",
    help="Makes one feature of several.",
    params=JoinFeatures,
    run=_run_join,
    inputs=(_MAP,),
    outputs=_MADE,
    replaces=_BACK,
    instant=True,
    pin=_pinned,
)
MERGE = Operation(
    name="merge-by-unit",
    example=Example({"features": "@draw-feature.features"}, {"column": "unit"}, after=("draw-feature",)),
    title="Merge by unit",
    area="Maps",
    help="Makes one polygon of all that touch and belong to the same unit.",
    params=MergeByUnit,
    run=_run_merge,
    inputs=(_MAP,),
    outputs=_MADE,
    replaces=_BACK,
    instant=True,
)

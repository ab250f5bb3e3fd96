"""Items as tables: pandas with columns, geopandas with shapes in space."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ..core.errors import InputError
from ..core.formats.shapes import features as shapes
from ..core.formats.shapes import places_out
from ..core.items.base import Item
from ..core.items.electrodes import ElectrodeSurvey
from ..core.items.features import Features
from ..core.items.fields import BlockModel, Grid, Surface
from ..core.items.holes import HoleSet
from ..core.items.points import PointSet, SurveyLines, TargetSet
from . import carried

if TYPE_CHECKING:
    import geopandas


def tables_of(item: Item) -> list[str]:
    """Names of the tables that `to_pandas` gives of an item; the first is the one it gives unasked."""
    if isinstance(item, HoleSet):
        return [*item.tables, *item.readings, "collars", "surveys", "stations"]
    if isinstance(item, ElectrodeSurvey):
        return ["readings", "electrodes"]
    if isinstance(item, TargetSet):
        return ["targets", "evidence"]
    return [item.kind]


def to_pandas(item: Item, table: str = "") -> pd.DataFrame:
    """Return a table of an item: rows at places in metres, one column an attribute.

    `table` is one of `tables_of`. A grid and a block model give their cells that have a value, with the
    place of each middle; a surface gives its vertices. ``attrs["inner_lamp"]`` carries name, coordinate
    system, units, quantities and roles.

    Raises
    ------
    InputError
        When there is no such table; it says which there are.
    """
    names = tables_of(item)
    chosen = table or names[0]
    if chosen not in names:
        raise InputError(f"there is no table '{chosen}'", where=item.name, fix="There are: " + ", ".join(names))
    out = _table(item, chosen).copy()
    out.attrs[carried.KEY] = carried.of(item, table=chosen, content=getattr(item, "content", ""))
    return out


def _table(item: Item, name: str) -> pd.DataFrame:
    if isinstance(item, HoleSet):
        own = {"collars": item.collars, "surveys": item.surveys, "stations": item.stations}
        return {**own, **item.readings, **item.tables}[name]
    if isinstance(item, ElectrodeSurvey):
        return item.electrodes if name == "electrodes" else item.table
    if isinstance(item, TargetSet):
        return item.evidence if name == "evidence" else item.table
    if isinstance(item, PointSet | SurveyLines | Features):
        return item.table
    if isinstance(item, Grid):
        x, y = item.places
        there = np.isfinite(item.values)
        return pd.DataFrame({"x": x[there], "y": y[there], item.attribute: item.values[there]})
    if isinstance(item, BlockModel):
        cells = np.argwhere(item.present)
        x, y, z = item.mesh.centres(cells).T
        at = tuple(cells.T)
        values = {n: v[at] for n, v in item.properties.items()}
        return pd.DataFrame({"x": x, "y": y, "z": z, "volume_m3": item.mesh.volumes(cells), **values})
    if isinstance(item, Surface):
        return pd.DataFrame(item.vertices, columns=["x", "y", "z"])
    raise InputError(f"{item.title.lower()} are no table", where=item.name)


def from_pandas(table: pd.DataFrame, name: str = "", crs: str = "", content: str = "") -> PointSet | SurveyLines:
    """Return points, or survey lines where there is a column ``line``, of a table with columns x and y in metres.

    Raises
    ------
    InputError
        When x or y lacks or is no number, or the coordinate system is not known.
    """
    told = carried.read(table.attrs.get(carried.KEY))
    for column in ("x", "y"):
        if column not in table.columns or not pd.api.types.is_numeric_dtype(table[column]):
            raise InputError(f"the table has no column '{column}' of numbers", fix="Name eastings x and northings y")
    out = table.reset_index(drop=True).copy()
    out.columns = [str(c) for c in out.columns]
    if "z" not in out:
        out.insert(2, "z", np.nan)
    out.attrs = {}
    common: dict[str, Any] = {
        "name": name or str(told.get("name", "")) or "Table",
        "crs": carried.system(told, crs),
        "table": out,
        **carried.described(told, list(out.columns)),
    }
    if "line" in out and told.get("kind", "lines") == "lines":
        out["line"] = out["line"].astype(str)
        return SurveyLines(**common)
    return PointSet(content=content or str(told.get("content", "")) or "samples", **common)


def to_geopandas(item: Item, layer: str = "") -> geopandas.GeoDataFrame:
    """Return an item as shapes in space with all its columns.

    Points, readings, targets and electrodes are points with height; holes give the layers ``collars``,
    ``traces`` and one of lines for each table along them; survey lines give ``readings`` and ``lines``; map
    features give their own shapes; a surface gives its triangles.

    Raises
    ------
    InputError
        When there is no such layer, or the item has no shapes; it says what there is.
    """
    gpd = carried.library("geopandas")
    if isinstance(item, Features):
        table, geometry = item.table.reset_index(drop=True), np.asarray(shapes.shapes_of(item), dtype=object)
    elif isinstance(item, Surface):
        shapely = carried.library("shapely")
        corners = item.vertices[item.triangles[:, [0, 1, 2, 0]]]
        geometry = shapely.polygons(shapely.linearrings(corners))
        table = pd.DataFrame(index=range(len(geometry)))
    elif item.kind in places_out.KINDS:
        layers = places_out.place_layers(item)
        chosen = layer or next(iter(layers))
        if chosen not in layers:
            raise InputError(f"there is no layer '{chosen}'", where=item.name, fix="There are: " + ", ".join(layers))
        table, geometry = layers[chosen].table, layers[chosen].shapes
    else:
        raise InputError(
            f"{item.title.lower()} have no shapes", where=item.name, fix="Use to_xarray or to_pyvista for them"
        )
    out = gpd.GeoDataFrame(table.copy(), geometry=geometry, crs=item.crs)
    out.attrs[carried.KEY] = carried.of(item, layer=layer, content=getattr(item, "content", ""))
    return out


def from_geopandas(frame: geopandas.GeoDataFrame, name: str = "", crs: str = "") -> PointSet | Features:
    """Return points where all shapes are single points, map features otherwise; other systems are brought to `crs`.

    `crs` is a projected system in metres; without it that of the frame is taken.

    Raises
    ------
    InputError
        When the frame has no coordinate system, or one in degrees and `crs` is not given.
    """
    shapely = carried.library("shapely")
    told = carried.read(frame.attrs.get(carried.KEY))
    if frame.crs is None and not crs:
        raise InputError("the frame has no coordinate system", fix="Set it with frame.set_crs(...), or give crs")
    if crs and frame.crs is not None:
        frame = frame.to_crs(crs)
    if frame.crs is not None and not crs and not frame.crs.is_projected:
        raise InputError("the frame is in degrees", fix="Give crs, a projected system in metres")
    code = crs or _code(frame.crs, str(told.get("crs", "")))
    table = pd.DataFrame(frame.drop(columns=frame.geometry.name)).reset_index(drop=True)
    table.columns = [str(c) for c in table.columns]
    table.attrs = {}
    geometry = np.asarray(frame.geometry.array, dtype=object)
    common: dict[str, Any] = {
        "name": name or str(told.get("name", "")) or "Shapes",
        "crs": code,
        **carried.described(told, list(table.columns)),
    }
    if len(geometry) and all(g is not None and g.geom_type == "Point" for g in geometry):
        z = np.where(shapely.has_z(geometry), shapely.get_z(geometry), np.nan)
        at = pd.DataFrame({"x": shapely.get_x(geometry), "y": shapely.get_y(geometry), "z": z})
        content = str(told.get("content", "")) or "samples"
        return PointSet(table=pd.concat([at, table], axis=1), content=content, **common)
    keep = np.array([g is not None and not g.is_empty for g in geometry], dtype=bool)
    vertices, starts, owner, part_types = shapes.flatten(list(geometry[keep]))
    return Features(
        table=table[keep].reset_index(drop=True),
        vertices=vertices,
        starts=starts,
        owner=owner,
        part_types=part_types,
        **common,
    )


def _code(crs: Any, before: str) -> str:
    found = crs.to_epsg()
    if found is not None:
        return f"EPSG:{found}"
    return before or str(crs.to_wkt())

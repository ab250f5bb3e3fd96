"""Samples, readings, targets, electrodes and holes as map features: points and lines in space with all their columns."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ...errors import InputError
from ...items.base import Item
from ...items.electrodes import ElectrodeSurvey
from ...items.holes import HoleSet
from ...items.points import PointSet, SurveyLines, TargetSet
from . import vtkxml

KINDS = ("holes", "points", "lines", "targets", "electrodes")


@dataclass(frozen=True)
class PlaceLayer:
    """Points, or lines through several vertices, with one row of a table each.

    Attributes
    ----------
    table
        One row a feature, without its places.
    vertices
        Shape (n, 3), metres; z is NaN where it is not known.
    starts
        Shape (rows + 1,): feature k has the vertices ``starts[k]:starts[k + 1]``; one vertex is a point.
    """

    table: pd.DataFrame
    vertices: np.ndarray
    starts: np.ndarray

    @property
    def is_points(self) -> bool:
        return len(self.vertices) == len(self.table)

    @property
    def shapes(self) -> np.ndarray:
        """Shapely geometries with heights; without any where no vertex has one."""
        import shapely

        flat = not np.isfinite(self.vertices[:, 2]).any()
        xyz = (
            self.vertices[:, :2]
            if flat
            else np.column_stack([self.vertices[:, :2], np.nan_to_num(self.vertices[:, 2])])
        )
        if self.is_points:
            return np.asarray(shapely.points(xyz))
        return np.asarray(shapely.linestrings(xyz, indices=np.repeat(np.arange(len(self.table)), np.diff(self.starts))))


def place_layers(item: Item) -> dict[str, PlaceLayer]:
    """Return what an item holds as features, by name; holes give collars, traces and each table along them.

    Raises
    ------
    InputError
        When the item is of another kind, or has no place.
    """
    out: dict[str, PlaceLayer] = {}
    if isinstance(item, HoleSet):
        out["collars"] = _points(item.collars)
        out["traces"] = _chains(item.stations, "hole", item.collars)
        for name, table in item.tables.items():
            out[name] = _intervals(table)
        for name, table in item.readings.items():
            out[name] = _points(table)
    elif isinstance(item, PointSet):
        out[item.content] = _points(item.table)
    elif isinstance(item, SurveyLines):
        out["readings"] = _points(item.table)
        out["lines"] = _chains(item.table, "line", None)
    elif isinstance(item, TargetSet):
        out["targets"] = _points(item.table)
    elif isinstance(item, ElectrodeSurvey):
        out["readings"], out["electrodes"] = _points(item.table), _points(item.electrodes)
    out = {name: layer for name, layer in out.items() if len(layer.table)}
    if not out:
        raise InputError("there is nothing with a place to write", where=item.name)
    return out


def _plain(table: pd.DataFrame, without: tuple[str, ...]) -> pd.DataFrame:
    keep: dict[str, Any] = {}
    for column in table.columns:
        if column not in without:
            values = table[column]
            keep[str(column)] = (
                values.to_numpy(float)
                if values.dtype.kind in "fiu"
                else values.astype("object").where(values.notna(), None).to_numpy()
            )
    return pd.DataFrame(keep, index=range(len(table)))


def _points(table: pd.DataFrame) -> PlaceLayer:
    good = table[np.isfinite(table["x"].to_numpy(float)) & np.isfinite(table["y"].to_numpy(float))]
    z = good["z"].to_numpy(float) if "z" in good else np.full(len(good), np.nan)
    xyz = np.column_stack([good["x"].to_numpy(float), good["y"].to_numpy(float), z])
    return PlaceLayer(_plain(good, ("x", "y", "z")), xyz, np.arange(len(good) + 1))


def _intervals(table: pd.DataFrame) -> PlaceLayer:
    ends = [table[[f"{c}{k}" for c in "xyz"]].to_numpy(float) for k in (0, 1)]
    good = np.isfinite(ends[0]).all(axis=1) & np.isfinite(ends[1]).all(axis=1)
    xyz = np.stack([e[good] for e in ends], axis=1).reshape(-1, 3)
    plain = _plain(table[good], ("x", "y", "z", "x0", "y0", "z0", "x1", "y1", "z1"))
    return PlaceLayer(plain, xyz, 2 * np.arange(int(good.sum()) + 1))


def _chains(table: pd.DataFrame, by: str, rows: pd.DataFrame | None) -> PlaceLayer:
    """Lines through the places of a table in its order, one for each value of a column; `rows` describe them."""
    good = table[np.isfinite(table["x"].to_numpy(float)) & np.isfinite(table["y"].to_numpy(float))]
    codes, names = pd.factorize(good[by].astype(str))
    counts = np.bincount(codes, minlength=len(names))
    order = np.argsort(codes, kind="stable")
    several = counts > 1
    order = order[several[codes[order]]]
    z = good["z"].to_numpy(float) if "z" in good else np.full(len(good), np.nan)
    xyz = np.column_stack([good["x"].to_numpy(float), good["y"].to_numpy(float), z])[order]
    kept = pd.Index(names)[several].astype(str)
    plain = pd.DataFrame({by: kept.to_numpy(dtype=object)})
    if rows is not None:
        known = _plain(rows, ("x", "y", "z", "line")).assign(**{by: rows[by].astype(str).to_numpy()})
        plain = plain.merge(known, on=by, how="left")
    return PlaceLayer(plain, xyz, np.concatenate([[0], np.cumsum(counts[several])]))


def file_of(path: Path, layer: str, count: int) -> Path:
    """Return the file of one layer where a format holds only one: ``name_layer.ext`` when there are several."""
    safe = re.sub(r"[^\w\-]+", "_", layer)
    return path if count == 1 else path.with_name(f"{path.stem}_{safe}{path.suffix}")


def write_dxf(item: Item, path: Path | str) -> None:
    """Write places as DXF R2010: points, 3-D lines for traces, survey lines and intervals, each table on its own layer."""
    import ezdxf

    doc = ezdxf.new("R2010")
    space = doc.modelspace()
    for name, layer in place_layers(item).items():
        safe = "".join(ch for ch in name if ch not in '<>/\\":;?*|=`')[:200] or "0"
        if safe not in doc.layers:
            doc.layers.add(safe)
        xyz = np.nan_to_num(layer.vertices)
        at = {"layer": safe}
        for first, last in zip(layer.starts[:-1], layer.starts[1:], strict=True):
            if last - first == 1:
                space.add_point(xyz[first], dxfattribs=at)
            elif last - first == 2:
                space.add_line(xyz[first], xyz[first + 1], dxfattribs=at)
            else:
                space.add_polyline3d(xyz[first:last], dxfattribs=at)
    doc.saveas(path)


def write_vtp(item: Item, path: Path | str) -> list[Path]:
    """Write places as VTP, one file a layer: vertices or lines with the number columns as values of their cells."""
    path = Path(path)
    written = []
    layers = place_layers(item)
    for name, layer in layers.items():
        out = vtkxml.Writer("PolyData")
        lines = 0 if layer.is_points else len(layer.table)
        out.open("PolyData")
        out.open(
            "Piece",
            NumberOfPoints=len(layer.vertices),
            NumberOfVerts=len(layer.table) - lines,
            NumberOfLines=lines,
            NumberOfStrips=0,
            NumberOfPolys=0,
        )
        out.open("Points")
        out.array("Points", np.nan_to_num(layer.vertices))
        out.close("Points")
        out.open("Verts" if layer.is_points else "Lines")
        out.array("connectivity", np.arange(len(layer.vertices), dtype=np.int64))
        out.array("offsets", np.asarray(layer.starts[1:], dtype=np.int64))
        out.close("Verts" if layer.is_points else "Lines")
        out.open("CellData")
        for column in layer.table.columns:
            if layer.table[column].dtype.kind == "f":
                out.array(str(column), layer.table[column].to_numpy(float))
        out.close("CellData", "Piece", "PolyData")
        written.append(file_of(path, name, len(layers)))
        out.save(written[-1])
    return written

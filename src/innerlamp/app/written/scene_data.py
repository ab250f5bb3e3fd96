"""A 3D scene as plain data for the viewer of written scenes: meshes, labels, legends and records that are read out."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from PySide6.QtCore import QBuffer, QByteArray, QIODevice
from PySide6.QtGui import QColor, QImage
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkCellArray
from vtkmodules.vtkRenderingCore import vtkActor, vtkTexture

from ...core.errors import InputError
from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.holes import HoleSet, readings_with, table_with
from ...core.items.legend import Legend, value_at
from ...core.items.points import PointSet, SurveyLines, TargetSet
from ...core.project.records import Entry
from ..painters.kit.colours import class_colour, colour_at, shown
from ..scene.words import is_words
from .stage import Placed

MOST_RECORDS = 20_000  # of one item; of more an even part is read out
MOST_BYTES = 80_000_000


def packed(values: NDArray[Any], kind: type) -> str:
    """Return numbers as base 64, little-endian."""
    return base64.b64encode(np.ascontiguousarray(values, dtype=np.dtype(kind).newbyteorder("<")).tobytes()).decode()


def layer_of(
    ctx: Any, placed: Placed, origin: NDArray[np.float64], shift: NDArray[np.float64] | None = None
) -> dict[str, Any]:
    """Return one item as data: its meshes, words that stand in space, and records that are read out.

    All relative to an origin; `shift` is added to the places of the props, which were drawn about another one.
    """
    by = np.zeros(3) if shift is None else shift
    parts, labels = [], []
    for prop in placed.props:
        if is_words(prop):
            labels.append({"words": prop.GetInput(), "at": (np.array(prop.GetPosition()) + by).tolist()})
        elif isinstance(prop, vtkActor) and prop.GetMapper() is not None and prop.GetVisibility():
            made = _part(prop, by)
            if made is not None:
                parts.append(made)
    return {
        "name": placed.entry.name,
        "shown": True,
        "parts": parts,
        "labels": labels,
        "records": _records(ctx, placed.entry, placed.item, origin),
    }


def _part(prop: vtkActor, by: NDArray[np.float64]) -> dict[str, Any] | None:
    mapper, look = prop.GetMapper(), prop.GetProperty()
    mesh = mapper.GetInput()
    if mesh is None or not mesh.GetNumberOfPoints():
        return None
    points = vtk_to_numpy(mesh.GetPoints().GetData()) + by
    out: dict[str, Any] = {
        "points": packed(points, np.float32),
        "colour": [round(v, 4) for v in look.GetColor()],
        "opacity": round(look.GetOpacity(), 3),
        "size": look.GetPointSize(),
        "width": look.GetLineWidth(),
        "shaded": bool(look.GetLighting()),
    }
    for name, cells in (("polys", mesh.GetPolys()), ("lines", mesh.GetLines()), ("verts", mesh.GetVerts())):
        if cells.GetNumberOfCells():
            out[name] = packed(_counted(cells), np.uint32)
    normals = mesh.GetPointData().GetNormals()
    if normals is not None:
        out["normals"] = packed(vtk_to_numpy(normals), np.float32)
    if mapper.GetScalarVisibility():
        for of, data in (("point", mesh.GetPointData()), ("cell", mesh.GetCellData())):
            scalars = data.GetScalars()
            if scalars is not None and scalars.GetNumberOfComponents() >= 3:
                out |= {"by": of, "colours": packed(vtk_to_numpy(scalars)[:, :3], np.uint8)}
    texture = prop.GetTexture()
    places = mesh.GetPointData().GetTCoords()
    if texture is not None and places is not None:
        out |= {"texture": _picture(texture), "at": packed(vtk_to_numpy(places)[:, :2], np.float32)}
    return out


def _counted(cells: vtkCellArray) -> NDArray[Any]:
    """Points of cells, before those of each how many they are: the layout that the viewer reads."""
    offsets, points = vtk_to_numpy(cells.GetOffsetsArray()), vtk_to_numpy(cells.GetConnectivityArray())
    return np.insert(points, offsets[:-1], np.diff(offsets))


def _picture(texture: vtkTexture) -> str:
    """A texture as the address of a PNG that holds its own data; its first row is at the bottom."""
    data = texture.GetInput()
    columns, rows, _ = data.GetDimensions()
    pixels = vtk_to_numpy(data.GetPointData().GetScalars()).reshape(rows, columns, -1)[::-1]
    whole = np.full((rows, columns, 4), 255, dtype=np.uint8)
    whole[..., : pixels.shape[2]] = pixels
    image = QImage(whole.data, columns, rows, 4 * columns, QImage.Format.Format_RGBA8888)
    stored = QByteArray()
    buffer = QBuffer(stored)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]  # the stubs say bytes
    buffer.close()
    return "data:image/png;base64," + base64.b64encode(bytes(stored.data())).decode()


def _records(ctx: Any, entry: Entry, item: Item, origin: NDArray[np.float64]) -> dict[str, Any]:
    """Places and words of the rows that are seen."""
    attribute = ctx.attribute_of(entry)
    table: pd.DataFrame | None = None
    if isinstance(item, HoleSet):
        hit = table_with(item, attribute) or readings_with(item, attribute)
        table = hit[1] if hit is not None else item.collars
    elif isinstance(item, PointSet | SurveyLines | TargetSet):
        table = item.table
    if table is None or not {"x", "y", "z"} <= set(table.columns) or not len(table):
        return {"at": "", "words": []}
    xyz = table[["x", "y", "z"]].to_numpy(float)
    keep = np.isfinite(xyz).all(axis=1)
    if attribute in table.columns:
        keep &= shown(ctx.legend(attribute, item), table[attribute].to_numpy())
    rows = np.flatnonzero(keep)
    rows = rows[:: max(1, -(-len(rows) // MOST_RECORDS))]
    unit = entry.attributes[attribute].unit if attribute in entry.attributes else ""
    words = [_words(entry, table.iloc[k], attribute, unit) for k in rows.tolist()]
    return {"at": packed(xyz[rows] - origin, np.float32), "words": words}


def _words(entry: Entry, row: pd.Series, attribute: str, unit: str) -> str:
    name = str(row["hole"]) if "hole" in row else entry.name
    where = ""
    if "from_m" in row:
        where = f" {row['from_m']:g} to {row['to_m']:g} m"
    elif "depth_m" in row and "hole" in row:
        where = f" {row['depth_m']:g} m"
    value = ""
    if attribute in row:
        found = row[attribute]
        if isinstance(found, float | np.floating):
            value = "no value" if np.isnan(found) else f"{found:.4g} {unit}".rstrip()
        else:
            value = "" if pd.isna(found) else str(found)
    return f"{name}{where}   {attribute}: {value}" if value else f"{name}{where}"


def legends_of(ctx: Any, placed: list[Placed]) -> list[dict[str, Any]]:
    """Return the legends of what is drawn, one an attribute."""
    out, seen = [], set()
    for each in reversed(placed):
        attribute = ctx.attribute_of(each.entry)
        if attribute not in each.entry.attributes or is_ground(each.entry.attributes) or not each.props:
            continue
        if attribute in seen:
            continue
        seen.add(attribute)
        out.append(_legend(ctx.legend(attribute, each.item), each.entry.name))
    return out


def _legend(legend: Legend, name: str) -> dict[str, Any]:
    out: dict[str, Any] = {"title": legend.label, "layers": [name]}
    if legend.classes:
        out["classes"] = [{"name": c, "colour": class_colour(legend, c).name()} for c in legend.ordered[:60]]
        return out
    out["ramp"] = [colour_at(legend, k / 15).name() for k in range(16)]
    out["ticks"] = [legend.tick(value_at(legend, share)) for share in (0.0, 0.5, 1.0)]
    return out


def scene_of(
    title: str,
    origin: NDArray[np.float64],
    background: QColor,
    layers: list[dict[str, Any]],
    legends: list[dict[str, Any]],
    stops: list[dict[str, Any]],
) -> dict[str, Any]:
    """Return a whole scene as data.

    Stops have a name, a caption, a camera in metres, a vertical exaggeration, and names of the layers that are lit.

    Raises
    ------
    InputError
        When it would be too large for a page.
    """
    size = sum(len(v) for layer in layers for part in layer["parts"] for v in part.values() if isinstance(v, str))
    if size > MOST_BYTES:
        raise InputError(
            f"the scene takes {size / 1e6:.0f} MB, more than a browser reads well", fix="Light fewer items"
        )
    relative = []
    for stop in stops:
        camera = np.array(stop["camera"], dtype=float)
        camera[:3] -= origin
        camera[3:6] -= origin
        relative.append(stop | {"camera": [round(float(v), 5) for v in camera]})
    back = background
    return {
        "title": title,
        "origin": [float(v) for v in origin],
        "exaggeration": float(stops[0]["exaggeration"]) if stops else 1.0,
        "background": [back.redF() * 0.97, back.greenF() * 0.975, back.blueF() * 0.985],
        "layers": layers,
        "legends": legends,
        "stops": relative,
    }

"""What lies at a place of an item, in words: its name, the hole and depth or the row, and the value that is shown."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....core.compute.geometry.sampling import bilinear
from ....core.items.base import Item
from ....core.items.electrodes import ElectrodeSurvey
from ....core.items.features import Features
from ....core.items.fields import BlockModel, Grid, Surface
from ....core.items.holes import HoleSet, readings_with, table_with
from ....core.items.points import PointSet, SurveyLines, TargetSet
from ...painters.kit.true_units import true_contacts

_NAMES = ("hole", "Sample No", "sample", "Station", "Name", "name", "Stop", "line", "rank")


def words_at(item: Item, attribute: str, place: np.ndarray) -> str:
    """Return what an item has at a place (easting, northing, elevation in metres) of its picture; two lines at most.

    `attribute` is the one that it is coloured by, '' or '-' for none.
    """
    lines = [item.name]
    if isinstance(item, Surface):
        lines.append(item.facts.get("Cut-off", "") or item.facts.get("Volume", ""))
    elif isinstance(item, Grid):
        value = bilinear(item.values, item.x0, item.y0, item.dx, item.dy, place[:1], place[1:2])[0]
        lines.append(_value(item, item.attribute, value))
    elif isinstance(item, BlockModel):
        if attribute in item.names:
            lines.append(_unit_at(item, attribute, place))
        elif attribute in item.properties:
            value = item.mesh.values_at(item.properties[attribute], *(place[k : k + 1] for k in range(3)))[0]
            lines.append(_value(item, attribute, value))
    elif isinstance(item, HoleSet):
        lines.append(_in_holes(item, attribute, place))
    elif isinstance(item, PointSet | SurveyLines | TargetSet | ElectrodeSurvey):
        lines.append(_nearest_row(item, item.table, attribute, place))
    elif isinstance(item, Features):
        lines.append(_nearest_feature(item, attribute, place))
    return "\n".join(line for line in lines if line)


def _value(item: Item, attribute: str, value: object) -> str:
    known = item.attributes.get(attribute)
    if known is None:
        return ""
    if known.is_code:
        return f"{attribute} {value}" if isinstance(value, str) and value else ""
    number = float(value) if value is not None else float("nan")  # type: ignore[arg-type]
    return (
        f"{attribute} {known.said(number)} {known.unit}".rstrip() if np.isfinite(number) else f"{attribute}: no value"
    )


def _unit_at(item: BlockModel, attribute: str, place: np.ndarray) -> str:
    """The unit at a place: by the contacts as they are drawn, or of the cell."""
    contacts = true_contacts(item, attribute)
    if contacts is not None:
        number = int(contacts.unit_at(place[None, :].astype(float))[0])
        name = contacts.units[number] if number >= 0 else ""
    else:
        value = item.mesh.values_at(item.properties[attribute], *(place[k : k + 1] for k in range(3)))
        name = str(item.named(attribute, value)[0])
    return f"{attribute} {name}" if name else ""


def _in_holes(item: HoleSet, attribute: str, place: np.ndarray) -> str:
    hit = table_with(item, attribute)
    if hit is not None:
        table = hit[1]
        start = table[["x0", "y0", "z0"]].to_numpy(float)
        along = table[["x1", "y1", "z1"]].to_numpy(float) - start
        long = np.maximum((along**2).sum(axis=1), 1e-12)
        share = np.clip(((place - start) * along).sum(axis=1) / long, 0.0, 1.0)
        off = np.linalg.norm(place - start - share[:, None] * along, axis=1)
        if not np.isfinite(off).any():
            return ""
        row = table.iloc[int(np.nanargmin(off))]
        return f"{row['hole']}, {row['from_m']:g}–{row['to_m']:g} m: {_value(item, attribute, row[attribute])}"
    spots = readings_with(item, attribute)
    if spots is not None:
        table = spots[1]
        row = table.iloc[_nearest(table, place)]
        return f"{row['hole']}, {row['depth_m']:g} m: {_value(item, attribute, row[attribute])}"
    stations = item.stations
    return str(stations["hole"].iloc[_nearest(stations, place)]) if len(stations) else ""


def _nearest(table: pd.DataFrame, place: np.ndarray) -> int:
    xyz = table[["x", "y", "z"]].to_numpy(float) - place
    xyz[:, 2] = np.nan_to_num(xyz[:, 2]) if np.isfinite(xyz[:, 2]).any() else 0.0
    return int(np.nanargmin((xyz**2).sum(axis=1)))


def _nearest_row(item: Item, table: pd.DataFrame, attribute: str, place: np.ndarray) -> str:
    if not len(table):
        return ""
    row = table.iloc[_nearest(table, place)]
    name = next((str(row[n]) for n in _NAMES if n in table.columns and n != attribute), "")
    value = _value(item, attribute, row[attribute]) if attribute in table.columns else ""
    return ": ".join(part for part in (name, value) if part)


def _nearest_feature(item: Features, attribute: str, place: np.ndarray) -> str:
    if not len(item.vertices) or attribute not in item.table.columns:
        return ""
    vertex = int(np.nanargmin(((item.vertices[:, :2] - place[:2]) ** 2).sum(axis=1)))
    part = int(np.searchsorted(item.starts, vertex, side="right") - 1)
    return _value(item, attribute, item.table[attribute].iloc[int(item.owner[part])])

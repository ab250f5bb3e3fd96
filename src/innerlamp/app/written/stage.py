"""What a 3D scene holds, item by item, built without a window: the painters' props, its box, its origin, cameras."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkProp3D

from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.walk import Stop
from ...core.project.records import Entry
from ..painters.kit.views import SceneView
from ..painters.table import PAINTERS
from ..scene.cameras import box_of, seen_from

FloatArray = NDArray[np.float64]
Camera = tuple[float, ...]
VIEW_ANGLE = 30.0


@dataclass(frozen=True)
class Placed:
    """An item with its props, which are placed relative to the stage's origin."""

    entry: Entry
    item: Item
    props: list[vtkProp3D]


@dataclass(frozen=True)
class Stage:
    """All that is lit, drawn once.

    Attributes
    ----------
    origin
        Easting, northing and elevation (m) that the props' places are relative to.
    low, high
        Corners of the box around what is lit, metres.
    """

    origin: FloatArray
    low: FloatArray
    high: FloatArray
    placed: list[Placed]


def staged(ctx: Any) -> Stage:
    """Draw what a context has lit; one whose items are read at once draws it whole."""
    entries: list[Entry] = ctx.lit_entries()
    low, high = box_of(entries)
    origin = np.array([low[0], low[1], 0.0])
    draped = any(e.kind == "grid" and not is_ground(e.attributes) for e in entries)
    view = SceneView((float(origin[0]), float(origin[1]), 0.0), draped)
    placed = []
    for entry in entries:
        item = ctx.item(entry.id)
        if item is None:
            continue
        props = PAINTERS[view.kind, entry.kind].paint(ctx, view, entry, item)
        for prop in props:
            look = getattr(prop, "GetProperty", None)
            if look is not None and entry.style.opacity < 1.0:
                look().SetOpacity(look().GetOpacity() * entry.style.opacity)
        placed.append(Placed(entry, item, props))
    return Stage(origin, low, high, placed)


def camera_of(stop: Stop, entries: list[Entry], every: list[Entry], aspect: float = 1.6) -> Camera:
    """Return the camera of a stop: its own, or one that sees what it goes around from where it looks.

    `entries` are what the stop has lit, `every` all items of the project; `aspect` is width over height.
    """
    if stop.camera is not None:
        return stop.camera
    named = [e for e in every if stop.around in (e.id, e.name)] if stop.around else []
    low, high = box_of(named or entries)
    stretch = np.array([1.0, 1.0, stop.exaggeration])
    middle = 0.5 * (low + high)
    away, up = seen_from(*stop.looking)
    right = np.cross(up, away)
    right /= np.linalg.norm(right)
    over = np.cross(away, right)
    corners = np.array(
        [[(low, high)[k][0], (low, high)[m][1], (low, high)[n][2]] for k in (0, 1) for m in (0, 1) for n in (0, 1)]
    )
    off = (corners - middle) * stretch
    # As near as all corners stay in view: each asks for a distance by its own depth.
    half = np.tan(np.radians(VIEW_ANGLE) / 2.0)
    wide, tall = np.abs(off @ right) / (half * aspect), np.abs(off @ over) / half
    distance = float(max((np.maximum(wide, tall) + off @ away).max(), 1.0)) * 1.02
    place = middle + distance * away / stretch
    return (*place.tolist(), *middle.tolist(), *over.tolist(), VIEW_ANGLE)

"""Changing the arrangement of a page: moving, resizing, adding elements, all as new lists of plain values."""

from __future__ import annotations

from typing import Any

from ...core.items.page import Element, Kind, Page

SIZES: dict[Kind, tuple[float, float]] = {
    "map": (120.0, 90.0),
    "section": (150.0, 60.0),
    "log": (60.0, 120.0),
    "legend": (60.0, 80.0),
    "scale bar": (80.0, 15.0),
    "north": (35.0, 40.0),
    "title": (90.0, 45.0),
    "notes": (80.0, 25.0),
    "inset": (50.0, 40.0),
    "picture": (40.0, 30.0),
    "chart": (95.0, 65.0),
}
LEAST = 5.0
Elements = tuple[dict[str, Any], ...]


def changed(page: Page, number: int, **values: Any) -> Elements:
    """Return the elements with some values of one changed."""
    return tuple({**e, **values} if k == number else e for k, e in enumerate(page.elements))


def moved(page: Page, number: int, dx: float, dy: float) -> Elements:
    """Return the elements with one moved by millimetres, to whole ones; it stays on the sheet."""
    e = page.layout[number]
    x = min(max(round(e.x + dx), 5.0 - e.w), page.width - 5.0)
    y = min(max(round(e.y + dy), 5.0 - e.h), page.height - 5.0)
    return changed(page, number, x=x, y=y)


def resized(page: Page, number: int, corner: str, dx: float, dy: float) -> Elements:
    """Return the elements with one corner (nw, ne, sw, se) of one moved; a map keeps its scale and its middle."""
    e = page.layout[number]
    left, top, right, bottom = e.x, e.y, e.x + e.w, e.y + e.h
    if "w" in corner:
        left = min(round(left + dx), right - LEAST)
    else:
        right = max(round(right + dx), left + LEAST)
    if "n" in corner:
        top = min(round(top + dy), bottom - LEAST)
    else:
        bottom = max(round(bottom + dy), top + LEAST)
    return changed(page, number, x=left, y=top, w=right - left, h=bottom - top)


def panned(page: Page, number: int, dx: float, dy: float) -> Elements:
    """Return the elements with the ground under a map moved by millimetres of paper."""
    e = page.layout[number]
    return changed(page, number, easting=e.easting - dx * e.scale / 1000.0, northing=e.northing + dy * e.scale / 1000.0)


def added(page: Page, kind: Kind, like: Element | None, sheet: int = 0, **values: Any) -> Elements:
    """Return the elements with a new one in the middle of a sheet; a map begins as the first map is."""
    wide, high = SIZES[kind]
    wide, high = min(wide, page.width - 20), min(high, page.height - 20)
    new: dict[str, Any] = {
        "kind": kind,
        "x": round((page.width - wide) / 2),
        "y": round((page.height - high) / 2),
        "w": wide,
        "h": high,
    }
    if kind in ("map", "section", "log") and like is not None:
        new |= {"lit": list(like.lit), "colour_by": dict(like.colour_by), "scale": 0.0 if kind == "log" else like.scale}
        if like.system and kind != "log":
            new["system"] = like.system
        if kind == "map":
            new |= {"easting": like.easting, "northing": like.northing}
    if like is not None and like.date:
        new["date"] = like.date
    if sheet:
        new["sheet"] = sheet
    return (*page.elements, {**new, **values})


def without(page: Page, number: int) -> Elements:
    """Return the elements without one."""
    return tuple(e for k, e in enumerate(page.elements) if k != number)


def element_at(page: Page, x: float, y: float, sheet: int = 0) -> int:
    """Return the number of the topmost element at a place of a sheet in millimetres, -1 for none."""
    layout = page.layout
    return next((k for k in range(len(layout) - 1, -1, -1) if layout[k].sheet == sheet and _holds(layout[k], x, y)), -1)


def _holds(e: Element, x: float, y: float) -> bool:
    return e.x <= x <= e.x + e.w and e.y <= y <= e.y + e.h

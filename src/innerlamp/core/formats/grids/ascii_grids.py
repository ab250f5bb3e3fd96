"""ESRI ASCII grids: a head of words and numbers, then all values from the north-west on, row by row; read whole or not at all."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

_HEAD = ("ncols", "nrows", "xllcorner", "xllcenter", "yllcorner", "yllcenter", "cellsize", "dx", "dy", "nodata_value")
_MOST_BYTES = 4_000_000_000


def is_ascii_grid(path: Path) -> bool:
    """Return whether a file begins as an ASCII grid does."""
    with path.open("rb") as handle:
        return b"ncols" in handle.read(400).lower()


def lattice_of(text: bytes, name: str) -> tuple[tuple[float, float, float, float, float, float], float, int]:
    """Return nx, ny, x0, y0, dx, dy (of cell centres) of the head that a file begins with, its blank value, and where values begin.

    Raises
    ------
    InputError
        When the head is not whole, or one of its words is no number.
    """
    head: dict[str, float] = {}
    at = 0
    pattern = re.compile(rb"\s*([A-Za-z_]+)\s+(\S+)")
    while (found := pattern.match(text, at)) is not None and len(head) < len(_HEAD):
        word = found.group(1).decode("ascii").lower()
        if word not in _HEAD:
            break
        try:
            head[word] = float(found.group(2).replace(b",", b"."))
        except ValueError as error:
            said = found.group(2).decode("ascii", "replace")[:20]
            raise InputError(f"{word} is '{said}', which is no number", where=name) from error
        at = found.end()
    nx, ny = (head.get(k, 0.0) for k in ("ncols", "nrows"))
    dx, dy = head.get("dx", head.get("cellsize", 0.0)), head.get("dy", head.get("cellsize", 0.0))
    place = [next((head[k] for k in (f"{a}llcorner", f"{a}llcenter") if k in head), np.nan) for a in "xy"]
    if nx < 1 or ny < 1 or nx % 1 or ny % 1 or not (dx > 0 and dy > 0) or not np.isfinite([*place, dx, dy]).all():
        raise InputError(
            "the head of the grid is not whole", where=name, fix="It needs ncols, nrows, corner and cellsize"
        )
    x0 = place[0] + (dx / 2 if "xllcorner" in head else 0.0)
    y0 = place[1] + (dy / 2 if "yllcorner" in head else 0.0)
    return (nx, ny, x0, y0, dx, dy), head.get("nodata_value", -9999.0), at


def read(path: Path, most: int) -> tuple[NDArray[np.float64], float, float, float, float, str]:
    """Return values (ny, nx; row 0 south, NaN where blank), x0, y0, dx, dy of cell centres, and the system ('' for none).

    Raises
    ------
    InputError
        When the head is not whole, a word is no number, or there are more or fewer values than cells.
    """
    name = path.name
    if path.stat().st_size > _MOST_BYTES:
        raise InputError("the file is larger than 4 GB", where=name, fix="Write it as GeoTIFF")
    text = path.read_bytes()
    (nx, ny, x0, y0, dx, dy), blank, at = lattice_of(text, name)
    if nx * ny > most:
        raise InputError(f"the grid has {nx:,.0f} × {ny:,.0f} cells, too many to hold", where=name)
    body = text[at:].replace(b",", b".")
    words = body.split()
    if len(words) != nx * ny:
        raise InputError(
            f"the grid has {len(words):,} values for {nx:,.0f} × {ny:,.0f} cells",
            where=name,
            fix="Write it again, whole",
        )
    try:
        values = np.array(words, dtype=float).reshape(int(ny), int(nx))[::-1].copy()
    except ValueError as error:
        odd = next((w for w in words if not _is_number(w)), b"")
        raise InputError(f"'{odd.decode('ascii', 'replace')[:20]}' is no number", where=name) from error
    values[values == blank] = np.nan
    values[~np.isfinite(values)] = np.nan
    prj = path.with_suffix(".prj")
    system = prj.read_text(encoding="utf-8", errors="replace").strip() if _is_small(prj) else ""
    return values, x0, y0, dx, dy, system


def _is_number(word: bytes) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


def _is_small(path: Path) -> bool:
    return path.is_file() and path.stat().st_size < 100_000

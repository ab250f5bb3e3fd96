"""Coordinate systems that files speak for: what they name themselves, or the zone of the place that they give in degrees."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyproj

from ..crs import describe, is_metric, plan_and_height, transformer
from ..errors import CrsError, InputError, LampError
from ..formats.grids import ascii_grids, pictures, rasters
from ..formats.grids import grid_files as grids
from ..formats.tables import columns, tables_in, vectors
from ..numbers import number_or_none
from ..progress import SILENT, Progress
from ..systems_by_name import systems_named
from .offers import found_files
from .reading import system_of

MOST_LOOKED_AT = 60
_HEAD = 4096
_CODE = re.compile(r"(?i)epsg[\s:_]{0,3}(\d{4,5})\b")
_ZONE = re.compile(r"(?i)(?<![a-z])utm[\s_]{0,3}(?:zone[\s_]{0,2})?(\d{1,2})\s?([ns])(?![a-z])")


@dataclass(frozen=True)
class Proposal:
    """A projected system in metres (``code``, ``EPSG:32719``), and in words which files speak for it."""

    code: str
    why: str

    @property
    def words(self) -> str:
        """Code, name and reason, as a list shows them."""
        return f"{describe(self.code)} · {self.why}"


def proposed_systems(files: Sequence[Path | str], progress: Progress = SILENT) -> list[Proposal]:
    """Return the systems that files and folders speak for, the one with the most files first.

    A file names its system in its own header, beside it (``.prj``) or in its headings; one in degrees, or in other units
    than metres, speaks for the WGS 84 / UTM zone that its middle lies in. At most 60 files are looked at, and what can't
    be read speaks for none.

    Raises
    ------
    InputError
        When a path is not there.
    """
    votes: dict[str, list[tuple[str, str]]] = {}
    found = found_files(files)[:MOST_LOOKED_AT]
    for number, path in enumerate(found):
        progress(number / len(found), f"Looking into {path.name}")
        try:
            spoken = _system_of(path)
        except (LampError, OSError, ValueError):
            continue
        if spoken is not None:
            votes.setdefault(spoken[0], []).append((path.name, spoken[1]))
    order = sorted(votes, key=lambda code: -len(votes[code]))
    return [Proposal(code, _reason(votes[code])) for code in order]


def _reason(votes: list[tuple[str, str]]) -> str:
    name, how = votes[0]
    more = len(votes) - 1
    return f"{how} {name}" + (f" and {more} more file{'s' * (more > 1)}" if more else "")


def _system_of(path: Path) -> tuple[str, str] | None:
    """Code of the projected system that one file speaks for, and how."""
    ending = path.suffix.lower()
    if ending in vectors.DRIVERS:
        return _usable(*_of_features(path))
    if ending in pictures.EXTENSIONS or ending == ".asc":
        return _usable(*_of_raster(path))
    if ending == ".nc":
        return _usable(*_of_netcdf(path))
    return _of_text(path)


def _of_features(path: Path) -> tuple[str, tuple[float, float] | None]:
    try:
        system, bounds = vectors.system_and_bounds(path)
    except InputError as error:
        raise CrsError(f"'{path.name}' names no system") from error
    return system, _middle(bounds)


def _of_raster(path: Path) -> tuple[str, tuple[float, float] | None]:
    try:
        if ascii_grids.is_ascii_grid(path):
            values, x0, y0, dx, dy, system = ascii_grids.read(path, grids.MOST_CELLS)
            ny, nx = values.shape
            return system, (x0 + dx * nx / 2, y0 + dy * ny / 2)
        with rasters.opened(path) as data:
            return data.crs.to_string() if data.crs else "", _middle(tuple(data.bounds))
    except Exception as error:  # rasterio raises its own errors and GDAL's
        raise CrsError(f"'{path.name}' names no system") from error


def _of_netcdf(path: Path) -> tuple[str, tuple[float, float] | None]:
    from ..formats.grids import netcdf

    system, bounds = netcdf.system_and_bounds(path)
    return system, _middle(bounds)


def _middle(bounds: Sequence[float] | None) -> tuple[float, float] | None:
    if bounds is None or len(bounds) != 4 or not np.isfinite(np.asarray(bounds, dtype=float)).all():
        return None
    return 0.5 * (float(bounds[0]) + float(bounds[2])), 0.5 * (float(bounds[1]) + float(bounds[3]))


def _of_text(path: Path) -> tuple[str, str] | None:
    with path.open("rb") as handle:
        head = handle.read(_HEAD)
    if b"\0" not in head:
        text = head.decode("utf-8", "replace")
        code = _CODE.search(text)
        if code is not None:
            found = _usable(f"EPSG:{code.group(1)}", None)
            if found is not None:
                return found
        zone = _ZONE.search(text)
        if zone is not None:
            named = systems_named(f"utm {zone.group(1)}{zone.group(2)}", 1)
            if named:
                return named[0].code, "zone written in"
    for part in tables_in.parts(path) or ("",):
        ref = f"{path}#{part}" if part else str(path)
        layout = tables_in.look(ref)
        role = columns.guess(layout.columns, "points")
        if not {"x", "y"} <= set(role) or not system_of("", (role["x"], role["y"])):
            continue
        rows = tables_in.first_rows(ref, layout, 200)
        at = [layout.columns.index(role[axis]) for axis in "xy"]
        texts = [[row[k] if len(row) > k else "" for k in at] for row in rows]
        places = np.array([[number_or_none(t) for t in pair] for pair in texts], dtype=float).reshape(-1, 2)
        good = places[np.isfinite(places).all(axis=1)]
        if len(good):
            return _usable("EPSG:4326", tuple(np.median(good, axis=0).tolist()))
    return None


def _usable(system: str, middle: tuple[float, float] | None) -> tuple[str, str] | None:
    """The system itself where projects can be kept in it; else the zone of its middle."""
    try:
        crs = pyproj.CRS.from_user_input(plan_and_height(system)[0]) if system else None
    except CrsError:
        return None
    if crs is None:
        return None
    if crs.is_projected and is_metric(crs):
        known = crs.to_authority(min_confidence=70)
        return (":".join(known), "named by") if known else None
    if middle is None:
        return None
    lon, lat = transformer(crs, "EPSG:4326").transform(*middle)
    if not (abs(lon) <= 180.0 and abs(lat) <= 84.0):  # false for NaN as well
        return None
    zone = int((lon + 180.0) // 6.0) % 60 + 1
    return f"EPSG:{(32600 if lat >= 0 else 32700) + zone}", "zone of the place in"

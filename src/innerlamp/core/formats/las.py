"""Well logs in LAS 2.0 (Canadian Well Logging Society 1992), through lasio: one hole a file, readings down the hole."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from ..errors import InputError
from ..findings import Findings
from ..units import factor
from .rawtable import Layout, RawTable, unique

HOLE, DEPTH = "hole", "depth_m"
_LARGEST = 2_000_000_000
_LENGTHS = {"M": "m", "METER": "m", "METRE": "m", "METERS": "m", "METRES": "m", "F": "ft", "FT": "ft", "FEET": "ft"}


@dataclass(frozen=True)
class Log:
    """A log: hole name, depths in metres, curves by name, the unit of each; missing values are NaN."""

    hole: str
    depth: NDArray[np.float64]
    curves: dict[str, NDArray[np.float64]]
    units: dict[str, str]
    first_line: int


def is_las(path: Path) -> bool:
    """Return whether a file starts like a LAS file: its first section is ~V."""
    with path.open("rb") as handle:
        head = handle.read(4096)
    for line in head.decode("latin-1").splitlines():
        text = line.strip()
        if text and not text.startswith("#"):
            return text[:2].upper() == "~V"
    return False


def read_log(path: Path) -> Log:
    """Read a log; wrapped files, feet and any null value are understood.

    Raises
    ------
    InputError
        When it can't be read, has no depth, or is larger than 2 GB.
    """
    import lasio

    if path.stat().st_size > _LARGEST:
        raise InputError("the log is larger than 2 GB", where=path.name)
    data = path.read_bytes()
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("cp1252", errors="replace")
    try:
        las = lasio.read(io.StringIO(text), ignore_header_errors=True)
        curves = las.curves
        if len(curves) < 2 or len(las.data) == 0:
            raise InputError("the log has no readings", where=path.name)
        depth = np.asarray(curves[0].data, dtype=float)
        values = {}
        for curve in curves[1:]:
            values[str(curve.mnemonic)] = _numbers(np.asarray(curve.data))
        well = {str(h.mnemonic).upper(): str(h.value).strip() for h in las.well}
        unit = str(curves[0].unit).strip().upper() or well.get("STRT_UNIT", "M")
    except InputError:
        raise
    except Exception as error:  # lasio raises many kinds for broken files
        raise InputError(f"can't be read as a LAS log ({error})", where=path.name) from error
    if unit not in _LENGTHS:
        raise InputError(
            f"the log is by '{curves[0].mnemonic}' in '{unit}', not by depth", where=path.name, fix="Export it by depth"
        )
    names = unique(list(values))
    units = {name: str(curve.unit).strip() for name, curve in zip(names, curves[1:], strict=True)}
    hole = well.get("WELL") or well.get("UWI") or path.stem
    start = next((n for n, line in enumerate(text.splitlines(), start=1) if line.strip()[:2].upper() == "~A"), 0)
    scaled = depth * factor(_LENGTHS[unit], "m")
    return Log(hole, scaled, dict(zip(names, values.values(), strict=True)), units, start + 1)


def _numbers(values: NDArray[np.generic]) -> NDArray[np.float64]:
    if values.dtype.kind in "fiu":
        return values.astype(float)
    out = np.full(len(values), np.nan)
    for k, v in enumerate(values):
        try:
            out[k] = float(v)
        except (TypeError, ValueError):
            continue
    return out


def look(path: Path) -> Layout:
    """Return the columns that a log gives: hole, depth_m and its curves with their units."""
    return _layout(read_log(path))


def _layout(log: Log) -> Layout:
    return Layout("", "", log.first_line - 1, (HOLE, DEPTH, *_headings(log)), medium="LAS log")


def _headings(log: Log) -> list[str]:
    return [f"{name} ({unit})" if unit else name for name, unit in log.units.items()]


def read(path: Path, found: Findings, table: str, layout: Layout | None = None) -> RawTable:
    """Read a log as a table of readings; readings without a depth are reported and left out."""
    log = read_log(path)
    line = log.first_line + np.arange(len(log.depth), dtype=np.int64)
    good = np.isfinite(log.depth)
    if not good.all():
        found.add("left out", "reading has no depth", "row left out", file=path.name, table=table, line=line[~good])
    data: dict[str, pa.Array] = {
        HOLE: pa.array([log.hole] * int(good.sum()), pa.string()),
        DEPTH: pa.array(log.depth[good]),
    }
    for heading, values in zip(_headings(log), log.curves.values(), strict=True):
        data[heading] = pa.array(values[good])
    return RawTable(path, layout or _layout(log), pa.table(data), line[good])

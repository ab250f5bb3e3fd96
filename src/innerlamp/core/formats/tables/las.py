"""Well logs in LAS 2.0 (Canadian Well Logging Society 1992), through lasio: one hole a file, readings down the hole."""

from __future__ import annotations

import contextlib
import io
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from ...errors import InputError
from ...findings import Findings
from ...units import factor
from .rawtable import Layout, RawTable, unique

HOLE, DEPTH = "hole", "depth_m"
_LARGEST = 2_000_000_000
_LENGTHS = {"M": "m", "METER": "m", "METRE": "m", "METERS": "m", "METRES": "m", "F": "ft", "FT": "ft", "FEET": "ft"}


@dataclass(frozen=True)
class Log:
    """A log: hole name, depths in metres, curves by name, the unit of each; missing values are NaN.

    `line` is that of each reading in the file, `bad` those of rows that have not as many values as there are curves.
    """

    hole: str
    depth: NDArray[np.float64]
    curves: dict[str, NDArray[np.float64]]
    units: dict[str, str]
    line: NDArray[np.int64]
    bad: tuple[int, ...] = ()


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
    start = next((n for n, line in enumerate(text.splitlines(), start=1) if line.strip()[:2].upper() == "~A"), 0)
    line: NDArray[np.int64] | None = None
    bad: tuple[int, ...] = ()
    try:
        with contextlib.redirect_stderr(io.StringIO()):
            try:
                las = lasio.read(io.StringIO(text), ignore_header_errors=True)
                columns = [_numbers(np.asarray(c.data)) for c in las.curves]
                if len(columns) < 2 or len(las.data) == 0 or not np.isfinite(columns[0]).any():
                    raise ValueError("no readings")
            except Exception:  # lasio raises many kinds for what it can't cut into columns; rows may be cut by us
                las = lasio.read(io.StringIO(text), ignore_header_errors=True, ignore_data=True)
                columns, line, bad = _rows(text, start, len(las.curves), _null(las))
        curves = las.curves
        if len(curves) < 2 or not len(columns[0]):
            raise InputError("the log has no readings", where=path.name)
        well = {str(h.mnemonic).upper(): str(h.value).strip() for h in las.well}
        starts = str(las.well["STRT"].unit) if "STRT" in las.well else ""
        unit = (str(curves[0].unit).strip() or starts.strip() or "M").upper()
    except InputError:
        raise
    except Exception as error:  # as above
        raise InputError(f"can't be read as a LAS log ({error})", where=path.name) from error
    if unit not in _LENGTHS:
        raise InputError(
            f"the log is by '{curves[0].mnemonic}' in '{unit}', not by depth", where=path.name, fix="Export it by depth"
        )
    names = unique([str(c.mnemonic) for c in curves[1:]])
    units = {name: str(curve.unit).strip() for name, curve in zip(names, curves[1:], strict=True)}
    hole = well.get("WELL") or well.get("UWI") or path.stem
    scaled = columns[0] * factor(_LENGTHS[unit], "m")
    at = line if line is not None else start + 1 + np.arange(len(scaled), dtype=np.int64)
    return Log(hole, scaled, dict(zip(names, columns[1:], strict=True)), units, at, bad)


def _null(las: Any) -> float:
    try:
        return float(las.well["NULL"].value)
    except (KeyError, TypeError, ValueError):
        return float("nan")


def _rows(
    text: str, start: int, count: int, null: float
) -> tuple[list[NDArray[np.float64]], NDArray[np.int64], tuple[int, ...]]:
    """Return the columns of the data section cut by blanks, tabs, commas or semicolons, the line of each row, and bad lines."""
    good, lines, bad = [], [], []
    for number, row in enumerate(text.splitlines()[start:], start=start + 1):
        if not row.strip() or row.lstrip().startswith("#"):
            continue
        if row.lstrip().startswith("~"):
            break
        cells = re.split(r"\s*[,;\t]\s*|\s+", row.strip())
        if len(cells) != count:
            bad.append(number)
            continue
        good.append(cells)
        lines.append(number)
    table = [_numbers(np.array([r[k] for r in good], dtype=object)) for k in range(count)]
    return [np.where(v == null, np.nan, v) for v in table], np.array(lines, dtype=np.int64), tuple(bad)


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
    first = int(log.line[0]) - 1 if len(log.line) else 0
    units = ("", "m", *log.units.values())
    return Layout("", "", first, (HOLE, DEPTH, *_headings(log)), medium="LAS log", units=units)


def _headings(log: Log) -> list[str]:
    return [f"{name} ({unit})" if unit else name for name, unit in log.units.items()]


def read(path: Path, found: Findings, table: str, layout: Layout | None = None) -> RawTable:
    """Read a log as a table of readings; readings without a depth are reported and left out."""
    log = read_log(path)
    line = log.line
    if log.bad:
        what = f"the row has not {len(log.curves) + 1} values, as there are curves"
        found.add("left out", what, "row left out", file=path.name, table=table, line=np.array(log.bad))
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

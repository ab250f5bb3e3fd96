"""The record of a base station, as it comes: with remarks, without dates, over several nights, with gaps and zeros."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..compute.potential.diurnal import seconds_of
from ..errors import InputError
from ..findings import Findings
from ..formats.tables import columns, dates, rawtable, tables_in
from ..formats.tables.rawtable import RawTable
from ..items.attributes import told_by
from .gaps import zeros_are_gaps

FloatArray = NDArray[np.float64]
_DAY = 86_400.0


@dataclass(frozen=True)
class BaseRecord:
    """Readings of a station that stood still: seconds, counted from 1970 when `dated`, else from its first midnight; nT."""

    file: str
    time: FloatArray
    field: FloatArray
    dated: bool


def read_base(file: str, order: dates.DayOrder, found: Findings) -> BaseRecord:
    """Return a base record; rows without a time or reading are reported and left out.

    Without dates the clock is followed over midnight: where it steps back a new day begins.

    Raises
    ------
    InputError
        When there is no column of times or none of readings.
    """
    raw = tables_in.read(file, found, "base")
    role = columns.guess(raw.layout.columns, "lines")
    clock_at = role.get("time", role.get("date", ""))
    field_at = _field(raw, {clock_at, role.get("date", "")})
    if not clock_at or not field_at:
        raise InputError("the base table needs a column of times and one of readings", where=raw.file)
    clocks = [dates.clock_of(t) for t in raw.text(clock_at)]
    values, _ = rawtable.numbers(raw.cells.column(field_at), raw.layout.decimal_comma)
    day = [""] * len(clocks)
    if "date" in role:
        texts = raw.text(role["date"]).fillna("").astype(str).tolist()
        day = dates.read_dates(texts, raw.line, found, raw.file, "base", order=order)
    dated = any(day)
    time = seconds_of(day, clocks)
    if dated:
        time = np.where(np.array(day) == "", np.nan, time)
    else:
        time = over_midnight(time)
        nights = int(np.nanmax(time, initial=0.0) // _DAY) + 1
        found.add(
            "note",
            "the base record has no dates",
            f"its clock is followed over midnight: {nights} day{'s' if nights > 1 else ''}",
            file=raw.file,
            table="base",
        )
    gaps = zeros_are_gaps(values)
    bad = ~np.isfinite(time) | ~np.isfinite(values) | gaps
    for rows, what in ((gaps, "base reading is 0: a gap"), (bad & ~gaps, "base row has no time or no reading")):
        if rows.any():
            found.add("left out", what, "row left out", file=raw.file, table="base", line=raw.line[rows])
    if (~bad).sum() < 2:
        raise InputError("the base station has fewer than two readings with a time", where=raw.file)
    return BaseRecord(raw.file, time[~bad], values[~bad], dated)


def _field(raw: RawTable, taken: set[str]) -> str:
    """The column of readings: one that its heading or unit says is a magnetic field, else the first of numbers."""
    numeric = []
    for column in raw.layout.columns:
        if column not in taken:
            values, odd = rawtable.numbers(raw.cells.column(column), raw.layout.decimal_comma)
            if np.isfinite(values).sum() > odd.sum():
                numeric.append(column)
    told = [c for c in numeric if told_by(c, raw.layout.unit_of(c)) == "magnetic field"]
    return next(iter((*told, *numeric)), "")


def over_midnight(time: FloatArray) -> FloatArray:
    """Return clock times (seconds of the day, in order) as seconds since the first midnight: a step back of hours is a new day."""
    known = np.flatnonzero(np.isfinite(time))
    steps = np.diff(time[known])
    out = time.copy()
    out[known] = time[known] + _DAY * np.concatenate([[0], np.cumsum(steps < -3600.0)])
    return out


def placed(record: BaseRecord, time: FloatArray, dated: bool, found: Findings) -> tuple[FloatArray, FloatArray]:
    """Return the times of a base record and of readings on one count of seconds.

    Where both have dates they are on one already. Where one has none, it is laid on the days on which most of the
    readings fall within the record; where neither has, readings count from the record's first midnight, on the day on
    which they fall within it.

    Parameters
    ----------
    time
        Of the readings, seconds: since 1970 when `dated`, else of the day; NaN unknown.

    Raises
    ------
    InputError
        When readings without dates could belong to several nights of the record.
    """
    start, end = float(record.time.min()), float(record.time.max())
    known = time[np.isfinite(time)]
    if record.dated and dated:
        return record.time, time
    if not len(known):
        return record.time, time
    if dated:
        first, last = np.floor(known.min() / _DAY) - 1, np.floor(known.max() / _DAY) + 1
        days = np.arange(first, last + 1)
        counts = [int(((known >= start + d * _DAY) & (known <= end + d * _DAY)).sum()) for d in days]
        best = int(np.argmax(counts))
        said = np.datetime_as_string(np.datetime64(int(days[best]), "D"))
        again = sum(c > 0.5 * counts[best] for c in counts) > 1
        found.add(
            "look" if again else "note",
            "the base record has no dates",
            f"laid from {said} on, where {counts[best]:,} of {len(known):,} readings fall within it",
            file=record.file,
            table="base",
        )
        return record.time + days[best] * _DAY, time
    origin = np.floor(start / _DAY) * _DAY
    nights = np.arange(0.0, np.floor((end - origin) / _DAY) + 1)
    fits = np.array([(time + origin + n * _DAY >= start) & (time + origin + n * _DAY <= end) for n in nights])
    if (fits.sum(axis=0) > 1).any():
        raise InputError(
            "the readings have no dates, and the base record goes over several nights",
            where=record.file,
            fix="Import the lines with their dates",
        )
    night = np.where(fits.any(axis=0), np.argmax(fits, axis=0), np.nan)
    return record.time, time + origin + night * _DAY

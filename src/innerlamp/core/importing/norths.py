"""Turning directions to grid north: each by its own heading, place and date, or by a declination that somebody typed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..compute.potential.mainfield import declinations
from ..crs import grid_convergences, parse_any, same_system, to_lonlat, transformers
from ..errors import InputError
from ..findings import Findings
from ..formats.tables.north_words import north_of
from ..local_grid import is_local, local_grid

North = Literal["auto", "grid", "true", "magnetic"]
ASKED = 30.0  # degrees: turns beyond it are asked about, since a system or a sign is likelier wrong


@dataclass(frozen=True)
class NorthRules:
    """How directions are turned: the user's choices, kept as parameters of the import.

    Attributes
    ----------
    north
        From which north they are; auto goes by each heading.
    date
        ISO date of all; '' for the rows' own, then the collars'.
    declination
        Degrees typed for all magnetic directions; None for none.
    by_name
        Degrees typed for a file or a hole, by its name in small letters; a hole's counts before its file's.
    system
        Of the table's coordinates, '' for the project's: directions from grid north are from that system's.
    """

    north: North = "auto"
    date: str = ""
    declination: float | None = None
    by_name: Mapping[str, float] = field(default_factory=dict)
    system: str = ""

    @classmethod
    def told(cls, north: North, date: str, declination: Sequence[str], system: str) -> NorthRules:
        """Return the rules that the parameters of an import say; see `typed` for declinations."""
        return cls(north, date, *typed(declination), system.strip())


def typed(words: Sequence[str]) -> tuple[float | None, dict[str, float]]:
    """Return the declination of all, and those by file or hole, that were typed: ``("11.5", "gyro.csv=10", "RC001=9.2")``.

    Raises
    ------
    InputError
        When one is no number of degrees.
    """
    whole: float | None = None
    by_name: dict[str, float] = {}
    for word in words:
        name, _, number = word.rpartition("=")
        try:
            value = float(number.strip().rstrip("°"))
        except ValueError:
            value = np.nan
        if not -180.0 <= value <= 180.0:
            raise InputError(
                f"'{word}' is no declination",
                fix="Write degrees, east positive: 11.5, or file or hole before it: RC001=11.5",
            )
        if name.strip():
            by_name[name.strip().lower()] = value
        else:
            whole = value
    return whole, by_name


def to_grid(
    directions: NDArray[np.float64],
    heading: str,
    places: pd.DataFrame,
    crs: str,
    rules: NorthRules,
    found: Findings,
    file: str,
    table: str,
    own: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """Return directions (n,) in degrees clockwise from grid north.

    A true direction less the grid's convergence there is one from grid north; a magnetic one plus the declination there and
    then, less the convergence.

    Parameters
    ----------
    places
        A row for each direction: hole ('' for none), x, y, z in metres, date (ISO, '' where it is not known).
    own
        Declinations (n,) that the table states itself; NaN where it does not.

    Raises
    ------
    InputError
        When directions are magnetic and neither a date nor a declination is known.
    """
    north = north_of(heading) or "grid" if rules.north == "auto" else rules.north
    known = np.isfinite(directions)
    if north == "grid" and rules.system and known.any():
        turn = _of_system(rules.system, crs, *(places[c].to_numpy(float) for c in "xy"))
        if np.nanmax(np.abs(turn[known]), initial=0.0) > 0.005:
            words = f"{_range(turn[known])} from there to the project's north added"
            found.add(
                "note",
                f"directions under '{heading}' are from the north of the table's grid",
                words,
                file=file,
                table=table,
            )
            return np.where(known, (directions + np.nan_to_num(turn)) % 360.0, directions)
        return directions
    if north == "grid" or not known.any():
        return directions
    x, y = (places[c].to_numpy(float) for c in "xy")
    usable = known & np.isfinite(x) & np.isfinite(y)
    if not usable.any():
        return directions
    turn = np.zeros(len(directions))
    turn[usable] = -grid_convergences(crs, x[usable], y[usable])
    said = [f"grid convergence {_range(-turn[usable])} taken off"]
    if north == "magnetic":
        added, words = _declination(places, usable, crs, rules, file, own)
        turn[usable] += added[usable]
        said.insert(0, words)
    far = usable & (np.abs(turn) > ASKED)
    found.add("note", f"directions under '{heading}' are from {north} north", ", ".join(said), file=file, table=table)
    if far.any():
        found.add(
            "look",
            f"directions under '{heading}' would be turned by {_range(turn[far])}",
            "turned; say north='grid' or a declination where that is not so",
            file=file,
            table=table,
            hole=np.unique(places["hole"].astype(str).to_numpy()[far]),
        )
    return np.where(known, (directions + turn) % 360.0, directions)


def _of_system(system: str, crs: str, x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Degrees from the project's north to that of another system, clockwise, at places of the project; 0 where it has none."""
    if is_local(system):
        turned = local_grid(system).azimuth
        return np.full(len(x), turned if turned <= 180.0 else turned - 360.0)
    if parse_any(system).is_geographic or same_system(system, crs):
        return np.zeros(len(x))
    forward, back = transformers(system, crs)
    a, b = back(x, y)
    e0, n0 = forward(np.asarray(a), np.asarray(b))
    e1, n1 = forward(np.asarray(a), np.asarray(b) + 100.0)
    return np.degrees(np.arctan2(np.asarray(e1) - e0, np.asarray(n1) - n0))


def _declination(
    places: pd.DataFrame,
    usable: NDArray[np.bool_],
    crs: str,
    rules: NorthRules,
    file: str,
    own: NDArray[np.float64] | None,
) -> tuple[NDArray[np.float64], str]:
    """Declination of each place, and in words where it is from."""
    count = len(places)
    out = np.full(count, np.nan)
    words = []
    if own is not None and np.isfinite(own).any():
        out = own.astype(float)
        words.append("the table's own")
    names = places["hole"].astype(str).str.lower().to_numpy(dtype=object)
    for_file = rules.by_name.get(file.lower(), rules.declination)
    if for_file is not None:
        out = np.full(count, for_file)
        words = ["typed"]
    by_hole = {n: v for n, v in rules.by_name.items() if n in set(names)}
    if by_hole:
        mine = np.array([n in by_hole for n in names])
        out[mine] = [by_hole[n] for n in names[mine]]
        words = list(dict.fromkeys([*words, "typed"]))
    rest = usable & ~np.isfinite(out)
    if rest.any():
        dates = places["date"].fillna("").astype(str).str[:10].to_numpy(dtype=object)
        if rules.date:
            dates = np.full(count, rules.date, dtype=object)
        stated = sorted(d for d in dates[usable] if d)
        if not stated:
            raise InputError(
                "directions are magnetic, and the date is not known",
                where=file,
                fix="Give it as 'date', such as 2024-05-17, or the declination",
            )
        middle = stated[len(stated) // 2]
        lacking = rest & (dates == "")
        dates[lacking] = middle
        lon, lat = to_lonlat(crs, places["x"].to_numpy(float), places["y"].to_numpy(float))
        height = places["z"].fillna(0.0).to_numpy(float)
        for date in np.unique(dates[rest].astype(str)):
            at = rest & (dates == date)
            out[at] = declinations(np.asarray(lon)[at], np.asarray(lat)[at], height[at], date)
        used = sorted(set(dates[rest]))
        span = used[0] if len(used) == 1 else f"{used[0]} to {used[-1]}"
        words.append(f"IGRF, {span}" + (f"; {middle} where no date is given" if lacking.any() else ""))
    return out, f"declination {_range(out[usable])} ({'; '.join(words)}) added"


def _range(values: NDArray[np.float64]) -> str:
    low, high = float(np.nanmin(values)), float(np.nanmax(values))
    return f"{low:.2f}°" if f"{low:.2f}" == f"{high:.2f}" else f"{low:.2f}° to {high:.2f}°"

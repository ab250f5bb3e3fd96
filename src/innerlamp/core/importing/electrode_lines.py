"""Electrodes of resistivity lines: read from tables, or laid out from numbers and spacings."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from ..errors import InputError
from ..findings import Findings
from ..formats.tables import tables_in
from .reading import mapped, number_column, system_of, to_project

_NUMBERS = ("electrode", "distance_m", "x", "y", "z", "buried_m")
_DEEP = 5.0  # metres below the ground surface from which an electrode counts as buried: heights differ by less
Ground = Callable[[np.ndarray, np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Layout:
    """Where lines lie whose electrodes have no coordinates; metres, azimuth in degrees from grid north."""

    spacing: float
    line_spacing: float
    east: float
    north: float
    azimuth: float

    def places(self, number: int, distance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return easting and northing at distances along the line of a number, counted from 0."""
        along = np.radians(self.azimuth)
        x = self.east + np.sin(along) * distance + np.cos(along) * self.line_spacing * number
        y = self.north + np.cos(along) * distance - np.sin(along) * self.line_spacing * number
        return x, y


def read_electrodes(
    files: Sequence[str],
    names: Mapping[str, str],
    mapping: Mapping[str, str],
    lines: Sequence[str],
    used: Mapping[str, np.ndarray],
    by_distance: bool,
    layout: Layout,
    ground: Ground | None,
    found: Findings,
    systems: tuple[str, str],
) -> pd.DataFrame:
    """Return the electrodes of all lines: line, electrode, distance_m, x, y, z, buried_m (depth below the ground).

    Lines without a table of electrodes are laid out from the numbers or distances in their readings;
    that is reported. Elevations that are missing are taken from the ground. `systems` are the system
    of the coordinates ('' for the project's) and the project's.
    """
    frames = [_from_file(file, names[file], mapping, lines, found, systems) for file in files]
    have = pd.concat(frames, ignore_index=True) if frames else pd.DataFrame({"line": pd.Series(dtype=object)})
    parts = []
    for number, line in enumerate(lines):
        mine = have[have["line"] == line]
        if len(mine):
            mine = mine.drop_duplicates("electrode").sort_values("electrode", kind="stable").reset_index(drop=True)
        else:
            mine = _laid_out(line, used[line], by_distance, layout.spacing)
            found.add(
                "look", f"line {line} has no table of electrodes", "laid out from the readings", table="electrodes"
            )
        distance = mine["distance_m"].to_numpy(float)
        placed = np.isfinite(mine["x"].to_numpy(float)) & np.isfinite(mine["y"].to_numpy(float))
        if not placed.all():
            if not np.isfinite(distance).all():
                distance = (mine["electrode"].to_numpy(float) - mine["electrode"].min()) * layout.spacing
            x, y = layout.places(number, distance)
            mine = mine.assign(x=x, y=y)
            found.add(
                "look",
                f"electrodes of line {line} have no coordinates",
                f"laid out towards {layout.azimuth:g}° from E {layout.east:.0f} N {layout.north:.0f}",
                table="electrodes",
            )
        if not np.isfinite(distance).all():
            steps = np.hypot(np.diff(mine["x"].to_numpy(float)), np.diff(mine["y"].to_numpy(float)))
            distance = np.concatenate([[0.0], np.cumsum(steps)])
        mine = mine.assign(distance_m=distance)
        z = mine["z"].to_numpy(float).copy()
        lacking = ~np.isfinite(z)
        if lacking.any():
            level = np.full(len(z), np.nan)
            if ground is not None:
                level = ground(mine["x"].to_numpy(float), mine["y"].to_numpy(float))
            z[lacking] = level[lacking]
            done = "taken from the ground surface" if np.isfinite(z).all() else "taken as 0 m"
            found.add(
                "mended", f"{int(lacking.sum())} electrodes of line {line} have no elevation", done, table="electrodes"
            )
            z = np.where(np.isfinite(z), z, 0.0)
        mine = mine.assign(z=z, buried_m=_buried(mine, z, ground, line, found))
        steps = np.diff(distance)
        if len(steps) and steps.max() > 1.6 * np.median(steps):
            found.add(
                "look",
                f"electrodes of line {line} have a gap of {steps.max():g} m where {np.median(steps):g} m is usual",
                "kept",
                table="electrodes",
            )
        parts.append(mine)
    strangers = sorted(set(have["line"]) - set(lines))
    if strangers:
        found.add(
            "look", "line has electrodes and no readings: " + ", ".join(strangers), "left out", table="electrodes"
        )
    out = pd.concat(parts, ignore_index=True)
    return out[["line", "electrode", "distance_m", "x", "y", "z", "buried_m"]].astype({"electrode": "int64"})


def _buried(mine: pd.DataFrame, z: np.ndarray, ground: Ground | None, line: str, found: Findings) -> np.ndarray:
    """Depths of electrodes below the ground in metres: as given, below the highest at the same place, or below the ground surface."""
    given = mine["buried_m"].to_numpy(float) if "buried_m" in mine.columns else np.full(len(mine), np.nan)
    depth = np.abs(given)
    place = mine[["x", "y"]].round(2).apply(tuple, axis=1)
    below = pd.Series(z).groupby(place.to_numpy()).transform("max").to_numpy(float) - z
    if ground is not None:
        level = ground(mine["x"].to_numpy(float), mine["y"].to_numpy(float)) - z
        below = np.where(level > _DEEP, np.maximum(below, level), below)
    depth = np.where(np.isfinite(depth), depth, below)
    if (depth > 0.5).any():
        found.add(
            "note",
            f"{int((depth > 0.5).sum())} electrodes of line {line} lie below the ground, down to {depth.max():.1f} m",
            "their images above the ground are part of the factors",
            table="electrodes",
        )
    return np.asarray(depth)


def _from_file(
    file: str, name: str, mapping: Mapping[str, str], lines: Sequence[str], found: Findings, systems: tuple[str, str]
) -> pd.DataFrame:
    raw = tables_in.read(file, found, "electrodes")
    role = mapped(raw, "electrodes", mapping)
    if "x" not in role and "distance_m" not in role:
        raise InputError("no column for easting and northing, or for distance along the line", where=raw.file)
    frame = pd.DataFrame(
        {c: number_column(raw, role[c]) if c in role else np.nan for c in _NUMBERS},
        index=range(len(raw.line)),
    )
    if {"x", "y"} <= set(role):
        source = system_of(systems[0], (role["x"], role["y"]), raw.layout.system)
        frame["x"], frame["y"] = to_project(
            frame["x"].to_numpy(float), frame["y"].to_numpy(float), source, systems[1], found, raw.file, "electrodes"
        )
    if "line" in role:
        frame["line"] = raw.text(role["line"]).fillna("").astype(str).str.strip()
    else:
        # One file for one line is that line's, whatever its name.
        frame["line"] = lines[0] if len(lines) == 1 else name
    if "electrode" not in role:
        frame["electrode"] = frame.groupby("line").cumcount() + 1.0
    number, x, y, along = (frame[c].to_numpy(float) for c in ("electrode", "x", "y", "distance_m"))
    bad = ~np.isfinite(number) | ~(np.isfinite(x + y) | np.isfinite(along))
    if bad.any():
        found.add(
            "left out",
            "number or place of the electrode is not a number",
            "row left out",
            file=raw.file,
            table="electrodes",
            line=raw.line[bad],
        )
    kept: pd.DataFrame = frame.loc[~bad]
    twice = kept.duplicated(["line", "electrode"]).to_numpy()
    if twice.any():
        found.add(
            "left out",
            "electrode stands a second time",
            "row left out",
            file=raw.file,
            table="electrodes",
            line=raw.line[~bad][twice],
        )
    return kept


def _laid_out(line: str, used: np.ndarray, by_distance: bool, spacing: float) -> pd.DataFrame:
    values = np.unique(np.round(used[np.isfinite(used)], 3))
    whole = np.allclose(values, np.round(values)) and values.max(initial=0) <= 4096
    whole = bool(whole and len(values) > 1 and np.median(np.diff(values)) == 1)
    if by_distance or not whole:
        return pd.DataFrame(
            {
                "line": line,
                "electrode": np.arange(1, len(values) + 1.0),
                "distance_m": values,
                "x": np.nan,
                "y": np.nan,
                "z": np.nan,
            }
        )
    number = np.arange(1.0, values.max() + 1.0)
    return pd.DataFrame(
        {
            "line": line,
            "electrode": number,
            "distance_m": (number - 1.0) * spacing,
            "x": np.nan,
            "y": np.nan,
            "z": np.nan,
        }
    )


def reversed_lines(electrodes: pd.DataFrame, lines: Sequence[str], found: Findings) -> pd.DataFrame:
    """Return electrodes in which some lines are counted from their other end; places stay, numbers turn round.

    Raises
    ------
    InputError
        When a line is not there.
    """
    known = list(pd.unique(electrodes["line"]))
    out = electrodes
    for line in lines:
        if line not in known:
            raise InputError(f"there is no line '{line}' to reverse", fix="There are: " + ", ".join(known))
        rows = (out["line"] == line).to_numpy()
        turned = out.loc[rows, ["distance_m", "x", "y", "z"]].iloc[::-1]
        turned["distance_m"] = turned["distance_m"].max() - turned["distance_m"] + turned["distance_m"].min()
        out = out.copy()
        out.loc[rows, ["distance_m", "x", "y", "z"]] = turned.to_numpy()
        found.add("mended", f"line {line} was counted from the other end", "reversed", table="electrodes")
    return out

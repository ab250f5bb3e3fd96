"""Importing resistivity surveys: tables of electrodes and of readings, one file a line or all together."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...compute.geometry.lines import line_names, natural
from ...compute.resistivity import arrays
from ...declaring.operation import Example, Inputs, Operation, Output, Params, Several, ground_slot, param
from ...errors import InputError
from ...findings import Findings, Severity
from ...formats.tables import tables_in
from ...importing import electrode_lines
from ...importing.detection import CellRules
from ...importing.reading import attributes, mapped, number_column
from ...items.base import Item
from ...items.electrodes import ElectrodeSurvey
from ...items.fields import Grid
from ...progress import Progress
from .ground import level_of
from .systems import system_of_table

# What instruments write where nothing was measured; common practice, no source.
DUMMIES = (-999.0, -9999.0, -99999.0, 9999.0, 99999.0, 999999.0, 1e30, -1e30)


Polarity = Literal["auto", "as given"]


class ImportResistivity(Params):
    readings: Several = param(
        ...,
        "Tables of readings",
        editor="files",
        help="a, b, m, n and resistance or apparent resistivity; one file a line, or all lines together with a line column. Several are parted by semicolons",
    )
    electrodes: Several = param(
        (),
        "Tables of electrodes",
        editor="files",
        help="Number, distance along the line, easting, northing, elevation. Matched to the readings by line column or file name",
    )
    name: str = param("Resistivity", "Name")
    columns: dict[str, dict[str, str]] = param(
        {},
        "Columns",
        editor="mapping",
        help="Table (readings, electrodes) to role to column; the rest is guessed from the headings",
    )
    positions: Literal["auto", "electrode numbers", "distances"] = param(
        "auto",
        "a, b, m, n are",
        help="Numbers of electrodes or metres along the line; auto compares them with the table of electrodes",
    )
    error_unit: Literal["auto", "%", "part of 1"] = param("auto", "Errors are in", more=True)
    polarity: Polarity = param(
        "auto",
        "Signs of resistances",
        help="auto: where a file states resistivities theirs count, and resistances that are all positive whatever the order of electrodes have none; as given: each has its own",
        more=True,
    )
    repeats: Literal["average", "keep all"] = param(
        "average", "Repeated readings", help="Readings of the same four electrodes"
    )
    reverse: Several = param(
        (),
        "Reversed lines",
        editor="lines",
        help="Lines whose electrodes were counted from the other end; several are parted by semicolons",
    )
    coordinates: str = system_of_table()
    spacing: float = param(
        10.0,
        "Electrode spacing",
        unit="m",
        above=0.0,
        more=True,
        help="Where there is no table of electrodes and a, b, m, n are numbers",
    )
    line_spacing: float = param(
        50.0,
        "Line spacing",
        unit="m",
        above=0.0,
        more=True,
        help="Where electrodes have no coordinates: lines lie side by side in the order of their names",
    )
    east: float = param(0.0, "First line starts at easting", unit="m", more=True)
    north: float = param(0.0, "First line starts at northing", unit="m", more=True)
    azimuth: float = param(90.0, "Lines run towards", unit="°", low=0.0, high=360.0, more=True)


def _stem(file: str) -> str:
    path, part = tables_in.split(file)
    return part or path.stem


def _scale(volts: str, amperes: str) -> float:
    """Return what voltage by current is multiplied by to be ohms; where one has no unit it is taken as of the other's size."""
    milli = {"mV": 1e-3, "mA": 1e-3, "V": 1.0, "A": 1.0}
    v, a = milli.get(volts), milli.get(amperes)
    return 1.0 if v is None or a is None else v / a


def read_readings(
    p: ImportResistivity, names: Mapping[str, str], found: Findings
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return all readings as they stand in the files, and the units of their further columns.

    Columns line, a, b, m, n, rho, resistance (ohm), error (%), file, file_line; chargeability with its error, and its
    windows and whatever else is numbers, as they are called in the files.
    """
    if not p.readings:
        raise InputError("no file of readings is named")
    frames = []
    units: dict[str, str] = {}
    for file in p.readings:
        raw = tables_in.read(file, found, "readings")
        role = mapped(raw, "resistivity", p.columns.get("readings", {}))
        if not {"rho", "resistance", "voltage"} & set(role):
            raise InputError(
                "no column for resistance or apparent resistivity",
                where=raw.file,
                fix="Choose it in the mapping; the columns are: " + ", ".join(raw.layout.columns),
            )
        frame = pd.DataFrame({r: number_column(raw, role[r]) for r in "abmn"})
        for name in ("rho", "resistance", "voltage", "current", "error", "stacked"):
            frame[name] = number_column(raw, role[name]) if name in role else np.nan
        for name in ("chargeability", "chargeability_error"):
            if name in role:
                frame[name] = number_column(raw, role[name])
                units[name] = raw.layout.unit_of(role[name])
        rest, rest_units = attributes(raw, {*role.values()}, CellRules(below="missing"), found, "readings")
        for name in rest.columns:
            if rest[name].dtype.kind == "f" and name not in frame:
                frame[name] = rest[name]
                units[name] = rest_units[name]
        if {"voltage", "current"} <= set(role):
            volts, amperes = (raw.layout.unit_of(role[n]) for n in ("voltage", "current"))
            frame["voltage"] *= _scale(volts, amperes)
            with np.errstate(divide="ignore", invalid="ignore"):
                ohms = frame["voltage"].to_numpy() / frame["current"].to_numpy()
            frame["resistance"] = frame["resistance"].fillna(pd.Series(np.where(np.isfinite(ohms), ohms, np.nan)))
        unit = p.error_unit
        if unit == "auto":
            known = frame["error"].dropna()
            unit = (
                "%"
                if "pct" in role.get("error", "").lower() or "%" in role.get("error", "") or known.max() > 1
                else "part of 1"
            )
        if "error" in role and unit == "part of 1":
            frame["error"] *= 100.0
            found.add("note", f"{role['error']} is a part of one", "multiplied by 100", file=raw.file, table="readings")
        frame["line"] = (
            raw.text(role["line"]).fillna("").astype(str).str.strip().to_numpy() if "line" in role else names[file]
        )
        frame["file"], frame["file_line"] = raw.file, raw.line
        frames.append(frame)
    return pd.concat(frames, ignore_index=True), units


def _told(
    found: Findings, severity: Severity, what: str | list[str], done: str, table: pd.DataFrame, rows: NDArray[Any]
) -> None:
    """Add a finding about rows (numbers or a mask) of readings, each with its file and line."""
    file, line = (table[c].to_numpy()[rows] for c in ("file", "file_line"))
    found.add(severity, what, done, file=file, table="readings", line=line)


def _without_dummies(frame: pd.DataFrame, found: Findings) -> pd.DataFrame:
    """Leave out readings that are none, each with its reason."""
    value = frame["rho"].where(frame["rho"].notna(), frame["resistance"]).to_numpy(float)
    abmn = frame[list("abmn")].to_numpy(float)
    empty: NDArray[np.bool_] = ~np.isfinite(value) | (np.isnan(abmn).sum(axis=1) > 0)
    dummy = ~empty & np.isin(value, DUMMIES)
    # 0 may be an electrode at infinity, of which there may be two; a place of 0 m used twice shows by its factor.
    numbers = np.where(np.isnan(abmn) | (abmn == 0), -1, np.round(abmn * 100)).astype(np.int64)
    twice = ~empty & ~dummy & arrays.impossible(numbers)
    nothing = ~empty & ~dummy & ~twice & (value == 0)
    unstacked = ~empty & ~dummy & ~twice & ~nothing & (frame["stacked"].to_numpy(float) == 0)
    for bad, what in (
        (empty, "reading or electrode is not a number"),
        (dummy, "value stands for no reading"),
        (twice, "one electrode stands twice: a filler, not a reading"),
        (nothing, "value is zero"),
        (unstacked, "reading has no stacks: a filler of the instrument"),
    ):
        if bad.any():
            _told(found, "left out", what, "row left out", frame, bad)
    kept: pd.DataFrame = frame.loc[~(empty | dummy | twice | nothing | unstacked)]
    return kept.reset_index(drop=True)


def _index(frame: pd.DataFrame, electrodes: pd.DataFrame, p: ImportResistivity, found: Findings) -> np.ndarray:
    """Return a, b, m, n as rows of the table of electrodes, -1 at infinity, -2 where there is no such electrode."""
    out = np.full((len(frame), 4), -2, dtype=np.int64)
    given = frame[list("abmn")].to_numpy(float)
    for line, rows in frame.groupby("line", sort=False).indices.items():
        mine = electrodes[electrodes["line"] == line]
        if not len(mine):
            continue
        number, distance = mine["electrode"].to_numpy(float), mine["distance_m"].to_numpy(float)
        values = given[rows]
        how = p.positions
        if how == "auto":
            finite = np.isfinite(values) & (values != 0)
            fits = [np.isin(np.round(values[finite], 3), np.round(k, 3)).sum() for k in (number, distance)]
            how = "electrode numbers" if fits[0] >= fits[1] else "distances"
        keys = number if how == "electrode numbers" else distance
        order = np.argsort(keys)
        place = np.clip(np.searchsorted(keys[order], values - 1e-3), 0, len(keys) - 1)
        near = np.abs(keys[order][place] - values) <= (1e-3 if how == "electrode numbers" else 0.05)
        hit = np.where(near, mine.index.to_numpy()[order][place], -2)
        if how == "electrode numbers":
            hit = np.where((values <= 0) & ~near, -1, hit)
        out[rows] = hit
    lost = (out == -2).any(axis=1)
    if lost.any():
        _told(found, "left out", "there is no such electrode", "row left out", frame, lost)
    return out


def _worked_out(frame: pd.DataFrame, at: np.ndarray, electrodes: pd.DataFrame) -> pd.DataFrame:
    """Return readings with factor, both forms of the value, and the place that each is drawn at."""
    xyz = electrodes[["x", "y", "z"]].to_numpy(float)
    level = np.where(np.isfinite(xyz), xyz, 0.0)
    factor = arrays.geometric_factor(level, at, electrodes["buried_m"].to_numpy(float))
    depth = arrays.median_depth(level, at)
    rho, ohms = frame["rho"].to_numpy(float), frame["resistance"].to_numpy(float)
    with np.errstate(invalid="ignore", divide="ignore"):
        ohms = np.where(np.isfinite(ohms), ohms, rho / factor)
        rho = np.where(np.isfinite(rho), rho, ohms * factor)
    known = at >= 0
    middle = np.where(known[..., None], xyz[np.where(known, at, 0)], np.nan)
    there = np.isfinite(middle)
    with np.errstate(invalid="ignore"):  # a reading whose electrodes have no place has none either
        centre = np.where(there, middle, 0.0).sum(axis=1) / there.sum(axis=1)
    numbers = np.where(known, electrodes["electrode"].to_numpy()[np.where(known, at, 0)], 0)
    out = pd.DataFrame({"line": frame["line"].to_numpy(), **{c: numbers[:, k] for k, c in enumerate("abmn")}})
    out["apparent_resistivity"], out["resistance"], out["error"] = rho, ohms, frame["error"].to_numpy(float)
    out["stacked"] = 1.0
    out["reciprocal_error"] = np.nan
    out["factor_m"], out["depth_m"] = factor, depth
    out["x"], out["y"], out["z"] = centre[:, 0], centre[:, 1], centre[:, 2] - depth
    for name in frame.columns:
        if name not in out.columns and name not in _OWN:
            out[name] = frame[name].to_numpy(float)
    out["file_line"] = frame["file_line"].to_numpy()
    out["file"] = frame["file"].to_numpy()
    return out


_APART = 0.1  # part by which a stated resistivity may differ from resistance times factor, such as by terrain


def _agreeing(table: pd.DataFrame, given: NDArray[np.bool_], polarity: Polarity, found: Findings) -> pd.DataFrame:
    """Return readings whose resistance, factor and apparent resistivity agree in sign; what is odd is said once.

    Many instruments write resistances without a sign, whatever the order of m and n: times the factor of that order they
    would be negative. A stated resistivity tells their sign; without one a survey that is wholly negative is a question.
    `given` tells which resistances stand in the file.
    """
    ohms, factor, rho = (table[c].to_numpy(float) for c in ("resistance", "factor_m", "apparent_resistivity"))
    computed = ohms * factor
    stated = np.isfinite(rho) & np.isfinite(computed) & ~np.isclose(rho, computed, rtol=1e-9)
    both = np.isfinite(rho) & np.isfinite(computed)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.where(stated, rho / computed, 1.0)
    opposite = both & (ratio < 0)
    turn = np.zeros(len(table), dtype=bool)
    if polarity == "as given":
        return table
    if 0 < opposite.sum() <= 0.5 * both.sum():  # a few: each is odd, and is looked at by itself
        words = [
            f"resistivity {r:.4g} is stated, {c:.4g} worked out"
            for r, c in zip(rho[opposite], computed[opposite], strict=True)
        ]
        _told(found, "look", words, "the one that is worked out is taken", table, opposite)
    elif opposite.any():
        turn = opposite
        what = f"{int(opposite.sum()):,} of {int(both.sum()):,} resistances have the opposite sign of the resistivity stated"
        found.add("mended", what, "the sign of the stated resistivity taken", table="readings")
    else:
        negative = np.isfinite(computed) & (computed < 0)
        mine = given & np.isfinite(computed)
        if (negative & mine).sum() >= 3 and (ohms[mine] > 0).all():
            turn = negative
            what = f"resistances are positive throughout, and the order of electrodes makes {int(negative.sum()):,} readings negative"
            found.add("look", what, "taken without sign; say polarity='as given' where they have one", table="readings")
        elif negative.sum() >= 0.9 * np.isfinite(computed).sum():
            turn = negative
            what = (
                f"{int(negative.sum()):,} of {int(np.isfinite(computed).sum()):,} apparent resistivities are negative"
            )
            done = "all taken with the opposite sign: voltage wires changed round? Say polarity='as given' where they are right"
            found.add("look", what, done, table="readings")
    size = np.abs(ratio)
    apart = both & (np.abs(np.log(np.where(size > 0, size, 1.0))) > np.log1p(_APART))
    if apart.any():
        if apart.sum() > 0.5 * both.sum():
            middle = float(np.median(size[apart]))
            what = f"{int(apart.sum()):,} stated resistivities are not resistance times factor (times {middle:.3g} in the middle)"
            done = "those worked out are taken: look at units, spacing and electrodes"
            found.add("look", what, done, table="readings")
        else:
            words = [
                f"resistivity {r:.4g} is stated, {c:.4g} worked out"
                for r, c in zip(np.abs(rho[apart]), np.abs(computed[apart]), strict=True)
            ]
            _told(found, "look", words, "the one that is worked out is taken", table, apart)
    ohms = np.where(turn, -ohms, ohms)
    return table.assign(resistance=ohms, apparent_resistivity=np.where(np.isfinite(ohms), ohms * factor, rho))


_OWN = ("line", "a", "b", "m", "n", "rho", "resistance", "voltage", "current", "error", "stacked", "file", "file_line")


def _same_sign(table: pd.DataFrame, number: np.ndarray, ohms: np.ndarray, found: Findings) -> np.ndarray:
    """Return resistances in which a repeat with the opposite sign has that of its fellows: wires were changed round.

    Of two that differ only by sign the one with a positive apparent resistivity is right.
    """
    rho = table["apparent_resistivity"].to_numpy(float)
    size = pd.Series(np.abs(ohms)).groupby(number).transform("median").to_numpy()
    some_positive = pd.Series(rho > 0).groupby(number).transform("any").to_numpy()
    turn = (rho < 0) & some_positive & (np.abs(np.abs(ohms) - size) <= 0.5 * size)
    if turn.any():
        _told(found, "mended", "repeat has the opposite sign of the others", "sign turned", table, turn)
    return np.where(turn, -ohms, ohms)


_MADE = (
    *("line", "a", "b", "m", "n", "apparent_resistivity", "resistance", "error", "stacked", "reciprocal_error"),
    *("factor_m", "depth_m", "x", "y", "z", "file_line", "file"),
)


def _joined(table: pd.DataFrame, at: np.ndarray, p: ImportResistivity, found: Findings) -> pd.DataFrame:
    """Return readings with repeats averaged and the error between reciprocals."""
    number, sign = arrays.same_array(at)
    ohms = table["resistance"].to_numpy(float) * sign
    ohms = _same_sign(table, number, ohms, found)
    table = table.assign(
        resistance=ohms * sign,
        apparent_resistivity=np.where(np.isfinite(ohms), ohms * sign * table["factor_m"], np.nan),
    )
    if p.repeats == "average":
        groups = pd.DataFrame({"k": number, "r": ohms}).groupby("k")["r"]
        count, mean, spread = groups.transform("count"), groups.transform("mean"), groups.transform("std")
        first = ~pd.Series(number).duplicated().to_numpy()
        many = first & (count > 1).to_numpy()
        if many.any():
            percent = 100.0 * (spread / mean.abs()).to_numpy()
            what = [
                f"array was read {n} times, spread {s:.1f} %" for n, s in zip(count[many], percent[many], strict=True)
            ]
            _told(found, "mended", what, "mean taken", table, many)
            error = table["error"].to_numpy(float)
            table = table.assign(
                resistance=np.where(many, mean * sign, table["resistance"]),
                apparent_resistivity=np.where(many, mean * sign * table["factor_m"], table["apparent_resistivity"]),
                error=np.where(many & ~(error > percent), percent, error),
                stacked=count.to_numpy(float),
            )
            others = [c for c in table.columns if c not in _MADE and table[c].dtype.kind == "f"]
            means = table[others].groupby(number).transform("mean")
            table = table.assign(**{c: means[c] for c in others})
        table, at = table[first].reset_index(drop=True), at[first]
    other, polarity = arrays.reciprocals(at)
    has = other >= 0
    if has.any():
        ohms = table["resistance"].to_numpy(float)
        apart = np.abs(ohms[has] - polarity[has] * ohms[other[has]])
        middle = 0.5 * np.abs(ohms[has] + polarity[has] * ohms[other[has]])
        values = np.full(len(table), np.nan)
        values[has] = 100.0 * apart / np.maximum(middle, 1e-300)
        table = table.assign(reciprocal_error=values)
        wide = np.flatnonzero(values > 10.0)
        _told(
            found,
            "look",
            [f"reading and its reciprocal differ by {v:.0f} %" for v in values[wide]],
            "both kept",
            table,
            wide,
        )
        found.add(
            "note",
            f"{int(has.sum())} readings have a reciprocal",
            f"median difference {np.nanmedian(values):.1f} %",
            table="readings",
        )
    return table


def _run(inputs: Inputs, p: ImportResistivity, progress: Progress) -> dict[str, Item]:
    found = Findings()
    progress(0.05, "Reading")
    names = dict(
        zip((*p.readings, *p.electrodes), line_names([_stem(f) for f in (*p.readings, *p.electrodes)]), strict=True)
    )
    everything, more_units = read_readings(p, names, found)
    frame = _without_dummies(everything, found)
    if not len(frame):
        raise InputError("the files hold no reading", where="; ".join(p.readings)[:80])
    ground = inputs.maybe("ground", Grid)

    progress(0.4, "Laying out")
    lines = sorted(pd.unique(frame["line"]), key=natural)
    layout = electrode_lines.Layout(p.spacing, p.line_spacing, p.east, p.north, p.azimuth)
    used = {str(line): rows[list("abmn")].to_numpy(float).ravel() for line, rows in frame.groupby("line")}
    electrodes = electrode_lines.read_electrodes(
        p.electrodes,
        names,
        p.columns.get("electrodes", {}),
        lines,
        used,
        p.positions == "distances",
        layout,
        level_of(ground) if ground is not None else None,
        found,
        (p.coordinates, inputs.crs),
    )
    electrodes = electrode_lines.reversed_lines(electrodes, p.reverse, found)
    at = _index(frame, electrodes, p, found)
    good: NDArray[np.bool_] = np.asarray((at > -2).all(axis=1))
    if not good.any():
        raise InputError(
            "no reading fits the electrodes",
            where="; ".join(p.readings)[:80],
            fix="Check whether a, b, m, n are numbers or distances, and the names of the lines",
        )
    progress(0.6, "Working out factors")
    frame, at = frame.loc[good].reset_index(drop=True), at[good]
    table = _worked_out(frame, at, electrodes)
    blind = ~np.isfinite(table["apparent_resistivity"].to_numpy()) | ~np.isfinite(table["factor_m"].to_numpy())
    if blind.any():
        _told(found, "left out", "the array sees no voltage over uniform ground", "row left out", table, blind)
    table, at = table[~blind].reset_index(drop=True), at[~blind]
    table = _agreeing(table, frame["resistance"].notna().to_numpy()[~blind], p.polarity, found)
    table = _joined(table, at, p, found)
    negative = (table["apparent_resistivity"] <= 0).to_numpy()
    if negative.any():
        _told(found, "look", "apparent resistivity is not positive", "kept", table, negative)
    progress(1.0, f"{len(lines)} lines, {len(table):,} readings")
    units = more_units | {
        "apparent_resistivity": "ohm.m",
        "resistance": "ohm",
        "error": "%",
        "reciprocal_error": "%",
        "factor_m": "m",
        "depth_m": "m",
        "stacked": "",
    }
    table = table.drop(columns="file")
    if table["reciprocal_error"].isna().all():
        table = table.drop(columns="reciprocal_error")
    return {
        "survey": ElectrodeSurvey(
            name=p.name, crs=inputs.crs, electrodes=electrodes, table=table, units=units, findings=found.frame()
        ).told_by_headings()
    }


OPERATION = Operation(
    name="import-resistivity",
    example=Example(
        {},
        {
            "readings": ["geophysics/resistivity_line_1.csv"],
            "electrodes": ["geophysics/resistivity_line_1_electrodes.csv"],
        },
    ),
    title="Import a resistivity survey",
    area="Data",
    help="Reads electrodes and readings of resistivity lines, leaves out what stands for no reading, averages repeats and compares reciprocals.",
    params=ImportResistivity,
    run=_run,
    inputs=(ground_slot("Gives electrodes their elevation where they have none"),),
    outputs=(Output("survey", "electrodes", "Electrode survey"),),
)

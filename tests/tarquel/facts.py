"""What must be true of Tarquel once its files are in, by whichever way: each fact with whether it holds."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import numpy as np
import pandas as pd

from innerlamp.api import Project
from innerlamp.core.elements import measured
from innerlamp.core.items.base import Item
from innerlamp.core.units import factor

from .make import E0, FOOT, N0, PLACE, level

Fact = tuple[str, bool]


def facts(project: Project) -> list[Fact]:
    """Return every fact by name, and whether it holds."""
    truth = json.loads((PLACE.parent / "tarquel_truth.json").read_text())
    items = {e.kind: project.store.load(e.id) for e in project.items}
    out = [("one item of each kind", sorted(items) == ["electrodes", "grid", "holes", "lines", "points"])]
    for part in (_holes, _assays, _logs):
        out += part(items["holes"], truth)
    out += _soils(items["points"], truth)
    out += _lines(items["lines"], truth)
    out += _electrodes(items["electrodes"])
    ground: Any = items["grid"]
    gx, gy = ground.places
    out.append(("ground in metres, from feet", bool(np.abs(ground.values - level(gx, gy)).max() < 0.01)))
    out.append(("ground is a ground", ground.is_ground and ground.unit == "m"))
    return out


def _said(item: Any, *words: str) -> int:
    """How many findings say all of some words."""
    text = item.findings["what"].astype(str) + " → " + item.findings["done"].astype(str)
    return int(np.logical_and.reduce([text.str.contains(w, regex=False) for w in words]).sum())


def _close(a: Any, b: Any, within: float = 1e-6) -> bool:
    a, b = np.asarray(a, dtype=float), np.asarray(b, dtype=float)
    return a.shape == b.shape and bool(np.allclose(a, b, rtol=within, atol=within, equal_nan=True))


def _holes(item: Any, truth: dict[str, Any]) -> Iterator[Fact]:
    collars = item.collars.set_index("hole")
    yield "12 holes", len(collars) == 12
    for h in truth["holes"]:
        swapped = h["hole"] == "TQ-011"
        place = (h["y"], h["x"]) if swapped else (h["x"], h["y"])
        yield f"collar of {h['hole']}", _close(collars.loc[h["hole"], ["x", "y"]], place, 0.01)
        yield f"elevation of {h['hole']}", _close(collars.loc[h["hole"], "z"], h["z"], 0.01)
        surveys = item.surveys[item.surveys["hole"] == h["hole"]]
        yield f"dip of {h['hole']}", _close(surveys["dip"], [h["dip"]] * 2)
        path = item.stations[item.stations["hole"] == h["hole"]].iloc[-1]
        a, d = np.radians(h["azimuth"]), np.radians(h["dip"])
        toe = np.array([*place, h["z"]]) + 50.0 * np.array([np.sin(a) * np.cos(d), np.cos(a) * np.cos(d), np.sin(d)])
        yield f"toe of {h['hole']}", _close(path[["x", "y", "z"]], toe, 0.02)
    yield "dates of ends", collars["date"].tolist() == [f"2023-05-{13 + k}" for k in range(12)]
    yield "swapped collar is named", _said(item, "changed round") == 1
    yield "angle of 128.5 is left out", _said(item, "128.5°", "row left out") == 1
    yield "letters of a code page", "Comentario" in item.tables["lithology"]


def _element(item: Any, element: str, unit: str) -> pd.Series:
    """The assays of an element in a unit, from the one column that holds them all."""
    table = item.tables["assay"]
    told = {c: measured(str(c), item.units.get(c, "")) for c in table if item.units.get(c)}
    mine = [c for c, m in told.items() if m is not None and m.element == element and not m.method]
    assert len(mine) == 1, mine
    keyed = table.set_index([table["hole"].astype(str), (table["to_m"] / 2.5).round().astype(int)])[mine[0]]
    return keyed * factor(item.units[mine[0]], unit)


def _assays(item: Any, truth: dict[str, Any]) -> Iterator[Fact]:
    table = item.tables["assay"]
    yield "240 intervals in one table", len(table) == 240
    grid = pd.MultiIndex.from_product([[f"TQ-{k + 1:03d}" for k in range(12)], range(1, 21)])

    def of(element: str, unit: str) -> np.ndarray:
        return _element(item, element, unit).reindex(grid).to_numpy().reshape(12, 20)

    gold, silver, copper = (np.array(truth[n]) for n in ("gold_gpt", "silver_gpt", "copper_ppm"))
    got = of("Au", "g/t")
    gold[8, 1] = np.nan
    yield "gold of ppb", _close(got[:6], gold[:6], 1e-3)
    yield "gold of g/t", _close(got[6:10], gold[6:10])
    yield "gold of fire assay first, else wet", _close(got[10:], gold[10:], 1e-3)
    yield "silver, below detection as half", _close(of("Ag", "ppm")[:10], silver[:10])
    got = of("Cu", "ppm")
    for hole, to, value in ((0, 3, 10_000.0), (7, 2, np.nan), (7, 3, np.nan)):
        yield f"copper of TQ-{hole + 1:03d} {to}", _close(got[hole, to], value)
        copper[hole, to] = got[hole, to]
    yield "copper of ppm, per cent and over the limit", _close(got, copper, 1e-3)
    zinc = np.array(truth["zinc_ppm"], dtype=float)
    yield "zinc with 1.250", _close(of("Zn", "ppm")[:6], zinc)
    yield "1.250 is pointed out", _said(item, "1.250", "1250") == 1
    over = int((np.array(truth["copper_ppm"])[:6] > 10_000).sum())
    yield "all above the limit are named", _said(item, "Cu '>10000' is above the limit") == over
    yield "below detection is counted", _said(item, "Ag '<0,5' is below detection") == 100
    for code, count in (("LNR", 1), ("NSS", 1)):
        yield f"code {code}", _said(item, f"'{code}' stands for no value") == count
    yield "-9 % is no copper", _said(item, "'-9' stands for no value", "left empty") == 2
    labs = table.groupby(table["hole"].astype(str))["laboratory"].first()
    yield "laboratory of a column", labs["TQ-007"] == "Labo Sud"
    yield "laboratory of a file", "lab norte" in labs["TQ-002"] and "third lab" in labs["TQ-012"]
    batches = table.groupby(table["hole"].astype(str))["batch"].first()
    yield "batches", batches["TQ-008"] == "LS-7"
    yield "an interval of two laboratories is one", _said(item, "as well", "one row") == 1
    methods = table["Au method"][table["hole"].astype(str) == "TQ-011"]
    yield "method of each gold", methods.tolist() == (["FA"] * 4 + ["AA"]) * 4
    row = table[(table["hole"].astype(str) == "TQ-005") & (table["to_m"] == 20.0)].iloc[0]
    yield "overlap trimmed", row["from_m"] == 17.5
    files = {"analyses_labo_sud.csv": 81, "leyes_lab_norte.csv": 120, "assays_third_lab.xlsx": 40}
    yield "rows in are rows kept or reported", sum(files.values()) == len(table) + 1


def _logs(item: Any, _: dict[str, Any]) -> Iterator[Fact]:
    lith = item.tables["lithology"]
    yield "log in metres", _close(lith["to_m"].to_numpy()[:3], [12.5, 30.0, 50.0], 1e-3)
    yield "codes with blanks and slashes", set(lith["Litología"]) == {"AND / BX", "PORF 1", "AND"}
    yield "free text kept", str(lith["Comentario"].iloc[0]).startswith("roca fresca, vetilla")
    for name in ("recovery", "density", "alteration", "weathering"):
        yield f"table {name}", name in item.tables
    yield "recovery of 112 %", _said(item, "'112' is 112 % of the interval") == 1
    yield "RQD above recovery", _said(item, "'85' is above") == 1
    yield "density of 26.9", _said(item, "'26.9' is no density of rock") == 1
    yield "accents", set(item.tables["alteration"]["Altération"]) == {"séricite"}
    logs = item.readings["logs"]
    yield "logs of both holes in one table", sorted(set(logs["hole"].astype(str))) == ["TQ-001", "TQ-002"]
    yield "log depths from feet", _close(logs["depth_m"].to_numpy()[:6], 5.0 * FOOT * np.arange(6))
    yield "units of curves", (item.units["MSUS (10-3SI)"], item.units["GAMA (CPS)"]) == ("10-3SI", "CPS")
    yield "null of a curve", bool(np.isnan(logs["GAMA (CPS)"].iloc[2]))


def _soils(item: Any, truth: dict[str, Any]) -> Iterator[Fact]:
    table = item.table
    yield "60 samples", len(table) == 60
    yield "gold in soil", _close(table["Or (ppb)"], truth["soil_gold_ppb"])
    yield "its unit", item.units["Or (ppb)"] == "ppb" and item.attributes["Or (ppb)"].quantity == "grade"
    yield "arsenic with codes", _close(table["As (ppm)"], np.array(truth["soil_arsenic_ppm"], dtype=float))
    yield "-99 is asked about", _said(item, "'-99' stands for no value") == 2
    yield "-5 is below detection", _said(item, "'-5' is a code for below detection") == 8
    yield "swapped sample is named", _said(item, "changed round") == 1


def _lines(item: Any, truth: dict[str, Any]) -> Iterator[Fact]:
    table = item.table
    yield "400 readings of 4 lines", len(table) == 400 and table["line"].nunique() == 4
    yield "sensor in metres", _close(table["z"], level(table["x"], table["y"]) + 90.0, 0.05)
    yield "zeros are gaps", np.flatnonzero(table["Mag (nT)"].isna()).tolist() == truth["zeros"]
    yield "date of survey", item.date == "2023-05-17"
    yield "over midnight", set(table["date"]) == {"2023-05-17", "2023-05-18"}


def _electrodes(item: Any) -> Iterator[Fact]:
    table = item.table
    yield "80 readings", len(table) == 80
    yield "uniform ground", _close(table["apparent_resistivity"], np.full(80, 120.0), 1e-4)
    yield "chargeability kept", _close(table["chargeability"].to_numpy()[:4], [13, 14, 15, 16])
    yield "its error kept", _close(table["chargeability_error"], np.full(80, 0.4))
    yield "its unit", item.attributes["chargeability"].unit == "mV/V"
    yield "filler left out", _said(item, "value is zero") == 1


def corrected(project: Project, lines: str) -> list[Fact]:
    """Take spikes out and the daily variation off, and return whether that gives the field."""
    truth = json.loads((PLACE.parent / "tarquel_truth.json").read_text())
    project.run("exclude-spikes", lines=lines, attribute="Mag (nT)")
    item: Any = project[lines]
    empty = np.flatnonzero(item.table["Mag (nT)"].isna()).tolist()
    project.run(
        "diurnal-correction", lines=lines, attribute="Mag (nT)", base=str(PLACE / "mag" / "base.txt"), datum=23_500.0
    )
    item = project[lines]
    made = item.table["Mag (nT) corrected"].to_numpy()
    known = np.isfinite(made)
    return [
        ("spikes, and no steep anomaly", empty == sorted(truth["spikes"] + truth["zeros"])),
        ("field without the daily variation", bool(np.abs(made - np.array(truth["field_nT"]))[known].max() < 0.02)),
        ("the gap of the base is said", _said(item, "gap of the base record") > 0),
        ("the end of the base is said", int((~known).sum()) > len(empty)),
        ("the base is laid on its night", _said(item, "laid from 2023-05-17 on") == 1),
    ]


def of_kind(project: Project, kind: str) -> Item:
    return next(project.store.load(e.id) for e in project.items if e.kind == kind)


__all__ = ["E0", "N0", "corrected", "facts", "of_kind"]

"""Drillholes in two phases: collars, surveys, assays, logs; the first phase has the clerical errors."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from ...core.compute.drilling.desurvey import Path as HolePath
from ...core.compute.drilling.desurvey import desurvey, locate
from .. import truth as t
from ..truth import FloatArray
from .noting import Planted, cells, chance

_ACROSS = t.VEIN_STRIKE - 90.0 + 360.0  # holes look across the veins, to the north-west
CONTAMINATED = ("EMB022", "EMB023")  # holes of the batch that carried tin over from sample to sample
_SCOUTS = (
    (900.0, 3_450.0, 180.0, -70.0, 220.0),  # an old showing in the west: nothing
    (4_900.0, 3_330.0, 20.0, -65.0, 260.0),  # a magnetic high: the gabbro, barren
    (2_640.0, 3_300.0, 290.0, -60.0, 240.0),  # a conductor: the graphitic slate, barren
    (3_075.0, 3_860.0, 60.0, -75.0, 190.0),  # beside the lens: faint tungsten and arsenic, no tin
    (4_400.0, 700.0, 250.0, -70.0, 200.0),
    (2_300.0, 1_150.0, 300.0, -60.0, 230.0),
)
_EAST_FLANK = ((2_380.0, 2_350.0), (2_480.0, 2_460.0), (2_440.0, 2_580.0), (2_300.0, 2_180.0))
_WORDS = {
    "TILL": ("boulder till", "sandy till"),
    "CLAY": ("soft white clay", "clay, relic slaty cleavage"),
    "SLATE": ("grey slate", "spotted slate", "slate with quartz veinlets"),
    "CARB": ("marble", "banded marble"),
    "SKARN": ("pyrrhotite skarn", "garnet-pyrrhotite skarn, chalcopyrite"),
    "GRAN": ("coarse granite", "muscovite granite"),
    "GREIS": ("quartz-muscovite greisen, cassiterite", "greisen vein, wolframite blades"),
    "PORPH": ("quartz porphyry",),
    "QTZT": ("white quartzite", "grey quartzite, thin slate partings"),
    "GRSL": ("black graphitic slate, pyrite", "graphitic slate, sheared"),
    "GABB": ("medium-grained gabbro", "gabbro, magnetite"),
    "DOLR": ("fine dolerite, chilled margins",),
}
ALTERED = {"GREIS": "greisen", "GRAN": "sericite", "CLAY": "kaolin", "SKARN": "garnet-pyroxene", "PORPH": "sericite"}


@dataclass
class Hole:
    """A hole as it was drilled: its name, collar, depth, true path and the rock along it every 0.2 m."""

    name: str
    phase: int
    collar: FloatArray
    depth: float
    path: HolePath
    stations: pd.DataFrame
    steps: FloatArray
    places: FloatArray
    codes: np.ndarray

    def runs(self) -> list[tuple[float, float, str]]:
        """From, to and code of the rocks along the hole."""
        edges = np.flatnonzero(np.diff(self.codes)) + 1
        tops = np.round(np.concatenate([[0.0], self.steps[edges] - 0.1]), 1)
        first = np.concatenate([[0], edges])
        ends = np.append(tops[1:], self.depth)
        return [
            (float(a), float(b), t.CODES[self.codes[k]])
            for a, b, k in zip(tops, ends, first, strict=True)
            if b - a > 0.05
        ]


def drilled() -> list[Hole]:
    """All holes, in the order of their numbers."""
    rng = chance("holes")
    return [_drill(number, plan, rng) for number, plan in enumerate(_plans(rng), start=1)]


def _plans(rng: np.random.Generator) -> list[dict[str, float]]:
    plans: list[dict[str, float]] = []
    along, across = np.radians(t.VEIN_STRIKE), np.radians(t.VEIN_STRIKE - 90)

    def add(x: float, y: float, azimuth: float, dip: float, depth: float, phase: int) -> None:
        plans.append({"x": x, "y": y, "azimuth": azimuth, "dip": dip, "depth": depth, "phase": phase})

    def fence(u: float, v: float) -> tuple[float, float]:
        return (
            t.APEX[0] + u * np.sin(along) - v * np.sin(across),
            t.APEX[1] + u * np.cos(along) - v * np.cos(across),
        )

    for i, u in enumerate(np.linspace(-330, 330, 9)):
        for v in (-150, -20, 110, 240):
            if (i % 2 == 1 and v == 240) or (abs(u) > 300 and v == 110):
                continue
            add(*fence(u, v), _ACROSS, rng.choice([-55, -60, -65]), rng.choice([180, 220, 260, 300]), 1)
    for x, y in _EAST_FLANK:
        add(x, y, rng.choice([250.0, 270.0, 290.0]), rng.choice([-60, -70, -80]), rng.choice([280, 340]), 1)
    for x, y, azimuth, dip, depth in _SCOUTS:
        add(x, y, azimuth, dip, depth, 1)
    for k in range(20):
        if k < 15:
            x, y = fence(rng.uniform(-400, 380), rng.uniform(-200, 330))
        else:  # a few towards the east flank; none across the fault
            x, y = t.APEX[0] + rng.uniform(200, 380), t.APEX[1] + rng.uniform(-420, 120)
        add(x, y, _ACROSS + rng.uniform(-8, 8), rng.choice([-55, -62, -70]), rng.choice([240, 300, 380]), 2)
    return plans


def _drill(number: int, plan: dict[str, float], rng: np.random.Generator) -> Hole:
    x, y = round(plan["x"] + rng.normal(0, 4), 2), round(plan["y"] + rng.normal(0, 4), 2)
    collar = np.array([x, y, round(float(t.ground(np.array(x), np.array(y))), 2)])
    depth = round(float(plan["depth"] + rng.uniform(-15, 20)), 1)
    at = np.unique(np.append(np.arange(0, depth, 30.0), round(depth - 1.5, 1)))
    azimuth = np.round((plan["azimuth"] + np.cumsum(rng.normal(0.25, 0.45, len(at)))) % 360, 1)
    lift = np.cumsum(rng.normal(0.22, 0.3, len(at)))
    dip = np.asarray(np.round(np.clip(plan["dip"] + lift, -89.0, -5.0), 1), dtype=np.float64)
    path = desurvey(collar[None], np.array([depth]), np.zeros(len(at), np.int64), at, azimuth, dip)
    steps = np.arange(0.1, depth, 0.2)
    p = locate(path, np.zeros(len(steps), np.int64), steps)
    stations = pd.DataFrame({"at": at, "azimuth": azimuth, "dip": dip})
    codes = t.rock(p[:, 0], p[:, 1], p[:, 2])
    return Hole(f"EMB{number:03d}", int(plan["phase"]), collar, depth, path, stations, steps, p, codes)


def write(folder: Path, holes: list[Hole], planted: Planted) -> None:
    """Write collars, surveys, assays and logs of both phases; the second phase went to another laboratory."""
    for phase, name in ((1, "drilling"), (2, "drilling_second_phase")):
        chosen = [h for h in holes if h.phase == phase]
        rng = chance(name)
        collar, survey, assay, log = _collars(chosen), _surveys(chosen), _assays(chosen, rng), _logs(chosen, rng)
        if phase == 1:
            assay = _plant(collar, survey, assay, log, planted)
        else:
            assay = _other_laboratory(assay)
        collar.to_csv(folder / name / "collars.csv", index=False)
        survey.to_csv(folder / name / "downhole_surveys.csv", index=False, sep=";")
        assay.to_csv(folder / name / "assays.csv", index=False)
        log.to_csv(folder / name / "geology_log.csv", index=False)


def _collars(holes: list[Hole]) -> pd.DataFrame:
    rows = []
    for order, hole in enumerate(holes):
        date = pd.Timestamp("2022-04-04" if hole.phase == 1 else "2023-05-15") + pd.Timedelta(days=5 * order)
        written = date.strftime("%d/%m/%Y") if hole.phase == 1 and order in (3, 11, 27) else date.strftime("%Y-%m-%d")
        x, y, z = hole.collar
        rows.append(
            (
                hole.name,
                round(x + t.ORIGIN[0], 2),
                round(y + t.ORIGIN[1], 2),
                z,
                hole.depth,
                written,
                "Rig 2" if order % 2 else "Rig 1",
            )
        )
    return pd.DataFrame(rows, columns=["HOLE_ID", "East (m)", "North (m)", "RL (m)", "EOH (m)", "Date drilled", "Rig"])


def _surveys(holes: list[Hole]) -> pd.DataFrame:
    whole = pd.concat([h.stations.assign(hole=h.name, dip=-h.stations["dip"]) for h in holes], ignore_index=True)
    whole = whole[["hole", "at", "azimuth", "dip"]]
    return whole.set_axis(["Hole", "Depth", "Azi grid", "Dip"], axis=1)


def _logs(holes: list[Hole], rng: np.random.Generator) -> pd.DataFrame:
    rows = [(h.name, a, b, code, str(rng.choice(_WORDS[code]))) for h in holes for a, b, code in h.runs()]
    return pd.DataFrame(rows, columns=["Hole", "Depth from", "Depth to", "Rock", "Remark"])


def _assays(holes: list[Hole], rng: np.random.Generator) -> pd.DataFrame:
    rows = []
    sample = 10_000 * holes[0].phase
    for hole in holes:
        expected = t.grades(hole.places[:, 0], hole.places[:, 1], hole.places[:, 2])
        at, carried = 4.0, 0.0
        while at < hole.depth - 0.5:
            end = min(at + float(rng.choice([1.0, 1.5, 2.0, 2.0, 2.0])), hole.depth)
            inside = (hole.steps >= at) & (hole.steps < end)
            grade = {k: v[inside].mean() if inside.any() else 0.0 for k, v in expected.items()}
            # Barren rock is sampled only here and there.
            if grade["Sn"] > 40 or grade["Cu"] > 0.05 or rng.random() < 0.55:
                sample += 1
                common = rng.normal(0, 0.45)
                sn, w, arsenic, bi = (grade[k] * np.exp(common + rng.normal(0, 0.35)) for k in ("Sn", "W", "As", "Bi"))
                cu, zn = grade["Cu"] * np.exp(rng.normal(0, 0.4)), grade["Zn"] * np.exp(rng.normal(0, 0.3))
                if hole.name in CONTAMINATED:  # a mill that was not cleaned: some of the last sample's tin
                    sn, carried = sn + 0.06 * carried + 35.0 * np.exp(rng.normal(0, 0.3)), sn
                rows.append((hole.name, round(at, 1), round(end, 1), f"EM{sample}", sn, w, cu, arsenic, zn, bi))
            at = end
    table = pd.DataFrame(
        rows,
        columns=["BHID", "From", "To", "Sample", "Sn_ppm", "W_ppm", "Cu_pct", "As_ppm", "Zn_ppm", "Bi_ppm"],
    )
    return _written(table)


def _written(table: pd.DataFrame) -> pd.DataFrame:
    """Grades as the first laboratory writes them."""
    out = table.astype(dict.fromkeys(table.columns[4:], object))
    for column, limit, digits in (("Sn_ppm", 5.0, 0), ("W_ppm", 2.0, 0)):
        out[column] = cells(table[column].to_numpy(), limit, digits)
    for column, digits in (("Cu_pct", 3), ("As_ppm", 0), ("Zn_ppm", 0), ("Bi_ppm", 1)):
        out[column] = [f"{v:.{digits}f}" for v in table[column].to_numpy()]
    return out


def _other_laboratory(table: pd.DataFrame) -> pd.DataFrame:
    """Grades as the second laboratory writes them: tin in percent, copper in ppm, numbers of its own."""
    sn = table["Sn_ppm"].str.lstrip("<").astype(float)
    low = table["Sn_ppm"].str.startswith("<")
    out = table.drop(columns=["Sn_ppm", "Cu_pct"])
    out.insert(
        4, "Sn_pct", [f"<{v / 1e4:.4f}" if is_low else f"{v / 1e4:.4f}" for v, is_low in zip(sn, low, strict=True)]
    )
    out.insert(6, "Cu_ppm", [f"{1e4 * float(v):.0f}" for v in table["Cu_pct"]])
    return out


def _plant(
    collar: pd.DataFrame, survey: pd.DataFrame, assay: pd.DataFrame, log: pd.DataFrame, planted: Planted
) -> pd.DataFrame:
    """Put the clerical errors into the first phase; returns the assays, the others are changed in place."""
    name = str(collar.at[6, "HOLE_ID"])
    planted.note("collars.csv", 6, "trailing space", name)
    collar.at[6, "HOLE_ID"] = name + " "
    bare = str(collar.at[38, "HOLE_ID"])
    assay = assay[assay["BHID"] != bare].reset_index(drop=True)
    planted.note("assays.csv", None, "no assay rows", bare)
    assay.at[2, "Sn_ppm"] = "<0.5"

    row = int(np.flatnonzero(survey["Hole"] == "EMB012")[-1])
    depth = float(collar.loc[collar["HOLE_ID"] == "EMB012", "EOH (m)"].iloc[0])
    planted.note("downhole_surveys.csv", row, "survey beyond end of hole", "EMB012")
    survey.at[row, "Depth"] = round(depth + 21.5, 1)

    row = int(np.flatnonzero(assay["BHID"] == "EMB009")[20])
    planted.note("assays.csv", row, "overlapping interval", "EMB009")
    assay.at[row, "From"] = round(assay["To"].to_numpy(float)[row - 1] - 0.6, 1)
    row = int(np.flatnonzero(assay["BHID"] == "EMB017")[12])
    planted.note("assays.csv", row, "reversed interval", "EMB017")
    start, stop = (assay[c].to_numpy(float)[row] for c in ("From", "To"))
    assay.at[row, "From"], assay.at[row, "To"] = float(stop), float(start)
    row = int(np.flatnonzero(assay["BHID"] == "EMB021")[5])
    planted.note("assays.csv", row, "not a number", "EMB021")
    assay.at[row, "Sn_ppm"] = "insuff."
    planted.below("assays.csv", assay, ["Sn_ppm", "W_ppm"], "BHID")

    row = int(np.flatnonzero(log["Hole"] == "EMB004")[1])
    planted.note("geology_log.csv", row, "hole without collar", "EMB044X")
    log.at[row, "Hole"] = "EMB044X"
    row = int(np.flatnonzero(log["Hole"] == "EMB015")[2])
    planted.note("geology_log.csv", row, "hole written differently", "EMB-015")
    log.at[row, "Hole"] = "EMB-015"
    for row in map(int, np.flatnonzero(collar["Date drilled"].str.contains("/"))):
        planted.note("collars.csv", row, "day-first date", str(collar.at[row, "HOLE_ID"]).strip())
    return assay

"""What else lies in the folder of the prospect: the laboratory's control samples and a scanned map."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np
import pandas as pd

from . import truth as t
from .making.noting import Planted

# Place of the scanned map: turned by 1.4 degrees, on paper that shrank by half a percent across.
_SCALE, _TURN, _SHRUNK = 4.6, 1.4, 0.995
_PIXELS = (640, 780)
_SHEET = (600.0, 1_200.0, 3_800.0, 3_800.0)  # what the old surveyor mapped: west, south, east, north
_TOP_LEFT = (470.0, 3_990.0)
CROSSES = ((900.0, 1_700.0), (2_900.0, 1_700.0), (2_900.0, 3_200.0), (900.0, 3_200.0), (1_900.0, 2_700.0))

# Watercolours of the old sheet.
_TINTS = {
    "TILL": (238, 232, 205),
    "CLAY": (226, 214, 190),
    "SLATE": (205, 212, 214),
    "CARB": (196, 214, 231),
    "SKARN": (222, 190, 180),
    "GRAN": (240, 205, 200),
    "GREIS": (232, 214, 160),
    "PORPH": (214, 190, 220),
    "QTZT": (240, 228, 176),
    "GRSL": (168, 170, 178),
    "GABB": (188, 206, 184),
    "DOLR": (172, 192, 168),
}


def controls(folder: Path, planted: Planted) -> None:
    """Standards, blanks and duplicates of the first phase: one standard drifts, one result, one blank and one pair are wrong."""
    rng = np.random.default_rng(77)
    assays = pd.read_csv(folder / "assays.csv", dtype=str)
    samples = assays[pd.to_numeric(assays["Sn_ppm"], errors="coerce") > 40].reset_index(drop=True)
    rows: list[dict[str, object]] = []
    certified = {"LOW-1": (118.0, 4.5), "HIGH-2": (2_140.0, 62.0)}
    for number in range(48):
        date = (pd.Timestamp("2022-05-02") + pd.Timedelta(days=4 * number)).strftime("%Y-%m-%d")
        batch = f"B{220 + number // 4}"
        name = "LOW-1" if number % 2 else "HIGH-2"
        value, sd = certified[name]
        sn = value + rng.normal(0, 0.8 * sd)
        if name == "HIGH-2":
            sn += sd * 3.4 * (number / 48.0 - 0.5)  # a slow drift upward
        rows.append(
            {
                "Sample": f"QC{1000 + 3 * number}",
                "QC type": "Standard",
                "Standard": name,
                "Original": "",
                "Batch": batch,
                "Date": date,
                "Sn_ppm": round(sn, 1),
                "accepted Sn_ppm": value,
                "deviation Sn_ppm": sd,
            }
        )
        rows.append(
            {
                "Sample": f"QC{1001 + 3 * number}",
                "QC type": "Blank",
                "Standard": "",
                "Original": "",
                "Batch": batch,
                "Date": date,
                "Sn_ppm": "<5" if rng.uniform() < 0.8 else round(rng.uniform(5, 8), 1),
            }
        )
        twin = samples.iloc[(37 * number) % len(samples)]
        again = float(twin["Sn_ppm"]) * float(np.exp(rng.normal(0, 0.07)))
        rows.append(
            {
                "Sample": f"QC{1002 + 3 * number}",
                "QC type": "Duplicate",
                "Standard": "",
                "Original": twin["Sample"],
                "Batch": batch,
                "Date": date,
                "Sn_ppm": round(again, 1),
            }
        )

    def plant(row: int, value: float, what: str) -> None:
        rows[row]["Sn_ppm"] = value
        planted.note("control_samples.csv", row, what)

    plant(3 * 21, 149.0, "standard outside three deviations")
    for number, value in ((28, 44.0), (29, 58.0), (30, 61.0), (31, 37.0)):  # the contaminated batch
        plant(3 * number + 1, value, "blank above its limit")
    plant(3 * 12 + 2, round(float(samples.iloc[(37 * 12) % len(samples)]["Sn_ppm"]) * 2.4, 1), "duplicate apart")
    for number, row in enumerate(rows):
        if str(row["Sn_ppm"]).startswith("<"):
            planted.note("control_samples.csv", number, "below detection")
    planted.note("control_samples.csv", None, "standard drifts", value="HIGH-2")
    pd.DataFrame(rows).to_csv(folder / "control_samples.csv", index=False)


def to_pixels(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return column and row of the scanned map at local coordinates."""
    a = np.radians(_TURN)
    u, v = np.asarray(x) - _TOP_LEFT[0], _TOP_LEFT[1] - np.asarray(y)
    col = (u * np.cos(a) + v * np.sin(a)) / _SCALE * _SHRUNK
    row = (-u * np.sin(a) + v * np.cos(a)) / _SCALE
    return col, row


def scanned_map(folder: Path) -> None:
    """An old geological map on yellowed paper, without any place of its own but crosses of its grid."""
    import rasterio

    rng = np.random.default_rng(78)
    rows, columns = _PIXELS
    col, row = np.meshgrid(np.arange(columns) + 0.5, np.arange(rows) + 0.5)
    a = np.radians(_TURN)
    p, q = col * _SCALE / _SHRUNK, row * _SCALE
    x, y = _TOP_LEFT[0] + p * np.cos(a) - q * np.sin(a), _TOP_LEFT[1] - (p * np.sin(a) + q * np.cos(a))
    code = t.rock(x, y, t.bedrock(x, y) - 45.0)
    tints = np.array([_TINTS[name] for name in t.CODES])
    west, south, east, north = _SHEET
    inside = (x > west) & (x < east) & (y > south) & (y < north)
    paper = np.array((244, 237, 214))
    rgb = np.where(inside[..., None], tints[code], paper).astype(float)
    edge = np.zeros(code.shape, dtype=bool)
    edge[:-1] |= (code[:-1] != code[1:]) & inside[:-1]
    edge[:, :-1] |= (code[:, :-1] != code[:, 1:]) & inside[:, :-1]
    frame = inside & ((x < west + 8) | (x > east - 8) | (y < south + 8) | (y > north - 8))
    rgb[edge | frame] = (72, 62, 52)
    for cx, cy in CROSSES:
        near = ((np.abs(x - cx) < 4) & (np.abs(y - cy) < 45)) | ((np.abs(y - cy) < 4) & (np.abs(x - cx) < 45))
        rgb[near] = (30, 26, 22)
    rgb += rng.normal(0, 4.0, (rows, columns, 1)) + 6.0 * np.sin(col / 190.0 + row / 260.0)[..., None]
    pixels = np.moveaxis(np.clip(rgb, 0, 255).astype(np.uint8) // 8 * 8, -1, 0)
    target = folder / "scanned_map.png"
    with (
        warnings.catch_warnings(action="ignore"),
        rasterio.open(target, "w", driver="PNG", width=columns, height=rows, count=3, dtype="uint8") as out,
    ):
        out.write(pixels)
    target.with_suffix(".png.aux.xml").unlink(missing_ok=True)


def picked_points() -> list[list[float]]:
    """The crosses of the scanned map as a person picks them, to half a pixel: col, row, easting, northing."""
    slips = ((0.3, -0.2), (-0.4, 0.3), (0.2, 0.4), (-0.3, -0.4), (0.4, 0.1))
    out = []
    for (x, y), (dc, dr) in zip(CROSSES, slips, strict=True):
        col, row = to_pixels(np.array(x), np.array(y))
        out.append([round(float(col) + dc, 1), round(float(row) + dr, 1), t.ORIGIN[0] + x, t.ORIGIN[1] + y])
    return out

"""Photographs of core boxes: three rows of a metre and a half each, coloured by the rock of the hole."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.ndimage import gaussian_filter

from ..truth import FloatArray
from .drilling import Hole
from .noting import chance

HOLE, FIRST, LAST, ROWS, ROW = "EMB014", 141.0, 168.0, 3, 1.5
_WIDE, _HIGH, _EDGE = 900, 62, 7  # pixels of a row, and of the wood between rows
_COLOURS = {
    "TILL": (150, 128, 96),
    "CLAY": (214, 208, 190),
    "SLATE": (92, 98, 108),
    "CARB": (206, 204, 198),
    "SKARN": (104, 92, 62),
    "GRAN": (196, 176, 164),
    "GREIS": (168, 172, 150),
    "PORPH": (176, 138, 126),
}


def write(folder: Path, holes: list[Hole]) -> None:
    """Write the boxes of one hole, from above its veins to below them."""
    from PIL import Image

    folder.mkdir(parents=True, exist_ok=True)
    hole, rng = next(h for h in holes if h.name == HOLE), chance("boxes")
    for top in np.arange(FIRST, LAST - 1e-6, ROWS * ROW):
        rows = [_row(hole, float(top) + k * ROW, rng) for k in range(ROWS)]
        wood = np.full((_EDGE, _WIDE, 3), (122, 92, 60), dtype=float)
        picture = np.concatenate(
            [part for row in rows for part in (wood[: _EDGE // 2], row, wood[: _EDGE - _EDGE // 2])]
        )
        image = Image.fromarray(np.clip(picture, 0, 255).astype(np.uint8))
        image.save(folder / f"{HOLE}_{top:.1f}-{top + ROWS * ROW:.1f}.jpg", quality=82)


def _row(hole: Hole, top: float, rng: np.random.Generator) -> FloatArray:
    """One row of core from left to right, round and grained, with its breaks."""
    depth = top + (np.arange(_WIDE) + 0.5) / _WIDE * ROW
    code = np.full(_WIDE, "SLATE", dtype=object)
    for a, b, rock in hole.runs():
        code[(depth >= a) & (depth < b)] = rock
    base = np.array([_COLOURS.get(str(c), (150, 150, 150)) for c in code], dtype=float)
    base = gaussian_filter(base, (4.0, 0.0))
    grain = gaussian_filter(rng.normal(0.0, 1.0, (_HIGH, _WIDE)), (0.8, 1.6))
    streaks = gaussian_filter(rng.normal(0.0, 1.0, (_HIGH, _WIDE)), (6.0, 1.2))
    across = np.linspace(-1.0, 1.0, _HIGH)[:, None]
    light = 0.55 + 0.5 * np.sqrt(np.clip(1.0 - across**2, 0.0, 1.0))
    out = (base[None] + 22.0 * grain[..., None] + 30.0 * streaks[..., None]) * light[..., None]
    for at in rng.uniform(0, _WIDE, rng.integers(2, 5)):  # breaks across the core
        lean = rng.uniform(-12, 12)
        dark = np.abs(np.arange(_WIDE)[None, :] - at - lean * across) < 1.6
        out[dark] *= 0.35
    return np.asarray(out)

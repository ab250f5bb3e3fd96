"""Writes the colour ramps that legends use, taken from colorcet, so that the window need not load all of it."""

from __future__ import annotations

from pathlib import Path

import colorcet
import numpy as np

from innerlamp.core.items.legend import RAMPS


def rgba(name: str) -> np.ndarray:
    """Return the 256 colours (256, 4) of a colorcet ramp."""
    codes = [c.lstrip("#") for c in colorcet.palette[name]]
    return np.array([[int(c[k : k + 2], 16) for k in (0, 2, 4)] + [255] for c in codes], dtype=np.uint8)


if __name__ == "__main__":
    target = Path(__file__).parents[1] / "src" / "innerlamp" / "app" / "theme" / "ramps.npz"
    np.savez_compressed(target, **{name: rgba(code) for name, code in RAMPS.items()})

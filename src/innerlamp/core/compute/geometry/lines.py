"""Survey lines: their order by name, and distances along them."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray


def natural(text: str) -> list[tuple[int, str]]:
    """Return a key that puts L9 before L10."""
    return [(int(p), "") if p.isdigit() else (-1, p.lower()) for p in re.split(r"(\d+)", text) if p]


def distance_along(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return metres from the first reading along the line's general direction, whichever way it was flown.

    Eastings and northings in metres have shape (n,).
    """
    if len(x) == 0:
        return np.empty(0)
    dx, dy = x - np.nanmean(x), y - np.nanmean(y)
    # The line's own axis; its sense is to the east, or to the north for lines that run north.
    values, vectors = np.linalg.eigh(np.cov(np.nan_to_num(dx), np.nan_to_num(dy)) if len(x) > 1 else np.eye(2))
    ux, uy = vectors[:, int(np.argmax(values))]
    if (abs(uy) > abs(ux) and uy < 0) or (abs(ux) >= abs(uy) and ux < 0):
        ux, uy = -ux, -uy
    along = dx * ux + dy * uy
    return np.asarray(along - np.nanmin(along))


_FILE_WORDS = {
    "electrodes",
    "electrode",
    "elec",
    "positions",
    "position",
    "coords",
    "coordinates",
    "topo",
    "topography",
    "geometry",
    "data",
    "measurements",
    "measured",
    "readings",
    "line",
    "profile",
    "l",
    "p",
}


def line_names(stems: list[str]) -> list[str]:
    """Return the name of the line that each file belongs to, from file names without their endings.

    Words that all files share, and words like 'line' or 'electrodes', are left out: what is left
    names the line (``ert_line_07_electrodes`` and ``ert_line_07`` are line 07). A name that would
    be empty is the whole stem.
    """
    words = [[w for w in re.split(r"[_\s\-.]+|(?<=[a-zA-Z])(?=\d)", s) if w] for s in stems]
    kept = [[w for w in each if w.lower() not in _FILE_WORDS] for each in words]
    shared = set.intersection(*(set(each) for each in kept)) if kept else set()
    if len({tuple(each) for each in kept}) > 1:
        kept = [[w for w in each if w not in shared] for each in kept]
    else:
        kept = [[w for w in each if any(c.isdigit() for c in w)] for each in kept]
    return ["-".join(each) or stem for each, stem in zip(kept, stems, strict=True)]

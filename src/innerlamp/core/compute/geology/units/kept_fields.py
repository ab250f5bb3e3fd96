"""Fields that were fitted lately in this process: what a change does not touch is not made again."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

import numpy as np

from ....kept import KEPT


def kept(parts: tuple[Any, ...], make: Callable[[], tuple[np.ndarray, ...]]) -> tuple[np.ndarray, ...]:
    """Return arrays that depend on nothing but `parts` (arrays, numbers, texts), made only when they are not at hand."""
    total = hashlib.sha256()
    for part in parts:
        if isinstance(part, np.ndarray):
            total.update(f"{part.dtype}{part.shape}".encode())
            total.update(np.ascontiguousarray(part).tobytes())
        else:
            total.update(repr(part).encode())

    def frozen() -> tuple[np.ndarray, ...]:
        made = make()
        for each in made:
            each.flags.writeable = False
        return made

    return KEPT.of(("field", total.hexdigest()), frozen)

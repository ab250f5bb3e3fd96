"""Fields that were fitted lately in this process: what a change does not touch is not made again."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

import numpy as np

_MOST = 300_000_000  # bytes of all that is kept
_kept: OrderedDict[str, tuple[np.ndarray, ...]] = OrderedDict()


def kept(parts: tuple[Any, ...], make: Callable[[], tuple[np.ndarray, ...]]) -> tuple[np.ndarray, ...]:
    """Return arrays that depend on nothing but `parts` (arrays, numbers, texts), made only when they are not at hand."""
    total = hashlib.sha256()
    for part in parts:
        if isinstance(part, np.ndarray):
            total.update(f"{part.dtype}{part.shape}".encode())
            total.update(np.ascontiguousarray(part).tobytes())
        else:
            total.update(repr(part).encode())
    key = total.hexdigest()
    if key in _kept:
        _kept.move_to_end(key)
        return _kept[key]
    made = make()
    for each in made:
        each.flags.writeable = False
    _kept[key] = made
    while sum(a.nbytes for arrays in _kept.values() for a in arrays) > _MOST and len(_kept) > 1:
        _kept.popitem(last=False)
    return made

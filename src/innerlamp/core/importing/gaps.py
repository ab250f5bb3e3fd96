"""Readings that are none: a total field of 0 nT is a gap, not a value."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def zeros_are_gaps(values: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Return which readings are exactly 0 where 0 lies far from all others: instruments write it for 'no reading'.

    Far is more than a third of the smallest other reading and more than all others spread (common practice, no source).
    """
    zero = values == 0.0
    rest = values[np.isfinite(values) & ~zero]
    if not zero.any() or len(rest) < 3:
        return np.zeros(len(values), dtype=bool)
    low, high = np.quantile(np.abs(rest), (0.02, 0.98))
    one_sided = float(np.mean(rest > 0)) > 0.98 or float(np.mean(rest < 0)) > 0.98
    return zero if one_sided and low > 0.3 * high and low > 1.5 * (high - low) else np.zeros(len(values), dtype=bool)

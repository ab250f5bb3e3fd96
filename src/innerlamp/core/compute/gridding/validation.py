"""Leave-one-out: each sample estimated from the others, and what the misses say."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Validation:
    """How estimates miss the samples that were left out, in the unit of the values.

    `slope` is that of the regression of sample on estimate (1 where estimates are not too smooth),
    `mean_square_z` the mean of squared residuals over kriging variance (1 where the variance tells
    the truth; NaN without a variance).
    """

    count: int
    mean_error: float
    rmse: float
    correlation: float
    slope: float
    mean_square_z: float

    @property
    def words(self) -> str:
        z = f", standardised variance {self.mean_square_z:.2f}" if np.isfinite(self.mean_square_z) else ""
        return f"{self.count:,} samples: mean error {self.mean_error:+.3g}, root mean square {self.rmse:.3g}, correlation {self.correlation:.2f}, slope {self.slope:.2f}{z}"


def judge(observed: FloatArray, estimated: FloatArray, variance: FloatArray | None = None) -> Validation:
    """Return the numbers of a leave-one-out; pairs with a missing value do not count (Isaaks & Srivastava 1989, ch. 15)."""
    good = np.isfinite(observed) & np.isfinite(estimated)
    a, b = observed[good], estimated[good]
    error = b - a
    spread = float(np.var(b)) if len(b) > 1 else 0.0
    both = float(np.mean((a - a.mean()) * (b - b.mean()))) if len(b) > 1 else 0.0
    z = float("nan")
    if variance is not None and len(error):
        with np.errstate(divide="ignore", invalid="ignore"):
            squares = error**2 / variance[good]
        z = float(np.mean(squares[np.isfinite(squares)])) if np.isfinite(squares).any() else float("nan")
    deviation = float(np.std(a) * np.std(b)) if len(b) > 1 else 0.0
    return Validation(
        len(a),
        float(error.mean()) if len(a) else float("nan"),
        float(np.sqrt(np.mean(error**2))) if len(a) else float("nan"),
        both / deviation if deviation > 0 else float("nan"),
        both / spread if spread > 0 else float("nan"),
        z,
    )

"""What a chart is drawn from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ....core.items.holes import HoleSet
from ....core.items.legend import Legend
from ...theme.theme import Theme

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class ChartData:
    """What a chart is drawn from: columns of one table, in rows of that table; logs are taken already where asked."""

    x: FloatArray
    x_label: str
    x_legend: Legend
    x_raw: FloatArray
    y: FloatArray
    y_label: str
    classes: NDArray[np.object_] | None
    class_legend: Legend | None
    log: bool
    chosen: NDArray[np.bool_]
    columns: dict[str, FloatArray]
    theme: Theme
    attribute: str = ""
    group: str = ""
    table: pd.DataFrame | None = None
    holes: HoleSet | None = None

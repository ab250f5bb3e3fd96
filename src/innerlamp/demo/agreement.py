"""How far models of units agree with the rocks that the demo was made of."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ..core.items.fields import BlockModel
from . import truth
from .geology import OF_ROCKS


def against_the_truth(model: BlockModel) -> pd.DataFrame:
    """Return for each unit of a model: unit, true and modelled volume in million m³, and overlap in percent.

    The overlap is what both have in common, of what either has; the last row, 'all', is the share of the model's volume with
    the true unit. Rocks of no unit of the model count as its background.
    """
    names = model.names["unit"]
    rocks = [OF_ROCKS[c] if OF_ROCKS[c] in names else names[-1] for c in truth.CODES]
    if "Gabbro" in names:
        rocks[truth.CODES.index("GABB")] = "Gabbro"
    at = model.mesh.centres() - [*truth.ORIGIN, 0.0]
    true = np.array(rocks, dtype=object)[truth.rock(*at.T)]
    found = model.named("unit", model.properties["unit"]).ravel()
    volume = model.mesh.volumes() * (found != "")
    rows = []
    for name in names:
        a, b = true == name, found == name
        both, either = float(volume[a & b].sum()), float(volume[a | b].sum())
        rows.append(
            {
                "unit": name,
                "true": float(volume[a].sum()) / 1e6,
                "modelled": float(volume[b].sum()) / 1e6,
                "overlap": 100.0 * both / either if either else float("nan"),
            }
        )
    total = float(volume.sum())
    rows.append(
        {
            "unit": "all",
            "true": total / 1e6,
            "modelled": total / 1e6,
            "overlap": 100.0 * float(volume[true == found].sum()) / total,
        }
    )
    return pd.DataFrame(rows)

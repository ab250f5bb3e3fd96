"""Whether values can be: recoveries over 100 %, RQD above the recovery, densities no rock has, grades above the whole."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd

from ..findings import Findings
from ..formats.tables import columns
from ..units import in_metres
from .detection import GRADES, Place

# Rocks and ores from pumice and coal to massive galena, t/m³ (Telford et al. 1990, Applied Geophysics, tables 2.2 to 2.4).
DENSITIES = (0.9, 7.6)


def check(table: pd.DataFrame, units: Mapping[str, str], found: Findings, file: str, name: str) -> None:
    """Point out values that can't be. Columns are known by their headings, in any language of `heading_words`."""
    place = Place(found, file, name, table["line"].to_numpy(), table["hole"].fillna("").to_numpy(dtype=object))
    numeric = [
        c for c in table.columns if pd.api.types.is_float_dtype(table[c]) and c not in ("from_m", "to_m", "depth_m")
    ]
    recovery = next((c for c in numeric if columns.names(c, "recovery")), None)
    quality = next((c for c in numeric if columns.names(c, "rqd")), None)
    shares = {c: _percent(table, c, units.get(c, "")) for c in (recovery, quality) if c is not None}
    for column, share in shares.items():
        bad = np.flatnonzero((share < 0) | (share > 100.0 + 1e-6))
        if len(bad):
            what = [
                f"{column} '{v:g}' is {s:.0f} % of the interval"
                for v, s in zip(table[column].iloc[bad], share[bad], strict=True)
            ]
            place.add("look", what, "kept", bad)
    if recovery is not None and quality is not None:
        with np.errstate(invalid="ignore"):
            bad = np.flatnonzero(shares[quality] > shares[recovery] + 0.5)
        if len(bad):
            pairs = zip(table[quality].iloc[bad], table[recovery].iloc[bad], strict=True)
            place.add("look", [f"{quality} '{q:g}' is above {recovery} '{r:g}'" for q, r in pairs], "kept", bad)
    for column in numeric:
        values = table[column].to_numpy(float)
        if columns.names(column, "density"):
            scale = 1000.0 if np.nanmedian(values) > 100.0 else 1.0
            bad = np.flatnonzero(
                np.isfinite(values) & ~((values >= DENSITIES[0] * scale) & (values <= DENSITIES[1] * scale))
            )
            if len(bad):
                place.add("look", [f"{column} '{v:g}' is no density of rock" for v in values[bad]], "kept", bad)
        elif units.get(column) in GRADES:
            whole = {"%": 100.0, "ppm": 1e6, "g/t": 1e6, "ppb": 1e9}.get(units[column], np.inf)
            bad = np.flatnonzero(values > whole * (1 + 1e-9))
            if len(bad) and column not in shares:
                place.add("look", [f"{column} '{v:g}' is more than the whole rock" for v in values[bad]], "kept", bad)


def _percent(table: pd.DataFrame, column: str, unit: str) -> np.ndarray:
    """Return values as per cent of their interval: they may be per cent, a fraction, or metres of core."""
    values = table[column].to_numpy(float)
    metres = in_metres(unit) if unit else None
    if metres is not None and "to_m" in table:
        return np.asarray(100.0 * values * metres / (table["to_m"] - table["from_m"]).to_numpy(float))
    top = np.nanmax(values) if np.isfinite(values).any() else 0.0
    return values * 100.0 if unit != "%" and top <= 1.5 else values

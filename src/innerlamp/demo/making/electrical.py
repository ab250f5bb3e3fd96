"""Six resistivity and chargeability lines, with reciprocal readings among them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from ...core.compute.resistivity.arrays import geometric_factor
from .. import truth as t
from ..truth import FloatArray, land
from . import forward
from .noting import Planted, chance, east, north

ELECTRODES, SPACING = 48, 25.0
# Middle of each line, azimuth along it.
LINES = (
    ((1_890.0, 2_410.0), t.VEIN_STRIKE + 90.0),
    ((2_230.0, 2_600.0), t.VEIN_STRIKE + 90.0),
    ((2_780.0, 2_860.0), t.VEIN_STRIKE + 90.0),  # across what the fault displaced
    (t.SKARN_CUPOLA, 100.0),
    (t.LENS_CUPOLA, 165.0),
    ((2_720.0, 3_420.0), 112.0),  # across the graphitic slate
)


def dipole_dipole() -> np.ndarray:
    """Arrays of the lines, indices of electrodes: dipoles of one and two spacings, eight separations."""
    return np.array(
        [
            (i + s, i, i + s + n * s, i + 2 * s + n * s)
            for s in (1, 2)
            for n in range(1, 9)
            for i in range(ELECTRODES)
            if i + 2 * s + n * s < ELECTRODES
        ]
    )


def resistivity(folder: Path, planted: Planted) -> None:
    """Write readings and electrodes of each line."""
    abmn = dipole_dipole()
    distance = SPACING * np.arange(ELECTRODES, dtype=np.float64)
    flat = forward.uniform_flat(distance, abmn)
    for number, (middle, azimuth) in enumerate(LINES, start=1):
        a = np.radians(azimuth)
        start = np.array(middle) - distance[-1] / 2 * np.array([np.sin(a), np.cos(a)])

        def place(s: FloatArray, start: FloatArray = start, a: float = a) -> tuple[FloatArray, FloatArray]:
            return start[0] + s * np.sin(a), start[1] + s * np.cos(a)

        _write(folder, number, abmn, distance, place, flat, planted)


def _write(folder, number, abmn, distance, place, flat, planted: Planted) -> None:  # type: ignore[no-untyped-def]
    rng = chance(f"resistivity {number}")
    table = np.array(list(t.PROPERTIES.values()))

    def section(s: FloatArray, depth: FloatArray) -> tuple[FloatArray, FloatArray]:
        x, y = place(s)
        z = t.ground(x, y) - depth
        code = t.rock(x, y, z)
        share = np.where(z > land.oxidation(x, y), 0.5, 1.0)
        return table[code, 2], 1e-3 * table[code, 3] * share

    rho, charge = forward.apparent(distance, abmn, lambda s: t.ground(*place(s)), section, flat)
    flat_line = np.column_stack([distance, np.zeros((len(distance), 2))])
    factor = np.abs(geometric_factor(flat_line, abmn))
    error = np.minimum(0.01 + 2e-5 * factor / factor.min() ** 0.5, 0.04)
    again = np.sort(rng.choice(len(abmn), len(abmn) // 8, replace=False))
    which = np.concatenate([np.arange(len(abmn)), again])
    quads = np.concatenate([abmn, abmn[again][:, [2, 3, 0, 1]]])
    value = rho[which] * (1 + rng.normal(0, 1, len(which)) * error[which])
    mv = 1e3 * charge[which] + rng.normal(0, 1, len(which)) * (0.3 + 15.0 * error[which])
    out = pd.DataFrame(quads + 1, columns=["a", "b", "m", "n"])
    out["rhoa_ohmm"], out["err_pct"] = np.round(value, 1), np.round(100 * error[which], 1)
    out["chargeability_mV_V"] = np.round(mv, 2)
    if number == 2:
        out["rhoa_ohmm"] = out["rhoa_ohmm"].where(out.index != 200, -out["rhoa_ohmm"])
        planted.note("resistivity_line_2.csv", 200, "negative apparent resistivity")
    out.to_csv(folder / f"resistivity_line_{number}.csv", index=False)
    x, y = place(distance)
    pd.DataFrame(
        {
            "electrode": np.arange(1, ELECTRODES + 1),
            "distance_m": distance,
            "x": east(x),
            "y": north(y),
            "z": np.round(t.ground(x, y), 2),
        }
    ).to_csv(folder / f"resistivity_line_{number}_electrodes.csv", index=False)

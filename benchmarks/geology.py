"""Fields of many values and models of units, against the times that are asked."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator

import numpy as np

from innerlamp.core.compute.geology import rbf

from .table import Row, peak_megabytes, seconds

ASKED = {10_000: 5.0, 20_000: 10.0, 50_000: 45.0, 100_000: 150.0}


def composites(count: int) -> tuple[np.ndarray, np.ndarray]:
    """Noisy values of an uneven field along holes, a hundred each."""
    rng = np.random.default_rng(0)
    depth = np.linspace(0.0, 500.0, 100)
    tops = rng.uniform(0.0, 1000.0, (count // 100, 2))
    at = np.concatenate([np.column_stack([x + 0.06 * depth, np.full(100, y), -depth]) for x, y in tops])
    values = np.sin(at[:, 0] / 150) * np.cos(at[:, 1] / 200) + at[:, 2] / 400 + rng.normal(0, 0.3, len(at))
    return at, values


def measure(count: int) -> dict[str, float]:
    """Fit so many values in a process of its own; of 20,000 the field on 200 x 200 x 200 nodes as well."""
    rbf.fit(*composites(3_200), drift="linear")
    at, values = composites(count)
    made: list[rbf.RadialField] = []
    out = {"fit": seconds(lambda: made.append(rbf.fit(at, values, drift="linear")))}
    some = np.random.default_rng(1).choice(len(at), min(3_000, len(at)), replace=False)
    out["residual"] = float(np.abs(rbf.evaluate(made[0], at[some]) - values[some]).max())
    if count == 20_000:
        first, steps, shape = np.array([0.0, 0.0, -500.0]), (5.0, 5.0, 2.5), (200, 200, 200)
        field: list[np.ndarray] = []
        out["lattice"] = seconds(lambda: field.append(rbf.evaluate_lattice(made[0], first, steps, shape)))
        nodes = np.random.default_rng(2).integers(0, 200, (3_000, 3))
        direct = rbf.evaluate(made[0], first + nodes * np.array(steps))
        out["error"] = float(np.abs(direct - field[0][tuple(nodes.T)]).max() / np.std(values))
    return out | {"megabytes": peak_megabytes()}


def fields_of_many_values() -> Iterator[Row]:
    """Each size in a process of its own."""
    for count, asked in ASKED.items():
        done = subprocess.run(
            [sys.executable, "-m", "benchmarks.geology", str(count)], capture_output=True, text=True, check=True
        )
        found = json.loads(done.stdout.splitlines()[-1])
        yield Row(
            f"Radial field: fit {count:,} values",
            f"{found['fit']:.1f} s",
            f"{asked:g} s",
            f"largest residual {found['residual']:.0e}, {found['megabytes']:,.0f} MB",
        )
        if "lattice" in found:
            yield Row(
                "Radial field: 200 x 200 x 200 nodes from 20,000 values",
                f"{found['lattice']:.1f} s",
                "30 s with the surface",
                f"error {found['error']:.0e} of the standard deviation",
            )


def kriging_into_blocks() -> Iterator[Row]:
    """A million blocks from 50,000 composites with 24 neighbours."""
    from innerlamp.core.compute.geology.estimation import Search, Variogram, estimate
    from innerlamp.core.compute.gridding.variogram import Structure

    at, values = composites(50_000)
    axes = (np.linspace(0, 1000, 100), np.linspace(0, 1000, 100), np.linspace(-500, 0, 100))
    blocks = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    search, model = Search(reach=200.0, least=4, most=24), Variogram(0.1, (Structure("spherical", 0.4, 200.0),))
    estimate(at, values, blocks[:100], search, "kriging", model)
    took = seconds(lambda: estimate(at, values, blocks, search, "kriging", model))
    yield Row("Kriging 1,000,000 blocks from 50,000 composites, 24 neighbours", f"{took:.1f} s", "60 s")


if __name__ == "__main__":
    print(json.dumps(measure(int(sys.argv[1]))))

"""Ten figures in a minute, for every CI run: each as a ratio to a peer in the same run, held against those that were kept.

``python -m benchmarks.quick`` fails when one of them is three times what it was; ``--keep`` keeps today's.
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

from innerlamp.api import Project
from innerlamp.core.compute.drilling.desurvey import locate
from innerlamp.core.compute.drilling.weighted import means_over
from innerlamp.core.compute.geology import rbf
from innerlamp.core.compute.geology.estimation import Search, Variogram, estimate
from innerlamp.core.compute.gridding import minimum_curvature as mc
from innerlamp.core.compute.gridding.variogram import Structure
from innerlamp.core.compute.potential import fields, prisms
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.geometry.grid import geometry_around
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.points import PointSet

from .cuts import cut_and_plain, meshes
from .drilling import campaign, divided
from .table import seconds

_KEPT = Path(__file__).with_name("quick.json")
_LOST = 3.0
FIELD = (60.0, 10.0, 50_000.0)


def _readings() -> tuple[TensorMesh, np.ndarray]:
    rng = np.random.default_rng(0)
    mesh = TensorMesh.even((0.0, 0.0, -600.0), (50.0, 50.0, 25.0), (40, 40, 24))
    return mesh, np.column_stack([rng.uniform(0, 2000, (400, 2)), rng.uniform(60, 90, 400)])


def magnetic_prisms() -> float:
    mesh, obs = _readings()
    few = obs[:10]
    prisms.magnetic_kernel(mesh, few, *FIELD)
    r = np.random.default_rng(1).random((len(few), mesh.size))
    return seconds(lambda: prisms.magnetic_kernel(mesh, few, *FIELD), 3) / seconds(lambda: np.arctan(r) + np.log(r), 3)


def lattice_product() -> float:
    mesh, obs = _readings()
    kind = fields.total_field(*FIELD)
    operator, model = Lattice(mesh, obs, [kind]), np.ones(mesh.size)
    matrix = prisms.kernel_matrix(mesh, obs, kind, dtype=np.float32)
    operator.apply(model)
    return seconds(lambda: operator.apply(model), 5) / seconds(lambda: matrix @ model.astype(np.float32), 5)


def radial_field() -> float:
    from scipy.interpolate import RBFInterpolator

    rng = np.random.default_rng(2)
    at, values, to = rng.uniform(0, 1000, (700, 3)), rng.normal(size=700), rng.uniform(0, 1000, (20_000, 3))
    rbf.evaluate(rbf.fit(at, values), to[:10])
    plain = seconds(lambda: RBFInterpolator(at, values, kernel="linear")(to), 2)
    return seconds(lambda: rbf.evaluate(rbf.fit(at, values), to), 3) / plain


def kriging() -> float:
    rng = np.random.default_rng(3)
    at, values = rng.uniform(0, 1000, (5_000, 3)), rng.normal(size=5_000)
    to, systems = rng.uniform(0, 1000, (20_000, 3)), rng.random((20_000, 17, 17))
    search, model = Search(reach=400.0, least=4, most=16), Variogram(0.1, (Structure("spherical", 0.9, 300.0),))
    estimate(at, values, to[:10], search, "kriging", model)
    plain = seconds(lambda: np.linalg.solve(systems, np.ones((17, 1))), 2)
    return seconds(lambda: estimate(at, values, to, search, "kriging", model), 2) / plain


def minimum_curvature() -> float:
    from scipy.interpolate import griddata

    rng = np.random.default_rng(4)
    x, y = rng.uniform(0, 2000, (2, 4_000))
    z = np.sin(x / 200) + np.cos(y / 300)
    grid = geometry_around(x, y, 10.0)
    gx, gy = np.meshgrid(np.linspace(0, 2000, 200), np.linspace(0, 2000, 200))
    mc.minimum_curvature(x, y, z, grid)
    plain = seconds(lambda: griddata((x, y), z, (gx, gy), method="cubic"), 2)
    return seconds(lambda: mc.minimum_curvature(x, y, z, grid), 2) / plain


def places_on_holes() -> float:
    path, table, _ = campaign()
    code = np.repeat(np.arange(len(table) // 200), 200)[:400_000]
    depth = 0.5 * (table["from_m"] + table["to_m"]).to_numpy()[:400_000]
    plain = seconds(lambda: np.interp(depth, np.arange(0, 400.0, 2.0), np.arange(200.0)), 3)
    return seconds(lambda: locate(path, code, depth), 3) / plain


def composites() -> float:
    _, table, _ = campaign()
    code = np.repeat(np.arange(1000), 200)
    start, stop, grade = (table[c].to_numpy()[: len(code)] for c in ("from_m", "to_m", "Sn"))
    frame = pd.DataFrame({"hole": code, "bin": (start // 4.0).astype(int), "w": 1.5, "g": grade * 1.5})

    def ours() -> None:
        hole, a, b, _ = divided(np.arange(1000), np.zeros(1000), np.full(1000, 300.0), 4.0)
        means_over(hole, a, b, code, start, stop, grade)

    ours()
    return seconds(ours, 3) / seconds(lambda: frame.groupby(["hole", "bin"]).sum(), 3)


def reading_a_table() -> float:
    rng = np.random.default_rng(5)
    with tempfile.TemporaryDirectory() as name:
        file = Path(name) / "samples.csv"
        table = pd.DataFrame(
            {"East": rng.uniform(4e5, 4.1e5, 60_000).round(1), "North": rng.uniform(7e6, 7.01e6, 60_000).round(1)}
        )
        for element in ("Cu_ppm", "Au_ppm", "As_ppm"):
            table[element] = rng.lognormal(1, 1, len(table)).round(3)
        table.to_csv(file, index=False)
        with Project.create(Path(name) / "a.lamp", "EPSG:32719") as project:
            project.run("import-points", file=str(file))
            ours = seconds(lambda: project.run("import-points", file=str(file)), 2)
        return ours / seconds(lambda: pd.read_csv(file), 3)


def storing() -> float:
    rng = np.random.default_rng(6)
    table = pd.DataFrame(rng.uniform(4e5, 5e5, (200_000, 6)), columns=["x", "y", "z", "a", "b", "c"])
    with tempfile.TemporaryDirectory() as name, Project.create(Path(name) / "a.lamp", "EPSG:32719") as project:

        def put() -> None:
            project.add(PointSet(name="Points", crs="EPSG:32719", table=table + rng.random()))

        put()
        return seconds(put, 3) / seconds(lambda: (table + rng.random()).to_parquet(Path(name) / "a.parquet"), 3)


def section() -> float:
    shape = (250, 250, 160)
    took, plain, _ = cut_and_plain(meshes(shape)["draped"], np.random.default_rng(7).random(shape))
    return took / plain


TEN: tuple[Callable[[], float], ...] = (
    magnetic_prisms, lattice_product, radial_field, kriging, minimum_curvature,
    places_on_holes, composites, reading_a_table, storing, section,
)  # fmt: skip


def main() -> int:
    kept = json.loads(_KEPT.read_text(encoding="utf-8")) if _KEPT.is_file() else {}
    now, lost = {}, []
    for measure in TEN:
        name, ratio = measure.__name__, measure()
        if name in kept and ratio > _LOST * kept[name]:
            ratio = min(ratio, measure())  # a machine that was busy for a moment is no loss
        now[name] = float(f"{ratio:.3g}")
        times = ratio / kept[name] if name in kept else 1.0
        lost += [name] if times > _LOST else []
        print(f"{name:<20} {ratio:10.2f} × its peer   {times:5.2f} of what was kept", flush=True)
    if "--keep" in sys.argv:
        _KEPT.write_text(json.dumps(now, indent=1) + "\n", encoding="utf-8")
    if lost:
        print(f"Lost by more than a factor of {_LOST:g}: {', '.join(lost)}")
    return 1 if lost and "--keep" not in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())

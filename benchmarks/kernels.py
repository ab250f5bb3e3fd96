"""Rates of the numerical kernels, each beside a plain baseline or a peer library in the same run."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.interpolate import RBFInterpolator

from innerlamp.core.compute.geology import rbf
from innerlamp.core.compute.gridding import minimum_curvature as mc
from innerlamp.core.compute.potential import inversion as inv
from innerlamp.core.compute.potential import meshing, prisms
from innerlamp.core.compute.potential.linear import Dense
from innerlamp.core.geometry.grid import GridGeometry, geometry_around
from innerlamp.core.geometry.mesh import TensorMesh

from .table import Row, peak_megabytes, seconds

FIELD = (60.0, 10.0, 50_000.0)


def _case() -> tuple[TensorMesh, np.ndarray, np.ndarray]:
    # 70 × 64 × 36 cells of 50 × 50 × 25 m under 290 m of relief, 30 lines × 86 readings draped at 70 m.
    mesh = TensorMesh.even((0.0, 0.0, -600.0), (50.0, 50.0, 25.0), (70, 64, 36))
    cx, cy = mesh.plan_centres[0][:, 0], mesh.plan_centres[1][0]
    ground = lambda x, y: 150.0 + 100.0 * np.sin(x / 600.0) * np.cos(y / 500.0)  # noqa: E731
    active = meshing.below_ground(mesh, ground(*np.meshgrid(cx, cy, indexing="ij")))
    rng = np.random.default_rng(0)
    x, y = (a.ravel() for a in np.meshgrid(np.linspace(400, 3100, 30), np.linspace(300, 2900, 86), indexing="ij"))
    x, y = x + rng.normal(0, 3, x.size), y + rng.normal(0, 3, x.size)
    return mesh, active, np.column_stack([x, y, ground(x, y) + 70.0 + rng.normal(0, 4, x.size)])


def _plain_prism(mesh: TensorMesh, obs: np.ndarray, f: np.ndarray) -> np.ndarray:
    """One datum, all cells, eight corners each with the library's logarithm and arctangent: the baseline."""
    out = np.zeros(mesh.shape)
    for di in (0, 1):
        for dj in (0, 1):
            for dk in (0, 1):
                x, y, z = np.meshgrid(
                    mesh.x0 + mesh.u[0] * (np.arange(mesh.shape[0]) + di) - obs[0],
                    mesh.y0 + mesh.v[0] * (np.arange(mesh.shape[1]) + dj) - obs[1],
                    mesh.z0 + mesh.w[0] * (np.arange(mesh.shape[2]) + dk) - obs[2],
                    indexing="ij",
                )
                r = np.sqrt(x * x + y * y + z * z)
                value = -(
                    f[0] ** 2 * np.arctan(y * z / (x * r))
                    + f[1] ** 2 * np.arctan(x * z / (y * r))
                    + f[2] ** 2 * np.arctan(x * y / (z * r))
                )
                value += 2 * (f[0] * f[1] * np.log(r + z) + f[0] * f[2] * np.log(r + y) + f[1] * f[2] * np.log(r + x))
                out += (-1) ** (di + dj + dk + 1) * value
    return out * FIELD[2] / (4 * np.pi)


def magnetic_kernel_rate() -> Iterator[Row]:
    mesh, active, obs = _case()
    few = obs[:4]
    prisms.magnetic_kernel(mesh, few, *FIELD, active, 400.0, dtype=np.float32)  # compiled here, if it is not yet
    plain = (
        seconds(lambda: [_plain_prism(mesh, o, prisms.field_direction(*FIELD[:2])) for o in few]) / len(few) / mesh.size
    )
    exact_rows = obs[:60]
    exact = seconds(lambda: prisms.magnetic_kernel(mesh, exact_rows, *FIELD), 2) / len(exact_rows) / mesh.size
    a = prisms.magnetic_kernel(mesh, few, *FIELD)
    b = np.stack([_plain_prism(mesh, o, prisms.field_direction(*FIELD[:2])).ravel() for o in few])
    yield Row(
        "Magnetic prism, closed form, one cell for one reading",
        f"{exact * 1e9:.1f} ns",
        "≤ 37 ns (notes)",
        f"{plain / exact:.0f} × faster than eight numpy corners ({plain * 1e9:.0f} ns); largest difference {np.abs(a - b).max() / np.abs(b).max():.0e}",
    )
    cells = int(active.sum())
    hybrid = seconds(lambda: prisms.magnetic_kernel(mesh, obs, *FIELD, active, 400.0, dtype=np.float32), 2)
    yield Row(
        f"Whole kernel {len(obs):,} × {cells:,}, closed form within 400 m",
        f"{hybrid:.2f} s",
        "1.4–2.3 s (notes)",
        f"{hybrid / len(obs) / cells * 1e9:.1f} ns a value, {4e-6 * cells * len(obs):,.0f} MB",
    )


def inversion() -> Iterator[Row]:
    mesh, active, obs = _case()
    cx, cy, cz = (c.reshape(mesh.shape) for c in mesh.centres().T)
    truth = np.where((np.abs(cx - 1200) < 200) & (np.abs(cy - 1500) < 250) & (np.abs(cz + 100) < 150), 0.05, 0.0)
    slab = (np.abs(cx - 2300 - 0.4 * (cz + 150)) < 90) & (np.abs(cy - 1500) < 500) & (np.abs(cz + 150) < 200)
    truth = np.where(slab, 0.08, truth)
    kernel = prisms.magnetic_kernel(mesh, obs, *FIELD, active, 400.0, dtype=np.float32)
    data = kernel @ truth[active].astype(np.float32) + np.random.default_rng(3).normal(0, 2.0, len(obs))
    results = []
    took = seconds(
        lambda: results.append(
            inv.invert(
                Dense(kernel),
                data.astype(float),
                np.full(len(obs), 2.0),
                mesh,
                active,
                inv.Settings(smoothness=50.0),
                inv.Constraints(lower=0.0),
            )
        )
    )
    r = results[0]
    yield Row(
        f"Inversion {int(active.sum()):,} cells × {len(obs):,} readings to the target misfit",
        f"{took:.1f} s",
        "≈ 13 s (notes)",
        f"misfit {r.chi2:.2f} in {len(r.history)} iterations, correlation with the truth {np.corrcoef(r.model, truth[active])[0, 1]:.2f}, process {peak_megabytes():,.0f} MB",
    )


def gridding() -> Iterator[Row]:
    rng = np.random.default_rng(5)
    x, y = rng.uniform(0, 4000, 2400), rng.uniform(0, 3000, 2400)
    v = np.sin(x / 400) + np.cos(y / 300)
    geometry = geometry_around(x, y, 20.0)
    took = seconds(lambda: mc.minimum_curvature(x, y, v, geometry))
    gx, gy = np.meshgrid(
        geometry.x0 + geometry.cell * np.arange(geometry.nx), geometry.y0 + geometry.cell * np.arange(geometry.ny)
    )
    peer = seconds(
        lambda: RBFInterpolator(np.column_stack([x, y]), v, kernel="thin_plate_spline", neighbors=40)(
            np.column_stack([gx.ravel(), gy.ravel()])
        )
    )
    yield Row(
        f"Minimum curvature, 2,400 samples to {geometry.nx} × {geometry.ny}",
        f"{took:.1f} s",
        "",
        f"scipy thin plate of 40 neighbours: {peer:.1f} s",
    )


def comparing_methods() -> Iterator[Row]:
    """Every gridding method judged by leaving out, and radial bases at the size of a survey."""
    import pandas as pd

    from innerlamp.core.compute.gridding.radial import radial
    from innerlamp.core.declaring.operation import Inputs
    from innerlamp.core.items.points import PointSet
    from innerlamp.core.progress import SILENT
    from innerlamp.core.running.table import OPERATIONS

    rng = np.random.default_rng(0)
    x, y = rng.uniform(0, 4000, (2, 2000))
    v = np.sin(x / 500) * np.cos(y / 700) * 50 + rng.normal(0, 3, 2000)
    samples = PointSet(name="s", crs="EPSG:32719", table=pd.DataFrame({"x": x, "y": y, "z": 0.0, "v": v}))
    op = OPERATIONS["cross-validate"]
    params = op.check({"attribute": "v", "method": "every method"})
    took = seconds(lambda: op.run(Inputs({"samples": samples}, samples.crs), params, SILENT))
    yield Row("Cross-validate, 2,000 samples, every method", f"{took:.1f} s", "under 30 s")
    x, y = rng.uniform(0, 8000, (2, 10_000))
    v = np.sin(x / 500) * np.cos(y / 700) * 50
    gx, gy = (a.ravel() for a in np.meshgrid(np.arange(0, 8000, 40.0), np.arange(0, 8000, 40.0)))
    took = seconds(lambda: radial(x, y, v, gx, gy))
    peer = seconds(
        lambda: RBFInterpolator(np.column_stack([x, y]), v, kernel="thin_plate_spline", neighbors=60)(
            np.column_stack([gx, gy])
        )
    )
    words = f"scipy thin plate of 60 neighbours: {peer:.1f} s"
    yield Row("Radial bases, 10,000 readings to 40,000 cells", f"{took:.1f} s", "under 15 s", words)


def large_gridding() -> Iterator[Row]:
    """Minimum curvature at the size of a whole survey: readings along lines, and scattered ones."""
    from innerlamp.core.compute.geometry.sampling import bilinear

    rng = np.random.default_rng(0)
    lines = np.repeat(np.arange(0.0, 20_000.0, 200.0), 1000)
    cases = {
        "along 100 lines": (lines + rng.normal(0, 2, 100_000), np.tile(np.arange(0.0, 20_000.0, 20.0), 100)),
        "scattered": tuple(rng.uniform(0, 20_000, (2, 100_000))),
    }
    mc.minimum_curvature(
        rng.uniform(0, 3000, 500), rng.uniform(0, 3000, 500), rng.normal(size=500), GridGeometry(0, 0, 10, 300, 300)
    )
    for name, (x, y) in cases.items():
        v = 100 * np.sin(x / 900) * np.cos(y / 1300) + 60 * np.exp(-((x - 9000) ** 2 + (y - 9500) ** 2) / 400**2)
        geometry = GridGeometry(5.0, 5.0, 10.0, 2000, 2000)
        made: list[np.ndarray] = []
        took = seconds(
            lambda x=x, y=y, v=v, geometry=geometry, made=made: made.append(mc.minimum_curvature(x, y, v, geometry))
        )  # type: ignore[misc]
        inside = (x > 20) & (x < 19_980) & (y > 20) & (y < 19_980)
        missed = bilinear(made[0], 5.0, 5.0, 10.0, 10.0, x[inside], y[inside]) - v[inside]
        yield Row(
            f"Minimum curvature, 100,000 readings {name}, to 2,000 x 2,000",
            f"{took:.1f} s",
            "under 30 s",
            f"readings missed by {np.std(missed) / np.std(v):.1e} of their spread, process {peak_megabytes():,.0f} MB",
        )


def radial_field() -> Iterator[Row]:
    rng = np.random.default_rng(6)
    points = rng.uniform(0, 1000, (5000, 3))
    values = np.sin(points[:, 0] / 150) + 0.3 * rng.normal(size=5000)
    at = rng.uniform(0, 1000, (1_000_000, 3))
    rbf.evaluate(rbf.fit(points[:50], values[:50]), at[:10])
    fields: list[rbf.RadialField] = []
    fit = seconds(lambda: fields.append(rbf.fit(points, values, nugget=1.0)))
    evaluate = seconds(lambda: rbf.evaluate(fields[0], at))
    peer = RBFInterpolator(points, values, kernel="linear", smoothing=1.0)
    few = at[:5000]
    theirs = seconds(lambda: peer(few)) * len(at) / len(few)
    yield Row("Radial field: fit 5,000 values", f"{fit:.1f} s", "2–4 s (notes)", "")
    yield Row(
        "Radial field: 1,000,000 nodes from 5,000 values",
        f"{evaluate:.1f} s",
        "3.5–4.8 s (notes)",
        f"scipy, from {len(few):,} nodes: {theirs:.0f} s; difference {np.abs(peer(few) - rbf.evaluate(fields[0], few)).max():.0e}",
    )


def maps() -> Iterator[Row]:
    """Kriging, leave-one-out, contours and filters at the sizes of a whole district."""
    from innerlamp.core.compute.gridding import contouring, kriging
    from innerlamp.core.compute.gridding.variogram import Model, Structure
    from innerlamp.core.compute.potential import filters

    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, 5000, (2, 5000))
    v = np.sin(x / 600) + np.cos(y / 400) + rng.normal(0, 0.2, 5000)
    model = Model(0.05, (Structure("spherical", 1.0, 900.0),))
    gx, gy = (g.ravel() for g in np.meshgrid(np.linspace(0, 5000, 500), np.linspace(0, 5000, 500)))
    kriging.krige(x, y, v, gx[:9], gy[:9], model)
    yield Row(
        "Kriging 5,000 samples to 500 x 500, 24 neighbours",
        f"{seconds(lambda: kriging.krige(x, y, v, gx, gy, model)):.1f} s",
        "under 15 s",
    )
    every = np.arange(5000)
    yield Row(
        "Leave-one-out of the same",
        f"{seconds(lambda: kriging.krige(x, y, v, x, y, model, leave_one_out=every)):.2f} s",
        "under 10 s",
    )
    from scipy.ndimage import gaussian_filter

    smooth = gaussian_filter(rng.normal(size=(2000, 2000)), 20) * 100
    axis = 10.0 * np.arange(2000)
    levels = np.linspace(*np.percentile(smooth, [1, 99]), 30)
    import contourpy

    made = contourpy.contour_generator(axis, axis, smooth, name="serial")
    bare = seconds(lambda: [made.lines(level) for level in levels])
    took = seconds(lambda: contouring.contours(smooth, axis, axis, levels, 40.0))
    yield Row(
        "Contours of 2,000 x 2,000 at 30 levels", f"{took:.1f} s", "under 3 s", f"{took / bare:.1f} x contourpy alone"
    )
    large = rng.normal(size=(4000, 4000)).cumsum(0).cumsum(1) / 1e3
    runs = {
        "vertical derivative": lambda: filters.derivatives(large, 25, 25),
        "total gradient": lambda: filters.total_gradient(large, 25, 25),
        "tilt": lambda: filters.tilt(large, 25, 25),
        "continuation": lambda: filters.continued(large, 25, 25, 100.0),
        "reduction to the pole": lambda: filters.reduced_to_pole(large, 25, 25, 60, 10),
        "pseudo-gravity": lambda: filters.pseudo_gravity(large, 25, 25, 60, 10),
        "band-pass": lambda: filters.band_pass(large, 25, 25, 100, 1000),
        "polynomial of order 3": lambda: filters.polynomial(large, 3),
    }
    for name, run in runs.items():
        yield Row(f"Filter 4,000 x 4,000: {name}", f"{seconds(run):.1f} s", "under 10 s")

"""Inversions of gravity and magnetics at working scale, each in a process of its own for its time and peak memory.

The mesh and drape are those of `kernels`: 70 x 64 x 36 cells of 50 x 50 x 25 m under 290 m of relief, sensors 70 m
above it, noise of 2 nT or 0.02 mGal; and the same ground in cells of 25 x 25 x 16 m. Every run goes to a misfit within
5 % of the number of readings. `python -m benchmarks.potential CASE` runs one and prints a line of JSON.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from innerlamp.core.compute.potential import fields, meshing, prisms
from innerlamp.core.compute.potential.inversion import Constraints, Settings, invert
from innerlamp.core.compute.potential.joint import Survey, invert_together
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.geometry.mesh import DrapedMesh, TensorMesh

from .table import Row, peak_megabytes, seconds

FIELD = (65.0, 2.0, 50_000.0)


@dataclass(frozen=True)
class Case:
    what: str
    asked: float  # seconds
    shape: tuple[int, int, int] = (70, 64, 36)
    step: tuple[float, float, float] = (50.0, 50.0, 25.0)
    lines: tuple[int, int] = (30, 84)
    kind: str = "magnetics"
    norm: float = 2.0


FINE = {"shape": (140, 128, 56), "step": (25.0, 25.0, 16.0)}
CASES: dict[str, Case] = {
    "a": Case("Magnetics, 161,000 cells, 2,500 readings", 8.0),
    "b": Case("Magnetics, 161,000 cells, 4,500 readings", 14.0, lines=(46, 98)),
    "c": Case("Magnetics, 1,000,000 cells, 2,500 readings", 35.0, **FINE),  # type: ignore[arg-type]
    "d": Case("Gravity, 161,000 cells, 2,500 readings", 10.4, kind="gravity"),
    "e": Case("Gravity, 161,000 cells, 4,500 readings", 18.2, lines=(46, 98), kind="gravity"),
    "f": Case("Gravity, 1,000,000 cells, 2,500 readings", 45.5, kind="gravity", **FINE),  # type: ignore[arg-type]
    "g": Case("Compact, 161,000 cells, 2,500 readings", 25.0, norm=0.0),
    "h": Case("Magnetisation vector, 161,000 cells, 2,500 readings", 40.0, kind="vector"),
    "j": Case("Gravity and magnetics together, 161,000 cells, 2,500 each", 60.0, kind="joint"),
    "i": Case("Magnetics, 5,000,000 cells, 2,500 readings", 0.0, (240, 220, 96), (15.0, 15.0, 10.0)),
}


def ground(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.asarray(150.0 + 145.0 * np.sin(x / 700.0) * np.cos(y / 900.0))


def made(case: Case) -> tuple[DrapedMesh, np.ndarray]:
    """The mesh cut by the ground, and the sensors."""
    nx, ny, nz = case.shape
    mesh = TensorMesh.even((0.0, 0.0, 300.0 - nz * case.step[2]), case.step, case.shape)
    wide, long = nx * case.step[0], ny * case.step[1]
    rng = np.random.default_rng(0)
    x, y = np.meshgrid(np.linspace(0.07, 0.93, case.lines[1]) * wide, np.linspace(0.07, 0.93, case.lines[0]) * long)
    x, y = x.ravel() + rng.normal(0, 8, x.size), y.ravel() + rng.normal(0, 8, x.size)
    obs = np.column_stack([x, y, ground(x, y) + 70.0 + rng.normal(0, 5, x.size)])
    tops, _ = meshing.tops_below(mesh, ground(*mesh.plan_centres), obs, 1.0)
    return meshing.draped_under(mesh, tops), obs


def truth(mesh: DrapedMesh, strong: tuple[float, float]) -> np.ndarray:
    """A block from 75 m depth and a dipping slab from 125 m, values of all cells."""
    centres = mesh.centres().reshape(*mesh.shape, 3)
    wide, long = float(mesh.u.sum()), float(mesh.v.sum())
    depth = mesh.tops[:, :, None] - centres[..., 2]
    x, y = centres[..., 0], centres[..., 1]
    out = np.zeros(mesh.shape)
    out[(abs(x - 0.35 * wide) < 200) & (abs(y - 0.4 * long) < 200) & (depth > 75) & (depth < 300)] = strong[0]
    slab = abs(x - 0.65 * wide - (depth - 125) * 0.5) < 75
    out[slab & (abs(y - 0.6 * long) < 400) & (depth > 125) & (depth < 450)] = strong[1]
    return out


def run_joint(case: Case) -> dict[str, Any]:
    mesh, obs = made(case)
    active = (mesh.thickness > 0).ravel()
    kinds = (
        (fields.total_field(*FIELD), (0.05, 0.08), 2.0, 0.45),
        (fields.vertical_gravity(), (300.0, 400.0), 0.02, 0.75),
    )
    begin = time.perf_counter()
    surveys = []
    for kind, strong, level, exponent in kinds:
        operator = Lattice(mesh, obs, [kind], active)
        data = operator.apply(truth(mesh, strong).ravel()[active]) + np.random.default_rng(3).normal(0, level, len(obs))
        settings = Settings(case.step[0], exponent=exponent)
        surveys.append(Survey(operator, data, np.full(len(obs), level), settings, Constraints(lower=0.0)))
    setup = time.perf_counter() - begin
    begin = time.perf_counter()
    found = invert_together(surveys, mesh, active, 3.0)
    solve = time.perf_counter() - begin
    true = truth(mesh, (0.05, 0.08)).ravel()[active]
    return {
        "setup": setup, "solve": solve, "chi2": max(f.chi2 for f in found), "products": 0, "each": 0.0,
        "megabytes": peak_megabytes(), "cold": 0.0, "limit": 0.0, "rate": 0.0,
        "correlation": float(np.corrcoef(found[0].model, true)[0, 1]),
    }  # fmt: skip


def run_one(case: Case) -> dict[str, Any]:
    if case.kind == "joint":
        return run_joint(case)
    mesh, obs = made(case)
    active = (mesh.thickness > 0).ravel()
    gravity = case.kind == "gravity"
    kinds = {
        "magnetics": [fields.total_field(*FIELD)],
        "gravity": [fields.vertical_gravity()],
        "vector": list(fields.magnetisation_fields(*FIELD)),
    }[case.kind]
    values = truth(mesh, (300.0, 400.0) if gravity else (0.05, 0.08)).ravel()[active]
    if case.kind == "vector":
        values = np.concatenate([values * part for part in fields.field_direction(-30.0, 60.0)])
    begin = time.perf_counter()
    operator = Lattice(mesh, obs[:40], kinds, active)
    operator.transposed(operator.apply(values))
    cold = time.perf_counter() - begin
    begin = time.perf_counter()
    operator = Lattice(mesh, obs, kinds, active)
    setup = time.perf_counter() - begin
    level = 0.02 if gravity else 2.0
    data = operator.apply(values) + np.random.default_rng(3).normal(0, level, len(obs))
    products = [0]
    apply, transposed = operator.apply, operator.transposed

    def counted(x: np.ndarray) -> np.ndarray:
        products[0] += 1
        return apply(x)

    def counted_down(r: np.ndarray) -> np.ndarray:
        products[0] += 1
        return transposed(r)

    operator.apply, operator.transposed = counted, counted_down  # type: ignore[method-assign]
    settings = Settings(case.step[0], exponent=0.75 if gravity else 0.45, norm_size=case.norm)
    known = Constraints() if case.kind == "vector" else Constraints(lower=0.0)
    begin = time.perf_counter()
    found = invert(operator, data, np.full(len(obs), level), mesh, active, settings, known)
    solve = time.perf_counter() - begin
    model = np.linalg.norm(found.model.reshape(len(kinds), -1), axis=0)
    true = np.linalg.norm(values.reshape(len(kinds), -1), axis=0)
    peak = peak_megabytes()
    block = np.ones(50_000_000)
    rate = 2 * block.nbytes / seconds(lambda: np.copyto(block[: len(block) // 2], block[len(block) // 2 :]), 3) / 2
    # What a product must move at least: the operator once, and the lattice in and out of three transforms.
    lattice = operator._spectra[0].nbytes
    least = products[0] * (operator.nbytes + 6 * lattice) / rate
    return {
        "setup": setup, "solve": solve, "chi2": found.chi2, "reached": found.reached, "products": products[0],
        "each": solve / products[0], "megabytes": peak, "cold": cold, "cells": int(active.sum()),
        "correlation": float(np.corrcoef(model, true)[0, 1]), "limit": solve / least, "rate": rate / 1e9,
    }  # fmt: skip


def inversions_at_working_scale() -> Iterator[Row]:
    for name, case in CASES.items():
        done = subprocess.run(
            [sys.executable, "-m", "benchmarks.potential", name], check=True, capture_output=True, text=True
        )
        r = json.loads(done.stdout.strip().splitlines()[-1])
        more = (
            f", {r['products']} products of {1000 * r['each']:.0f} ms, first call {r['cold']:.1f} s,"
            f" {r['limit']:.1f} x the memory's limit at {r['rate']:.1f} GB/s"
            if r["products"]
            else ""
        )
        yield Row(
            case.what,
            f"{r['setup'] + r['solve']:.1f} s, {r['megabytes']:,.0f} MB",
            f"{case.asked:g} s" if case.asked else "under 8 GB",
            f"set-up {r['setup']:.1f} s, misfit {r['chi2']:.2f}, correlation with the truth {r['correlation']:.2f}{more}",
        )


def lattice_beside_the_matrix() -> Iterator[Row]:
    mesh, obs = made(CASES["a"])
    active = (mesh.thickness > 0).ravel()
    kind, few = fields.total_field(*FIELD), obs[::10]
    operator = Lattice(mesh, obs, [kind], active)
    built = seconds(lambda: Lattice(mesh, obs, [kind], active))
    rows = seconds(lambda: prisms.kernel_matrix(mesh, few, kind, active, 400.0, np.float32))
    matrix = prisms.kernel_matrix(mesh, few, kind, active, dtype=np.float32)
    model = truth(mesh, (0.05, 0.08)).ravel()[active]
    product = seconds(lambda: operator.apply(model), 3)
    plain = seconds(lambda: matrix @ model.astype(np.float32), 3) * len(obs) / len(few)
    off = np.linalg.norm(operator.apply(model)[::10] - matrix @ model) / np.linalg.norm(matrix @ model)
    yield Row(
        "Lattice beside the matrix, 161,000 cells, 2,500 readings",
        f"{1000 * product:.0f} ms a product",
        "",
        f"matrix {1000 * plain:.0f} ms ({plain / product:.1f} x); set-up {built:.1f} s against"
        f" {rows * len(obs) / len(few):.1f} s ({rows * len(obs) / len(few) / built:.1f} x), memory {operator.nbytes / 1e6:.0f} MB"
        f" against {4e-6 * len(obs) * active.sum():,.0f} MB; data differ by {off:.1e}",
    )


if __name__ == "__main__":
    print(json.dumps(run_one(CASES[sys.argv[1]])))

"""Sections through very many cells: time and memory, beside reading as many values out of the same array."""

from __future__ import annotations

import tracemalloc
from collections.abc import Iterator

import numpy as np

from innerlamp.core.geometry.mesh import DrapedMesh, Mesh, TensorMesh

from .table import Row, seconds

SHAPE = (500, 500, 200)


def meshes(shape: tuple[int, int, int]) -> dict[str, Mesh]:
    """Level cells, and cells that hang from a surface."""
    tops = 1000.0 + 100.0 * np.random.default_rng(0).random(shape[:2])
    u, v = np.full(shape[0], 10.0), np.full(shape[1], 10.0)
    draped = DrapedMesh(0.0, 0.0, u, v, 0.0, tops, np.full(shape, 5.0))
    return {"level": TensorMesh.even((0.0, 0.0, 0.0), (10.0, 10.0, 5.0), shape), "draped": draped}


def cut_and_plain(mesh: Mesh, values: np.ndarray) -> tuple[float, float, float]:
    """Seconds for a cut, for reading as many values at known places, and the megabytes that the cut needs."""
    wide = 10.0 * mesh.shape[0]
    along = np.linspace(0.02 * wide, 0.98 * wide, 1900)
    cut = mesh.cut(along, along, 1500)
    tracemalloc.start()
    mesh.cut(along, along, 1500).values(values)
    megabytes = tracemalloc.get_traced_memory()[1] / 1e6
    tracemalloc.stop()
    return (
        seconds(lambda: mesh.cut(along, along, 1500).values(values), 3),
        seconds(lambda: values[np.maximum(cut.i, 0), np.maximum(cut.j, 0), np.maximum(cut.k, 0)], 3),
        megabytes,
    )


def section_through_cells() -> Iterator[Row]:
    values = np.random.default_rng(1).random(SHAPE)
    for name, mesh in meshes(SHAPE).items():
        took, plain, megabytes = cut_and_plain(mesh, values)
        words = f"{took / plain:.1f} × reading the values, {megabytes:.0f} MB (asked 300)"
        yield Row(f"Section through {values.size:,} {name} cells", f"{1000 * took:.0f} ms", "1 s", words)

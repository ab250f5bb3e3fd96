"""Models of units with true contacts: drawn, cut into bodies and blocks, kept, against the times that are asked."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable, Iterator

import numpy as np

from innerlamp.core.compute.geology.bodies.model import (
    LEVEL,
    Contact,
    Frame,
    Lattice,
    Move,
    Piece,
    UnitModel,
    sampled,
    sampled_over,
)
from innerlamp.core.compute.geology.faults import Fault

from .table import Row, peak_megabytes, seconds

LOW, HIGH = np.zeros(3), np.array([1_400.0, 1_300.0, 600.0])
_STEP = 20.0


def _plane(values: Callable[[np.ndarray], np.ndarray]) -> Lattice:
    return sampled_over(values, np.full(2, -1_500.0), np.full(2, 1_500.0), _STEP)


def _tilted(dip: float, towards: float, at: tuple[float, float, float]) -> Frame:
    return Frame(np.array(at), Fault(np.array(at), dip, towards).axes)


def nine_units() -> UnitModel:
    """A dyke, two veins of 3 m that pinch out, a stock, an unconformity, four folded layers; a fault with tips, bent."""
    frame = _tilted(65.0, 80.0, (700.0, 650.0, 300.0))
    fault = Move("fault", frame, 66.0 * frame.axes[1], _plane(lambda q: 20.0 * np.sin(q[:, 0] / 300.0)), 900.0, 700.0)

    def space(values: Callable[[np.ndarray], np.ndarray]) -> Lattice:
        return sampled(values, LOW - 100.0, HIGH + 100.0, np.full(3, _STEP))

    contacts = [Contact("", _plane(lambda q: 520.0 + 30.0 * np.sin(q[:, 0] / 200.0)), 1.0, frame=LEVEL)]
    pieces = [Piece(-1, (0,))]

    def add(unit: int, *own: Contact) -> None:
        pieces.append(Piece(unit, tuple(range(len(contacts), len(contacts) + len(own)))))
        contacts.extend(own)

    sheets = (((500.0, 600.0, 300.0), 80.0, 120.0, 12.0, 1e9), ((800.0, 600.0, 300.0), 50.0, 200.0, 3.0, 350.0),
              ((700.0, 700.0, 250.0), 60.0, 60.0, 3.0, 300.0))  # fmt: skip
    for unit, (at, dip, towards, thick, reach) in enumerate(sheets):
        middle = _plane(lambda q: 15.0 * np.sin(q[:, 0] / 180.0))
        half = _plane(lambda q, t=thick, r=reach: 0.5 * t * (1.0 - (q[:, 0] ** 2 + q[:, 1] ** 2) / r**2))  # type: ignore[misc]
        plane = _tilted(dip, towards, at)
        add(unit, *(Contact("", middle, sign, 0.0, plane, half, (0,)) for sign in (-1.0, 1.0)))
    stock = space(lambda p: 180.0 - np.linalg.norm((p - [1_000.0, 900.0, 200.0]) / [1.3, 1.0, 1.5], axis=1))
    add(3, Contact("", stock, moved=(0,)))
    add(4, Contact("", space(lambda p: p[:, 2] - 430.0 - 10.0 * np.sin(p[:, 0] / 200.0)), moved=(0,)))
    fold = space(lambda p: p[:, 2] - 250.0 - 60.0 * np.sin(p[:, 0] / 160.0 + p[:, 1] / 400.0))
    for unit, level in ((5, -100.0), (6, -20.0), (7, 60.0)):
        add(unit, Contact("", fold, 1.0, level, moved=(0,)))
    return UnitModel(tuple(f"unit {k}" for k in range(9)), tuple(contacts), tuple(pieces), LOW, HIGH, (fault,))


def measure() -> dict[str, float]:
    """All of it in a process of its own."""
    from innerlamp.core.compute.geology.bodies.outlines import section
    from innerlamp.core.compute.geology.bodies.solids import bodies_closed, shares, solids
    from innerlamp.core.compute.geology.bodies.stored import put_together, taken_apart
    from innerlamp.core.geometry.mesh import TensorMesh

    model = nine_units()
    whole, dragged = (float(np.sqrt(1_400.0 * 600.0 / n)) for n in (10_000, 2_500))

    def cut(step: float) -> None:
        section(model, np.array([0.0, 650.0, 0.0]), np.eye(3)[0], np.eye(3)[2], (0.0, 1_400.0, 0.0, 600.0), step)

    cut(whole)
    out = {"section": min(seconds(lambda: cut(whole)) for _ in range(5))}
    out["dragged"] = min(seconds(lambda: cut(dragged)) for _ in range(5))
    solids(model, 100.0)
    out["coarse"] = seconds(lambda: solids(model, 40.0))
    made = []
    out["fine"] = seconds(lambda: made.append(solids(model, 20.0)))
    out["triangles"] = float(len(made[0].triangles))
    out["open"] = float(sum(not bodies_closed(*made[0].of(k)) for k in range(9)))
    out["megabytes"] = peak_megabytes()
    mesh = TensorMesh.even((0.0, 0.0, 0.0), (14.0, 13.0, 6.0), (100, 100, 100))
    out["blocks"] = seconds(lambda: shares(model, mesh))
    rules, arrays = taken_apart(model, np.zeros(1))
    out["kept"] = sum(a.nbytes for a in arrays.values()) / 1e6

    def opened() -> None:
        again = put_together(rules, arrays)
        assert again is not None
        section(again, np.array([0.0, 650.0, 0.0]), np.eye(3)[0], np.eye(3)[2], (0.0, 1_400.0, 0.0, 600.0), whole)

    out["opened"] = seconds(opened)
    return out


def true_contacts() -> Iterator[Row]:
    """Nine units in eight fields with a fault."""
    done = subprocess.run([sys.executable, "-m", "benchmarks.bodies"], capture_output=True, text=True, check=True)
    found = json.loads(done.stdout.splitlines()[-1])
    yield Row("Section of nine units with a fault, whole", f"{found['section'] * 1e3:.0f} ms", "150 ms")
    yield Row("The same while it is dragged", f"{found['dragged'] * 1e3:.0f} ms", "40 ms")
    yield Row("Closed bodies of nine units, coarse (40 m)", f"{found['coarse']:.1f} s", "2 s")
    yield Row(
        "Closed bodies of nine units, fine (20 m)",
        f"{found['fine']:.1f} s",
        "12 s, 600 MB",
        f"{found['triangles']:,.0f} triangles, {found['open']:.0f} open, {found['megabytes']:,.0f} MB",
    )
    yield Row(
        "Shares of units in 1,000,000 blocks", f"{found['blocks']:.1f} s", "2 s", "20 s for ten million are asked"
    )
    yield Row("Model put together, first section", f"{found['opened']:.2f} s", "1 s", f"{found['kept']:.1f} MB kept")


if __name__ == "__main__":
    print(json.dumps(measure()))

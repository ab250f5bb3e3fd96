"""Signed surfaces, and what is cut by them, against formulas (elementary geometry), shapely and trimesh."""

from __future__ import annotations

import dataclasses
import json

import numpy as np
import pytest
import shapely
import trimesh

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
from innerlamp.core.compute.geology.bodies.outlines import Outlines, along_line, on_ground, section
from innerlamp.core.compute.geology.bodies.solids import bodies_closed, shares, solids
from innerlamp.core.compute.geology.bodies.stored import bodies_apart, bodies_kept, put_together, taken_apart
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import TensorMesh

LOW, HIGH = np.zeros(3), np.array([800.0, 700.0, 400.0])
EAST, NORTH, UP = np.eye(3)


def space(values, step: float = 20.0, beyond: float = 80.0) -> Lattice:  # type: ignore[no-untyped-def]
    return sampled(values, LOW - beyond, HIGH + beyond, np.full(3, step))


def plane(values, step: float = 20.0) -> Lattice:  # type: ignore[no-untyped-def]
    return sampled_over(values, np.full(2, -1200.0), np.full(2, 1200.0), step)


def tilted(dip: float, towards: float, at: tuple[float, float, float]) -> Frame:
    d, a = np.radians([dip, towards])
    down = np.array([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), -np.sin(d)])
    normal = np.array([np.sin(d) * np.sin(a), np.sin(d) * np.cos(a), np.cos(d)])
    return Frame(np.array(at), np.stack([[-np.cos(a), np.sin(a), 0.0], down, normal]))


def walls(name: str, frame: Frame, half, moved: tuple[int, ...] = ()) -> tuple[Contact, Contact]:  # type: ignore[no-untyped-def]
    middle, thick = plane(lambda q: np.zeros(len(q))), plane(half)
    one, two = (Contact(name, middle, sign, 0.0, frame, thick, moved) for sign in (-1.0, 1.0))
    return one, two


def built(*units: tuple[str, tuple[Contact, ...]], faults: tuple[Move, ...] = ()) -> UnitModel:
    """Units from young to old over a background; 'air' is none."""
    contacts, pieces, names = [], [], [n for n, _ in units if n != "air"]
    for name, own in units:
        pieces.append(
            Piece(-1 if name == "air" else names.index(name), tuple(range(len(contacts), len(contacts) + len(own))))
        )
        contacts += own
    return UnitModel((*names, "rest"), tuple(contacts), tuple(pieces), LOW, HIGH, faults)


def ball(p: np.ndarray) -> np.ndarray:
    return np.asarray(150.0 - np.linalg.norm(p - [400.0, 350.0, 200.0], axis=1))


def closed(model: UnitModel, cell: float = 25.0) -> np.ndarray:
    """Bodies must be closed and fill the box; returns their volumes."""
    made = solids(model, cell)
    for unit in range(len(model.units)):
        assert bodies_closed(*made.of(unit))
    return made.volumes


def test_a_sphere_has_its_volume_and_area_on_a_section() -> None:
    model = built(("ball", (Contact("ball", space(ball)),)))
    volume = closed(model, 16.0)
    assert volume[0] == pytest.approx(4.0 / 3.0 * np.pi * 150.0**3, rel=5e-3)
    assert volume.sum() == pytest.approx(np.prod(HIGH), rel=1e-9)
    cut = section(model, np.array([0.0, 350.0, 0.0]), EAST, UP, (0.0, 800.0, 0.0, 400.0), 8.0)
    assert cut.area(0) == pytest.approx(np.pi * 150.0**2, rel=2e-3)
    away = np.hypot(*(cut.places[np.unique(cut.contacts)] - [400.0, 200.0]).T)
    assert np.abs(away - 150.0).max() < 0.1  # exact at its corners, however coarse the lattice


def test_a_torus_is_one_closed_body_with_its_hole() -> None:
    def ring(p: np.ndarray) -> np.ndarray:
        x, y, z = (p - [400.0, 350.0, 200.0]).T
        return np.asarray(60.0 - np.hypot(np.hypot(x, y) - 170.0, z))

    model = built(("ring", (Contact("ring", space(ring, 12.0)),)))
    made = solids(model, 16.0)
    body = trimesh.Trimesh(*made.of(0), process=False)
    assert body.is_watertight and body.is_winding_consistent and body.body_count == 1
    assert body.euler_number == 0  # as a torus has (Euler's formula)
    assert body.volume == pytest.approx(2.0 * np.pi**2 * 170.0 * 60.0**2, rel=1e-2)


@pytest.mark.parametrize("thick", [0.5, 2.0, 12.0])
def test_a_vein_far_thinner_than_the_cells_keeps_its_volume_and_its_width(thick: float) -> None:
    frame = tilted(60.0, 90.0, (400.0, 350.0, 200.0))
    model = built(("vein", walls("vein", frame, lambda q: np.full(len(q), 0.5 * thick))))
    volume = closed(model, 40.0)
    # Its plane leaves the box at the top and the foot: it is as long as it is high over the sine of its dip.
    assert volume[0] == pytest.approx(thick * 700.0 * 400.0 / np.sin(np.radians(60.0)), rel=1e-4)
    ends, units = along_line(model, np.array([[100.0, 350.0, 200.0], [700.0, 350.0, 200.0]]), 10.0)
    assert units.tolist() == [1, 0, 1]
    assert ends[2] - ends[1] == pytest.approx(thick / np.sin(np.radians(60.0)), abs=2e-3)
    cut = section(model, np.array([0.0, 300.0, 0.0]), EAST, UP, (0.0, 800.0, 0.0, 400.0), 20.0)
    assert len(np.flatnonzero(cut.units == 0)) == 1  # in one piece


def test_volumes_at_map_coordinates_are_those_at_the_origin() -> None:
    away = np.array(
        [700_000.0, 7_000_000.0, 3_600.0]
    )  # rounding of products of such numbers would be thousands of cubic metres
    frame = tilted(60.0, 90.0, (400.0, 350.0, 200.0))
    one, two = walls("vein", frame, lambda q: np.full(len(q), 0.25))
    moved = [dataclasses.replace(c, frame=Frame(frame.origin + away, frame.axes)) for c in (one, two)]
    model = UnitModel(("vein", "rest"), tuple(moved), (Piece(0, (0, 1)),), LOW + away, HIGH + away)
    assert solids(model, 20.0).volumes[0] == pytest.approx(0.5 * 700.0 * 400.0 / np.sin(np.radians(60.0)), rel=1e-4)


def test_a_vein_pinches_out_where_its_thickness_ends() -> None:
    frame = tilted(0.0, 0.0, (400.0, 350.0, 200.0))
    model = built(("lens", walls("lens", frame, lambda q: 3.0 * (1.0 - (q[:, 0] ** 2 + q[:, 1] ** 2) / 150.0**2))))
    # The volume of a paraboloid of revolution is half that of its cylinder; there are two of them.
    assert closed(model, 20.0)[0] == pytest.approx(np.pi * 150.0**2 * 3.0, rel=1e-2)


def test_what_is_younger_cuts_what_is_older_and_all_share_their_faces() -> None:
    dyke = walls("dyke", tilted(90.0, 45.0, (400.0, 350.0, 200.0)), lambda q: np.full(len(q), 10.0))
    cover = Contact("cover", plane(lambda q: 330.0 + 10.0 * np.sin(q[:, 0] / 90.0)), 1.0, frame=LEVEL)
    model = built(("cover", (cover,)), ("dyke", dyke), ("ball", (Contact("ball", space(ball)),)))
    rng = np.random.default_rng(7)
    at = rng.uniform(LOW, HIGH, (200_000, 3))
    share = np.bincount(model.unit_at(at), minlength=4) / len(at)
    volume = closed(model, 20.0)
    assert volume / np.prod(HIGH) == pytest.approx(share, abs=4.0 * np.sqrt(0.25 / len(at)))
    made = solids(model, 20.0)
    assert {frozenset(s) for s in made.sides.tolist()} >= {frozenset((0, 1)), frozenset((1, 2)), frozenset((2, 3))}


def folded(p: np.ndarray) -> np.ndarray:
    return np.asarray(p[:, 2] - 200.0 - 40.0 * np.sin(p[:, 0] / 110.0))


@pytest.mark.parametrize("tips", [False, True])
def test_a_fault_moves_folded_layers_by_its_slip_without_a_ramp(tips: bool) -> None:
    frame = tilted(70.0, 90.0, (420.0, 350.0, 200.0))
    slip = 60.0 * frame.axes[1]
    move = Move("F", frame, slip, length=500.0 if tips else np.inf, height=600.0 if tips else np.inf)
    field = space(folded)
    layers = [(n, (Contact(n, field, 1.0, level, moved=(0,)),)) for n, level in (("a", -60.0), ("b", 0.0))]
    model = built(*layers, faults=(move,))
    volume = closed(model, 25.0)
    assert volume.sum() == pytest.approx(np.prod(HIGH), rel=1e-9)
    # A metre to either side of the plane at mid-height of the section through its middle.
    for along in (-1.0, 1.0):
        x = np.full(4001, 0.0)
        z = np.linspace(0.0, 400.0, 4001)
        at = np.column_stack([x, np.full_like(x, 350.0), z])
        at[:, 0] = 420.0 + (200.0 - z) / np.tan(np.radians(70.0)) + along
        part = np.sqrt(np.clip(1.0 - (2.0 * (at - frame.origin) @ frame.axes[0] / move.length) ** 2
                               - (2.0 * (at - frame.origin) @ frame.axes[1] / move.height) ** 2, 0.0, 1.0))  # fmt: skip
        before = at - (part[:, None] * slip if along > 0 else 0.0)
        expected = np.where(folded(before) > 60.0, 0, np.where(folded(before) > 0.0, 1, 2))
        assert (model.unit_at(at) != expected).mean() < 2e-3
    cut = section(model, np.array([0.0, 350.0, 0.0]), EAST, UP, (0.0, 800.0, 0.0, 400.0), 8.0)
    assert sum(cut.area(k) for k in range(3)) == pytest.approx(800.0 * 400.0, rel=1e-9)


def test_faults_that_cross_leave_bodies_closed() -> None:
    one, two = tilted(70.0, 90.0, (420.0, 350.0, 200.0)), tilted(60.0, 200.0, (380.0, 330.0, 200.0))
    moves = (
        Move("one", one, 50.0 * one.axes[1], length=600.0),
        Move("two", two, 30.0 * two.axes[1] + 10.0 * two.axes[0]),
    )
    vein = walls("vein", tilted(40.0, 300.0, (400.0, 350.0, 200.0)), lambda q: np.full(len(q), 1.0), (0, 1))
    layer = Contact("layer", space(folded), moved=(0, 1))
    closed(built(("vein", vein), ("layer", (layer,)), faults=moves), 30.0)


def _polygons(cut: Outlines, unit: int) -> shapely.Geometry:
    rings = [
        shapely.Polygon(cut.places[cut.rings[cut.start[k] : cut.start[k + 1]]])
        for k in np.flatnonzero(cut.units == unit)
    ]
    solid = [r for r in rings if shapely.is_ccw(r.exterior)]
    return shapely.difference(
        shapely.union_all(solid), shapely.union_all([r for r in rings if not shapely.is_ccw(r.exterior)])
    )


def test_areas_on_a_section_are_those_of_the_formula() -> None:
    field = space(folded, 15.0)
    layers = [(n, (Contact(n, field, 1.0, level),)) for n, level in (("a", -40.0), ("b", -20.0))]
    model = built(*layers)
    cut = section(model, np.array([0.0, 350.0, 0.0]), EAST, UP, (0.0, 800.0, 0.0, 400.0), 8.0)
    x = np.linspace(0.0, 800.0, 4001)
    low, high = (level + 200.0 + 40.0 * np.sin(x / 110.0) for level in (20.0, 40.0))
    band = shapely.Polygon(np.concatenate([np.column_stack([x, low]), np.column_stack([x, high])[::-1]]))
    mine = _polygons(cut, 1)
    assert mine.is_valid
    assert shapely.area(shapely.symmetric_difference(mine, band)) < 0.01 * band.area
    assert cut.area(1) == pytest.approx(band.area, rel=2e-3)


def test_a_planar_contact_is_a_straight_line() -> None:
    frame = tilted(35.0, 90.0, (400.0, 350.0, 200.0))
    model = built(("over", (Contact("over", plane(lambda q: np.zeros(len(q))), 1.0, frame=frame),)))
    cut = section(model, np.array([0.0, 100.0, 0.0]), EAST, UP, (0.0, 800.0, 0.0, 400.0), 25.0)
    at = cut.places[np.unique(cut.contacts)]
    assert np.abs((at - [400.0, 200.0]) @ [np.sin(np.radians(35.0)), np.cos(np.radians(35.0))]).max() < 1e-3


def test_areas_on_the_ground_and_the_air_above_it() -> None:
    height = plane(lambda q: 300.0 + 0.05 * q[:, 0])
    air = Contact("", height, 1.0, frame=LEVEL)
    model = built(
        ("air", (air,)), ("dyke", walls("dyke", tilted(90.0, 90.0, (400.0, 0.0, 0.0)), lambda q: np.full(len(q), 15.0)))
    )
    x, y = np.linspace(0.0, 800.0, 41), np.linspace(0.0, 700.0, 36)
    cut = on_ground(model, x, y, lambda east, _: 300.0 + 0.05 * east)
    assert cut.area(0) == pytest.approx(30.0 * 700.0, rel=1e-6)
    assert cut.area(-1) == 0.0
    assert model.unit_at(np.array([[400.0, 350.0, 330.0], [400.0, 350.0, 310.0]])).tolist() == [-1, 0]
    hole = on_ground(model, x, y, lambda east, _: np.where(east < 200.0, np.nan, 300.0 + 0.05 * east))
    assert sum(hole.area(k) for k in (0, 1)) == pytest.approx(600.0 * 700.0, rel=1e-6)


def test_shares_of_blocks_sum_to_one_and_to_the_volumes() -> None:
    frame = tilted(60.0, 120.0, (400.0, 350.0, 200.0))
    model = built(
        ("vein", walls("vein", frame, lambda q: np.full(len(q), 1.5))), ("ball", (Contact("ball", space(ball)),))
    )
    mesh = TensorMesh.even((0.0, 0.0, 0.0), (20.0, 17.5, 12.5), (40, 40, 32))
    got = shares(model, mesh)
    assert got.sum(axis=1) == pytest.approx(np.ones(mesh.size), abs=1e-5)
    assert got.sum(axis=0) * (20.0 * 17.5 * 12.5) == pytest.approx(closed(model, 20.0), rel=5e-3)
    rng = np.random.default_rng(3)
    block = np.argmax(got[:, 1] * got[:, 2])  # one that both have a part of
    i, j, k = np.unravel_index(block, mesh.shape)
    at = rng.uniform(0.0, 1.0, (20_000, 3)) * [20.0, 17.5, 12.5] + [20.0 * i, 17.5 * j, 12.5 * k]
    counted = np.bincount(model.unit_at(at), minlength=3) / len(at)
    assert got[block] == pytest.approx(counted, abs=0.02)


def test_a_model_is_kept_and_put_together_as_it_was() -> None:
    frame = tilted(70.0, 90.0, (420.0, 350.0, 200.0))
    move = Move("F", frame, 40.0 * frame.axes[1], plane(lambda q: 5.0 * np.sin(q[:, 0] / 100.0)), 500.0)
    vein = walls("vein", tilted(60.0, 120.0, (400.0, 350.0, 200.0)), lambda q: np.full(len(q), 1.5), (0,))
    model = built(("vein", vein), ("layer", (Contact("layer", space(folded), moved=(0,)),)), faults=(move,))
    blocks = np.zeros((2, 2, 2))
    rules, arrays = taken_apart(model, blocks)
    again = put_together(rules, arrays, blocks)
    assert again is not None
    at = np.random.default_rng(1).uniform(LOW, HIGH, (500, 3))
    assert np.array_equal(again.values(at), model.values(at))
    assert put_together(rules, arrays, blocks + 1.0) is None  # the units were changed since
    made = solids(model, 60.0)
    kept = bodies_kept(bodies_apart(made), 3)
    assert kept is not None and np.array_equal(kept.triangles, made.triangles)


@pytest.mark.parametrize(
    "change",
    [
        lambda r: r["contacts"][0].update(lattice=99),
        lambda r: r["contacts"][0].update(moved=[3]),
        lambda r: r["pieces"][0].update(contacts=[7]),
        lambda r: r["pieces"][0].update(unit=12),
        lambda r: r["lattices"][0].update(spacing=[0.0, 1.0, 1.0]),
        lambda r: r.update(high=[0.0, 0.0, 0.0]),
        lambda r: r.update(units="x"),
        lambda r: r.pop("faults"),
    ],
)
def test_damaged_rules_are_refused_in_a_sentence(change) -> None:  # type: ignore[no-untyped-def]
    model = built(("ball", (Contact("ball", space(ball)),)))
    rules, arrays = taken_apart(model, np.zeros(1))
    damaged = json.loads(rules)
    change(damaged)
    with pytest.raises(InputError):
        put_together(json.dumps(damaged), arrays)
    with pytest.raises(InputError):
        put_together(rules, {})
    with pytest.raises(InputError):
        put_together("{", arrays)


def test_what_can_be_no_model_is_refused() -> None:
    with pytest.raises(InputError, match="without a number"):
        space(lambda p: np.full(len(p), np.nan))
    model = built(("ball", (Contact("ball", space(ball)),)))
    with pytest.raises(InputError, match="larger cell"):
        solids(model, 0.5)
    with pytest.raises(InputError, match="no extent"):
        dataclasses.replace(model, high=LOW)

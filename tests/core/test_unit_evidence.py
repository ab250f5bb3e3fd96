"""What else a model of units is made of: contact table, pushes, drawn lines, given surfaces, traces of faults, and how sure it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
import trimesh

from innerlamp.api import Project
from innerlamp.cli import main
from innerlamp.core.comparing.differences import difference
from innerlamp.core.compute.geology import scalar_fields
from innerlamp.core.compute.geology.faults import Fault, through
from innerlamp.core.compute.geology.rbf import Lift, evaluate, fit
from innerlamp.core.compute.geology.scalar_fields import fit_with_planes
from innerlamp.core.compute.geology.trends import of_planes, of_surface
from innerlamp.core.compute.geology.veins import parted
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.compute.geometry.winding import inside_mesh
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.items.features import LINE, Features, one_each
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.geology.units.uncertainty import entropy
from innerlamp.core.progress import CallbackProgress
from innerlamp.core.running import execute

from .test_units import BALL, CELLS, CRS, FAULT, LAYERS, SOUTH, TOP, WEST, ball, drilled

HERE = np.array([WEST, SOUTH, TOP])


@pytest.fixture
def lamp(tmp_path: Path) -> Iterator[Project]:
    with Project.create(tmp_path / "units.lamp", CRS) as project:
        yield project


def flat(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
    """Sand on slate, the base at 100 m."""
    return np.where(z > -100.0, "SAND", "SLATE")


FLAT = [
    {"unit": "Sand", "kind": "unconformity", "codes": "SAND"},
    {"unit": "Slate", "kind": "background", "codes": "SLATE"},
]


def base_of(model: object, name: str, x: float, y: float) -> float:
    """Depth of the base of a unit below a place, by its field."""
    assert isinstance(model, BlockModel)
    z = np.arange(TOP - 3.0, model.bounds[4] + 5.0, -1.0)
    inside = model.mesh.values_at(
        model.properties[f"inside {name}"], np.full(len(z), WEST + x), np.full(len(z), SOUTH + y), z
    )
    return float(TOP - z[np.flatnonzero(inside < 0)[0]])


def lines(paths: list[np.ndarray], names: list[str], item: str = "Drawn") -> Features:
    at = [p + HERE for p in paths]
    return Features(
        name=item, crs=CRS, table=pd.DataFrame({"body": names}),
        **one_each([a[:, :2] for a in at], LINE, [a[:, 2] for a in at]),
    )  # fmt: skip


def test_a_drawn_line_moves_the_surface_to_where_it_lies_and_so_does_a_push(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, flat, every=100.0)
    plain = lamp.run("build-units", holes=holes, units=FLAT, **CELLS)
    assert base_of(lamp[plain["model"]], "Sand", 50, 50) == pytest.approx(100.0, abs=6.0)
    drawn = lamp.store.put(lines([np.array([[50.0, 20, -60], [50, 80, -60]])], ["Sand"]))
    pulled = lamp.run("build-units", holes=holes, lines=drawn, units=FLAT, **CELLS)
    assert base_of(lamp[pulled["model"]], "Sand", 50, 50) == pytest.approx(60.0, abs=6.0)
    assert base_of(lamp[pulled["model"]], "Sand", 100, 100) == pytest.approx(100.0, abs=6.0)  # a hole stands there
    push = {"surface": "Sand", "east": WEST + 150, "north": SOUTH + 50, "elevation": TOP - 130}
    pushed = lamp.run("build-units", holes=holes, units=FLAT, edits=[push], **CELLS)
    assert base_of(lamp[pushed["model"]], "Sand", 150, 50) == pytest.approx(130.0, abs=10.0)
    table = pd.DataFrame({"x": [WEST + 150], "y": [SOUTH + 50], "z": [TOP - 130], "unit": ["Sand"]})
    picks = lamp.store.put(PointSet(name="Picked", crs=CRS, table=table))
    picked = lamp.run("build-units", holes=holes, units=FLAT, picks=picks, **CELLS)
    one, other = lamp[pushed["model"]], lamp[picked["model"]]
    assert isinstance(one, BlockModel) and isinstance(other, BlockModel)
    assert np.array_equal(one.properties["unit"], other.properties["unit"], equal_nan=True)
    with pytest.raises(LampError, match="names 'Basalt', which is no unit"):
        lamp.run("build-units", holes=holes, units=FLAT, edits=[push | {"surface": "Basalt"}], **CELLS)


def test_an_outline_drawn_in_a_section_holds_its_body(lamp: Project, tmp_path: Path) -> None:
    # No hole meets the granite: what was drawn is all that says where it is.
    holes = drilled(lamp, tmp_path, lambda x, _y, _z: np.full(len(x), "SLATE"), every=100.0)
    turn = np.linspace(0, 2 * np.pi, 25)
    around = [
        np.column_stack([50 + 30 * np.cos(turn), np.full(25, y), -100 + 30 * np.sin(turn)]) for y in (30.0, 50.0, 70.0)
    ]
    for each in around:
        each[-1] = each[0]
    drawn = lamp.store.put(lines(around, ["Granite"] * 3))
    model = lamp[lamp.run("build-units", holes=holes, lines=drawn, units=BALL, **CELLS)["model"]]
    assert isinstance(model, BlockModel)
    at = np.array([[50.0, 50, -100], [50, 50, -60], [70, 50, -100], [95, 50, -100], [50, 40, -80]]) + HERE
    assert model.mesh.values_at(model.properties["unit"], *at.T).tolist() == [0, 1, 0, 1, 0]


def test_each_pair_feeds_one_surface_and_the_contact_table_gives_it_to_another(lamp: Project, tmp_path: Path) -> None:
    def rocks(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        # A sill of porphyry under sand in the west; east of it sand lies on slate.
        return np.where(z > -80, "SAND", np.where((z > -110) & (x < 110), "PORPH", "SLATE"))

    units = [
        {"unit": "Sand", "kind": "unconformity", "codes": "SAND"},
        {"unit": "Porphyry", "kind": "intrusive contact", "codes": "PORPH"},
        {"unit": "Slate", "kind": "background", "codes": "SLATE"},
    ]
    holes = drilled(lamp, tmp_path, rocks, every=50.0)
    task = execute.prepare(lamp.store, "build-units", {**CELLS, "units": units}, {"holes": holes})
    cost = execute.estimate(lamp.store, "build-units", {**CELLS, "units": units}, {"holes": holes})
    assert cost is not None and task is not None
    assert set(cost.contacts) == {
        ("Sand", "Porphyry", 15, "Sand"), ("Sand", "Slate", 10, "Sand"), ("Porphyry", "Slate", 15, "Porphyry"),
    }  # fmt: skip

    def contacts(rows: list[dict[str, str]]) -> dict[str, int]:
        made = lamp.run("build-units", holes=holes, units=units, contacts=rows, **CELLS)
        return dict(lamp[made["contacts"]].table["surface"].value_counts())  # type: ignore[attr-defined]

    assert contacts([]) == {"Sand": 25, "Porphyry": 15}
    assert contacts([{"one": "Porphyry", "other": "Sand", "surface": "Porphyry"}]) == {"Sand": 10, "Porphyry": 30}
    assert contacts([{"one": "Sand", "other": "Slate", "surface": "none"}]) == {"Sand": 15, "Porphyry": 15}
    twice = [{"one": "Sand", "other": "Slate", "surface": "none"}, {"one": "Slate", "other": "Sand", "surface": "Sand"}]
    for rows, words in (
        (twice, "A pair feeds one surface only"),
        ([{"one": "Sand", "other": "Tuff"}], "names 'Tuff'"),
        ([{"one": "Sand", "other": "Slate", "surface": "Slate"}], "the background and has no surface"),
    ):
        with pytest.raises(LampError, match=words):
            contacts(rows)
    cost = execute.estimate(
        lamp.store, "build-units", {**CELLS, "units": units, "contacts": twice[:1]}, {"holes": holes}
    )
    assert cost is not None and any("feed no surface: Sand and Slate (10 times)" in note for note in cost.notes)


def test_holes_that_a_surface_misses_are_listed_and_mended_in_one_step(lamp: Project, tmp_path: Path) -> None:
    def odd(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        base = np.where((x == 100) & (y == 100), -140.0, -100.0)
        return np.where(z > base, "SAND", "SLATE")

    holes = drilled(lamp, tmp_path, odd, every=50.0)
    asked: dict[str, Any] = {"holes": holes, "units": FLAT, **CELLS, "smoothing": 300.0}
    made = lamp.run("build-units", **asked)
    misses = lamp[made["misses"]].table  # type: ignore[attr-defined]
    worst = misses.iloc[0]
    assert worst["hole"] == "H12" and worst["surface"] == "Sand" and worst["distance"] > 5.0
    assert (np.diff(misses["distance"]) <= 0).all() and (misses["distance"] > 2.0).all()
    honoured = lamp.run("build-units", **asked, mends=[{"hole": "H12", "surface": "Sand"}])
    at = lamp[honoured["contacts"]].table  # type: ignore[attr-defined]
    assert at.loc[at["hole"] == "H12", "misfit"].abs().max() < 0.1
    doubted = lamp.run("build-units", **asked, mends=[{"hole": "H12", "what": "doubtful"}])
    left = lamp[doubted["contacts"]].table  # type: ignore[attr-defined]
    assert "H12" not in set(left["hole"]) and left["misfit"].abs().max() < 2.0
    exact = lamp.run("build-units", **asked, exact="holes")
    assert lamp[exact["contacts"]].table["misfit"].abs().max() < 0.1  # type: ignore[attr-defined]
    with pytest.raises(LampError, match="'X9' that is to be mended is not there"):
        lamp.run("build-units", **asked, mends=[{"hole": "X9"}])


def test_contacts_come_from_a_grid_an_open_and_a_closed_surface(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball, every=100.0)
    x = WEST - 100 + 20.0 * np.arange(21)
    y = SOUTH - 100 + 20.0 * np.arange(21)
    height = TOP - 50.0 - 0.2 * (x[None, :] - WEST) + 0.0 * y[:, None]
    grid = Grid(
        name="Base of cover",
        crs=CRS,
        values=height,
        x0=x[0],
        y0=y[0],
        dx=20.0,
        dy=20.0,
        attribute="Elevation",
        unit="m",
    )
    ground = trimesh.creation.icosphere(3, 50.0)
    sphere = Surface(
        name="Pluton", crs=CRS, vertices=ground.vertices + HERE + [100, 100, -150], triangles=ground.faces, closed=True
    )
    units = [
        {"unit": "Cover", "kind": "overburden", "codes": "TILL", "surface": "Base of cover"},
        {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN", "surface": "Pluton"},
        {"unit": "Slate", "kind": "background", "codes": "SLATE"},
    ]
    given = [lamp.store.put(grid), lamp.store.put(sphere)]
    made = lamp.run("build-units", holes=holes, units=units, surfaces=given, **CELLS)["model"]
    model = lamp[made]
    for place in (20.0, 180.0):
        assert base_of(model, "Cover", place, 100) == pytest.approx(50 + 0.2 * place, abs=8.0)
    pluton = lamp[lamp.run("unit-surface", model=made, unit="Granite")["surface"]]
    assert isinstance(pluton, Surface) and pluton.volume_m3 == pytest.approx(ground.volume, rel=0.03)
    triangles = np.array([[k, k + 1, k + 21] for k in range(0, 419)] + [[k + 1, k + 22, k + 21] for k in range(0, 419)])
    gx, gy = np.meshgrid(x, y)
    sheet = Surface(
        name="Sheet", crs=CRS, vertices=np.column_stack([gx.ravel(), gy.ravel(), height.ravel()]), triangles=triangles
    )
    units[0]["surface"] = "Sheet"
    other = lamp[
        lamp.run("build-units", holes=holes, units=units, surfaces=[lamp.store.put(sheet), given[1]], **CELLS)["model"]
    ]
    assert base_of(other, "Cover", 20.0, 100) == pytest.approx(54.0, abs=8.0)
    with pytest.raises(LampError, match="no given surface is called 'Sheet'"):
        lamp.run("build-units", holes=holes, units=units, surfaces=given, **CELLS)


def test_points_inside_of_a_closed_surface_are_those_of_trimesh() -> None:
    torus = trimesh.creation.torus(30.0, 10.0)
    at = np.random.default_rng(0).uniform(-45, 45, (400, 3)) * [1, 1, 0.4]
    ring = np.hypot(np.hypot(at[:, 0], at[:, 1]) - 30.0, at[:, 2])
    clear = np.abs(ring - 10.0) > 0.5  # the closed form, away from the facets
    assert (inside_mesh(at, torus.vertices, torus.faces) == (ring < 10.0))[clear].all()
    assert (inside_mesh(at, torus.vertices, torus.faces[:, ::-1]) == (ring < 10.0))[clear].all()


def test_a_fault_is_laid_through_its_trace_and_its_bends(lamp: Project) -> None:
    rng = np.random.default_rng(2)
    normal = plane_normal(np.array([70.0]), np.array([60.0]))[0]
    uv = rng.uniform(-200, 200, (40, 2))
    axes = np.stack([np.cross([0.0, 0.0, 1.0], normal), np.cross(normal, np.cross([0.0, 0.0, 1.0], normal))])
    axes /= np.linalg.norm(axes, axis=1)[:, None]
    at = uv @ axes
    plane = through(at)
    assert plane.dip == pytest.approx(70.0, abs=0.1) and plane.dip_direction == pytest.approx(60.0, abs=0.1)
    bent = at + (15.0 * np.sin(uv[:, :1] / 80.0)) * normal
    curved = through(bent, 70.0, 60.0, smooth=0.0)
    assert np.abs(curved.off(bent)).max() < 0.5 and np.abs(through(at, 70.0, 60.0).off(bent)).max() > 10.0
    on = curved.places_on(np.full(3, -150.0), np.full(3, 150.0), 20.0)
    assert len(on) > 50 and np.abs(curved.off(on)).max() < 0.5
    flat = np.column_stack([np.arange(10.0), np.zeros(10), np.zeros(10)])
    with pytest.raises(InputError, match="Give its dip"):
        through(flat)
    # A trace on level ground and a typed dip: the strike is the trace's.
    assert through(flat, 60.0, 0.0).strike @ [1.0, 0.0, 0.0] == pytest.approx(-1.0)


def test_a_fault_dies_out_along_an_ellipse_and_ends_at_another() -> None:
    # Share of the movement over an elliptic fault, sqrt(1 - s2 - t2): zero at its tips, in closed form.
    fault = Fault(np.zeros(3), 90.0, 90.0, throw=10.0, length=200.0, height=100.0)
    at = np.array([[5.0, 0, 0], [5, 50, 0], [5, 0, 25], [5, 50, 25], [5, 99, 10], [5, 0, 60]])
    s, t = at[:, 1] / 100.0, at[:, 2] / 50.0
    assert fault.share(at) == pytest.approx(np.sqrt(np.clip(1 - s**2 - t**2, 0, None)))
    main = Fault(np.zeros(3), 90.0, 90.0, throw=50.0)
    branch = Fault(np.array([100.0, 0, 0]), 90.0, 0.0, throw=20.0, ends=((main, 1.0),))
    assert branch.share(np.array([[50.0, 5, 0], [-50.0, 5, 0]])).tolist() == [1.0, 0.0]


def test_throws_are_mapped_on_faults_and_traces_give_their_place(lamp: Project, tmp_path: Path) -> None:
    moved = Fault(np.array([100.0, 100.0, -100.0]), 90.0, 90.0, throw=36.0)

    def broken(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        _, _, z = moved.taken_back(np.column_stack([x, y, z])).T
        return np.where(z > -90.0, "UPPER", np.where(z > -120.0, "LIME", "BASE"))

    holes = drilled(lamp, tmp_path, broken, every=25.0)
    trace = lines([np.array([[100.0, -20, np.nan], [100, 220, np.nan]])], ["Big fault"], "Traces")
    row = {"fault": "Big fault", "dip": 90.0, "dip_direction": 90.0}
    units = [LAYERS[1], LAYERS[2], LAYERS[4]]
    made = lamp.run("build-units", holes=holes, traces=lamp.store.put(trace), units=units, faults=[row], **CELLS)
    throws = lamp[made["throws"]].table  # type: ignore[attr-defined]
    assert throws["throw"].to_numpy() == pytest.approx(36.0, abs=4.0) and set(throws["fault"]) == {"Big fault"}
    assert np.abs(throws["x"] - WEST - 100).max() < 1.0 and (throws["z"] <= TOP).all()
    both = [row | {"throw": 36.0, "length": 120.0}, {"fault": "Side", "east": WEST + 150, "north": SOUTH + 100, "dip": 90.0,
            "dip_direction": 0.0, "throw": 10.0, "ends_at": "Big fault"}]  # fmt: skip
    made = lamp.run("build-units", holes=holes, traces="Traces", units=units, faults=both, **CELLS)
    throws = lamp[made["throws"]].table  # type: ignore[attr-defined]
    main, side = (throws[throws["fault"] == name] for name in ("Big fault", "Side"))
    assert main["y"].between(SOUTH + 39, SOUTH + 161).all() and main["throw"].max() <= 36.0
    assert (side["x"] > WEST + 99).all()
    for bad, words in (
        ({"fault": "Nowhere"}, "has no place"),
        (row | {"throw": 5.0, "ends_at": "X"}, "which is no other fault"),
        ({"fault": "G", "east": WEST, "north": SOUTH}, "needs a dip"),
    ):
        with pytest.raises(LampError, match=words):
            lamp.run("build-units", holes=holes, traces="Traces", units=units, faults=[bad], **CELLS)


def test_parallel_veins_are_told_apart_and_one_ends_at_another(lamp: Project, tmp_path: Path) -> None:
    assert parted(np.array([0.0, 50, 1, 52, -1, 100]), 10.0).tolist() == [0, 1, 0, 1, 0, 2]

    def veins(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        flat_lying = np.abs((z + 120.0 + 40.0) % 80.0 - 40.0) < 4.0  # at 40, 120 and 200 m
        return np.where(flat_lying, "QV", "SLATE")

    holes = drilled(lamp, tmp_path, veins, every=50.0)
    units = [
        {"unit": "Veins", "kind": "vein", "codes": "QV", "dip": 0.0, "dip_direction": 0.0, "apart": 20.0},
        {"unit": "Slate", "kind": "background", "codes": "SLATE"},
    ]
    cells = CELLS | {"cell": 10.0, "cell_z": 2.0, "margin": 10.0}
    model = lamp[lamp.run("build-units", holes=holes, units=units, **cells)["model"]]
    assert isinstance(model, BlockModel)
    at = model.mesh.centres() - HERE
    inside = ((at[:, :2] > 0) & (at[:, :2] < 200)).all(axis=1) & (at[:, 2] > -245)
    true = np.where(veins(*at[inside].T) == "QV", 0, 1)
    found = model.properties["unit"].ravel()[inside]
    assert ((true == 0) & (found == 0)).sum() / ((true == 0) | (found == 0)).sum() > 0.9

    def crossed(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        steep = np.abs(x - 100.0 + 0.2 * (z + 100)) < 4.0
        level = (np.abs(z + 100.0) < 3.0) & (x > 90)
        return np.where(steep, "MAIN", np.where(level, "SPLAY", "SLATE"))

    holes = drilled(lamp, tmp_path, crossed, "Crossed", every=20.0)
    units = [
        {"unit": "Main", "kind": "vein", "codes": "MAIN", "dip": 80.0, "dip_direction": 90.0},
        {"unit": "Splay", "kind": "vein", "codes": "SPLAY", "dip": 0.0, "dip_direction": 0.0, "ends_at": "Main"},
        {"unit": "Slate", "kind": "background", "codes": "SLATE"},
    ]
    ended = lamp[lamp.run("build-units", holes=holes, units=units, **cells)["model"]]
    assert isinstance(ended, BlockModel)
    at = ended.mesh.centres() - HERE
    splay = ended.properties["unit"].ravel() == 1
    assert splay.any() and (at[splay, 0] > 85).all()
    with pytest.raises(LampError, match="which is no other vein"):
        lamp.run("build-units", holes=holes, units=[units[0], units[1] | {"ends_at": "Slate"}, units[2]], **cells)


def folded() -> Callable[[np.ndarray], np.ndarray]:
    """Height above a fold's middle surface, along its normal where it lies flat."""
    return lambda at: at[:, 2] - 60.0 * np.cos(at[:, 0] / 60.0)


def test_a_field_reaches_along_a_fold_when_it_is_lifted_by_its_bedding() -> None:
    rng = np.random.default_rng(1)
    bed = folded()
    at = rng.uniform([-190, -50, -100], [190, 50, 100], (220, 3))
    xy = rng.uniform([-190, -50], [190, 50], (150, 2))
    on = np.column_stack([xy, 60.0 * np.cos(xy[:, 0] / 60.0)])
    slope = -np.sin(on[:, 0] / 60.0)
    normals = np.column_stack([-slope, np.zeros(150), np.ones(150)]) / np.hypot(1, slope)[:, None]
    grade = np.exp(-((bed(at) / 15.0) ** 2))  # a layer that follows the fold
    test = rng.uniform([-180, -40, -90], [180, 40, 90], (400, 3))
    true = np.exp(-((bed(test) / 15.0) ** 2))
    nothing = np.empty((0, 3))

    def wrong(lift: Lift | None) -> float:
        field = fit_with_planes(at, grade, nothing, nothing, drift="constant", lift=lift)
        return float(np.sqrt(np.mean((evaluate(field, test) - true) ** 2)))

    plain = wrong(None)
    assert wrong(of_planes(on, normals, 6.0)) < 0.6 * plain
    gx, gy = np.meshgrid(np.arange(-200.0, 201, 10), np.arange(-60.0, 61, 20), indexing="ij")
    k = np.arange(40)[:, None] * 7 + np.arange(6)[None, :]
    corners = [k.ravel(), k.ravel() + 7, k.ravel() + 8], [k.ravel(), k.ravel() + 8, k.ravel() + 1]
    triangles = np.vstack([np.column_stack(c) for c in corners])
    vertices = np.column_stack([gx.ravel(), gy.ravel(), 60.0 * np.cos(gx.ravel() / 60.0)])
    assert wrong(of_surface(vertices, triangles, 6.0)) < 0.6 * plain
    # A plane as the trend is the ellipsoid of that plane: distances are the same.
    lift = of_planes(
        np.array([[0.0, 0, 0], [100, 0, 0], [0, 100, 0], [60, 70, 20]]), np.tile([0.0, 0.0, 1.0], (4, 1)), 3.0
    )
    assert np.diff(lift(np.array([[0.0, 0, 0], [50, 20, 10]])))[0] == pytest.approx(10.0 * np.sqrt(8.0), rel=1e-3)
    assert isinstance(fit(at, grade), type(lift.field))


def test_entropy_is_high_where_the_model_is_a_guess_and_volumes_have_a_spread(lamp: Project, tmp_path: Path) -> None:
    # Two kinds as likely as each other, and one alone: 1 and 0 in closed form; a quarter and three quarters by hand.
    share = np.array([[0.5, 0.5], [1.0, 0.0], [0.25, 0.75]])
    assert entropy(share) == pytest.approx([1.0, 0.0, 0.8112781], abs=1e-6)
    holes = drilled(lamp, tmp_path, flat, every=100.0)
    asked: dict[str, Any] = {**CELLS, "units": FLAT, "realisations": 40, "contact_error": 8.0}
    told: list[str] = []
    task = execute.prepare(lamp.store, "unit-uncertainty", asked, {"holes": holes})
    made = execute.land(lamp.store, task, execute.perform(task, CallbackProgress(lambda _f, m, _k: told.append(m))))
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    values = model.properties["entropy"]
    depth = TOP - model.mesh.centres()[:, 2].reshape(values.shape)
    assert np.nanmean(values[(depth > 94) & (depth < 106)]) > 0.5
    assert np.nanmax(values[(depth < 60) | (depth > 140)]) < 0.1
    both = model.properties["probability of Sand"] + model.properties["probability of Slate"]
    assert both[np.isfinite(both)] == pytest.approx(100.0, abs=1e-3)
    # At a hole the probability falls with depth as the errors of its contact do: normal, 8 m.
    column = model.properties["probability of Sand"][2, 2]
    at = depth[2, 2]
    near = column[np.argmin(np.abs(at - 105))]
    assert 5.0 < near < 50.0
    assert any("Sand" in w and "±" in w for w in told)
    again = lamp[lamp.run("unit-uncertainty", holes=holes, **asked)["model"]]
    assert isinstance(again, BlockModel) and np.array_equal(again.properties["entropy"], values, equal_nan=True)
    sure = lamp[lamp.run("unit-uncertainty", holes=holes, **asked | {"contact_error": 0.0})["model"]]
    assert isinstance(sure, BlockModel) and np.nanmax(sure.properties["entropy"]) == 0.0


def test_holes_left_out_in_turn_say_how_well_the_model_foretells_them(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, flat, every=50.0)
    told: list[str] = []
    task = execute.prepare(lamp.store, "leave-holes-out", {**CELLS, "units": FLAT, "parts": 4}, {"holes": holes})
    made = execute.land(lamp.store, task, execute.perform(task, CallbackProgress(lambda _f, m, _k: told.append(m))))
    table = lamp[made["foretold"]].table  # type: ignore[attr-defined]
    assert len(table) == 25 and table["agreement"].min() > 95  # level ground is foretold by any part of the holes
    assert any("foretold by models made without" in w for w in told)

    def odd(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        return np.where(z > np.where((x == 100) & (y == 100), -180.0, -100.0), "SAND", "SLATE")

    other = drilled(lamp, tmp_path, odd, "Odd", every=50.0)
    table = lamp[lamp.run("leave-holes-out", holes=other, units=FLAT, parts=5, **CELLS)["foretold"]].table  # type: ignore[attr-defined]
    worst = table.iloc[0]
    assert worst["hole"] == "O12" and worst["wrong"] > 60 and worst["mostly"] == "Sand as Slate"
    with pytest.raises(LampError, match="can't be left out in 30 parts"):
        lamp.run("leave-holes-out", holes=holes, units=FLAT, parts=30, **CELLS)


def test_the_difference_of_two_versions_tells_volumes_and_how_far_surfaces_moved(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, flat, every=50.0)
    first = lamp[lamp.run("build-units", holes=holes, units=FLAT, **CELLS)["model"]]
    push = {"surface": "Sand", "east": WEST + 75, "north": SOUTH + 75, "elevation": TOP - 130}
    later = lamp[lamp.run("build-units", holes=holes, units=FLAT, edits=[push], **CELLS)["model"]]
    changes = {c.what: c for c in difference(first, later)}
    assert set(changes) == {
        "Volume of Sand",
        "Volume of Slate",
        "Surface of Sand: moved by",
        "Surface of Slate: moved by",
    }
    moved = changes["Surface of Sand: moved by"]
    assert moved.place == pytest.approx((WEST + 75, SOUTH + 75, TOP - 100), abs=16.0)
    assert moved.after.startswith("0.")  # nearly all of it stayed
    sand = [float(v.split()[0]) for v in (changes["Volume of Sand"].before, changes["Volume of Sand"].after)]
    assert sand[1] > sand[0]


def test_throws_are_measured_along_a_section_and_readings_are_gridded_as_directions(lamp: Project) -> None:
    # A fault that dips 60 to the east with 40 m throw: its heave is 40 / tan 60 across, and less by the cosine on an oblique section.
    fault = Fault(HERE + np.array([100.0, 100, -100]), 60.0, 90.0, throw=40.0)
    z = np.linspace(-200, 0, 9)
    at = HERE + np.column_stack([100.0 + (-100 - z) / np.tan(np.radians(60.0)), np.full(9, 100.0), z])
    rows = pd.DataFrame(at, columns=list("xyz")).assign(
        fault="F", throw=40.0, heave=fault.heave, slip_east=fault.slip[0], slip_north=fault.slip[1], along=0.0
    )
    throws = lamp.store.put(
        PointSet(name="Throws", crs=CRS, table=rows, units={"throw": "m", "heave": "m"}, content="readings")
    )
    for angle in (0.0, 50.0):
        a = np.radians(angle)
        ends = [(WEST + 100 + s * np.cos(a), SOUTH + 100 + s * np.sin(a)) for s in (-300, 300)]
        line = "; ".join(f"{x} {y}" for x, y in ends)
        made = lamp[lamp.run("throws-on-section", throws=throws, line=line, corridor=200.0)["throws"]]
        assert isinstance(made, PointSet)
        assert made.table["heave in the section"].to_numpy() == pytest.approx(23.094 * np.cos(a), abs=1e-3)
    with pytest.raises(LampError, match="crosses no fault"):
        lamp.run("throws-on-section", throws=throws, line=f"{WEST + 900} {SOUTH}; {WEST + 900} {SOUTH + 100}")
    # 359 and 1 degrees are two degrees apart, not 180.
    table = pd.DataFrame(
        {"x": WEST + np.array([0.0, 10, 0, 10]), "y": SOUTH + np.array([0.0, 0, 10, 10]), "z": TOP, "dip": 30.0,
         "dip direction": [359.0, 1.0, 359.0, 1.0], "kind": ["bedding", "bedding", "joint", "bedding"]}
    )  # fmt: skip
    stops = PointSet(name="S", crs=CRS, table=table, units={"dip": "°", "dip direction": "°"}, content="structures",
                     quantities={"dip": "dip", "dip direction": "direction"})  # fmt: skip
    planes = lamp[lamp.run("grid-readings", structures=lamp.store.put(stops), spacing=10.0, reach=50.0)["planes"]]
    assert isinstance(planes, PointSet)
    north = (planes.table["dip direction"] + 180) % 360 - 180
    assert np.abs(north).max() < 1.5 and planes.table["dip"].to_numpy() == pytest.approx(30.0, abs=0.1)
    assert planes.table["agreement"].min() > 90
    with pytest.raises(LampError, match="no structural reading is of 'foliation'"):
        lamp.run("grid-readings", structures="S", planes="foliation")


def test_a_coarse_model_is_shown_first_and_what_a_change_leaves_alone_is_not_made_again(
    lamp: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def rocks(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        return np.where(z > -60.0, "SAND", np.where(ball(x, y, z) == "GRAN", "GRAN", "SLATE"))

    holes = drilled(lamp, tmp_path, rocks, every=50.0)
    units = [FLAT[0], BALL[0], BALL[1]]
    shown: list[object] = []
    watch = CallbackProgress(lambda _f, _m, _k: None, view=shown.append)
    cells = CELLS | {"cell": 6.0, "cell_z": 6.0}
    task = execute.prepare(lamp.store, "build-units", {**cells, "units": units}, {"holes": holes})
    made = execute.land(lamp.store, task, execute.perform(task, watch))
    fine, coarse = lamp[made["model"]], shown[0]
    assert isinstance(fine, BlockModel) and isinstance(coarse, BlockModel) and coarse.mesh.size < 0.4 * fine.mesh.size
    at = fine.mesh.centres(np.argwhere(fine.present))[::50]
    same = coarse.mesh.values_at(coarse.properties["unit"], *at.T) == fine.mesh.values_at(
        fine.properties["unit"], *at.T
    )
    assert same.mean() > 0.9
    # A push of the granite leaves the sand's field as it was: only one fine and one coarse field are fitted.
    fits: list[int] = []
    plain = scalar_fields.fit_with_planes
    monkeypatch.setattr(scalar_fields, "fit_with_planes", lambda *a, **k: (fits.append(len(a[0])), plain(*a, **k))[1])
    push = {"surface": "Granite", "east": WEST + 100, "north": SOUTH + 100, "elevation": TOP - 200}
    changed = execute.rerun(lamp.store, made["model"], {**cells, "units": units, "edits": [push]})
    execute.land(lamp.store, changed, execute.perform(changed, watch))
    assert len(fits) == 2
    assert lamp.store.entry(made["model"]).version > 1 and lamp.store.entry(made["model"]).chain[0].params["edits"]


def test_age_orders_are_typed_on_the_command_line(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball, every=100.0)
    text = "Granite, intrusive contact, GRAN | PEG; Slate, background, SLATE"
    model = lamp[lamp.run("build-units", holes=holes, units=text, **CELLS)["model"]]
    assert isinstance(model, BlockModel) and model.members == {"GRAN": "Granite", "PEG": "Granite", "SLATE": "Slate"}


def test_a_unit_is_switched_out_of_the_age_order_and_back(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball, every=50.0)
    units = [
        BALL[0],
        {"unit": "Skarn", "kind": "intrusive contact", "codes": "SKARN", "use": "out"},
        BALL[1] | {"codes": "SLATE; *"},
    ]
    said: dict[str, Any] = {
        "contacts": [{"one": "Granite", "other": "Skarn", "surface": "none"}], "mends": [{"hole": "H1", "surface": "Skarn"}],
        "faults": [FAULT | {"throw": 10.0, "cuts_from": "Skarn"}],
    }  # fmt: skip
    model = lamp[lamp.run("build-units", holes=holes, units=units, **said, **CELLS)["model"]]
    assert isinstance(model, BlockModel) and model.names["unit"] == ("Granite", "Slate")
    with pytest.raises(LampError, match="nothing tells where 'Skarn' ends"):
        lamp.run("build-units", holes=holes, units=[units[0], units[1] | {"use": "in"}, units[2]], **CELLS)


def test_a_cover_is_as_thick_as_in_the_holes_and_as_sure_as_they_are(lamp: Project, tmp_path: Path) -> None:
    def covered(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        thick = np.where(x > 110, 0.0, 12.0 + 0.05 * y)  # nothing in the east
        return np.where(-z < thick, "TILL", ball(x, y, z))

    holes = drilled(lamp, tmp_path, covered, every=50.0)
    units = [{"unit": "Till", "kind": "overburden", "codes": "TILL"}, *BALL]
    asked: dict[str, Any] = {**CELLS, "units": units, "layers": "follow the ground", "cell_z": 9.0}
    model = lamp[lamp.run("build-units", holes=holes, **asked)["model"]]
    assert isinstance(model, BlockModel)
    assert base_of(model, "Till", 50, 100) == pytest.approx(17.0, abs=3.0)
    at = np.array([[WEST + 190.0, SOUTH + 100, TOP - 1.0], [WEST + 20.0, SOUTH + 100, TOP - 1.0]])
    assert model.mesh.values_at(model.properties["unit"], *at.T).tolist() == [2.0, 0.0]
    unsure = lamp[lamp.run("unit-uncertainty", holes=holes, realisations=30, contact_error=2.0, **asked)["model"]]
    assert isinstance(unsure, BlockModel)
    till = unsure.properties["probability of Till"]
    assert unsure.mesh.values_at(till, *at.T)[1] > 99 and unsure.mesh.values_at(till, *(at - [0, 0, 60.0]).T)[1] == 0.0


def test_the_surface_of_a_broken_layer_ends_in_the_plane_of_its_fault(lamp: Project, tmp_path: Path) -> None:
    moved = Fault(np.array([110.0, 100.0, -100.0]), 90.0, 90.0, throw=36.0)

    def broken(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        _, _, z = moved.taken_back(np.column_stack([x, y, z])).T
        return np.where(z > -90.0, "UPPER", np.where(z > -120.0, "LIME", "BASE"))

    holes = drilled(lamp, tmp_path, broken, every=25.0)
    row = {"fault": "F", "east": WEST + 110, "north": SOUTH + 100, "dip": 90.0, "dip_direction": 90.0, "throw": 36.0}
    units = [LAYERS[1], LAYERS[2], LAYERS[4]]
    cells = CELLS | {"margin": 0.0, "cell": 8.0}  # the fault lies within cells, not between them
    model = lamp.run("build-units", holes=holes, units=units, faults=[row], **cells)["model"]
    surface = lamp[lamp.run("unit-surface", model=model, unit="Lime")["surface"]]
    assert isinstance(surface, Surface)
    mesh = trimesh.Trimesh(surface.vertices, surface.triangles, process=False)
    b = lamp[model].bounds
    assert mesh.is_watertight and mesh.volume == pytest.approx(30.0 * (b[1] - b[0]) * (b[3] - b[2]), rel=0.02)
    pieces = mesh.split(only_watertight=False)
    assert len(pieces) == 2
    west, east = sorted(pieces, key=lambda m: m.bounds[0, 0])
    assert west.bounds[1, 0] == pytest.approx(WEST + 110, abs=0.2) and east.bounds[0, 0] == pytest.approx(
        WEST + 110, abs=0.2
    )
    # Each piece is level up to the fault: no ramp of a cell between them.
    assert west.bounds[:, 2] == pytest.approx([TOP - 120, TOP - 90], abs=7.0)
    assert east.bounds[:, 2] == pytest.approx([TOP - 156, TOP - 126], abs=7.0)
    plain = lamp[lamp.run("unit-surface", model=model, unit="Basement")["surface"]]
    assert isinstance(plain, Surface) and trimesh.Trimesh(plain.vertices, plain.triangles, process=False).is_watertight


def test_what_is_given_badly_is_named(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, flat, every=100.0)
    line = np.array([[0.0, 0, 0], [50, 50, 0], [100, 100, 0], [150, 150, 0]]) + HERE
    sheet = Surface(name="Line", crs=CRS, vertices=line, triangles=np.array([[0, 1, 2], [1, 2, 3]]))
    empty = Surface(
        name="Empty", crs=CRS, vertices=np.empty((0, 3)), triangles=np.empty((0, 3), dtype=int), closed=True
    )
    given = [lamp.store.put(i) for i in (sheet, empty)]
    units = [{"unit": "Sand", "kind": "unconformity", "codes": "SAND", "surface": "Line"}, FLAT[1]]
    odd = lines(
        [np.array([[0.0, 0, -50], [80, 80, -50], [0, 80, -50], [80, 0, -50], [0, 0, -50]])], ["Sand"], "Crossed"
    )
    cases: list[tuple[dict[str, Any], str]] = [
        ({"units": units, "surfaces": given}, "Line.*has no extent in plan|has no extent in plan"),
        ({"units": [units[0] | {"surface": "Empty"}, FLAT[1]], "surfaces": given}, "has no triangles"),
        ({"units": FLAT, "lines": lamp.store.put(odd)}, "an outline crosses itself"),
        (
            {"units": FLAT, "faults": [{"fault": "F", "east": WEST, "north": SOUTH, "dip": 0.5, "dip_direction": 0}]},
            "dip must be from 1",
        ),
        ({"units": FLAT, "mends": [{"hole": "H1", "surface": "Tuff"}]}, "which is no unit"),
    ]
    before = {e.id: e.version for e in lamp.items}
    for params, words in cases:
        with pytest.raises(LampError, match=words):
            lamp.run("build-units", holes=holes, **params, **CELLS)
    assert {e.id: e.version for e in lamp.items} == before


def test_a_run_is_changed_in_place_by_python_and_by_the_command_line(
    lamp: Project, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    holes = drilled(lamp, tmp_path, flat, every=100.0)
    made = lamp.run("build-units", holes=holes, units=FLAT, **CELLS)
    push = {"surface": "Sand", "east": WEST + 50, "north": SOUTH + 50, "elevation": TOP - 130}
    assert lamp.change(made["model"], edits=[push]) == made
    assert base_of(lamp[made["model"]], "Sand", 50, 50) == pytest.approx(130.0, abs=10.0)
    with pytest.raises(LampError, match="was not made by a run"):
        lamp.change(lamp.store.put(lines([np.zeros((2, 3))], ["a"])), cell=5)
    with pytest.raises(LampError, match="cell"):
        lamp.change(made["model"], cell=-1)
    path = str(lamp.store.path)
    lamp.close()
    assert main(["change", path, "Units of Holes", "edits=", "cell=20"]) == 0
    assert "Units of Holes" in capsys.readouterr().out
    with Project.open(path) as again:
        model = again[made["model"]]
        assert isinstance(model, BlockModel) and model.mesh.u[0] == 20.0
        assert base_of(model, "Sand", 50, 50) == pytest.approx(100.0, abs=12.0)

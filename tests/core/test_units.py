"""Models of units from holes and the map, at 4,000 m in the south: shapes that are known, volumes, layers, veins, refusals."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
import trimesh
from scipy.interpolate import RBFInterpolator

from innerlamp.api import Project
from innerlamp.core.compute.geology import age_order as ao
from innerlamp.core.compute.geology import rbf
from innerlamp.core.compute.geology.contacts import Runs, pairs, sided
from innerlamp.core.compute.geology.faults import Fault
from innerlamp.core.compute.geology.scalar_fields import fit_with_planes
from innerlamp.core.compute.geology.veins import fit_vein
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.items.features import RING, Features, one_each
from innerlamp.core.items.fields import BlockModel, Surface
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.geology.units.logged_units import proposed_order
from innerlamp.core.operations.geology.units.model_units import contacts_of, units_at
from innerlamp.core.progress import CallbackProgress
from innerlamp.core.running import execute

CRS = "EPSG:32719"
WEST, SOUTH, TOP = 402_000.0, 7_502_000.0, 4_000.0
Rock = Callable[[np.ndarray, np.ndarray, np.ndarray], np.ndarray]
CELLS: dict[str, Any] = {
    "attribute": "Rock",
    "cell": 10.0,
    "cell_z": 10.0,
    "flat": TOP,
    "margin": 20.0,
    "base": TOP - 260.0,
}


@pytest.fixture
def lamp(tmp_path: Path) -> Iterator[Project]:
    with Project.create(tmp_path / "units.lamp", CRS) as project:
        yield project


def drilled(
    lamp: Project, tmp_path: Path, rock: Rock, name: str = "Holes", every: float = 40.0, size: float = 200.0
) -> str:
    """Upright holes of 250 m on a lattice, logged by what a function says at each metre; returns the item."""
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0, size + 1, every), np.arange(0, size + 1, every)))
    collars, logs, surveys = ["HOLE,EAST,NORTH,ELEV,DEPTH"], ["HOLE,FROM,TO,Rock"], ["HOLE,DEPTH,AZIMUTH,DIP"]
    depth = np.arange(0.25, 250.0, 0.5)
    for k, (a, b) in enumerate(zip(x, y, strict=True)):
        collars.append(f"{name[0]}{k},{WEST + a},{SOUTH + b},{TOP},250")
        surveys.append(f"{name[0]}{k},0,0,-90")
        code = rock(np.full(len(depth), a), np.full(len(depth), b), -depth)
        change = np.flatnonzero(np.concatenate([[True], code[1:] != code[:-1], [True]]))
        for first, last in pairwise(change):
            logs.append(f"{name[0]}{k},{first * 0.5},{last * 0.5},{code[first]}")
    files = {"collar": collars, "survey": surveys, "lithology": logs}
    for role, lines in files.items():
        (tmp_path / f"{name}_{role}.csv").write_text("\n".join(lines) + "\n", encoding="ascii")
    paths = {role: str(tmp_path / f"{name}_{role}.csv") for role in files}
    return lamp.run("import-holes", name=name, **paths)["holes"]


def ball(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
    return np.where((x - 100) ** 2 + (y - 100) ** 2 + (z + 120) ** 2 < 70.0**2, "GRAN", "SLATE")


BALL = [
    {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN"},
    {"unit": "Slate", "kind": "background", "codes": "SLATE"},
]


def test_pairs_of_units_are_counted_and_samples_have_the_distance_to_a_change_of_side() -> None:
    runs = Runs(
        np.array([0, 0, 0, 1, 1]), np.array([0.0, 10.0, 30.0, 0.0, 50.0]), np.array([10.0, 30.0, 60.0, 20.0, 90.0]),
        np.array(["A", "B", "C", "A", "C"], dtype=object),
    )  # fmt: skip
    table = pairs(runs)
    assert table.to_numpy().tolist() == [["A", "B", 1], ["B", "C", 1]]  # 20 to 50 m of the other hole is not logged
    side = np.array([1, 1, -1, 1, -1])
    found = sided(runs, side, 5.0, 12.0)
    assert found.depth[found.contact].tolist() == [30.0] and found.hole[found.contact].tolist() == [0]
    mine = found.hole == 0
    rest = mine & ~found.contact
    assert found.value[rest] == pytest.approx(np.clip(30.0 - found.depth[rest], -12.0, 12.0))
    assert set(np.abs(found.value[~mine])) == {12.0}  # no contact: only the side is known
    none = sided(runs, side, 5.0, 12.0, np.zeros(4, bool))
    assert not none.contact.any() and (np.abs(none.value[none.hole == 0]) >= 12.0).all()


def slope_of(field: rbf.RadialField, here: np.ndarray) -> np.ndarray:
    """The gradient of a field, by differences over 10 m."""
    ends = [rbf.evaluate(field, here + way * 5.0 * np.eye(3)) for way in (1.0, -1.0)]
    return np.asarray((ends[0] - ends[1]) / 10.0)


def test_three_points_give_the_plane_of_the_three_point_problem_and_readings_turn_it() -> None:
    # Three points of a plane dipping 30 towards 120, the classical problem: dip and direction come back.
    normal = plane_normal(np.array([30.0]), np.array([120.0]))[0]
    xy = np.array([[0.0, 0.0], [300.0, 0.0], [0.0, 250.0], [300.0, 260.0]])
    at = np.column_stack([xy, -(xy @ normal[:2]) / normal[2]])
    above = at + 20.0 * normal
    nothing = np.empty((0, 3))
    field = fit_with_planes(np.vstack([at, above]), np.repeat([0.0, 20.0], 4), nothing, nothing)
    assert slope_of(field, np.array([120.0, 80.0, -30.0])) == pytest.approx(normal, abs=1e-6)
    # A reading 100 m away from the one contact says how the surface goes on.
    one = fit_with_planes(
        np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]), np.zeros(3),
        np.array([[100.0, 0.0, 0.0]]), normal[None, :], plane_nugget=0.0,
    )  # fmt: skip
    slope = slope_of(one, np.array([100.0, 0.0, 0.0]))
    assert slope @ normal == pytest.approx(1.0, abs=0.02)
    assert np.linalg.norm(slope - (slope @ normal) * normal) < 0.05


def test_a_sphere_comes_back_with_its_volume_and_the_units_fill_the_box(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball, every=20.0)
    made = lamp.run("build-units", holes=holes, units=BALL, field="smooth", smoothing=0, **CELLS)
    model = lamp[made["model"]]
    surface = lamp[lamp.run("unit-surface", model=made["model"], unit="Granite")["surface"]]
    with pytest.raises(LampError, match="no unit 'Basalt'"):
        lamp.run("unit-surface", model=made["model"], unit="Basalt")
    assert isinstance(model, BlockModel) and isinstance(surface, Surface)
    exact = 4.0 / 3.0 * np.pi * 70.0**3
    mesh = trimesh.Trimesh(surface.vertices, surface.triangles, process=False)
    assert mesh.is_watertight and mesh.is_winding_consistent and mesh.volume > 0
    assert mesh.volume == pytest.approx(surface.volume_m3) == pytest.approx(exact, rel=0.01)
    away = np.linalg.norm(surface.vertices - [WEST + 100, SOUTH + 100, TOP - 120], axis=1)
    assert np.abs(away - 70.0).max() < 6.0 and np.median(np.abs(away - 70.0)) < 1.0
    values, volume = model.properties["unit"], model.mesh.volumes().reshape(model.mesh.shape)
    parts = [float(volume[values == k].sum()) for k in (0, 1)]
    b = model.bounds
    assert sum(parts) == pytest.approx((b[1] - b[0]) * (b[3] - b[2]) * (b[5] - b[4]), rel=1e-6)
    assert parts[0] == pytest.approx(exact, rel=0.03)
    assert model.names["unit"] == ("Granite", "Slate") and model.attributes["unit"].is_code
    contacts = lamp[made["contacts"]]
    assert isinstance(contacts, PointSet)
    assert contacts.table["misfit"].abs().median() < 1.0 and set(contacts.table["surface"]) == {"Granite"}


def test_an_ellipsoid_comes_back_with_its_volume_and_axes(lamp: Project, tmp_path: Path) -> None:
    axes = np.array([85.0, 55.0, 60.0])

    def egg(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        away = ((x - 100) / axes[0]) ** 2 + ((y - 100) / axes[1]) ** 2 + ((z + 120) / axes[2]) ** 2
        return np.where(away < 1.0, "GRAN", "SLATE")

    holes = drilled(lamp, tmp_path, egg, every=12.5)
    made = lamp.run("build-units", holes=holes, units=BALL, field="smooth", smoothing=0, **CELLS)
    surface = lamp[lamp.run("unit-surface", model=made["model"], unit="Granite")["surface"]]
    assert isinstance(surface, Surface)
    assert surface.volume_m3 == pytest.approx(4.0 / 3.0 * np.pi * np.prod(axes), rel=0.01)
    half = 0.5 * np.ptp(surface.vertices, axis=0)
    assert half == pytest.approx(axes, abs=5.0)


def layered(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
    """A fold of two beds over a basement, cut by a cover of even thickness; the upper bed pinches out to the east."""
    fold = -110.0 + 25.0 * np.sin(x / 60.0)
    thick = np.maximum(30.0 - 0.25 * x, 0.0)
    out = np.where(
        z > fold, "UPPER", np.where(z > fold - thick, "LIME", np.where(z > fold - thick - 35.0, "SAND", "BASE"))
    )
    return np.where(z > -20.0 - 0.1 * y, "COVER", out)


LAYERS = [
    {"unit": "Cover", "kind": "overburden", "codes": "COVER"},
    {"unit": "Upper", "kind": "conformable base", "codes": "UPPER"},
    {"unit": "Lime", "kind": "conformable base", "codes": "LIME"},
    {"unit": "Sand", "kind": "conformable base", "codes": "SAND"},
    {"unit": "Basement", "kind": "background", "codes": "BASE"},
]


def test_conformable_layers_do_not_cross_and_a_cover_cuts_them(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, layered)
    made = lamp.run("build-units", holes=holes, units=LAYERS, **CELLS)
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    values = model.properties["unit"]
    # Down each column units come in their order, each at most once.
    down = values[:, :, ::-1]
    steps = np.diff(down, axis=2)
    assert (steps[np.isfinite(steps)] >= 0).all()
    places = model.mesh.centres() - [WEST, SOUTH, TOP]
    inside = ((places[:, :2] >= 0) & (places[:, :2] <= 200)).all(axis=1) & np.isfinite(values.ravel())
    codes = dict(zip(("COVER", "UPPER", "LIME", "SAND", "BASE"), range(5), strict=True))
    true = np.array([codes[c] for c in layered(*places[inside].T)])
    assert (true == values.ravel()[inside]).mean() > 0.93
    contacts = lamp[made["contacts"]].table  # type: ignore[attr-defined]
    # Where the lime is missing upper lies on sand: that contact feeds the upper's base alone.
    missing = contacts[(contacts["surface"] == "Lime") & (contacts["x"] > WEST + 130)]
    assert not len(missing) and len(contacts[contacts["surface"] == "Upper"]) == 36


def parallel(dip: float, fold: float) -> Rock:
    """Layers of 20 and 40 m between two thick ones, dipping to the west, folded across."""
    d = np.radians(dip)

    def rock(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        up = (x - 300) * np.sin(d) + (z + 130) * np.cos(d)
        along = (x - 300) * np.cos(d) - (z + 130) * np.sin(d)
        up = up - fold * np.sin(along / 90) - 0.75 * fold * np.cos(y / 160) - 30.0
        return np.where(up > 0, "A", np.where(up > -20, "B", np.where(up > -60, "C", "D")))

    return rock


@pytest.mark.parametrize("kind", ["conformable base", "unconformity"])
@pytest.mark.parametrize(
    ("dip", "fold", "right", "off"), [(0, 0, 0.998, 0.005), (30, 20, 0.97, 0.04), (60, 0, 0.998, 0.01)]
)
def test_layers_between_holes_are_as_thick_as_they_are(
    lamp: Project, tmp_path: Path, kind: str, dip: float, fold: float, right: float, off: float
) -> None:
    """Between holes 100 m apart, by formula: samples that tell their side alone do not pull contacts together."""
    rock = parallel(dip, fold)
    holes = drilled(lamp, tmp_path, rock, every=100.0, size=600.0)
    units = [{"unit": n, "kind": kind if n != "D" else "background", "codes": n} for n in "ABCD"]
    made = lamp.run("build-units", holes=holes, attribute="Rock", units=units, cell=20.0, cell_z=4.0, flat=TOP)
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    places = model.mesh.centres() - [WEST, SOUTH, TOP]
    found = model.properties["unit"].ravel()
    inside = ((places > [50, 50, -245]) & (places < [550, 550, -5])).all(axis=1) & np.isfinite(found)
    true = np.searchsorted(["A", "B", "C", "D"], rock(*places[inside].T))
    assert (found[inside] == true).mean() > right
    volumes = [(found[inside] == k).sum() / (true == k).sum() for k in range(4)]
    assert volumes == pytest.approx([1.0] * 4, abs=off)


def test_layers_come_of_holes_in_one_line(lamp: Project, tmp_path: Path) -> None:
    """A slope across the line is what nothing tells: it is taken as level."""
    rock = parallel(60.0, 15.0)
    holes = lamp.store.load(drilled(lamp, tmp_path, rock, every=100.0, size=600.0))
    assert isinstance(holes, HoleSet)
    on = holes.collars["hole"][np.abs(holes.collars["y"] - SOUTH - 300) < 1]

    def only(table: pd.DataFrame) -> pd.DataFrame:
        return table[table["hole"].isin(on)].reset_index(drop=True)

    line = dataclasses.replace(
        holes, name="Line", collars=only(holes.collars), surveys=only(holes.surveys), stations=only(holes.stations),
        tables={k: only(t) for k, t in holes.tables.items()},
    )  # fmt: skip
    units = [{"unit": n, "kind": "conformable base" if n != "D" else "background", "codes": n} for n in "ABCD"]
    made = lamp.run(
        "build-units", holes=lamp.store.put(line), attribute="Rock", units=units, cell=10.0, cell_z=4.0, flat=TOP
    )
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    places = model.mesh.centres() - [WEST, SOUTH, TOP]
    found = model.properties["unit"].ravel()
    near = (np.abs(places[:, 1] - 300) < 30) & (places[:, 0] > 50) & (places[:, 0] < 550) & np.isfinite(found)
    near &= (places[:, 2] > -245) & (places[:, 2] < -5)
    assert (found[near] == np.searchsorted(["A", "B", "C", "D"], rock(*places[near].T))).mean() > 0.95


def test_a_vein_has_its_walls_and_pinches_out_where_a_hole_does_not_have_it() -> None:
    normal = plane_normal(np.array([70.0]), np.array([90.0]))[0]
    axes = np.stack([np.array([0.0, 1.0, 0.0]), np.cross(normal, [0.0, 1.0, 0.0]), normal])
    rng = np.random.default_rng(0)
    uv = rng.uniform(-100, 100, (60, 2))
    there = uv[:, 0] < 40.0
    middle = uv @ axes[:2] + 3.0 * np.sin(uv[:, :1] / 40.0) * normal
    one, other = middle[there] + 2.0 * normal, middle[there] - 2.0 * normal
    missing = (middle[~there] + 15.0 * normal, middle[~there] - 15.0 * normal)
    vein = fit_vein(one, other, missing, least=1.0, reach=60.0)
    assert abs(vein.axes[2] @ normal) > 0.995
    assert np.abs(vein.value(np.vstack([one, other]))).max() < 0.2
    assert vein.value(middle[there]) == pytest.approx(np.full(there.sum(), 2.0), abs=0.3)
    assert (vein.value(middle[~there]) < 0).all()
    assert vein.value(np.array([[0.0, 400.0, 0.0]]))[0] < 0
    with pytest.raises(InputError, match="met 2 times"):
        fit_vein(one[:2], other[:2], (one[:0], one[:0]))
    with pytest.raises(InputError, match="no plane"):
        fit_vein(np.outer(np.arange(4.0), [1, 1, 1]), np.outer(np.arange(4.0), [1, 1, 1]), (one[:0], one[:0]))


def sheet(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
    return np.where(np.abs(z + 60.0 + 0.5 * x) <= 1.0, "QTZ", "SLATE")


def test_a_vein_far_thinner_than_the_cells_is_in_the_model_as_it_was_drilled(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, sheet)
    units = [{"unit": "Veta", "kind": "vein", "codes": "QTZ"}, {"unit": "Slate", "kind": "background", "codes": "*"}]
    made = lamp.run(
        "build-units", holes=holes, units=units, attribute="Rock", cell=25.0, cell_z=25.0, flat=TOP, margin=0.0
    )
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    contacts = contacts_of(model)
    assert contacts is not None and contacts.units == ("Veta", "Slate")
    # Two metres high over all of the square that was drilled, and as far beyond it as the model goes.
    surface = lamp[lamp.run("unit-surface", model=made["model"], unit="Veta")["surface"]]
    assert isinstance(surface, Surface)
    b = model.bounds
    assert surface.volume_m3 == pytest.approx(2.0 * (b[1] - b[0]) * (b[3] - b[2]), rel=0.05)
    x, y = (np.random.default_rng(k).uniform(20.0, 180.0, 2_000) for k in (1, 2))
    for up, inside in ((0.0, True), (0.8, True), (-0.8, True), (1.3, False), (-1.3, False)):
        at = np.column_stack([WEST + x, SOUTH + y, TOP - 60.0 - 0.5 * x + up])
        assert ((units_at(model, at) == 0) == inside).mean() > 0.98
    score = lamp.run("score-model", holes=holes, model=made["model"], attribute="Rock", step=0.25)
    beside = lamp[score["beside"]].tables["modelled"]  # type: ignore[union-attr]
    long = (beside["to_m"] - beside["from_m"])[beside["modelled"] == "Veta"]
    assert len(long) == 36 and long.mean() == pytest.approx(2.0, abs=0.3)
    # Blocks whose units were changed by hand are what counts from then on.
    other = dataclasses.replace(model, properties=dict(model.properties) | {"unit": np.zeros(model.shape)})
    assert contacts_of(other) is None and (units_at(other, at) == 0).all()


def test_a_model_comes_of_the_map_and_readings_alone(lamp: Project) -> None:
    # A contact that strikes north at x = 100 and dips 45 to the east: sand over basement east of it.
    corner = np.array([WEST, SOUTH])
    west = corner + np.array([[0, 0], [100, 0], [100, 200], [0, 200.0]])
    east = corner + np.array([[100, 0], [200, 0], [200, 200], [100, 200.0]])

    chart = Features(
        name="Map", crs=CRS, table=pd.DataFrame({"unit": ["BASE", "SAND"]}),
        **one_each([np.vstack([west, west[:1]]), np.vstack([east, east[:1]])], RING),
    )  # fmt: skip
    rows = pd.DataFrame(
        {"x": WEST + 100.0, "y": SOUTH + np.arange(10.0, 200, 20), "z": TOP, "dip": 45.0, "dip direction": 90.0}
    )
    stops = PointSet(
        name="Stops", crs=CRS, table=rows, units={"dip": "°", "dip direction": "°"}, content="structures",
        quantities={"dip": "dip", "dip direction": "direction"},
    )  # fmt: skip
    units = [
        {"unit": "Sand", "kind": "unconformity", "codes": "SAND"},
        {"unit": "Basement", "kind": "background", "codes": "BASE"},
    ]
    made = lamp.run(
        "build-units", map=lamp.store.put(chart), structures=lamp.store.put(stops), units=units, cell=10, cell_z=10, flat=TOP,
        base=TOP - 80,
    )  # fmt: skip
    model = lamp[made["model"]]
    assert isinstance(model, BlockModel)
    places = model.mesh.centres() - [WEST, SOUTH, TOP]
    true = np.where(places[:, 0] - 100.0 > -places[:, 2], 0, 1)
    middle = np.abs(places[:, 1] - 100) < 70
    assert (true == model.properties["unit"].ravel())[middle].mean() > 0.9
    with pytest.raises(LampError, match="dip that is not from 0 to 90"):
        bad = stops.table.assign(dip=95.0)
        odd = PointSet(
            name="Odd", crs=CRS, table=bad, units=stops.units, content="structures", quantities=dict(stops.quantities)
        )
        lamp.run(
            "build-units",
            map="Map",
            structures=lamp.store.put(odd),
            units=units,
            cell=10,
            cell_z=10,
            flat=TOP,
            base=TOP - 80,
        )


def test_the_scorecard_says_where_model_and_log_differ(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball)
    made = lamp.run("build-units", holes=holes, units=BALL, **CELLS)

    def shifted(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        return ball(x, y, z + 30.0)

    for name, rock, least, most in (("Same", ball, 97.0, 100.0), ("Other", shifted, 70.0, 95.0)):
        later = drilled(lamp, tmp_path, rock, name)
        score = lamp.run("score-model", holes=later, model=made["model"], attribute="Rock")
        by_hole, beside = lamp[score["by_hole"]], lamp[score["beside"]]
        assert isinstance(by_hole, PointSet) and isinstance(beside, HoleSet)
        table = by_hole.table
        mean = float(np.average(table["agreement"]))
        assert least < mean <= most
        assert (np.diff(table["wrong"]) <= 0).all()  # the worst first
        logs = beside.tables["modelled"]
        assert set(logs["modelled"]) <= {"Granite", "Slate"} and set(beside.tables["logged"]["logged"]) == {
            "Granite",
            "Slate",
        }
        each = logs.groupby("hole", observed=True).apply(lambda part: (part["to_m"] - part["from_m"]).sum())
        assert each.max() == pytest.approx(250.0)
    matrix = lamp[score["confusion"]].table.set_index("logged")  # type: ignore[attr-defined]
    assert matrix.loc["Granite", "metres"] == pytest.approx(matrix.loc["Granite", ["as Granite", "as Slate"]].sum())
    right = sum(float(matrix.loc[n, f"as {n}"]) for n in ("Granite", "Slate"))
    assert right / matrix["metres"].sum() == pytest.approx(1.0 - table["wrong"].sum() / matrix["metres"].sum())
    worst = table.iloc[0]
    assert worst["mostly"] in ("Granite as Slate", "Slate as Granite") and worst["wrong"] == pytest.approx(
        60.0, abs=6.0
    )


def test_what_changed_between_two_models_of_units_is_told_by_volume(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball)
    first, later = (
        lamp.run("build-units", holes=holes, units=BALL, **CELLS | {"cap": cap})["model"] for cap in (40.0, 15.0)
    )
    told: list[str] = []
    task = execute.prepare(lamp.store, "compare-models", {}, {"first": later, "second": first})
    made = execute.land(lamp.store, task, execute.perform(task, CallbackProgress(lambda _f, m, _k: told.append(m))))
    one, two, model = lamp[later], lamp[first], lamp[made["model"]]
    assert isinstance(one, BlockModel) and isinstance(two, BlockModel) and isinstance(model, BlockModel)
    differ = one.properties["unit"] != two.properties["unit"]
    there = np.isfinite(one.properties["unit"])
    assert (model.properties["change"][there] == ~differ[there]).all() and differ[there].any()
    words = next(w for w in reversed(told) if "another unit" in w)
    volume = one.mesh.volumes().reshape(one.mesh.shape)
    granite = [float(volume[m.properties["unit"] == 0].sum()) / 1e6 for m in (two, one)]
    assert f"Granite {granite[0]:,.2f} to {granite[1]:,.2f} million m³" in words


def test_the_youngest_that_has_a_place_inside_takes_it() -> None:
    young, old = np.array([1.0, -1.0, -1.0, 2.0]), np.array([1.0, 3.0, -2.0, -1.0])
    unit, margins = ao.combined([young, old])
    assert unit.tolist() == [0, 1, 2, 0]
    assert (np.argmax(margins, axis=0) == unit).all() and margins[1].tolist() == [-1.0, 1.0, -2.0, -2.0]
    units = [
        ao.Unit("a", "vein"),
        ao.Unit("b", "conformable base"),
        ao.Unit("c", "conformable base"),
        ao.Unit("d", "background"),
    ]
    assert ao.series(units) == [[0], [1, 2]]
    assert ao.sides(units, 2, np.array([0, 1, 2, 3, -1])).tolist() == [0, 1, 1, -1, 0]


@pytest.mark.parametrize(
    ("units", "change", "words"),
    [
        ([*BALL, {"unit": "Slate", "kind": "vein"}], {}, "stands in the age order twice"),
        (BALL[:1], {}, "0 units are the background"),
        ([BALL[1], BALL[0]], {}, "comes last in the age order"),
        ([{"unit": "Granite", "kind": "blob"}, BALL[1]], {}, "kind"),
        ([{"unit": "Tuff", "kind": "vein"}, {"unit": "Slate", "kind": "background", "codes": "*"}], {}, "no hole has the vein"),
        ([{"unit": "Tuff", "kind": "unconformity"}, {"unit": "S", "kind": "background", "codes": "*"}], {}, "where 'Tuff' ends"),
        (BALL, {"base": TOP + 100}, "lies above the ground"),
        (BALL, {"cell": 0.2, "cell_z": 0.2}, "Take larger cells"),
        (BALL, {"left_out": "X*"}, "no hole is called"),
        (BALL, {"left_out": "*"}, "all holes are left out"),
        (BALL, {"flat": None}, "neither a ground surface"),
        (BALL, {"outline": f"{WEST} {SOUTH}; {WEST + 100} {SOUTH + 100}; {WEST + 100} {SOUTH}; {WEST} {SOUTH + 100}"}, "crosses itself"),
        ([{**BALL[0], "codes": "SLATE"}, BALL[1]], {}, "belongs to 'Granite' and to 'Slate'"),
    ],
)  # fmt: skip
def test_what_can_not_be_modelled_is_said(
    lamp: Project, tmp_path: Path, units: list[dict[str, str]], change: dict[str, Any], words: str
) -> None:
    holes = drilled(lamp, tmp_path, ball, every=100.0)
    before = {e.id: e.version for e in lamp.items}
    with pytest.raises(LampError, match=words):
        lamp.run("build-units", holes=holes, units=units, **CELLS | change)
    assert {e.id: e.version for e in lamp.items} == before


def test_an_age_order_is_proposed_from_the_names_of_rocks() -> None:
    metres = pd.Series({"SLATE": 4000.0, "TILL": 200.0, "Granito": 900.0, "veta": 30.0, "LIME": 500.0})
    rows = proposed_order(metres)
    assert [(r["unit"], r["kind"]) for r in rows] == [
        ("TILL", "overburden"), ("veta", "vein"), ("Granito", "intrusive contact"), ("LIME", "conformable base"),
        ("SLATE", "background"),
    ]  # fmt: skip


def test_fields_of_many_values_are_those_of_a_reference_library_and_lattices_those_of_direct_sums() -> None:
    rng = np.random.default_rng(4)
    points = np.column_stack([rng.uniform(0, 800, 4000), rng.uniform(0, 600, 4000), rng.uniform(-300, 0, 4000)])
    values = np.sin(points[:, 0] / 90) + points[:, 2] / 200 + rng.normal(0, 0.1, 4000)
    field = rbf.fit(points, values, drift="linear", nugget=2.0)  # by parts
    at = np.column_stack([rng.uniform(0, 800, 60), rng.uniform(0, 600, 60), rng.uniform(-300, 0, 60)])
    # SciPy's kernel is -r as well, and smooths by the same number on the diagonal.
    reference = RBFInterpolator(points, values, kernel="linear", degree=1, smoothing=2.0)(at)
    assert rbf.evaluate(field, at) == pytest.approx(reference, abs=2e-3 * float(np.std(values)))
    tilted = rbf.fit(points[:2500], values[:2500], ellipsoid=rbf.Ellipsoid(30.0, 60.0, 3.0, 2.0))
    shape, steps = (23, 21, 9), (12.0, 15.0, 20.0)
    lattice = rbf.evaluate_lattice(tilted, np.array([100.0, 50.0, -250.0]), steps, shape)
    axes = [o + s * np.arange(n) for o, s, n in zip((100.0, 50.0, -250.0), steps, shape, strict=True)]
    direct = rbf.evaluate(tilted, np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)).reshape(shape)
    assert np.abs(lattice - direct).max() < 1e-4 * np.std(values)


FAULT = {
    "fault": "F",
    "east": WEST + 100.0,
    "north": SOUTH + 100.0,
    "elevation": TOP - 100.0,
    "dip": 60.0,
    "dip_direction": 90.0,
}


def test_a_fault_moves_its_hangingwall_along_its_plane_and_dies_out_at_its_tips() -> None:
    fault = Fault(np.array([0.0, 0.0, 0.0]), 60.0, 90.0, throw=40.0, along=10.0, length=400.0)
    # Dipping east: the hangingwall lies east, and went 40 m down and 40 / tan 60 to the east; 10 m along to the north.
    assert fault.slip == pytest.approx([40.0 / np.tan(np.radians(60.0)), 10.0, -40.0])
    assert fault.heave == pytest.approx(23.09, abs=0.01) and fault.slip @ fault.normal == pytest.approx(0.0, abs=1e-12)
    at = np.array([[50.0, 0.0, 0.0], [-50.0, 0.0, 0.0], [50.0, 160.0, 0.0], [50.0, 250.0, 0.0]])
    moved = at - fault.taken_back(at)
    assert moved[0] == pytest.approx(fault.slip) and (moved[[1, 3]] == 0).all()
    assert moved[2] == pytest.approx(0.6 * fault.slip)  # an ellipse: 0.8 of the way to the tip
    # Along the plane nothing crosses it.
    assert fault.off(at[:1] - moved[:1]) == pytest.approx(fault.off(at[:1]))


def test_units_go_on_across_a_fault_with_the_throw_that_the_holes_ask_for(lamp: Project, tmp_path: Path) -> None:
    moved = Fault(np.array([100.0, 100.0, -100.0]), 60.0, 90.0, throw=36.0)

    def bedded(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        base = -90.0 + 20.0 * np.sin(y / 50.0) - 0.15 * x
        return np.where(z > base, "UPPER", np.where(z > base - 30.0, "LIME", "BASE"))

    def broken(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
        return bedded(*moved.taken_back(np.column_stack([x, y, z])).T)

    holes = drilled(lamp, tmp_path, broken, every=25.0)
    asked = {"holes": holes, "units": [LAYERS[1], LAYERS[2], LAYERS[4]], **CELLS}
    told: list[str] = []
    task = execute.prepare(
        lamp.store,
        "build-units",
        {k: v for k, v in asked.items() if k != "holes"} | {"faults": [FAULT]},
        {"holes": holes},
    )
    made = execute.land(lamp.store, task, execute.perform(task, CallbackProgress(lambda _f, m, _k: told.append(m))))
    words = next(w for w in reversed(told) if "throw of F" in w)
    throw = float(words.split("throw of F ")[1].split(" m")[0])
    assert throw == pytest.approx(36.0, abs=6.0)

    def right(item: str) -> float:
        model = lamp[item]
        assert isinstance(model, BlockModel)
        values, places = model.properties["unit"], model.mesh.centres() - [WEST, SOUTH, TOP]
        near = (np.abs(moved.off(places)) < 25.0) & ((places[:, :2] > 0) & (places[:, :2] < 200)).all(axis=1)
        near &= np.isfinite(values.ravel())
        codes = {"UPPER": 0, "LIME": 1, "BASE": 2}
        true = np.array([codes[c] for c in broken(*places[near].T)])
        return float((true == values.ravel()[near]).mean())

    plain = right(lamp.run("build-units", **asked)["model"])
    assert right(made["model"]) > plain + 0.02 and right(made["model"]) > 0.88
    with pytest.raises(LampError, match="lies outside of the model"):
        lamp.run("build-units", **asked, faults=[{**FAULT, "east": WEST + 5000.0, "throw": 10}])
    with pytest.raises(LampError, match="dip must be from 1 to 90"):
        lamp.run("build-units", **asked, faults=[{**FAULT, "dip": 0.0, "throw": 10}])

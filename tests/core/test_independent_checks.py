"""Numbers that were once wrong in silence, against what is known without the program."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import shapely

from innerlamp.api import Project
from innerlamp.core.compute.potential import diurnal, scrutiny
from innerlamp.core.formats.shapes.features import polygons_of
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.electrodes import ElectrodeSurvey
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import PointSet

CRS = "EPSG:32719"


def test_the_area_of_an_anomaly_is_that_of_its_polygon_with_holes(tmp_path: Path) -> None:
    """A ring of high samples about a low middle, whose area is that of a ring."""
    angle = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    x = 400_000 + np.concatenate([500 * np.cos(angle), np.zeros(5)])
    y = 7_000_000 + np.concatenate([500 * np.sin(angle), np.linspace(-50, 50, 5)])
    table = pd.DataFrame({"x": x, "y": y, "z": 4000.0, "As_ppm": [90.0] * 40 + [1.0] * 5})
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        item = project.store.put(PointSet(name="soil", crs=CRS, table=table, units={"As_ppm": "ppm"}))
        made = project.run("anomalies", samples=item, attribute="As_ppm", by="value", value=50.0, link=100.0)
        features = project.store.load(next(iter(made.values())))
    assert isinstance(features, Features)
    ((_, shape),) = polygons_of(features)
    assert len(shape.interiors) == 1
    assert features.table["area_ha"].item() == pytest.approx(shape.area / 1e4, rel=1e-9)
    discs = shapely.union_all(shapely.buffer(shapely.points(x[:40], y[:40]), 55.0))
    assert features.table["area_ha"].item() == pytest.approx(discs.area / 1e4, rel=1e-6)


def test_noise_of_repeats_goes_by_distance_and_not_by_a_raster() -> None:
    """Pairs 0.2 m apart, wherever they lie to whole metres; their pooled deviation by hand (ISO 5725-2)."""
    rng = np.random.default_rng(3)
    east = np.arange(400) * 25.0 + rng.uniform(0, 1, 400)
    values = rng.normal(0, 50, 400)
    noise = rng.normal(0, 2.0, (3, 400))
    x = np.concatenate([east, east + 0.2, east + 0.1])
    y = np.concatenate([np.zeros(400), np.zeros(400), np.full(400, 0.15)])
    read = (values + noise).ravel()
    got, freedom = scrutiny.noise_of_repeats(x, y, read)
    assert freedom == 800
    assert got == pytest.approx(np.sqrt(((noise - noise.mean(axis=0)) ** 2).sum() / 800), rel=1e-9)
    far, _ = scrutiny.noise_of_repeats(np.append(x, 1e6), np.append(y, 0.0), np.append(read, 1e5))
    assert far == pytest.approx(got)


def test_a_base_reading_after_a_gap_has_a_value_at_its_own_time() -> None:
    base_time = np.array([0.0, 60.0, 5000.0, 5060.0])
    base = np.array([10.0, 12.0, 20.0, 22.0])
    got, datum = diurnal.diurnal(np.array([30.0, 60.0, 2000.0, 5000.0, 5030.0, 5060.0]), base_time, base, 0.0, 600.0)
    assert datum == 0.0
    assert got == pytest.approx([11.0, 12.0, np.nan, 20.0, 21.0, 22.0], nan_ok=True)


def test_a_unit_of_density_zero_stays_a_void(tmp_path: Path) -> None:
    """The slab of Bouguer: a void of 100 m in ground of the background's density is 2 pi G rho t, 2.67 x 41.93e-3 mGal a metre."""
    mesh = TensorMesh.even((0, 0, -200), (2000, 2000, 100), (30, 30, 2))
    numbers = np.zeros(mesh.shape)
    numbers[:, :, 1] = 1.0  # the upper hundred metres
    table = pd.DataFrame({"x": [30_000.0 + k for k in range(4)], "y": [30_000.0] * 4, "z": [1.0] * 4})
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        model = project.store.put(BlockModel(name="units", crs=CRS, mesh=mesh, properties={"unit": numbers}))
        stations = project.store.put(PointSet(name="stations", crs=CRS, table=table, content="stations"))
        units = [{"unit": "0", "value": 2.67}, {"unit": "1", "value": 0.0}]
        made = project.run("response-of-units", model=model, stations=stations, attribute="unit", units=units)
        blocks, points = project.store.load(made["model"]), project.store.load(made["stations"])
    assert isinstance(blocks, BlockModel) and isinstance(points, PointSet)
    density = blocks.properties["density"]
    assert (density[:, :, 1] == 0.0).all() and np.allclose(density[:, :, 0], 2.67)
    assert points.table["computed"].mean() == pytest.approx(-2.67 * 0.04193 * 100, rel=0.01)


def dipoles(kind: str, tmp_path: Path) -> Path:
    """Dipole-dipole over uniform ground of 400 ohm m, electrodes in the order in which they stand on the line.

    The factor of a half-space is 2 pi / (1/am - 1/bm - 1/an + 1/bn) (any handbook of the method), negative for that order.
    """
    rows = []
    for a in range(1, 12):
        for n in range(1, 5):
            e = np.array([a, a + 1, a + 1 + n, a + 2 + n])
            x = e * 10.0
            k = 2 * np.pi / (1 / (x[2] - x[0]) - 1 / (x[2] - x[1]) - 1 / (x[3] - x[0]) + 1 / (x[3] - x[1]))
            ohms = 400.0 / k
            said = {
                "stated": f"{abs(ohms)},{400.0}",
                "unsigned": f"{abs(ohms)},",
                "signed": f"{ohms},",
                "turned": f"{-ohms},",
            }
            odd = f"{abs(ohms)},{40.0 if (a, n) == (3, 2) else 400.0}"
            rows.append(",".join(map(str, e)) + "," + (said | {"odd": odd, "tenth": f"{abs(ohms)},{4000.0}"})[kind])
            assert k < 0
    path = tmp_path / "line.csv"
    path.write_text("A,B,M,N,Resistance (ohm),Rho_a (ohm m)\n" + "\n".join(rows) + "\n")
    return path


@pytest.mark.parametrize(
    ("kind", "asked"),
    [
        ("stated", "opposite sign of the resistivity stated"), ("unsigned", "positive throughout"), ("signed", ""),
        ("turned", "apparent resistivities are negative|positive throughout"),
        ("odd", "resistivity 40 is stated, 400 worked out"), ("tenth", "are not resistance times factor"),
    ],
)  # fmt: skip
def test_resistivities_agree_with_what_the_file_states(kind: str, asked: str, tmp_path: Path) -> None:
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        made = project.run("import-resistivity", readings=[str(dipoles(kind, tmp_path))], positions="electrode numbers")
        survey = project.store.load(made["survey"])
        assert isinstance(survey, ElectrodeSurvey)
        assert survey.table["apparent_resistivity"].to_numpy() == pytest.approx(np.full(44, 400.0), rel=1e-6)
        told = survey.findings["what"]
        assert (
            told.str.contains(asked).sum() == 1 if asked else not len(told[told.str.contains("negative|sign|positive")])
        )
        assert len(survey.findings) < 6
        if kind == "unsigned":
            again = project.run(
                "import-resistivity",
                readings=[str(tmp_path / "line.csv")],
                positions="electrode numbers",
                polarity="as given",
            )
            kept = project.store.load(again["survey"])
            assert isinstance(kept, ElectrodeSurvey) and (kept.table["apparent_resistivity"] < 0).all()

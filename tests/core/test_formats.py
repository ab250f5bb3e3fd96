"""Reading delimited text, columns and dates; writing every kind and reading it with somebody else's reader."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
import rasterio
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from innerlamp.core.compute.geometry.triangles import is_closed, volume
from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.grids.grid_files import read_grid
from innerlamp.core.formats.table import export, formats_for
from innerlamp.core.formats.tables import columns, delimited, rawtable
from innerlamp.core.formats.tables.dates import read_dates
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.kinds import KINDS
from innerlamp.core.items.points import PointSet

CRS = "EPSG:32629"


def write(folder: Path, text: str | bytes, name: str = "t.csv") -> Path:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode("utf-8"))
    return path


def dates(*cells: str) -> tuple[list[str], pd.DataFrame]:
    found = Findings()
    return read_dates(cells, np.arange(2, 2 + len(cells)), found, "t.csv", "collar"), found.frame()


# ---- dates


def test_iso_dates_pass_without_a_word() -> None:
    out, found = dates("2024-05-17", " 2024/5/7 ", "2024-05-17T10:00:00", "")
    assert out == ["2024-05-17", "2024-05-07", "2024-05-17", ""]
    assert len(found) == 0


@pytest.mark.parametrize(
    ("cells", "out", "severity"),
    [
        (("17/05/2024", "03/04/2024"), ["2024-05-17", "2024-04-03"], "mended"),  # the first tells the second
        (("05/17/2024", "03/04/2024"), ["2024-05-17", "2024-03-04"], "mended"),
        (("03/04/2024",), ["2024-04-03"], "look"),  # nobody can know: asked
        (("04/04/2024",), ["2024-04-04"], "mended"),  # the same both ways
        (("31/02/2024",), [""], "look"),
        (("yesterday",), [""], "look"),
    ],
)
def test_short_dates_are_told_apart_by_the_column(cells: tuple[str, ...], out: list[str], severity: str) -> None:
    read, found = dates(*cells)
    assert read == out
    assert found["severity"].iloc[0] == severity
    assert found["line"].min() >= 2


# ---- columns


@pytest.mark.parametrize(
    ("headings", "table", "expected"),
    [
        (
            ("HOLE_ID", "UTM_E", "UTM_N", "RL", "EOH (m)"),
            "collar",
            {"hole": "HOLE_ID", "x": "UTM_E", "y": "UTM_N", "z": "RL", "depth_m": "EOH (m)"},
        ),
        (("bhid", "at", "brg", "dip"), "survey", {"hole": "bhid", "depth_m": "at", "azimuth": "brg", "dip": "dip"}),
        (
            ("Hole", "From [m]", "To [m]", "Au g/t"),
            "interval",
            {"hole": "Hole", "from_m": "From [m]", "to_m": "To [m]"},
        ),
        (("Sample", "Easting", "Northing"), "points", {"x": "Easting", "y": "Northing"}),
    ],
)
def test_headings_are_understood(headings: tuple[str, ...], table: str, expected: dict[str, str]) -> None:
    assert columns.guess(headings, table) == expected
    assert columns.missing(expected, table) == []


def test_a_column_serves_one_role_only_and_what_is_missing_is_named() -> None:
    mapping = columns.guess(("depth", "azi"), "survey")
    assert sorted(mapping.values()) == ["azi", "depth"]
    assert columns.missing(mapping, "survey") == ["Hole ID", "Dip"]


# ---- delimited text


@pytest.mark.parametrize(
    ("data", "encoding"),
    [("hole,área\nA,1\n".encode("utf-8-sig"), "utf8"), ("hole,área\nA,1\n".encode("cp1252"), "cp1252")],
)
def test_encodings_of_spreadsheets_are_read(tmp_path: Path, data: bytes, encoding: str) -> None:
    path = write(tmp_path, data)
    layout = delimited.look(path)
    assert (layout.encoding, layout.columns) == (encoding, ("hole", "área"))
    assert delimited.read(path, Findings()).text("área").tolist() == ["1"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is empty"),
        ("  \n \n", "is empty"),
        ("one\ntwo\n", "does not look like a table"),
        ("a\0b,c\n1,2\n", "not text"),
    ],
)
def test_what_is_no_table_says_so(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        delimited.look(write(tmp_path, text))


def test_ragged_rows_are_reported_with_their_line(tmp_path: Path) -> None:
    path = write(tmp_path, "a,b,c\n1,2,3\n4,5\n\n6,7,8,9\n10,11,12\n")
    found = Findings()
    raw = delimited.read(path, found, "t")
    assert raw.line.tolist() == [2, 6]
    assert found.frame()["line"].tolist() == [3, 5]
    assert "2 cells where the heading has 3" in found.frame()["what"].iloc[0]


def test_headings_that_repeat_are_told_apart(tmp_path: Path) -> None:
    assert delimited.look(write(tmp_path, "Sn,Sn,,Cu\n1,2,3,4\n")).columns == ("Sn", "Sn 2", "column 3", "Cu")


@pytest.mark.parametrize(
    ("cell", "value", "odd"),
    [
        ("1.5", 1.5, False),
        (" -2e3 ", -2000.0, False),
        ("", np.nan, False),
        ("NA", np.nan, False),
        ("<5", np.nan, True),
        ("1e999", np.nan, True),
        ("12m", np.nan, True),
        ("nan", np.nan, False),
    ],
)
def test_numbers_and_what_is_not_one(cell: str, value: float, odd: bool) -> None:
    values, strange = rawtable.numbers(pd.Series([cell, "x"]))
    assert values[0] == pytest.approx(value, nan_ok=True)
    assert bool(strange[0]) is odd


def test_below_detection_codes() -> None:
    assert rawtable.below_detection(pa.array(["<0.5", "< 2", "3", "<", "<a"])).tolist()[:2] == [0.5, 2.0]
    assert np.isnan(rawtable.below_detection(pa.array(["3", "<", "<a", None]))).all()


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(
        st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=8), min_size=1, max_size=5),
        min_size=1,
        max_size=12,
    ),
    st.sampled_from([",", ";", "\t"]),
)
def test_rows_in_are_rows_kept_or_reported(tmp_path: Path, rows: list[list[str]], delimiter: str) -> None:
    lines = [delimiter.join(c.replace("\n", " ").replace("\r", " ") for c in row) for row in rows]
    text = delimiter.join(("hole", "from", "to")) + "\n" + "\n".join(lines) + "\n"
    path = write(tmp_path, text)
    found = Findings()
    try:
        raw = delimited.read(path, found, "t")
    except InputError:
        return  # refused as a whole, in words
    reported = set(found.frame().query("severity == 'left out'")["line"])
    blank = {
        n
        for n, line in enumerate(path.read_text("utf-8").split("\n"), start=1)
        if not line.replace(delimiter, "").strip()
    }
    last = raw.layout.header_line + len(text[: text.rindex("\n")].split("\n")[raw.layout.header_line :])
    wanted = set(range(raw.layout.header_line + 1, last + 1)) - blank
    quoted = any('"' in line for line in lines)  # a quoted cell may hold line ends
    strange = any(ch in text for ch in "\x0b\x0c\x1c\x1d\x1e\x85\u2028\u2029")
    assert quoted or strange or wanted <= set(raw.line) | reported


# ---- writing


def test_every_kind_can_be_written() -> None:
    assert all(formats_for(kind) for kind in KINDS)


def test_geotiff_and_ascii_are_read_alike_by_rasterio_and_by_us(tmp_path: Path) -> None:
    values = np.arange(12.0).reshape(3, 4)
    values[1, 2] = np.nan
    grid = Grid(name="g", crs=CRS, values=values, x0=1000.0, y0=2000.0, dx=50.0, dy=50.0, attribute="Sn", unit="ppm")
    for name in ("g.tif", "g.asc"):
        (path,) = export(grid, tmp_path / name)
        with rasterio.open(path) as source:
            assert source.xy(2, 0) == pytest.approx((1000.0, 2000.0))
            assert np.array_equal(
                source.read(1, masked=True).astype(float).filled(np.nan)[::-1], values, equal_nan=True
            )
        back, x0, y0, dx, dy = read_grid(path)[:5]
        assert (x0, y0, dx, dy) == pytest.approx((1000.0, 2000.0, 50.0, 50.0))
        assert np.array_equal(back, values, equal_nan=True)
    oblong = Grid(**{**vars(grid), "dy": 25.0})
    with pytest.raises(InputError, match="square cells"):
        export(oblong, tmp_path / "o.asc")


def test_rotated_grids_are_refused(tmp_path: Path) -> None:
    transform = rasterio.Affine.rotation(20.0) * rasterio.Affine.scale(10.0, -10.0)
    with rasterio.open(
        tmp_path / "r.tif", "w", driver="GTiff", width=3, height=3, count=1, dtype="float64", transform=transform
    ) as out:
        out.write(np.zeros((3, 3)), 1)
    with pytest.raises(InputError, match="rotated"):
        read_grid(tmp_path / "r.tif")
    with pytest.raises(InputError, match="no number"):
        read_grid(write(tmp_path, "ncols what\n", "bad.asc"))


def test_obj_is_closed_and_keeps_its_volume(tmp_path: Path) -> None:
    far = np.array([500_000.0, 5_600_000.0, 100.0])
    corners = np.array([[0.0, 0, 0], [6, 0, 0], [0, 6, 0], [0, 0, 6]]) + far
    triangles = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    surface = Surface(name="s", crs=CRS, vertices=corners, triangles=triangles, closed=True, volume_m3=36.0)
    (path,) = export(surface, tmp_path / "s.obj")
    rows = [line.split() for line in path.read_text().splitlines() if line[0] in "vf"]
    v = np.array([[float(c) for c in r[1:]] for r in rows if r[0] == "v"])
    f = np.array([[int(c) - 1 for c in r[1:]] for r in rows if r[0] == "f"])
    assert is_closed(f)
    assert volume(v, f) == pytest.approx(36.0)


def test_block_models_are_written_cell_by_cell(tmp_path: Path) -> None:
    box = np.full((2, 2, 2), np.nan)
    box[1, 0, 1] = 0.03
    model = BlockModel(
        name="m", crs=CRS, mesh=TensorMesh.even((0.0, 0.0, -20.0), (10.0, 10.0, 10.0), (2, 2, 2)), properties={"k": box}
    )
    (path,) = export(model, tmp_path / "m.csv")
    table = pd.read_csv(path)
    assert table.to_dict("records") == [{"x": 15.0, "y": 5.0, "z": -5.0, "dx": 10.0, "dy": 10.0, "dz": 10.0, "k": 0.03}]


def test_a_failed_export_leaves_nothing(tmp_path: Path) -> None:
    points = PointSet(name="p", crs=CRS, table=pd.DataFrame({"x": [1.0], "y": [2.0], "z": [3.0]}))
    for place, words in ((tmp_path / "p.xyz", "can't be written as"), (tmp_path / "no" / "p.csv", "no such folder")):
        with pytest.raises(InputError, match=words):
            export(points, place)
    (tmp_path / "taken.csv").mkdir()
    with pytest.raises(InputError, match="can't write the file"):
        export(points, tmp_path / "taken.csv")
    assert [p.name for p in tmp_path.iterdir()] == ["taken.csv"]

"""Tables as they really come and as nobody would write them: read rightly or refused, never half in silence, and quickly."""

from __future__ import annotations

import struct
import zipfile
from pathlib import Path

import ezdxf
import numpy as np
import pytest

from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.shapes import features, meshes
from innerlamp.core.formats.tables import tables_in

CRS = "EPSG:32719"


def table(tmp_path: Path, data: str | bytes, name: str = "t.csv") -> tuple[dict[str, list[str]], list[int], list[str]]:
    path = tmp_path / name
    path.write_bytes(data if isinstance(data, bytes) else data.encode("utf-8"))
    found = Findings()
    raw = tables_in.read(path, found)
    return {c: raw.text(c).tolist() for c in raw.layout.columns}, raw.line.tolist(), found.frame()["what"].tolist()


ROWS = "hole,from,note\nA1,1,x\nÄ2,2,y\n"


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig", "utf-8", "cp1252"])
def test_tables_in_any_of_the_usual_encodings(tmp_path: Path, encoding: str) -> None:
    cells, line, said = table(tmp_path, ROWS.encode(encoding))
    assert cells == {"hole": ["A1", "Ä2"], "from": ["1", "2"], "note": ["x", "y"]}
    assert (line, said) == ([2, 3], [])


@pytest.mark.parametrize("end", ["\n", "\r\n"])
@pytest.mark.parametrize("heading", ["a;b;c", "a;b;c;"])
def test_a_delimiter_at_the_end_of_lines_parts_nothing(tmp_path: Path, heading: str, end: str) -> None:
    cells, line, said = table(tmp_path, end.join([heading, "1;2;3;", "4;5;6;", "7;8;9", ""]))
    assert cells == {"a": ["1", "4", "7"], "b": ["2", "5", "8"], "c": ["3", "6", "9"]}
    assert (line, said) == ([2, 3, 4], [])
    # A row that is too short is still said, with its line.
    cells, line, said = table(tmp_path, end.join([heading, "1;2;3;", "4;5", *["7;8;9;"] * 20, ""]))
    assert cells["c"] == ["3", *["9"] * 20] and line == [2, *range(4, 24)]
    assert said == ["2 cells where the heading has 3"]


def test_cells_with_line_breaks_are_cells_and_rows_keep_their_lines(tmp_path: Path) -> None:
    """RFC 4180, rules 6 and 7."""
    cells, line, said = table(tmp_path, 'a,b,c\r\n1,"two\r\nlines, ""quoted""",3\r\n4,5,6\r\n7,"",9\r\n')
    assert cells == {"a": ["1", "4", "7"], "b": ['two\r\nlines, "quoted"', "5", ""], "c": ["3", "6", "9"]}
    assert (line, said) == ([2, 4, 5], [])


@pytest.mark.parametrize(
    "data",
    [
        'a,b,c\n1,"two,3\n4,5,6\n7,8,9\n',  # never closed
        'a,b,c\n1,"two,3\n4,5,6\n7,"8,9\n1,2,3\n',  # two that would swallow what lies between
        "a,b,c\n" + '1,"x,3\n' + "4,5,6\n" * 200 + '7,y",9\n',  # closed much too far away
    ],
)
def test_a_torn_quotation_mark_swallows_nothing(tmp_path: Path, data: str) -> None:
    cells, line, said = table(tmp_path, data)
    assert len(cells["a"]) == data.count("\n") - 1
    assert line == list(range(2, data.count("\n") + 1))
    assert said == ["a quotation mark is not closed on its line"]


def test_many_ragged_rows_are_said_one_by_one_and_quickly(tmp_path: Path) -> None:
    count = 60_000
    cells, line, said = table(tmp_path, "a,b,c\n" + "1,2,3\n1,2\n" * count)
    assert len(cells["a"]) == len(said) == count
    assert line[:3] == [2, 4, 6]


def workbook(path: Path, sheet: str, sheets: int = 1) -> Path:
    names = "".join(f'<sheet name="S{k}" sheetId="{k + 1}" r:id="rId{k + 1}"/>' for k in range(sheets))
    links = "".join(
        f'<Relationship Id="rId{k + 1}" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/>'
        for k in range(sheets)
    )
    main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as book:
        book.writestr(
            "[Content_Types].xml", '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"/>'
        )
        book.writestr(
            "_rels/.rels",
            '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        )
        book.writestr(
            "xl/workbook.xml",
            f'<workbook xmlns="{main}" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets>{names}</sheets></workbook>',
        )
        book.writestr(
            "xl/_rels/workbook.xml.rels",
            f'<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{links}</Relationships>',
        )
        book.writestr(
            "xl/worksheets/sheet1.xml", f'<worksheet xmlns="{main}"><sheetData>{sheet}</sheetData></worksheet>'
        )
    return path


def test_a_workbook_with_one_far_cell_or_very_many_sheets_is_refused_before_it_is_read(tmp_path: Path) -> None:
    near = '<row r="1"><c r="A1"><v>1</v></c></row>'
    far = f'{near}<row r="1048576"><c r="XFD1048576"><v>1</v></c></row>'
    path = workbook(tmp_path / "far.xlsx", far)
    assert path.stat().st_size < 3000
    with pytest.raises(InputError, match="does not look like a table"):
        tables_in.read(path, Findings())
    with pytest.raises(InputError, match=r"20,000 tables; at most 300"):
        tables_in.parts(workbook(tmp_path / "many.xlsx", near, 20_000))


def test_surfaces_that_are_not_whole_are_refused_at_once(tmp_path: Path) -> None:
    head = b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_index\nend_header\n"
    whole = head + b"0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
    (tmp_path / "good.ply").write_bytes(whole)
    assert len(meshes.read_mesh(tmp_path / "good.ply")[1]) == 1
    for name, data in (
        ("a.ply", b"ply"),
        ("b.ply", b"ply\nformat ascii 1.0\n" + bytes(10)),
        ("c.ply", whole.replace(b"vertex 3", b"vertex 900000000000")),
        ("d.stl", b"abc"),
        ("e.stl", bytes(80) + struct.pack("<I", 4_000_000_000) + bytes(50)),
    ):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(InputError, match=r"head|shorter"):
            meshes.read_mesh(tmp_path / name)


def test_very_large_circles_end(tmp_path: Path) -> None:
    doc = ezdxf.new("R2010")
    space = doc.modelspace()
    for radius in (50.0, 1e6, 1e12, 1e300):
        space.add_circle((0, 0), radius)
    space.add_ellipse((0, 0), (1e12, 0, 0), 0.5)
    doc.saveas(tmp_path / "c.dxf")
    item = features.read_features(tmp_path / "c.dxf", "", "c", CRS, Findings())
    assert 3 <= len(item.table) <= 5
    assert len(item.vertices) < 20_000
    small = item.vertices[: item.starts[1], :2]
    assert np.hypot(*small.T) == pytest.approx(50.0, abs=1e-6)


def test_columns_named_like_our_own_and_halves_of_letters_do_no_harm(tmp_path: Path) -> None:
    from innerlamp.api import Project

    rows = "".join(f"{402000 + k},{7502000 + 2 * k},{3900 + k},{k},u{k}\n" for k in range(12))
    (tmp_path / "p.csv").write_text(f"East,North,RL,x,more\n{rows}", encoding="utf-8")
    (tmp_path / "f.geojson").write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"na\\ud800me":"a\\udfffb","v":1},'
        '"geometry":{"type":"Point","coordinates":[-70.0,-22.0]}}]}',
        encoding="utf-8",
    )
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        made = project.run("import-points", file=str(tmp_path / "p.csv"))
        table = project.store.load(made["points"]).table  # type: ignore[attr-defined]
        assert table["x"].tolist()[:2] == [402000.0, 402001.0]
        assert table["x of the file"].tolist()[:2] == [0.0, 1.0]
        shapes = project.run("import-features", file=str(tmp_path / "f.geojson"))["features"]
        assert project.store.load(shapes).table.iloc[0].tolist() == ["a?b", 1.0]  # type: ignore[attr-defined]


def test_systems_that_lead_nowhere_and_broken_workbooks_are_refused(tmp_path: Path) -> None:
    from innerlamp.core import crs
    from innerlamp.core.errors import CrsError

    with pytest.raises(CrsError, match="can't be turned into"):
        crs.transformers("+proj=tmerc +lat_0=900 +lon_0=0 +x_0=0 +units=m", "EPSG:4326")
    path = workbook(tmp_path / "a.xlsx", '<row r="1"><c r="A1"><v>1</v></c></row>' * 400)
    data = bytearray(path.read_bytes())
    at = data.rfind(b"xl/worksheets/sheet1.xml", 0, len(data) - 400) + 40
    data[at : at + 20] = bytes(20)
    path.write_bytes(data)
    with pytest.raises(InputError, match="can't be read"):
        tables_in.read(path, Findings())

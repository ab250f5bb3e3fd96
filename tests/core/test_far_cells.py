"""Small spreadsheets that would cost much: read by what is filled, or refused in a sentence, never held whole."""

from __future__ import annotations

import datetime
import zipfile
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pytest
import xlsxwriter

from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.tables import book_bounds, sheets
from innerlamp.core.formats.tables.rawtable import RawTable

NS = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'
TABLE = "".join(
    f'<row r="{n}"><c r="A{n}" t="inlineStr"><is><t>{"HOLEID" if n == 1 else "A1"}</t></is></c>'
    + (
        f'<c r="B{n}" t="inlineStr"><is><t>Cu_ppm</t></is></c></row>'
        if n == 1
        else f'<c r="B{n}"><v>{n * 1.5}</v></c></row>'
    )
    for n in range(1, 40)
)


def plain(path: Path, rows: int = 30, far: Iterable[tuple[int, int, object]] = ()) -> Path:
    """A workbook by another program: names, dates, numbers, blanks, formulas; and cells far out."""
    book = xlsxwriter.Workbook(str(path), {"use_zip64": True})
    sheet = book.add_worksheet("Assays")
    book.add_worksheet("Notes").write(0, 0, "nothing")
    day = book.add_format({"num_format": "dd/mm/yyyy"})
    sheet.write_row(2, 0, ["HOLEID", "From", "To", "Date", "Au_ppm", "Remark"])
    for k in range(rows):
        sheet.write_row(3 + k, 0, [f"RC{k // 10:03d}", k, k + 1])
        sheet.write_datetime(3 + k, 3, datetime.datetime(2024, 2, 1 + k % 28), day)
        sheet.write_formula(3 + k, 4, f"=B{4 + k}/7", value=k / 7)
        if k % 3:
            sheet.write(3 + k, 5, "veins & <sulphides>" if k % 2 else 'x\'y "z"')
    for row, column, value in far:
        sheet.write(row, column, value)
    book.close()
    return path


def read(path: Path, part: str = "Assays") -> tuple[RawTable, Findings]:
    found = Findings()
    return sheets.read(path, part, found, "assays", sheets.look(path, part)), found


@pytest.mark.parametrize(
    "far", [(1_048_575, 40, 1), (1_048_575, 16_383, "x"), (500, 16_383, 2.5), (700_000, 90, "here")]
)
def test_a_cell_far_out_changes_nothing_of_the_table(tmp_path: Path, far: tuple[int, int, object]) -> None:
    """The same workbook without that cell, as the library reads it whole, is what must come out."""
    near, _ = read(plain(tmp_path / "near.xlsx"))
    path = plain(tmp_path / "far.xlsx", far=[far])
    assert book_bounds.bounds_of(path) == book_bounds.Bounds(sparse=True)
    table, found = read(path)
    assert table.cells.equals(near.cells) and np.array_equal(table.line, near.line)
    assert table.line[0] == 4 and str(near.cells.column(3)[0]) == "2024-02-01"
    told = found.frame()
    assert told["line"][told["what"] == "cells without a heading"].tolist() == [far[0] + 1]
    assert sheets.parts(path) == ("Assays", "Notes")


def test_rows_after_a_long_gap_keep_their_numbers(tmp_path: Path) -> None:
    far = [(900_000, 0, "RC099"), (900_000, 1, 7), (900_000, 2, 8), (900_002, 0, "RC100")]
    table, _ = read(plain(tmp_path / "far.xlsx", far=far))
    assert table.cells.column(0)[-2:].to_pylist() == ["RC099", "RC100"]
    assert table.line[-2:].tolist() == [900_001, 900_003]


def crafted(path: Path, sheet: str, texts: str = "") -> Path:
    """A workbook of one sheet from its XML."""
    kind = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    package = "http://schemas.openxmlformats.org/package/2006"
    links = f'<Relationship Id="rId1" Type="{kind}/worksheet" Target="worksheets/sheet1.xml"/>'
    links += f'<Relationship Id="rId2" Type="{kind}/sharedStrings" Target="sharedStrings.xml"/>'
    files = {
        "[Content_Types].xml": f'<Types xmlns="{package}/content-types"/>',
        "_rels/.rels": f'<Relationships xmlns="{package}/relationships"><Relationship Id="r" Type="{kind}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook {NS} xmlns:r="{kind}"><sheets><sheet name="Assays" sheetId="1" r:id="rId1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{package}/relationships">{links}</Relationships>',
        "xl/sharedStrings.xml": f"<sst {NS}>{texts}</sst>",
        "xl/worksheets/sheet1.xml": f"<worksheet {NS}><sheetData>{sheet}</sheetData></worksheet>",
    }
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        for name, text in files.items():
            out.writestr(name, text)
    return path


@pytest.mark.parametrize(
    "place",
    ["ZZZZ99999999", "A4294967296", "XFE1048577", "A1048577", "AAAAAAAAA18446744073709551615", "XFE5"],
)
@pytest.mark.parametrize("written", ['r="{}"', "r='{}'", 'r = "{}"', '\n\tr="{}"'])
def test_a_cell_beyond_all_sheets_is_refused(tmp_path: Path, place: str, written: str) -> None:
    path = crafted(tmp_path / "a.xlsx", TABLE + f"<row><c {written.format(place)}><v>1</v></c></row>")
    with pytest.raises(InputError, match="where no sheet has any"):
        read(path)


def test_a_row_that_is_none_is_refused(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="can't be read"):
        read(crafted(tmp_path / "a.xlsx", TABLE + '<row r="0"><c r="A0"><v>1</v></c></row>'))


@pytest.mark.parametrize("blank", ['<c r="A{n}"/>', '<c r="A{n}" s="3"></c>', " " * 90])
def test_packed_blanks_cost_little(tmp_path: Path, blank: str) -> None:
    rows = "".join(f'<row r="{n}">{blank.format(n=n) * 40}</row>' for n in range(40, 40_000))
    path = crafted(tmp_path / "a.xlsx", TABLE + rows)
    assert book_bounds.bounds_of(path) == book_bounds.Bounds(sparse=True)
    table, _ = read(path)
    assert table.cells.num_rows == 38 and table.cells.column(1)[-1].as_py() == 39 * 1.5


def test_a_text_that_many_cells_share_is_counted_for_each(tmp_path: Path) -> None:
    rows = "".join(f'<row r="{n}"><c r="A{n}" t="s"><v>1</v></c></row>' for n in range(1, 70_001))
    path = crafted(tmp_path / "a.xlsx", rows, f"<si><t>short</t></si><si><t>{'x' * 32_000}</t></si>")
    with pytest.raises(InputError, match="texts of its cells are 2 GB"):
        read(path)


def test_what_packs_more_than_any_spreadsheet_is_refused_before_it_is_unpacked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(book_bounds, "_PACKED_LARGEST", 1_000_000)
    path = crafted(tmp_path / "a.xlsx", TABLE + " " * 3_000_000)
    with pytest.raises(InputError, match="times its size"):
        read(path)


CONTENT = (
    '<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"'
    ' xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"'
    ' xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:spreadsheet>'
    '<table:table table:name="Assays">{}</table:table></office:spreadsheet></office:body></office:document-content>'
)


def opendocument(path: Path, rows: str) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        out.writestr("content.xml", CONTENT.format(rows))
        manifest = "urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"
        out.writestr("META-INF/manifest.xml", f'<manifest:manifest xmlns:manifest="{manifest}"/>')
    return path


def cell(value: object, more: str = "") -> str:
    if isinstance(value, datetime.date):
        return f'<table:table-cell {more} office:value-type="date" office:date-value="{value}"><text:p>?</text:p></table:table-cell>'
    if isinstance(value, float | int):
        return f'<table:table-cell {more} office:value-type="float" office:value="{value}"/>'
    return f'<table:table-cell {more} office:value-type="string"><text:p>{value}</text:p></table:table-cell>'


MANY = cell(1, 'table:number-columns-repeated="100"')


def test_far_cells_of_opendocument_are_read_as_the_table_without_them(tmp_path: Path) -> None:
    head = "<table:table-row>" + "".join(map(cell, ("HOLEID", "From", "Date"))) + "</table:table-row>"
    rows = "".join(
        f"<table:table-row>{cell('RC1')}{cell(k)}{cell(datetime.date(2024, 3, 1 + k))}</table:table-row>"
        for k in range(20)
    )
    gap = '<table:table-row table:number-rows-repeated="{}"><table:table-cell table:number-columns-repeated="{}"/></table:table-row>'
    near, _ = read(opendocument(tmp_path / "near.ods", head + rows + gap.format(1_048_500, 1024)))
    last = f"<table:table-row>{cell('RC2')}{cell(5)}{cell(datetime.date(2024, 4, 1))}</table:table-row>"
    far = opendocument(tmp_path / "far.ods", head + rows + gap.format(1_000_000, 1) + last)
    assert book_bounds.bounds_of(far) == book_bounds.Bounds(sparse=True)
    table, _ = read(far)
    assert table.cells.slice(0, 20).equals(near.cells) and table.line[-1] == 1_000_022
    many = opendocument(
        tmp_path / "many.ods",
        head + f'<table:table-row table:number-rows-repeated="1000000">{MANY}</table:table-row>',
    )
    with pytest.raises(InputError, match=r"repeated cells|too many to hold"):
        read(many)

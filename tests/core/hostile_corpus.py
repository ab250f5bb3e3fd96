"""The corpus of files that mean harm, and a process that reads each by every reader.

`python -m tests.core.hostile_corpus write` writes tests/data/hostile anew; `... read FOLDER` copies each file there
under every ending and lets the program look at it and read it, and prints one line of JSON with what went wrong. The
files name `SECRET`, which nothing else opens, and a server at `SERVER`: a tracer sees whether anybody goes there.
"""

from __future__ import annotations

import io
import json
import resource
import sqlite3
import sys
import traceback
import warnings
import zipfile
from pathlib import Path

CORPUS = Path(__file__).parents[1] / "data" / "hostile"
SECRET = "/etc/issue.net"
SERVER = "http://127.0.0.1:47115"
MEMORY = 3 << 30


def _sheet(cells: str) -> bytes:
    main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    package = "http://schemas.openxmlformats.org/package/2006"
    files = {
        "[Content_Types].xml": f'<Types xmlns="{package}/content-types"><Default Extension="xml" ContentType="application/xml"/></Types>',
        "_rels/.rels": f'<Relationships xmlns="{package}/relationships"><Relationship Id="r" Type="{office}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{main}" xmlns:r="{office}"><sheets><sheet name="a" sheetId="1" r:id="s"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{package}/relationships"><Relationship Id="s" Type="{office}/worksheet" Target="worksheets/sheet1.xml"/></Relationships>',
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{main}"><sheetData>{cells}</sheetData></worksheet>',
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in files.items():
            archive.writestr(zipfile.ZipInfo(name), text)
    return out.getvalue()


def _database(*statements: str) -> bytes:
    db = sqlite3.connect(":memory:")
    for statement in statements:
        db.execute(statement)
    db.commit()
    return db.serialize()


def corpus() -> dict[str, bytes]:
    """File names with their content."""
    from .test_hostile_files import texts

    out = {f"follow_{name}.txt": text.encode() for name, text in texts(SECRET, SERVER).items()}
    far = '<row r="1"><c r="A1"><v>1</v></c></row><row r="1048576"><c r="XFD1048576"><v>2</v></c></row>'
    out["far_cell.xlsx"] = _sheet(far)
    out["formula.xlsx"] = _sheet('<row r="1"><c r="A1" t="str"><f>WEBSERVICE("' + SERVER + '")</f><v>x</v></c></row>')
    out["many_corners.ply"] = b"ply\nformat ascii 1.0\nelement vertex 4294967295\nproperty float x\nend_header\n0\n"
    out["corner_of_no_mesh.obj"] = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4294967295\n"
    out["wide_circle.dxf"] = b"0\nSECTION\n2\nENTITIES\n0\nCIRCLE\n8\n0\n10\n0\n20\n0\n40\n1e12\n0\nENDSEC\n0\nEOF\n"
    endless = "WITH RECURSIVE t(a) AS (SELECT 1 UNION ALL SELECT a + 1 FROM t) SELECT a x, a y FROM t"
    out["endless_view.sqlite"] = _database(f"CREATE VIEW v AS {endless}")
    out["reads_files.sqlite"] = _database(f"CREATE VIEW v AS SELECT readfile('{SECRET}') x, 1 y")
    schema = _database("CREATE TABLE gpkg_contents(table_name TEXT)")
    out["odd_schema.gpkg"] = schema.replace(b"(table_name TEXT)", b"((\xcf_name TEXT)")
    out["deep.json"] = b"[" * 50_000
    out["huge_grid.asc"] = b"ncols 999999999\nnrows 999999999\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3\n"
    out["short_grid.asc"] = b"ncols 3\nnrows 3\nxllcorner 402000\nyllcorner 7502000\ncellsize 10\n1 2 3 4 nan\n"
    out["odd_names.csv"] = (
        "X,Y,<img src='/dev/zero'>,\u202eCu,\x1b[31m\n402000,7502000,1,2,3\n402010,7502010,2,3,4\n".encode()
    )
    out["ragged.csv"] = b"X,Y,v\n" + b"402000,7502000,1,,,,,\n" * 50 + b'402000,"7502000\n'
    out["wide.csv"] = b",".join(b"c%d" % k for k in range(3000)) + b"\n" + b"1," * 2999 + b"1\n"
    out["long_line.csv"] = b"X,Y\n1," + b"9" * 200_000 + b"\n"
    out["zeros.las"] = (
        b"~V\nVERS. 2.0 :\nWRAP. NO :\n~W\nSTRT.M 0 :\nSTOP.M 1e18 :\nSTEP.M 1e-9 :\n~C\nDEPT.M :\n~A\n\0\0\n"
    )
    out["mesh.vtu"] = (
        b'<VTKFile type="UnstructuredGrid"><UnstructuredGrid><Piece NumberOfPoints="999999999999" NumberOfCells="1"/></UnstructuredGrid></VTKFile>'
    )
    return out  # fmt: skip


def read(folder: Path) -> None:
    """Read every file of the corpus under every ending, within a limit of memory."""
    from .test_hostile_files import ENDINGS, everything

    warnings.simplefilter("ignore")
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    faults: list[str] = []
    count = 0
    for file in sorted(CORPUS.iterdir()):
        endings = ENDINGS if file.suffix == ".txt" else (file.suffix,)
        for ending in endings:
            place = folder / f"{file.stem}{ending.replace('.', '_')}"
            place.mkdir(parents=True)
            path = place / f"a{ending}"
            path.write_bytes(file.read_bytes())
            count += 1
            try:
                for _ in everything(path):
                    pass
            except BaseException:
                faults.append(f"{file.name} as {ending}: {traceback.format_exc()[-500:]}")
    sys.__stdout__.write("\n" + json.dumps({"count": count, "faults": faults}) + "\n")  # type: ignore[union-attr]


if __name__ == "__main__":
    if sys.argv[1] == "write":
        CORPUS.mkdir(exist_ok=True)
        for name, content in corpus().items():
            (CORPUS / name).write_bytes(content)
    else:
        read(Path(sys.argv[2]))

"""A process that reads damaged copies of small files of every format and writes down what went wrong.

`python -m tests.core.mutations FOLDER SEED COUNT` prints one line of JSON: how many were tried, how many were read,
how many refused in one sentence, and the faults. It is a process of its own, with a limit of memory, since a library
that ends the process is what it looks for. It writes the damaged file before it is read: after a crash that is the
last one in FOLDER.
"""

from __future__ import annotations

import json
import re
import resource
import struct
import sys
import traceback
import warnings
from collections.abc import Callable
from pathlib import Path

import meshio
import netCDF4
import numpy as np
from PIL import Image

from innerlamp.api import Project
from innerlamp.core.errors import LampError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.grids import grid_files as grids
from innerlamp.core.formats.grids import pictures
from innerlamp.core.formats.shapes import features, meshes
from innerlamp.core.formats.tables import tables_in
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.importing import offers
from innerlamp.core.items.fields import BlockModel, Surface

CRS = "EPSG:32719"
MEMORY = 3 << 30
ODD = [
    "nan",
    "-inf",
    "1e308",
    "-1",
    "",
    "4294967295",
    "-9999",
    "1,5",
    "<0.5",
    "NULL",
    '"',
    "é",
    "\u202e",
    "a" * 300,
    "\0",
]
WHOLE = [0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 10**6, 10**9]
REAL = [float("nan"), float("inf"), 1e308, -1e308, 0.0, 5e-324]


def make_whole(place: Path) -> list[Path]:
    """Small whole files of the formats that are read, in a folder; the companions of one are called as it is."""
    place.mkdir()
    rng = np.random.default_rng(1)
    x, y = 402000 + rng.integers(0, 200, 30), 7502000 + rng.integers(0, 200, 30)
    rows = [
        f"{a},{b},{4000 + k},{'AB' if k % 3 else ''},{k * 1.5:.1f}" for k, (a, b) in enumerate(zip(x, y, strict=True))
    ]
    table = place / "soils.csv"
    table.write_text("\n".join(["EAST,NORTH,ELEV,Rock,Cu_ppm", *rows]) + "\n", encoding="utf-8")
    (place / "soils.txt").write_text(table.read_text("utf-8").replace(",", "\t"), encoding="utf-8")
    shape = {
        "type": "Polygon",
        "coordinates": [[[402000, 7502000], [402100, 7502000], [402100, 7502090], [402000, 7502000]]],
    }
    feature = {"type": "Feature", "properties": {"unit": "SLATE", "age": 3}, "geometry": shape}
    (place / "map.geojson").write_text(
        json.dumps(
            {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": CRS}}, "features": [feature]}
        )
    )
    curves = "".join(f"{k} {k * 7 % 13}.5\n" for k in range(10))
    (place / "log.las").write_text(
        "~V\nVERS. 2.0 :\nWRAP. NO :\n~W\nSTRT.M 0 :\nSTOP.M 9 :\nSTEP.M 1 :\nNULL. -999.25 :\nWELL. DH1 :\n"
        f"~C\nDEPT.M :\nGR.API :\n~A\n{curves}"
    )
    corners = np.array([[0.0, 0, 0], [10, 0, 0], [0, 10, 0], [0, 0, 10]]) + np.array([402000.0, 7502000.0, 4000.0])
    faces = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], dtype=np.int32)
    meshio.write(place / "ascii.ply", meshio.Mesh(corners, [("triangle", faces)]), binary=False)
    meshio.write(place / "body.vtu", meshio.Mesh(corners, [("triangle", faces)]))
    scan = Image.fromarray(rng.integers(0, 255, (20, 30, 3), dtype=np.uint8))
    scan.save(place / "scan.png")
    scan.save(place / "scan.jpg")
    with netCDF4.Dataset(place / "h5.nc", "w") as data:
        for name, values in (("y", 7502000 + 10.0 * np.arange(12)), ("x", 402000 + 10.0 * np.arange(9))):
            data.createDimension(name, len(values))
            data.createVariable(name, "f8", (name,))[:] = values
        data.createVariable("z", "f8", ("y", "x"), zlib=True)[:] = rng.normal(size=(12, 9))
    with Project.create(place / "p.lamp", CRS) as lamp:
        soils = lamp.run("import-points", file=str(table), name="Soils")["points"]
        grid = lamp.run("grid-minimum-curvature", samples=soils, attribute="Cu_ppm", cell="20")["grid"]
        found = lamp.run("import-features", file=str(place / "map.geojson"))["features"]
        body = lamp.store.put(Surface(name="Body", crs=CRS, vertices=corners, triangles=faces, closed=True))
        mesh = TensorMesh.even((402000.0, 7502000.0, 3990.0), (10.0, 20.0, 5.0), (4, 3, 5))
        grades = {"Cu_pct": np.arange(60.0).reshape(4, 3, 5)}
        blocks = lamp.store.put(BlockModel(name="Model", crs=CRS, mesh=mesh, properties=grades, units={"Cu_pct": "%"}))
        for item, names in (
            (soils, "p.xlsx p.ods p.sqlite p.omf"),
            (grid, "g.tif g.asc g.nc g.xyz"),
            (found, "f.gpkg f.shp f.dxf"),
            (body, "s.dxf s.ply s.stl s.obj s.vtp"),
            (blocks, "b.csv b.vti b.vtr b.omf"),
        ):
            for name in names.split():
                lamp.export(item, place / name)
    endings = (".shx", ".dbf", ".prj", ".cpg", ".pgw", ".xml")
    return sorted(f for f in place.iterdir() if f.is_file() and f.suffix not in endings)


def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """Copy of a file's bytes with one to three kinds of damage."""
    for _ in range(int(rng.choice([1, 1, 2, 3]))):
        text = b"\0" not in data[:4000] and rng.random() < 0.7
        data = (_text_damage if text else _byte_damage)(data, rng)
    return data[:3_000_000]


def _byte_damage(data: bytes, rng: np.random.Generator) -> bytes:
    out = bytearray(data)
    size = max(len(out), 1)
    at = min(int(rng.integers(size)), int(rng.integers(size)))  # heads matter more
    long = int(rng.choice([1, 4, 64, 1024]))
    kind = int(rng.integers(8))
    if kind == 0:
        for place in rng.integers(0, len(out), int(rng.choice([1, 4, 32]))) if out else ():
            out[place] ^= 1 << int(rng.integers(8))
    elif kind == 1:
        del out[at : at + long]
    elif kind == 2:
        out[at:at] = out[at : at + long]
    elif kind == 3:
        out[at:at] = rng.bytes(long)
    elif kind == 4:
        del out[at:]
    elif kind == 5:
        out[at : at + long] = bytes(long)
    elif kind == 6:
        out[at : at + 4] = struct.pack(str(rng.choice(["<I", ">I"])), int(rng.choice(WHOLE)))
    else:
        out[at : at + 8] = struct.pack("<d", float(rng.choice(REAL)))
    return bytes(out)


def _text_damage(data: bytes, rng: np.random.Generator) -> bytes:
    text = data.decode("utf-8", "surrogateescape")
    lines = text.split("\n")
    at = int(rng.integers(len(lines)))
    odd = str(rng.choice(ODD))
    kind = int(rng.integers(9))
    found = list(re.finditer(r"-?\d+(\.\d+)?" if kind < 3 else r"[A-Za-z_]{2,}", text[:100_000]))
    if kind < 4 and found:
        hit = found[int(rng.integers(len(found)))]
        text = text[: hit.start()] + odd + text[hit.end() :]
    elif kind == 4:
        text = "\n".join(lines[:at] + lines[at + 1 :])
    elif kind == 5:
        text = "\n".join(lines[:at] + [lines[at]] * int(rng.choice([2, 50])) + lines[at + 1 :])
    elif kind == 6:
        lines[at] += str(rng.choice(['"', ",", ",,,,,", "\t", "\r", "\x85", "\u2028", "x" * 70_000]))
        text = "\n".join(lines)
    elif kind == 7:
        text = text[: int(rng.integers(len(text) + 1))]
    elif kind == 8:
        return text.encode(str(rng.choice(["utf-16", "utf-16-le", "utf-8-sig", "utf-32", "cp1252"])), "replace")
    return text.encode("utf-8", "surrogateescape")


def acts(path: Path) -> list[Callable[[], object]]:
    """What the program does with a file: it looks what is in it, and reads it with the reader of its ending."""
    end, found = path.suffix, Findings()
    out: list[Callable[[], object]] = [lambda: offers.offers_of(path, {})]
    if end in (".tif", ".asc", ".nc", ".xyz"):
        out.append(lambda: grids.read_grid(path))
    if end in (".png", ".jpg", ".tif"):
        out.append(lambda: pictures.read(path))
    if end in (".geojson", ".gpkg", ".shp", ".dxf"):
        out.append(lambda: features.read_features(path, "", "a", CRS, found))
    if end in (".dxf", ".ply", ".stl", ".obj", ".vtp", ".vtu"):
        out.append(lambda: meshes.read_mesh(path))
    if end in (".csv", ".txt", ".xlsx", ".ods", ".sqlite", ".las"):
        out.append(lambda: tables_in.read(path, found).cells)
    return out


def main(folder: Path, seed: int, count: int) -> None:
    warnings.simplefilter("ignore")
    whole = make_whole(folder / "whole")
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    told = {"formats": [f.name for f in whole], "tried": 0, "read": 0, "refused": 0}
    faults: list[str] = []
    for number in range(count):
        rng = np.random.default_rng([seed, number])
        source = whole[number % len(whole)]
        place = folder / "damaged"
        place.mkdir(exist_ok=True)
        for old in place.iterdir():
            old.unlink()
        for beside in source.parent.glob(f"{source.stem}.*"):
            if beside.suffix in (".shx", ".dbf", ".prj", ".cpg", ".pgw"):
                (place / beside.name).write_bytes(beside.read_bytes())
        path = place / source.name
        path.write_bytes(damaged(source.read_bytes(), rng))
        told["tried"] += 1
        clear = True
        for act in acts(path):
            try:
                act()
            except LampError as error:
                clear = False
                words = str(error)
                if "\n" in words or len(words) >= 400:
                    faults.append(f"{number} {source.name}: not one sentence: {words[:300]}")
            except BaseException:
                faults.append(f"{number} {source.name}: {traceback.format_exc()[-600:]}")
        told["read" if clear else "refused"] += 1
    sys.__stdout__.write("\n" + json.dumps(told | {"faults": faults}) + "\n")  # type: ignore[union-attr]


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))

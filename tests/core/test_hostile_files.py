"""Files that mean harm: none reaches beyond itself, to another file or to a server, while it is looked at or read.

Each file of the corpus names the secret file or the address of a listener, or both. Whatever becomes of the file, no
byte of the secret may come out of it, the listener must hear nothing, and what is said is one sentence of ours.
"""

from __future__ import annotations

import base64
import builtins
import contextlib
import io
import json
import os
import socket
import sqlite3
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import h5py
import netCDF4
import numpy as np
import pytest

from innerlamp.core.errors import InputError, LampError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.grids import grid_files as grids
from innerlamp.core.formats.grids import netcdf_doors, pictures
from innerlamp.core.formats.grids.netcdf_doors import opened as open_netcdf
from innerlamp.core.formats.shapes import features, meshes
from innerlamp.core.formats.tables import sqlite_files, tables_in, vectors
from innerlamp.core.importing import offers, systems_proposed
from innerlamp.core.items.page import Element

CRS = "EPSG:32629"
SECRET = "the-secret-of-this-machine"


@pytest.fixture
def listener() -> Iterator[tuple[str, list[str]]]:
    """An address of this machine, and who called it."""
    heard: list[str] = []
    server = socket.socket()
    server.bind(("127.0.0.1", 0))
    server.listen(8)
    server.settimeout(0.1)
    done = threading.Event()

    def listen() -> None:
        while not done.is_set():
            with contextlib.suppress(TimeoutError, OSError):
                peer, _ = server.accept()
                with peer:
                    peer.settimeout(1.0)
                    with contextlib.suppress(OSError):
                        heard.append(peer.recv(200).decode("latin-1"))
                        peer.sendall(b"HTTP/1.0 404 Not Found\r\n\r\n")

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.getsockname()[1]}", heard
    done.set()
    thread.join()
    server.close()


def texts(secret: str, url: str) -> dict[str, str]:
    """Descriptions that a geodata library would follow."""
    return {
        "vrt": f'<VRTDataset rasterXSize="8" rasterYSize="8"><GeoTransform>0,1,0,8,0,-1</GeoTransform><VRTRasterBand dataType="Byte" band="1"><SimpleSource><SourceFilename>{secret}</SourceFilename><SourceBand>1</SourceBand></SimpleSource></VRTRasterBand></VRTDataset>',
        "raw": f'<VRTDataset rasterXSize="5" rasterYSize="5"><GeoTransform>0,1,0,5,0,-1</GeoTransform><VRTRasterBand dataType="Byte" band="1" subClass="VRTRawRasterBand"><SourceFilename relativetoVRT="0">{secret}</SourceFilename><ImageOffset>0</ImageOffset><PixelOffset>1</PixelOffset><LineOffset>5</LineOffset></VRTRasterBand></VRTDataset>',
        "curl": f'<VRTDataset rasterXSize="8" rasterYSize="8"><VRTRasterBand dataType="Byte" band="1"><SimpleSource><SourceFilename>/vsicurl/{url}/a.tif</SourceFilename></SimpleSource></VRTRasterBand></VRTDataset>',
        "wms": f'<GDAL_WMS><Service name="TMS"><ServerUrl>{url}/${{z}}/${{x}}/${{y}}.png</ServerUrl></Service><DataWindow><UpperLeftX>0</UpperLeftX><UpperLeftY>10</UpperLeftY><LowerRightX>10</LowerRightX><LowerRightY>0</LowerRightY><SizeX>256</SizeX><SizeY>256</SizeY></DataWindow></GDAL_WMS>',
        "ogr": f'<OGRVRTDataSource><OGRVRTLayer name="a"><SrcDataSource>{secret}</SrcDataSource></OGRVRTLayer></OGRVRTDataSource>',
        "wfs": f"<OGRWFSDataSource><URL>{url}/wfs?service=WFS</URL></OGRWFSDataSource>",
        "pipeline": json.dumps({"type": "gdal_streamed_alg", "command_line": f"gdal vector read {url}/a.json"}),
        "stac": json.dumps({"type": "FeatureCollection", "stac_version": "1.0.0", "features": [{"type": "Feature", "stac_version": "1.0.0", "id": "a", "geometry": None, "properties": {}, "assets": {"a": {"href": f"{url}/a.tif"}}, "links": []}]}),
        "topo": json.dumps({"type": "Topology", "objects": {}, "arcs": [], "url": url}),
        "tiles": json.dumps({"tileMatrixSet": {}, "url": url, "type": "raster", "tiles": [f"{url}/{{z}}/{{x}}/{{y}}"]}),
        "zarr": json.dumps({"zarr_format": 3, "node_type": "group", "attributes": {"href": url}}),
        "xinclude": f'<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b SYSTEM "file://{secret}"><!ENTITY c SYSTEM "{url}/c">]><VTKFile type="PolyData"><PolyData><Piece NumberOfPoints="0">&b;&c;</Piece></PolyData></VTKFile>',
        "svg": f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink"><image xlink:href="file://{secret}"/><image href="{url}/a.png"/></svg>',
        "dxf": f"0\nSECTION\n2\nBLOCKS\n0\nBLOCK\n2\nX\n70\n4\n1\n{secret}\n0\nENDBLK\n0\nENDSEC\n0\nSECTION\n2\nENTITIES\n0\nINSERT\n2\nX\n10\n0\n20\n0\n0\nENDSEC\n0\nEOF\n",
    }  # fmt: skip


ENDINGS = (".tif", ".png", ".jpg", ".asc", ".json", ".geojson", ".gpkg", ".shp", ".vtp", ".dxf", ".obj", ".csv", ".xlsx", ".nc")  # fmt: skip


def everything(path: Path) -> Iterator[str]:
    """Whatever the program does with a file that it is given; yields what came out of it, in words."""
    found = Findings()
    acts: tuple[Callable[[], object], ...] = (
        lambda: offers.offers_of(path, {}),
        lambda: systems_proposed.proposed_systems([path]),
        lambda: pictures.look(path),
        lambda: int(pictures.read(path).pixels.sum()),
        lambda: bytes(grids.read_grid(path).values.astype(np.uint8)),
        lambda: features.layers(path),
        lambda: features.read_features(path, "", "a", CRS, found),
        lambda: meshes.read_mesh(path),
        lambda: [tables_in.read(path, found).cells, tables_in.parts(path)],
    )
    for act in acts:
        try:
            yield repr(act())
        except LampError as error:
            words = str(error)
            assert len(words) < 400 and "\n" not in words, words
            yield words
        except KeyError:  # no reader for such an ending
            yield ""


@pytest.mark.parametrize("ending", ENDINGS)
def test_descriptions_of_other_files_and_servers_are_not_followed(
    tmp_path: Path, listener: tuple[str, list[str]], ending: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    url, heard = listener
    secret = tmp_path / "elsewhere" / "secret.txt"
    secret.parent.mkdir()
    secret.write_text(SECRET, encoding="ascii")
    touched: list[str] = []
    watch(monkeypatch, touched)
    for name, text in texts(str(secret), url).items():
        folder = tmp_path / name
        folder.mkdir()
        path = folder / f"a{ending}"
        path.write_text(text, encoding="utf-8")
        for said in everything(path):
            assert SECRET not in said, (name, ending)
        path.unlink()
    assert heard == []
    assert not [t for t in touched if "elsewhere" in t]


def watch(monkeypatch: pytest.MonkeyPatch, touched: list[str]) -> None:
    """Note the files that Python itself opens (libraries are held by what they give back and by the listener)."""
    real = builtins.open

    def noted(file: object, *args: object, **kwargs: object) -> object:
        touched.append(str(file))
        return real(file, *args, **kwargs)  # type: ignore[call-overload]

    monkeypatch.setattr(builtins, "open", noted)
    monkeypatch.setattr(io, "open", noted)


def linked_netcdf(path: Path, other: Path, how: str) -> None:
    raw = np.frombuffer((SECRET * 40).encode("ascii")[:800], dtype="f8")
    other.write_bytes(raw.tobytes())
    with h5py.File(path, "w", track_order=True) as file:
        for name in "xy":
            file.create_dataset(name, data=np.arange(10.0)).make_scale(name)
        if how == "storage":
            v = file.create_dataset("v", shape=(10, 10), dtype="f8", external=[(str(other), 0, 800)])
        elif how == "virtual":
            with h5py.File(other, "w") as hidden:
                hidden.create_dataset("s", data=raw.reshape(10, 10))
            layout = h5py.VirtualLayout((10, 10), "f8")
            layout[:] = h5py.VirtualSource(str(other), "s", (10, 10))
            v = file.create_virtual_dataset("v", layout)
        else:
            with h5py.File(other, "w") as hidden:
                hidden.create_dataset("s", data=raw.reshape(10, 10))
            file["v"] = h5py.ExternalLink(str(other), "s")
            return
        v.dims[0].attach_scale(file["y"])
        v.dims[1].attach_scale(file["x"])


@pytest.mark.parametrize("how", ["storage", "virtual", "link"])
def test_values_of_a_netcdf_file_that_lie_in_another_file_are_refused(tmp_path: Path, how: str) -> None:
    linked_netcdf(tmp_path / "a.nc", tmp_path / "other.bin", how)
    with pytest.raises(InputError, match="lies in another file"):
        grids.read_grid(tmp_path / "a.nc")


@pytest.mark.parametrize("form", ["NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF3_64BIT_DATA", "NETCDF4"])
@pytest.mark.parametrize("records", [False, True])
def test_a_netcdf_file_that_ends_early_is_refused_and_a_whole_one_is_not(
    tmp_path: Path, form: str, records: bool
) -> None:
    path = tmp_path / "g.nc"
    with netCDF4.Dataset(path, "w", format=form) as data:
        for name, size in (("y", None if records else 30), ("x", 40)):
            data.createDimension(name, size)
            data.createVariable(name, "f4", (name,))
        data.createVariable("v", "f8", ("y", "x"))
        data["x"][:] = np.arange(40)
        data["y"][:] = np.arange(30)
        data["v"][:] = np.arange(1200.0).reshape(30, 40)
        data.setncattr("title", "a grid of odd length")
    assert grids.read_grid(path).values[29, 39] == 1199.0
    whole = path.read_bytes()
    for share in (0.5, 0.9, 0.999):
        path.write_bytes(whole[: int(len(whole) * share)])
        with pytest.raises(InputError, match=r"early|can't be read"):
            grids.read_grid(path)
    path.write_bytes(whole[:40])
    with pytest.raises(InputError, match=r"not whole|can't be read"), open_netcdf(path):
        pass


def test_a_database_whose_rows_are_in_its_log_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "live.sqlite"
    db = sqlite3.connect(path)
    db.execute("PRAGMA journal_mode=WAL")
    db.execute("CREATE TABLE t (a REAL, b REAL)")
    db.execute("INSERT INTO t VALUES (1, 2)")
    db.commit()
    with pytest.raises(InputError, match=r"still in its log \(live\.sqlite-wal\)"):
        tables_in.read(f"{path}#t", Findings())
    db.close()  # moves the rows into the file
    assert tables_in.read(f"{path}#t", Findings()).cells.num_rows == 1


def test_views_without_end_end_and_programs_in_databases_do_nothing(tmp_path: Path) -> None:
    path = tmp_path / "a.sqlite"
    db = sqlite3.connect(path)
    db.execute("CREATE TABLE t (a REAL, b REAL)")
    db.execute(
        "CREATE VIEW endless AS WITH RECURSIVE n(a, b) AS (SELECT 1, 2 UNION ALL SELECT a + 1, b FROM n) SELECT a, b FROM n"
    )
    db.execute("CREATE VIEW away AS SELECT load_extension('x') AS a, 1 AS b")
    db.commit()
    db.close()
    with pytest.raises(InputError, match=r"longer than 0.5 seconds"), sqlite_files.opened(path, 0.5) as inside:
        inside.execute("SELECT count(*) FROM endless").fetchall()
    with pytest.raises(InputError):
        tables_in.read(f"{path}#away", Findings())
    with pytest.raises(InputError), sqlite_files.opened(path) as inside:
        inside.execute("ATTACH '/tmp/other' AS other")


def test_ascii_grids_are_whole_or_refused(tmp_path: Path) -> None:
    head = "ncols 3\nnrows 2\nxllcorner 500000\nyllcorner 7000000\ncellsize 10\nNODATA_value -9999\n"
    path = tmp_path / "g.asc"

    def read(text: str) -> grids.GridFile:
        path.write_text(text, encoding="ascii")
        return grids.read_grid(path)

    made = read(head + "1 2 3\n4 -9999 6,5\n")
    assert made.values[1].tolist() == [1.0, 2.0, 3.0]  # the first row is the northern one
    assert np.isnan(made.values[0, 1]) and made.values[0, 2] == 6.5
    assert (made.x0, made.y0, made.dx) == (500005.0, 7000005.0, 10.0)
    centre = head.replace("xllcorner", "xllcenter").replace("yllcorner", "yllcenter")
    assert read(centre + "1 2 3 4 5 6").x0 == 500000.0
    for text, words in (
        (head + "1 2 3 4 5", "5 values for 3 × 2"),
        (head + "1 2 3 4 5 6 7", "7 values for 3 × 2"),
        (head + "1 2 3 4 5 six", "'six' is no number"),
        (head.replace("10", "inf") + "1 2 3 4 5 6", "not whole"),
        (head.replace("cellsize 10\n", "") + "1 2 3 4 5 6", "not whole"),
        (head.replace("ncols 3", "ncols 3000000000") + "1", "too many"),
    ):
        with pytest.raises(InputError, match=words):
            read(text)


def test_a_shapefile_without_its_table_is_refused(tmp_path: Path) -> None:
    import pyogrio
    import shapely

    pyogrio.raw.write(
        tmp_path / "a.shp", shapely.to_wkb(np.array([shapely.Point(1, 2)])), [np.array([5.0])], ["v"],
        geometry_type="Point", driver="ESRI Shapefile", crs=CRS,
    )  # fmt: skip
    assert len(features.read_features(tmp_path / "a.shp", "", "a", CRS, Findings()).table) == 1
    (tmp_path / "a.dbf").unlink()
    with pytest.raises(InputError, match=r"table of the Shapefile \(a\.dbf\) is not beside it"):
        features.read_features(tmp_path / "a.shp", "", "a", CRS, Findings())


def test_a_picture_on_a_page_is_png_or_jpeg() -> None:
    svg = base64.b64encode(b"<svg xmlns='http://www.w3.org/2000/svg'><image href='/etc/hostname'/></svg>").decode()
    with pytest.raises(ValueError, match="PNG or JPEG"):
        Element(kind="picture", x=0, y=0, w=20, h=20, data=svg)
    png = base64.b64encode(b"\x89PNG\r\n\x1a\n" + bytes(20)).decode()
    assert Element(kind="picture", x=0, y=0, w=20, h=20, data=png).data == png


def test_geopackages_and_geojson_are_read_as_the_library_reads_them(tmp_path: Path) -> None:
    """Our own reading against pyogrio's, on layers with numbers, texts, empty cells, holes, heights and several parts."""
    import pandas as pd
    import pyogrio
    import shapely

    ring = [(0, 0), (10, 0), (10, 10), (0, 10)]
    shapes = np.array(
        [
            shapely.Polygon(ring, [[(2, 2), (4, 2), (4, 4)]]),
            shapely.MultiPolygon([shapely.box(20, 0, 30, 5), shapely.box(40, 0, 50, 5)]),
            shapely.LineString([(0, 0, 5), (1, 1, 6)]),
            shapely.Point(3, 4),
        ]
    )
    text = np.array(["Ämter", "ß", None, "plain"], dtype=object)
    number, whole = np.array([1.5, np.nan, -2.0, 1e12]), np.array([1, 2, 3, 4])
    for name, driver in (("a.gpkg", "GPKG"), ("a.geojson", "GeoJSON")):
        path = tmp_path / name
        crs = "EPSG:4326" if driver == "GeoJSON" else CRS
        pyogrio.raw.write(
            path, shapely.to_wkb(shapes), [text, number, whole], ["t", "n", "w"], geometry_type="Unknown", driver=driver,
            crs=crs,
        )  # fmt: skip
        meta, _, wkb, data = pyogrio.raw.read(path)
        theirs = pd.DataFrame(dict(zip(meta["fields"], data, strict=True)))
        ours = vectors.read(path)
        assert list(ours.fields) == list(theirs.columns)
        assert ours.crs == crs
        assert shapely.equals(ours.shapes, shapely.from_wkb(wkb)).all()
        assert ours.fields["t"].tolist() == [None if pd.isna(t) else t for t in theirs["t"]]
        assert ours.fields["n"] == pytest.approx(theirs["n"].to_numpy(float), nan_ok=True)
        assert ours.fields["w"].tolist() == theirs["w"].astype(float).tolist()
        assert vectors.layers(path) == tuple(pyogrio.list_layers(path)[:, 0]) or driver == "GeoJSON"


def test_the_corpus_is_what_it_says(tmp_path: Path) -> None:
    """The tricks work on the libraries themselves: without the doors they would be followed."""
    import rasterio

    secret = tmp_path / "s.bin"
    secret.write_bytes(b"abcdefghijklmnopqrstuvwxy")
    path = tmp_path / "a.tif"
    path.write_text(texts(str(secret), "")["raw"], encoding="utf-8")
    os.environ["GDAL_VRT_RAWRASTERBAND_ALLOWED_SOURCE"] = "ALL"
    try:
        with rasterio.open(path) as data:
            assert data.read(1).tobytes() == secret.read_bytes()
    finally:
        del os.environ["GDAL_VRT_RAWRASTERBAND_ALLOWED_SOURCE"]
    with pytest.raises(InputError, match="can't be read"):
        grids.read_grid(path)


def test_a_netcdf_file_that_the_library_never_ends_with_or_dies_of_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What happens to the process that tries the file is staged: which bytes do it depends on the library's version."""
    file = tmp_path / "a.nc"
    with netCDF4.Dataset(file, "w") as data:
        data.createDimension("x", 3)
        data.createVariable("x", "f8", ("x",))[:] = [0, 1, 2]
    with open_netcdf(file) as data:
        assert list(data.variables) == ["x"]
    trial = tmp_path / "trial.py"
    monkeypatch.setattr(netcdf_doors, "_TRIAL", (str(trial),))
    monkeypatch.setattr(netcdf_doors, "_SECONDS", 1)
    for words, said in (
        ("while True: pass", "does not come to an end"),
        ("import os; os.kill(os.getpid(), 11)", "can't be read as NetCDF"),
        ("import sys; sys.exit(1)", "can't be read as NetCDF"),
        ("print('it is odd'); print('Mend it'); raise SystemExit(2)", r"a\.nc: it is odd\. Mend it\."),
    ):
        trial.write_text(words, encoding="ascii")
        with pytest.raises(InputError, match=said), open_netcdf(file):
            pass

"""What files are told to be, the runs that bring them in, saved mappings, coordinates in other systems."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pyproj
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from innerlamp.api import Project
from innerlamp.cli import main
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.formats.tables import columns, saved_mappings
from innerlamp.core.formats.tables.saved_mappings import SavedMapping, shape_of
from innerlamp.core.importing import intake, offers
from innerlamp.core.importing.detection import CellRules
from innerlamp.core.items.base import Item
from innerlamp.core.items.electrodes import ElectrodeSurvey
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"


def run(operation: str, **params: object) -> Item:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs({}, CRS), op.check(params), SILENT).values()))


def write(folder: Path, name: str, text: str) -> Path:
    (folder / name).write_text(text)
    return folder / name


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("BHID,X,Y,RL\nA,1,2,3\n", "collar"),
        ("Hole,Depth,Azi,Dip\nA,0,10,-60\n", "survey"),
        ("DHID;Depth from;Depth to;Au g/t\nA;0;1;0,5\n", "assay"),
        ("Hole,From,To,Lith\nA,0,1,SL\n", "lithology"),
        ("Hole,From,To,RQD\nA,0,1,80\n", "recovery"),
        ("Pozo;Desde;Hasta;Litología;Observación\nA;0;1;AND/BX;muy fracturada, con 3 % de pirita\n", "lithology"),
        ("Hole,From,To,Rock,Quartz %,Comment\nA,0,1,GR,20,coarse\n", "lithology"),
        ("Hole,From,To,Au_ppm\nA,0,1,LNR\nA,1,2,<0.01\n", "assay"),
        ("Furo,De,Até,Densidade (g/cm3)\nA,0,1,2.7\n", "density"),
        ("Bohrung;Von;Bis;Umwandlung\nA;0;1;chloritisch\n", "alteration"),
        ("Hål;Från;Till;Vittring\nA;0;1;stark\n", "weathering"),
        ("Reikä;Syvyys;Atsimuutti;Kaltevuus\nA;0;90;60\n", "survey"),
        ("Hole,Depth,Susceptibility_SI\nA,0,0.1\n", "reading"),
        ("Easting\tNorthing\tCu ppm\n1\t2\t3\n", "samples"),
        ("Longitude,Latitude,Cu ppm\n-7,50,3\n", "samples"),
        ("Station,Easting,Northing,Gravity_mGal\n1,1,2,980\n", "stations"),
        ("Easting,Northing,Dip,Strike\n1,2,30,40\n", "structures"),
        ("Line,X,Y,TMI\n10,1,2,5\n10,1,3,5\n10,1,4,5\n10,2,4,5\n", "lines"),
        ("A,B,M,N,Resistance\n1,2,3,4,0.5\n", "resistivity"),
        ("Electrode,X,Y,Z\n1,2,3,4\n", "electrodes"),
        ("electrode distance z\n1 0.0 9.5\n2 5.0 9.6\n3 10.0 9.7\n", "electrodes"),
        ("Sample,QC type,Cu_pct\n1,STD,0.5\n2,BLK,0\n", "controls"),
        ("Time,Base nT\n09:00,48000\n", "base"),
        ("x,y,z,dx,dy,dz,density\n1,2,3,1,1,1,2.7\n", "cells"),
        ("x,y,z\n1,2,3\n", "heights"),
        ("Name,Address\nA,B\n", ""),
    ],
)
def test_tables_are_told_by_their_content_not_their_name(tmp_path: Path, text: str, kind: str) -> None:
    (offer,) = offers.offers_of(write(tmp_path, "data.csv", text))
    assert offer.kind == kind, offer.why
    assert offer.why
    assert not offers.lacking(offer)


def test_the_whole_folder_of_the_prospect_is_told_and_planned() -> None:
    found = [o for f in offers.found_files([FILES]) for o in offers.offers_of(f)]
    assert {o.kind for o in found} >= {
        "collar",
        "controls",
        "structures",
        "resistivity",
        "electrodes",
        "picture",
        "ground",
        "features",
        "base",
    }
    runs = intake.plan([o for o in found if o.kind != "picture"])
    assert [r.operation for r in runs[:4]] == ["import-grid", "import-holes", "import-holes", "import-lines"]
    assert runs[1].inputs == {"ground": "@ground"}
    assert runs[1].params["controls"].endswith("control_samples.csv")
    assert "controls" not in runs[2].params
    batches = intake.plan([o for o in found if o.kind != "picture"], intake.Choices(batches=True))
    assert [r.operation for r in batches[1:3]] == ["import-holes", "add-holes"]
    assert intake.resolved(batches[2], {"@holes": "h", "@ground": "g"}) == {"holes": "h", "ground": "g"}
    assert intake.resolved(batches[2], {"@holes": "h"}) == {"holes": "h"}


def test_workbooks_and_databases_offer_each_of_their_tables(tmp_path: Path) -> None:
    with pd.ExcelWriter(tmp_path / "book.xlsx", engine="xlsxwriter") as book:
        for name, file in (("Collars", "collars"), ("Assays", "assays")):
            pd.read_csv(FILES / "drilling" / f"{file}.csv").to_excel(book, sheet_name=name, index=False)
    found = offers.offers_of(tmp_path / "book.xlsx")
    assert [(o.kind, o.label) for o in found] == [("collar", "book.xlsx · Collars"), ("assay", "book.xlsx · Assays")]
    (plan,) = intake.plan(found)
    made = run(plan.operation, **plan.params)
    assert isinstance(made, HoleSet)
    assert len(made.tables["assay"]) == 4409


def test_one_file_a_line_is_one_survey_and_other_shapes_are_others(tmp_path: Path) -> None:
    for k in (1, 2):
        write(tmp_path, f"mag_L{k}.csv", "Fid,X,Y,Time,nT\n1,0,0,09:00,5\n2,0,1,09:01,6\n")
    write(tmp_path, "mag_L3.csv", "Fid,X,Y,Time,nT,Alt\n1,0,0,09:00,5,80\n")
    found = [o for f in offers.found_files([tmp_path]) for o in offers.offers_of(f)]
    assert {o.kind for o in found} == {"lines"}
    runs = intake.plan(found)
    assert [len(r.files) for r in runs] == [2, 1]


def test_folders_are_walked_without_hidden_ones_projects_and_companions(tmp_path: Path) -> None:
    for name in ("a.csv", "b.shx", "b.shp", ".hidden.csv", "c.lamp/catalogue.sqlite", "sub/d.txt"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text("x")
    (tmp_path / "loop").symlink_to(tmp_path)
    assert [p.name for p in offers.found_files([tmp_path])] == ["a.csv", "b.shp", "d.txt"]
    with pytest.raises(InputError, match="no such file or folder"):
        offers.found_files([tmp_path / "none"])


def test_what_is_still_open_stops_the_plan_with_a_sentence(tmp_path: Path) -> None:
    (assay,) = offers.offers_of(write(tmp_path, "a.csv", "Hole,From,To,Cu ppm\nA,0,1,2\n"))
    with pytest.raises(InputError, match="tables of holes and no collars"):
        intake.plan([assay])
    (place,) = offers.offers_of(write(tmp_path, "p.csv", "Here,There,Cu\n1,2,3\n"))
    place = offers.as_kind(place, "samples")
    with pytest.raises(InputError, match="no column for Easting, Northing"):
        intake.plan([place])
    good = intake.with_role(intake.with_role(place, "x", "Here"), "y", "There")
    assert intake.plan([good])[0].params["columns"] == {"x": "Here", "y": "There"}
    (electrodes,) = offers.offers_of(write(tmp_path, "e.csv", "Electrode,X,Y\n1,2,3\n"))
    with pytest.raises(InputError, match="electrodes and no readings"):
        intake.plan([electrodes])


def test_a_saved_mapping_is_taken_for_files_of_the_same_shape_only(tmp_path: Path) -> None:
    file = tmp_path / "mappings.json"
    shape = shape_of(["Place A", "Place_B (m)", "Cu"])
    assert shape == shape_of(["cu", "PLACE B", "place-a"])
    saved_mappings.keep(SavedMapping("one", "samples", shape, {"x": "Place A", "y": "Place B"}), file)
    saved_mappings.keep(SavedMapping("two", "stations", shape, {"x": "Place A", "y": "Place B"}), file)
    assert [m.name for m in saved_mappings.load(file)] == ["two"]
    (offer,) = offers.offers_of(write(tmp_path, "n.csv", "Cu,Place A,Place B\n1,2,3\n"), saved_mappings.load(file))
    assert (offer.kind, offer.roles, offer.mapping) == ("stations", {"x": "Place A", "y": "Place B"}, "two")
    (other,) = offers.offers_of(write(tmp_path, "m.csv", "Cu,Zn,Place A,Place B\n1,2,3,4\n"), saved_mappings.load(file))
    assert other.mapping == ""
    file.write_text("[{broken")
    assert saved_mappings.load(file) == []
    with pytest.raises(InputError, match="needs a name"):
        saved_mappings.keep(SavedMapping(" ", "samples", shape, {}), file)


def test_odd_values_are_told_before_the_import(tmp_path: Path) -> None:
    text = (
        "Hole,From,To,Cu_ppm,Au_ppb\n"
        + "".join(f"A,{k},{k + 1},<5,{k}\n" for k in range(4))
        + "A,x,9,7,insuff\nA,9,10,-5,3\n"
    )
    (offer,) = offers.offers_of(write(tmp_path, "a.csv", text))
    words = intake.odd_values(offer, CellRules())
    assert "4 × Cu_ppm '<…' is below detection: become half of limit" in words
    assert any(w.startswith("Au_ppb 'insuff' is not a number: left empty") for w in words)
    assert any("is a code for below detection" in w for w in words)
    assert any(w.startswith("1 × From is not a number, such as 'x'") for w in words)
    assert intake.columns_in_words(offer)[:2] == [("Hole", "Hole ID", ""), ("From", "From", "")]


CELL = st.text(alphabet="aB,;.\t\"'<>-0123456789 \n\x00é", max_size=12)


@settings(max_examples=50, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    rows=st.lists(st.lists(CELL, max_size=6), max_size=8),
    ending=st.sampled_from(["csv", "txt", "asc", "vti", "omf", "png", "geojson", "las", "xlsx", "tif"]),
)
def test_no_file_breaks_the_look_at_it(tmp_path: Path, rows: list[list[str]], ending: str) -> None:
    path = tmp_path / f"odd.{ending}"
    path.write_text("\n".join(",".join(r) for r in rows), encoding="utf-8")
    found = offers.offers_of(path)
    assert found
    for offer in found:
        assert offer.kind in offers.KINDS
        assert offer.why
        try:
            intake.odd_values(offer, "zero")
            intake.ambiguous_dates([offer])
        except LampError as error:
            assert str(error)


# ---- coordinates in another system


def test_degrees_are_turned_to_metres_for_every_table(tmp_path: Path) -> None:
    lon, lat = pyproj.Transformer.from_crs(CRS, 4326, always_xy=True).transform(
        [503000.0, 503100.0], [5602000.0, 5602050.0]
    )
    rows = [f"{a:.9f},{b:.9f}" for a, b in zip(lon, lat, strict=True)]
    soil = run(
        "import-points", file=str(write(tmp_path, "s.csv", f"Longitude,Latitude,Cu\n{rows[0]},1\n{rows[1]},2\n"))
    )
    assert isinstance(soil, PointSet)
    assert soil.table["x"].to_numpy() == pytest.approx([503000, 503100], abs=1e-3)
    assert soil.findings["what"].tolist()[-1:] == ["coordinates are in EPSG:4326"]
    lines = run(
        "import-lines",
        file=str(write(tmp_path, "l.csv", f"Line,East,North,Z,nT\n1,{rows[0]},9,5\n1,{rows[1]},9,6\n")),
        coordinates="EPSG:4326",
    )
    assert isinstance(lines, SurveyLines)
    assert lines.table["y"].to_numpy() == pytest.approx([5602000, 5602050], abs=1e-3)
    holes = run("import-holes", collar=str(write(tmp_path, "c.csv", f"Hole,Long,Lat,RL,Depth\nA,{rows[0]},90,10\n")))
    assert isinstance(holes, HoleSet)
    assert holes.collars[["x", "y"]].iloc[0].tolist() == pytest.approx([503000, 5602000], abs=1e-3)
    readings = write(tmp_path, "r.csv", "a,b,m,n,rhoa\n1,1,2,2,5\n1,0,2,0,50\n")
    places = write(tmp_path, "r_electrodes.csv", f"electrode,lon,lat,z\n1,{rows[0]},5\n2,{rows[1]},5\n")
    survey = run("import-resistivity", readings=str(readings), electrodes=str(places))
    assert isinstance(survey, ElectrodeSurvey)
    assert survey.table["factor_m"].iloc[0] == pytest.approx(2 * np.pi * np.hypot(100, 50), rel=1e-5)


def test_coordinates_in_another_grid_are_turned_as_pyproj_does(tmp_path: Path) -> None:
    x, y = pyproj.Transformer.from_crs(CRS, 32630, always_xy=True).transform(503000.0, 5602000.0)
    file = write(tmp_path, "s.csv", f"Easting,Northing,Cu\n{x:.4f},{y:.4f},1\n")
    made = run("import-points", file=str(file), coordinates="EPSG:32630")
    assert isinstance(made, PointSet)
    assert made.table[["x", "y"]].iloc[0].tolist() == pytest.approx([503000, 5602000], abs=1e-3)
    with pytest.raises(LampError, match="not a known coordinate system"):
        run("import-points", file=str(file), coordinates="EPSG:1")
    with pytest.raises(InputError, match="don't fit"):
        run("import-points", file=str(file), coordinates="EPSG:4326")


def test_degrees_taken_as_metres_are_pointed_out(tmp_path: Path) -> None:
    made = run("import-points", file=str(write(tmp_path, "s.csv", "X,Y,Cu\n-7.25,50.125,1\n-7.26,50.135,1\n")))
    assert isinstance(made, PointSet)
    assert made.findings["what"].tolist()[-1:] == ["coordinates look like degrees"]


# ---- the command line


def test_a_folder_is_brought_in_by_one_command(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    main(["new", str(tmp_path / "p.lamp"), CRS])
    folder = tmp_path / "in"
    folder.mkdir()
    for name in ("geology/old_workings.csv", "terrain/dem_20m.asc"):
        (folder / Path(name).name).write_bytes((FILES / name).read_bytes())
    write(folder, "notes.csv", "Name,Address\nA,B\n")
    assert main(["bring", str(tmp_path / "p.lamp"), str(folder), "--look"]) == 0
    assert "ground surface (DEM)" in capsys.readouterr().out
    assert main(["bring", str(tmp_path / "p.lamp"), str(folder)]) == 0
    with Project.open(tmp_path / "p.lamp", write=False) as project:
        assert sorted(e.kind for e in project.items) == ["grid", "points"]
    write(folder, "mag.csv", "Line,X,Y,Z,Date,nT\n1,0,0,9,03/04/2024,5\n1,0,1,9,03/04/2024,5\n1,0,2,9,03/04/2024,5\n")
    assert main(["bring", str(tmp_path / "p.lamp"), str(folder / "mag.csv")]) == 2
    assert "could be day or month first" in capsys.readouterr().err
    assert main(["bring", str(tmp_path / "p.lamp"), str(folder / "mag.csv"), "--day-order", "day first"]) == 0
    assert main(["export", str(tmp_path / "p.lamp"), "all", str(tmp_path / "all.omf")]) == 0
    assert (tmp_path / "all.omf").stat().st_size > 1000


ODD = st.one_of(
    st.integers(-3, 9).map(str), st.sampled_from(["", "x", "1e5", "<2", "-999", "N35E", "nan", "1,5", "09:61", '"q'])
)


@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows=st.lists(st.lists(ODD, min_size=5, max_size=5), min_size=1, max_size=9))
def test_malformed_rows_are_kept_or_reported_by_every_new_reader(tmp_path: Path, rows: list[list[str]]) -> None:
    body = "\n".join(",".join(r) for r in rows) + "\n"
    cases = {
        "import-resistivity": ("a,b,m,n,rhoa", {"repeats": "keep all"}, "readings"),
        "import-points": ("x,y,Dip,Strike,Note", {"content": "structures"}, "file"),
        "import-lines": ("Line,x,y,Time,nT", {}, "file"),
    }
    for operation, (head, extra, slot) in cases.items():
        path = write(tmp_path, f"{operation}.csv", f"{head}\n{body}")
        try:
            item = run(operation, **{slot: str(path)}, **extra)
        except LampError as error:
            assert str(error)
            continue
        kept = set(item.table["file_line"])  # type: ignore[attr-defined]
        left = set(item.findings.query("severity == 'left out'")["line"]) - {0} if len(item.findings) else set()  # type: ignore[attr-defined]
        written = {k + 2 for k, r in enumerate(rows) if any(c.strip() for c in r)}
        assert written <= kept | left, operation
        assert not kept & left, operation


def test_maps_and_surfaces_without_a_system_take_the_one_that_is_given(tmp_path: Path) -> None:
    import ezdxf

    x, y = pyproj.Transformer.from_crs(CRS, 32630, always_xy=True).transform(
        [503000.0, 503100.0], [5602000.0, 5602000.0]
    )
    doc = ezdxf.new("R2010")  # type: ignore[attr-defined]
    doc.modelspace().add_line((x[0], y[0], 5), (x[1], y[1], 5))
    doc.saveas(tmp_path / "l.dxf")
    made = run("import-features", file=str(tmp_path / "l.dxf"), coordinates="EPSG:32630")
    assert made.vertices[:, 0] == pytest.approx([503000, 503100], abs=1e-3)  # type: ignore[attr-defined]
    write(
        tmp_path,
        "s.obj",
        f"v {x[0]:.4f} {y[0]:.4f} 5\nv {x[1]:.4f} {y[1]:.4f} 5\nv {x[0]:.4f} {y[0] + 50:.4f} 9\nf 1 2 3\n",
    )
    body = run("import-surface", file=str(tmp_path / "s.obj"), coordinates="EPSG:32630")
    assert sorted(body.vertices[:, 0])[-1] == pytest.approx(503100, abs=1e-2)  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("table", "headings", "roles"),
    [
        ("collar", "N° sondage;X (m);Y (m);Z (m);Longueur (m)", "hole x y z depth_m"),
        ("collar", "Bohrloch-Nr.;Rechtswert [m];Hochwert [m];Ansatzhöhe [m ü. NN];Endteufe [m]", "hole x y z depth_m"),
        ("collar", "Furo;UTM E;UTM N;Elevação;Prof. Final (m)", "hole x y z depth_m"),
        ("collar", "Kairareikä;Itä;Pohjoinen;Korkeus;Pituus (m)", "hole x y z depth_m"),
        ("collar", "Borrhål;Öst;Nord;Höjd (m);Längd (m)", "hole x y z depth_m"),
        ("collar", "DDH;Coord. Este;Coord. Norte;Cota;Largo (m)", "hole x y z depth_m"),
        ("survey", "Pozo;Prof.;Azimut;Manteo", "hole depth_m azimuth dip"),
        ("survey", "Bohrung;Teufe (m);Azimut;Neigung", "hole depth_m azimuth dip"),
        ("survey", "Borrhål;Djup;Bäring;Lutning", "hole depth_m azimuth dip"),
        ("interval", "Sondage;De;À", "hole from_m to_m"),
        ("interval", "Sondaje;Tramo desde (m);Tramo hasta (m)", "hole from_m to_m"),
        ("interval", "Hål;Från;Till", "hole from_m to_m"),
        ("lines", "Ligne;X;Y;Altitude GPS (m);Date;Heure", "line x y z date time"),
        ("lines", "Line;UTME;UTMN;GPSALT;Date;UTC;Radar", "line x y z date time"),
        ("structures", "Este;Norte;Buzamiento;Rumbo", "x y dip direction"),
    ],
)
def test_headings_are_known_in_other_languages(table: str, headings: str, roles: str) -> None:
    # Words for collar, survey and interval columns in use in these languages; common practice, no source.
    known = columns.guess(headings.split(";"), table)
    assert known == dict(zip(roles.split(), headings.split(";"), strict=False))


def test_corrected_columns_of_a_further_table_are_those_that_come_in(tmp_path: Path) -> None:
    (tmp_path / "collars.csv").write_text("Hole,East,North,RL,Depth\nA,0,0,0,50\n")
    (tmp_path / "core.csv").write_text("Hole,From,To,From2,To2,RQD\nA,0,3,10,13,80\n")
    found = [o for n in ("collars", "core") for o in offers.offers_of(tmp_path / f"{n}.csv")]
    core = intake.with_role(intake.with_role(found[1], "from_m", "From2"), "to_m", "To2")
    run = next(r for r in intake.plan([found[0], core]) if r.operation == "import-holes")
    op = OPERATIONS[run.operation]
    made = op.run(Inputs({}, "EPSG:32719"), op.check(run.params), SILENT)["holes"]
    table = made.tables["recovery"]  # type: ignore[attr-defined]
    assert (table["from_m"].tolist(), table["to_m"].tolist()) == ([10.0], [13.0])


def test_a_table_of_nothing_but_delimiters_is_looked_at(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(",\n", encoding="ascii")
    offers.offers_of(tmp_path / "a.csv", {})


def test_a_single_reading_between_electrodes_at_one_place_is_said(tmp_path: Path) -> None:
    try:
        item = run("import-resistivity", readings=str(write(tmp_path, "r.csv", "a,b,m,n,rhoa\n0,0,0,0,1\n")))
    except LampError as error:
        assert str(error)
    else:
        assert len(item.findings)  # type: ignore[attr-defined]

"""Where holes come from: collars with a direction, several survey files, norths by file, hole and date, daughter holes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from innerlamp import cli
from innerlamp.api import Project
from innerlamp.core.compute.potential.mainfield import main_field
from innerlamp.core.crs import to_lonlat
from innerlamp.core.errors import InputError
from innerlamp.core.formats.tables.north_words import north_of
from innerlamp.core.importing import intake, offers
from innerlamp.core.importing.norths import typed
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
COLLARS = "HoleID,Easting,Northing,RL,Depth,Azimuth,Dip\nRC1,500000,7000000,4100,300,90,-60\nRC2,650000,7100000,4200,200,270,-70\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    place = tmp_path / "files"
    place.mkdir()
    return place


OPEN: list[Project] = []


@pytest.fixture(autouse=True)
def _closed() -> Iterator[None]:
    yield
    while OPEN:
        OPEN.pop().store.close()


def brought(folder: Path, **files: str) -> tuple[HoleSet, Project]:
    """The holes that files make when a folder of them comes in."""
    for name, text in files.items():
        (folder / f"{name}.csv").write_text(text, encoding="utf-8")
    Store.create(folder.parent / "p.lamp", CRS).close()
    project = Project.open(folder.parent / "p.lamp")
    OPEN.append(project)
    project.bring([folder])
    (entry,) = [e for e in project.items if e.kind == "holes"]
    item = project.store.load(entry.id)
    assert isinstance(item, HoleSet)
    return item, project


@pytest.mark.parametrize(
    "heading",
    [
        "HoleID,Easting,Northing,RL,Depth,Azimuth,Dip",
        "Hole,East,North,RL,Total depth,Azi,Dip",
        "Sondaje,Este,Norte,Cota,Profundidad,Azimut,Inclinacion",
        "Sondage,X,Y,Z,Profondeur,Azimut,Plongement",
        "Bohrung,Rechtswert,Hochwert,Hoehe,Teufe,Azimut,Neigung",
        "Furo,Este,Norte,Cota,Profundidade,Azimute,Mergulho",
        "Reikä,Itä,Pohjoinen,Korkeus,Syvyys,Atsimuutti,Kaltevuus",
        "Borrhål,Öst,Nord,Höjd,Djup,Azimut,Lutning",
        "BHID,XCOLLAR,YCOLLAR,ZCOLLAR,DEPTH,AZ,DIP",
    ],
)
@pytest.mark.parametrize("rows", [1, 2, 30])
def test_collars_with_a_direction_are_collars(folder: Path, heading: str, rows: int) -> None:
    text = heading + "\n" + "".join(f"A{k},{500000 + 40 * k},7000000,4100,{150 + k},90,-60\n" for k in range(rows))
    (folder / "a.csv").write_text(text, encoding="utf-8")
    (offer,) = offers.offers_of(folder / "a.csv")
    assert offer.kind == "collar" and len(offer.roles) >= 6, offer
    if rows == 2:
        holes, _ = brought(folder)
        assert holes.collars["depth_m"].tolist() == [150.0, 151.0]
        assert holes.stations.groupby("hole")["tz"].first().round(3).tolist() == [-0.866, -0.866]


def test_readings_with_places_are_still_readings(folder: Path) -> None:
    rows = "".join(f"A{k // 8},{k % 8 * 20},90,-60,{500000 + k},7000000,4000\n" for k in range(40))
    (folder / "a.csv").write_text("HoleID,Depth,Azimuth,Dip,Easting,Northing,RL\n" + rows, encoding="utf-8")
    assert offers.offers_of(folder / "a.csv")[0].kind == "survey"


def test_what_a_file_is_can_be_said_otherwise_and_what_lacks_a_column_stops_nothing(
    folder: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (folder / "collar.csv").write_text(COLLARS)
    (folder / "odd.csv").write_text("HoleID,Depth,Azimuth,Dip\nRC1,10,91,-60\nRC1,50,93,-61\n")
    Store.create(folder.parent / "p.lamp", CRS).close()
    words = ["bring", str(folder.parent / "p.lamp"), str(folder)]
    assert cli.main([*words, "--as", "odd.csv=interval"]) == 2  # it has no from and to: said, and the holes come in
    told = capsys.readouterr()
    assert "no column for From, To" in told.err and "holes: Drillholes" in told.out
    assert cli.main([*words, "--as", "none.csv=collar"]) == 2
    assert "no file is called" in capsys.readouterr().err
    assert cli.main([*words, "--as", "odd.csv=trees"]) == 2
    assert "no kind of file" in capsys.readouterr().err
    assert cli.main([*words, "--as", "odd.csv=none"]) == 0


def test_a_table_that_fails_while_it_is_read_is_left_out_and_the_others_come_in(folder: Path) -> None:
    holes, project = brought(
        folder,
        collar=COLLARS,
        assay="HoleID,From,To,Au_ppm\nRC1,0,10,1\n",
        deep="HoleID,Depth (kg),Azimuth,Dip\nRC1,0,90,-60\nRC1,30,91,-60\n",
    )
    assert len(holes.tables["assay"]) == 1
    names = [str(folder / f"{n}.csv") for n in ("c", "s", "t")]
    for name in names:
        Path(name).write_text("a,b\n1,2\n")
    columns = {"survey": {"a": "1"}, "survey 2": {"a": "2"}}
    params = {"collar": names[0], "survey": names[1], "surveys": [names[2]], "columns": columns}
    run = intake.Run("import-holes", params, {}, tuple(names))
    rest = intake.without(run, InputError("odd", where="s.csv"))
    assert rest is not None and rest[1] == names[1]
    assert rest[0].params == {"collar": names[0], "survey": names[2], "columns": {"survey": {"a": "2"}}}
    assert intake.without(run, InputError("odd", where="c.csv")) is None
    assert project.problems == {} or "deep.csv" in next(iter(project.problems))


def test_survey_files_come_together_and_the_choice_says_which_reading_wins(folder: Path) -> None:
    files = {
        "collar": COLLARS,
        "a_single": "HoleID,Depth,Azi,Dip,Date,Tool\n"
        + "".join(f"RC1,{d},90,-60,2020-03-01,EMS\n" for d in (0, 100, 250)),
        "b_gyro": "HoleID,Depth,Azi,Dip\nRC1,100.2,95,-61\nRC1,180,97,-62\n",
    }
    holes, project = brought(folder, **files)
    assert holes.surveys["depth_m"].tolist() == [0.0, 100.2, 180.0, 250.0, 0.0]
    assert holes.surveys["file"].tolist()[:4] == ["a_single.csv", "b_gyro.csv", "b_gyro.csv", "a_single.csv"]
    assert holes.surveys["instrument"].tolist()[0] == "EMS" and holes.surveys["date"].tolist()[0] == "2020-03-01"
    assert (holes.findings["what"] == "another file has a survey reading here").sum() == 1
    given = {
        "collar": str(folder / "collar.csv"),
        "survey": str(folder / "a_single.csv"),
        "surveys": [str(folder / "b_gyro.csv")],
    }
    for wins, depths in (
        ("earlier file", [0.0, 100.0, 180.0, 250.0]),
        ("later file alone", [100.2, 180.0]),
        ("earlier file alone", [0.0, 100.0, 250.0]),
    ):
        made = project.run("import-holes", **given, survey_wins=wins)["holes"]
        item = project.store.load(made)
        assert isinstance(item, HoleSet)
        assert item.surveys.loc[item.surveys["hole"] == "RC1", "depth_m"].tolist() == depths


@pytest.mark.parametrize(
    ("heading", "north"),
    [
        ("Azi TN", "true"), ("AziMN", "magnetic"), ("Azimut missweisend", "magnetic"), ("Azimut vrai", "true"),
        ("Azimut géogr.", "true"), ("Azimut magnétique", "magnetic"), ("Azimut verdadero", "true"),
        ("Azimute magnético", "magnetic"), ("Riktning rättvisande", "true"), ("Atsimuutti (magneettinen)", "magnetic"),
        ("Azimut Gitternord", "grid"), ("Azimuth (true)", "true"), ("AZ_M", "magnetic"), ("Azimut NG", "true"),
        ("Azimuth", ""), ("Azm", ""), ("M", ""), ("AZIMUTHGRID", "grid"),
    ],
)  # fmt: skip
def test_the_north_of_a_heading_is_told(heading: str, north: str) -> None:
    assert north_of(heading) == north


def convergence(x: float, y: float) -> float:
    """From true to grid north, clockwise, by following a meridian: no factors of the projection are asked."""
    import pyproj

    project = pyproj.Transformer.from_crs("EPSG:4326", CRS, always_xy=True)
    lon, lat = to_lonlat(CRS, x, y)
    (x0, y0), (x1, y1) = project.transform(lon, lat - 1e-4), project.transform(lon, lat + 1e-4)
    return -float(np.degrees(np.arctan2(x1 - x0, y1 - y0)))


def test_each_magnetic_reading_has_the_declination_of_its_own_day_and_place(folder: Path) -> None:
    holes, project = brought(
        folder,
        collar=COLLARS.replace("Dip\n", "Dip,Date\n")
        .replace("-60\n", "-60,1985-06-01\n")
        .replace("-70\n", "-70,2021-06-01\n"),
        survey="HoleID,Depth,Azimut magnetico,Dip\nRC1,0,90,-60\nRC2,0,270,-70\n",
    )
    for hole, x, y, z, date, azimuth in (
        ("RC1", 5e5, 7e6, 4100, "1985-06-01", 90.0),
        ("RC2", 6.5e5, 7.1e6, 4200, "2021-06-01", 270.0),
    ):
        lon, lat = to_lonlat(CRS, x, y)
        wanted = azimuth + main_field(float(lon), float(lat), z, date).declination - convergence(x, y)
        got = holes.surveys.loc[holes.surveys["hole"] == hole, "azimuth"].item()
        assert got == pytest.approx(wanted % 360.0, abs=2e-3)
    given = {"collar": str(folder / "collar.csv"), "survey": str(folder / "survey.csv")}
    for words, turns in (
        (["-4.5"], {"RC1": -4.5, "RC2": -4.5}),
        (["survey.csv=3", "RC2=11"], {"RC1": 3.0, "RC2": 11.0}),
    ):
        item = project.store.load(project.run("import-holes", **given, declination=words)["holes"])
        assert isinstance(item, HoleSet)
        for hole, turn in turns.items():
            x, y, azimuth = (5e5, 7e6, 90.0) if hole == "RC1" else (6.5e5, 7.1e6, 270.0)
            got = item.surveys.loc[item.surveys["hole"] == hole, "azimuth"].item()
            assert got == pytest.approx((azimuth + turn - convergence(x, y)) % 360.0, abs=2e-3)
    item = project.store.load(project.run("import-holes", **given, declination=["41"])["holes"])
    assert isinstance(item, HoleSet)
    asked = item.findings[item.findings["what"].str.contains("would be turned by")]
    assert set(asked["severity"]) == {"look"} and set(asked["hole"]) == {"RC1", "RC2"}


def test_a_declination_that_the_table_states_counts_and_one_that_is_none_is_refused(folder: Path) -> None:
    holes, _ = brought(
        folder,
        collar=COLLARS,
        survey="HoleID,Depth,Azi MN,Dip,Declination\nRC1,0,90,-60,-3.5\nRC2,0,270,-70,2\n",
    )
    assert holes.surveys["azimuth"].tolist() == pytest.approx(
        [86.5 - convergence(5e5, 7e6), 272.0 - convergence(6.5e5, 7.1e6)], abs=2e-3
    )
    with pytest.raises(InputError, match="no declination"):
        typed(["RC1=north"])
    with pytest.raises(InputError, match="no declination"):
        typed(["400"])


def test_a_collar_s_direction_keeps_its_own_north(folder: Path) -> None:
    holes, _ = brought(
        folder,
        collar=COLLARS.replace("Azimuth", "Azi TN"),
        survey="HoleID,Depth,Azi grid,Dip\nRC1,0,90,-60\n",
    )
    azimuth = holes.surveys.set_index("hole")["azimuth"]
    assert azimuth["RC1"] == 90.0
    assert azimuth["RC2"] == pytest.approx(270.0 - convergence(6.5e5, 7.1e6), abs=2e-3)


DAUGHTER = COLLARS.replace("RC2,650000,7100000,4200,200,270,-70", "RC1{suffix},500000,7000000,4100,420,90,-60")
PARENT_READINGS = "HoleID,Depth,Azimuth,Dip\nRC1,0,90,-60\nRC1,100,95,-62\nRC1,250,101,-66\nRC1{suffix},200,100,-60\nRC1{suffix},400,120,-50\n"


@pytest.mark.parametrize(("suffix", "columns"), [("W1", False), ("-D2", False), ("B", True)])
def test_a_daughter_has_its_parent_s_path_to_the_wedge_and_its_metres_once(
    folder: Path, suffix: str, columns: bool
) -> None:
    collars = DAUGHTER.format(suffix=suffix)
    if columns:
        head, one, two = collars.splitlines()
        collars = f"{head},Mother hole,Kick-off depth\n{one},,\n{two},RC1,180\n"
    holes, _ = brought(
        folder,
        collar=collars,
        survey=PARENT_READINGS.format(suffix=suffix),
        assay=f"HoleID,From,To,Au_ppm\nRC1,0,300,1\nRC1{suffix},180,420,2\n",
    )
    name = f"RC1{suffix}"
    assert holes.facts["Drilled"] == "540 m"  # 300 and 420 less 180
    assert holes.collars.set_index("hole")["wedge_m"][name] == 180.0
    from innerlamp.core.compute.drilling import desurvey
    from innerlamp.core.importing.hole_paths import path_from

    path, index = path_from(holes)
    depth = np.array([0.0, 50.0, 100.0, 150.0, 180.0])
    both = [desurvey.locate(path, np.full(5, index.get_loc(h)), depth) for h in ("RC1", name)]
    assert np.abs(both[0] - both[1]).max() < 0.02
    told = holes.findings[holes.findings["what"] == "daughter hole"]
    assert told["severity"].tolist() == ["note" if columns else "look"]


def _apart(holes: HoleSet, one: str, other: str, down: float) -> float:
    """How far two holes lie apart, at most, down to a depth."""
    from innerlamp.core.compute.drilling import desurvey
    from innerlamp.core.importing.hole_paths import path_from

    path, index = path_from(holes)
    depth = np.linspace(0.0, down, 10)
    both = [desurvey.locate(path, np.full(10, index.get_loc(h)), depth) for h in (one, other)]
    return float(np.abs(both[0] - both[1]).max())


@pytest.mark.parametrize("columns", [True, False])
def test_a_daughter_of_a_hole_that_came_earlier_has_its_path(folder: Path, tmp_path: Path, columns: bool) -> None:
    head, one, two = DAUGHTER.format(suffix="W1").splitlines()
    parent, daughter = PARENT_READINGS.format(suffix="W1").splitlines(), "RC1W1"
    first = [parent[0], *[r for r in parent[1:] if not r.startswith(daughter)]]
    second = [parent[0], *[r for r in parent[1:] if r.startswith(daughter)]]
    _, project = brought(
        folder, collar=f"{head}\n{one}\n", survey="\n".join(first) + "\n", assay="HoleID,From,To,Au_ppm\nRC1,0,300,1\n"
    )
    more = tmp_path / "more"
    more.mkdir()
    wedge = 170.0 if columns else 180.0  # what is said goes before where the data begin
    said = f"{head},Mother hole,Kick-off depth\n{two},RC1,170\n" if columns else f"{head}\n{two}\n"
    (more / "collar.csv").write_text(said, encoding="utf-8")
    (more / "survey.csv").write_text("\n".join(second) + "\n", encoding="utf-8")
    (more / "assay.csv").write_text("HoleID,From,To,Au_ppm\nRC1W1,180,420,2\n", encoding="utf-8")
    item = next(e.id for e in project.items if e.kind == "holes")
    files = {k: str(more / f"{k}.csv") for k in ("collar", "survey", "assay")}
    project.run("add-holes", holes=item, **files)
    both = project.store.load(item)
    assert isinstance(both, HoleSet)
    assert both.facts["Drilled"] == f"{720 - wedge:.0f} m"
    assert both.collars.set_index("hole")["wedge_m"][daughter] == wedge
    assert _apart(both, "RC1", daughter, wedge) < 0.02
    assert not both.findings["what"].str.startswith("the parent").any()
    # The parent's surveys are put right: its daughter goes with it, by a correction and when it is lifted.
    project.run(
        "correct",
        item=item,
        table="survey",
        action="set value",
        column="azimuth",
        value="140",
        where="hole == 'RC1'",
        why="gyro",
    )
    turned = project.store.load(item)
    assert isinstance(turned, HoleSet)
    assert _apart(turned, "RC1", daughter, wedge) < 0.02
    far = np.linalg.norm(
        turned.stations[turned.stations["hole"] == daughter][["x", "y"]].to_numpy()[-1]
        - both.stations[both.stations["hole"] == daughter][["x", "y"]].to_numpy()[-1]
    )
    assert far > 5.0
    # Replaced by a later batch, the same.
    (more / "collar.csv").write_text(f"{head}\n{one}\n", encoding="utf-8")
    (more / "survey.csv").write_text(
        "\n".join([first[0], *[",".join([*r.split(",")[:2], "200", *r.split(",")[3:]]) for r in first[1:]]]) + "\n",
        encoding="utf-8",
    )
    project.store.undo()
    project.run("add-holes", holes=item, collar=files["collar"], survey=files["survey"])
    last = project.store.load(item)
    assert isinstance(last, HoleSet) and _apart(last, "RC1", daughter, wedge) < 0.02


def test_what_is_no_daughter_stays_a_hole_of_its_own(folder: Path) -> None:
    """Another collar, data from the top on, a parent that is not there, holes that name each other."""
    rows = [
        "A1,500000,7000000,4100,300,,", "A1W1,500300,7000000,4100,300,,", "A2,500500,7000000,4100,300,,",
        "A2W1,500500,7000000,4100,300,,", "B1,500600,7000000,4100,300,none here,100", "C1,500700,7000000,4100,300,C2,100",
        "C2,500700,7000000,4100,300,C1,100", "D1,500800,7000000,4100,300,A1,900",
    ]  # fmt: skip
    assays = "".join(f"{r.split(',')[0]},0,300,1\n" for r in rows)
    holes, _ = brought(
        folder,
        collar="HoleID,Easting,Northing,RL,Depth,Parent,Wedge\n" + "\n".join(rows) + "\n",
        assay="HoleID,From,To,Au_ppm\n" + assays,
    )
    assert holes.facts["Drilled"] == "2,400 m"
    asked = holes.findings[(holes.findings["severity"] == "look") & (holes.findings["table"] == "collar")]
    assert {"B1", "C1", "C2", "D1"} <= set(asked["hole"]) and not {"A1W1", "A2W1"} & set(asked["hole"])


@pytest.mark.parametrize(
    ("heading", "date", "given", "wanted"),
    [
        ("Strike", "", {}, 120.0),  # right-hand rule: dips to the right of 30
        ("Strike (LHR)", "", {}, 300.0),
        ("Rumbo mano izquierda", "", {}, 300.0),
        ("Streichen links", "", {}, 300.0),
        ("Dip direction", "", {}, 30.0),
        ("Strike mag", "2020-05-01", {}, None),
        ("Dip dir TN", "", {}, None),
        ("Strike mag", "", {"declination": ["-10"]}, None),
    ],
)
def test_strikes_by_either_hand_and_compass_readings_with_their_declination(
    folder: Path, heading: str, date: str, given: dict[str, object], wanted: float | None
) -> None:
    Store.create(folder.parent / "p.lamp", CRS).close()
    file = folder / "planes.csv"
    dated = ",Date" if date else ""
    file.write_text(
        f"Easting,Northing,{heading},Dip{dated}\n650000,7100000,30,60{',' + date if date else ''}\n", encoding="utf-8"
    )
    with Project.open(folder.parent / "p.lamp") as project:
        made = project.run("import-points", file=str(file), content="structures", **given)["points"]
        table = project.store.load(made).table  # type: ignore[attr-defined]
    if wanted is None:
        lon, lat = to_lonlat(CRS, 6.5e5, 7.1e6)
        turn = main_field(float(lon), float(lat), 0.0, date).declination if date else 0.0
        turn = -10.0 if given else turn
        wanted = (30.0 if "Dip dir" in heading else 120.0) + turn - convergence(6.5e5, 7.1e6)
    assert table["dip direction"].item() == pytest.approx(wanted, abs=3e-3)

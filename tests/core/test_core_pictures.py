"""Pictures of core: what file names and tables tell, what is kept, and what is refused. Pictures are made here by Pillow."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from PIL import Image

from innerlamp.api import Project
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.formats.grids import photographs
from innerlamp.core.formats.table import export
from innerlamp.core.importing.core_names import Names, names_depths
from innerlamp.core.items.core_pictures import CorePictures, row_parts
from innerlamp.core.items.holes import HoleSet

HOLES = ("EMB014", "EMB1", "DDH-7", "ÄK 22")


@pytest.mark.parametrize(
    ("stem", "told"),
    [
        ("EMB014_143.0-147.5", ("EMB014", 143.0, 147.5)),
        ("emb-014 box 32 143,00 - 147,50 m wet", ("EMB014", 143.0, 147.5)),
        ("EMB1_40-45", ("EMB1", 40.0, 45.0)),  # EMB014 is another hole
        ("DDH7_box_3_12.5_to_16.9", ("DDH-7", 12.5, 16.9)),
        ("ÄK22 0.00-4.10m_2", ("ÄK 22", 0.0, 4.1)),  # a copy's number is no depth
        ("2024-05-17 DDH-7 100.2 104.6", ("DDH-7", 100.2, 104.6)),
        ("EMB014_147.5-143.0", None),
        ("EMB014", None),
        ("EMB0145_1-2", None),
        ("holiday 1 2", None),
    ],
)
def test_file_names_tell_hole_and_depths(stem: str, told: tuple[str, float, float] | None) -> None:
    assert Names(HOLES).read(stem) == told


def test_a_picture_of_core_is_told_from_others_by_its_name() -> None:
    assert names_depths("EMB014_143.0-147.5") and names_depths("DDH-7 box 3 12.5 to 16.9")
    assert not names_depths("scanned_map") and not names_depths("IMG_2034") and not names_depths("sheet 12")


def photo(path: Path, size: tuple[int, int] = (300, 90), **how: object) -> Path:
    """A picture that is red at its left end and blue at its right one."""
    along = np.linspace(0.0, 1.0, size[0])[None, :] * np.ones((size[1], 1))
    pixels = np.stack([255 * (1 - along), np.zeros_like(along), 255 * along], axis=-1).astype(np.uint8)
    Image.fromarray(pixels).save(path, **how)  # type: ignore[arg-type]
    return path


@pytest.fixture
def project(demo_path: Path, tmp_path: Path) -> object:
    import shutil

    shutil.copytree(demo_path, tmp_path / "copy.lamp")
    with Project.open(tmp_path / "copy.lamp") as made:
        yield made


def load(project: Project, **values: Any) -> CorePictures:
    made = project.run("import-core-pictures", holes="Emberlow holes", **values)
    item = project.store.load(made["pictures"])
    assert isinstance(item, CorePictures)
    return item


def test_pictures_are_kept_upright_small_and_at_their_place(project: Project, tmp_path: Path) -> None:
    folder = tmp_path / "boxes"
    folder.mkdir()
    photo(folder / "EMB014_20.0-24.0.png")
    photo(folder / "EMB014_10.0-14.0.jpg", (4000, 900), quality=95)
    exif = Image.Exif()
    exif[274] = 6  # to be turned right by a quarter: a camera held upright
    photo(folder / "EMB001 5 to 9.jpg", (300, 90), exif=exif)
    item = load(project, files=str(folder), rows=2, longest=1000)
    table = item.table
    assert table["file"].tolist() == ["EMB001 5 to 9.jpg", "EMB014_10.0-14.0.jpg", "EMB014_20.0-24.0.png"]
    assert table[["width", "height"]].to_numpy().tolist() == [[90, 300], [1000, 225], [300, 90]]
    for row in range(3):
        whole, small = (Image.open(io.BytesIO(item.jpeg(row, s))) for s in (False, True))
        assert whole.size == tuple(table[["width", "height"]].iloc[row])
        assert max(small.size) <= photographs.SMALL
        assert not whole.getexif()
    assert Image.open(io.BytesIO(item.jpeg(0))).getpixel((45, 5))[0] > 200  # type: ignore[index]  # its left is on top now
    # Their middles lie on the hole: between its stations, 12 m down.
    holes = project.store.load(project.store.find("Emberlow holes").id)
    assert isinstance(holes, HoleSet)
    s = holes.stations[holes.stations["hole"].astype(str) == "EMB014"]
    straight = [np.interp(12.0, s["depth_m"].to_numpy(float), s[c].to_numpy(float)) for c in "xyz"]
    assert table[["x", "y", "z"]].iloc[1].to_numpy(float) == pytest.approx(straight, abs=0.2)
    assert row_parts(2, 10.0, 14.0) == [(10.0, 12.0), (12.0, 14.0)]
    assert row_parts(0, 10.0, 14.0) == [(10.0, 14.0)]
    # Written out and brought in again they are the same pictures at the same depths.
    export(item, tmp_path / "core.zip")
    with zipfile.ZipFile(tmp_path / "core.zip") as archive:
        archive.extractall(tmp_path / "again")
    again = load(
        project, files=str(tmp_path / "again"), table=str(tmp_path / "again" / "pictures.csv"), rows=2, longest=1000
    )
    columns = ["hole", "from_m", "to_m", "rows", "width", "height", "x", "y", "z"]
    pd.testing.assert_frame_equal(again.table[columns], table[columns])


def test_a_table_tells_depths_in_its_own_units_and_what_is_lacking_is_said(project: Project, tmp_path: Path) -> None:
    for name in ("P1.jpg", "P2.jpg", "P9.jpg"):
        photo(tmp_path / name)
    sheet = tmp_path / "photos.csv"
    sheet.write_text(
        "Hole ID;From ft;To ft;Photo\nEMB014;100;110;C:\\core\\P1.JPG\nEMB014;110;120;p2\nEMB014;120;130;P3.jpg\n",
        encoding="utf-8",
    )
    item = load(project, files="; ".join(str(tmp_path / n) for n in ("P1.jpg", "P2.jpg", "P9.jpg")), table=str(sheet))
    assert item.table["from_m"].tolist() == pytest.approx([30.48, 33.528])
    said = set(item.findings["what"])
    assert {"a picture of the table is not there", "the table does not name the picture"} <= said


def test_what_can_not_be_used_is_left_out_and_said_and_nothing_left_is_refused(
    project: Project, tmp_path: Path
) -> None:
    photo(tmp_path / "EMB014_10-14.jpg")
    photo(tmp_path / "EMB014_12-15.jpg")  # overlaps
    photo(tmp_path / "EMB014_900-904.jpg")  # below the end
    photo(tmp_path / "XYZ9_1-4.jpg")
    (tmp_path / "EMB014_30-34.jpg").write_bytes(b"\xff\xd8\xff" + bytes(100))
    (tmp_path / "EMB014_40-44.png").write_bytes(b"<svg xmlns='http://www.w3.org/2000/svg'/>")
    item = load(project, files=str(tmp_path))
    assert len(item.table) == 3
    said = item.findings["what"].tolist()
    assert said.count("can't be read as a picture") == 2
    for words in (
        "pictures overlap",
        "the picture lies below the end of the hole",
        "the file name tells no hole or depths",
    ):
        assert words in said
    for values, words in (
        ({"files": str(tmp_path / "XYZ9_1-4.jpg")}, "can be placed"),
        ({"files": str(tmp_path / "nowhere")}, "no such file"),
        ({"files": ""}, "no pictures|missing|must"),
        ({"files": str(tmp_path), "table": str(tmp_path / "none.csv")}, "no such file"),
    ):
        with pytest.raises(LampError, match=words):
            load(project, **values)


def test_a_picture_larger_than_any_photograph_is_refused_before_it_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(photographs, "_MOST_PIXELS", 1000)
    with pytest.raises(InputError, match="million pixels"):
        photographs.as_jpeg(photo(tmp_path / "a.png"), 500)


def test_folders_bring_core_pictures_in_with_their_holes(project: Project, tmp_path: Path) -> None:
    folder = tmp_path / "new"
    folder.mkdir()
    photo(folder / "EMB014_10-14.jpg")
    photo(folder / "EMB014_14-18.jpg")
    (made,) = project.bring([folder])
    item = project.store.load(made)
    assert isinstance(item, CorePictures) and len(item.table) == 2

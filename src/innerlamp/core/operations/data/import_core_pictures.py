"""Importing pictures of core: of each its hole and depths, told by a table or by the file names."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from ...compute.drilling import desurvey
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...findings import Findings
from ...formats.grids import photographs
from ...formats.tables import tables_in
from ...given_paths import given_path
from ...importing.core_names import Names
from ...importing.hole_paths import path_from
from ...importing.reading import length_column, mapped
from ...items.base import Item
from ...items.core_pictures import CorePictures
from ...items.holes import HoleSet, hole_codes
from ...progress import Progress

_MOST, _MOST_BYTES = 20_000, 1_500_000_000
_SAME = 0.005  # metres


class ImportCorePictures(Params):
    files: Several = param(
        ..., "Pictures", editor="files", help="JPEG, PNG or TIFF files, or a folder of them; several with ;"
    )
    table: str = param(
        "",
        "Table",
        editor="file",
        help="Hole, from, to and file of each picture; without one the file names tell: EMB014_143.0-147.5.jpg",
    )
    rows: int = param(
        0,
        "Rows of core in a picture",
        low=0,
        high=20,
        help="Top to bottom, each from left to right: the log stands them upright one below the other; 0 shows pictures whole",
    )
    longest: int = param(
        1600, "Longer side", unit="pixels", low=200, high=6000, help="Larger pictures are made smaller", more=True
    )
    name: str = param("", "Name", help="That of the holes when empty")


def _run(inputs: Inputs, p: ImportCorePictures, progress: Progress) -> dict[str, Item]:
    holes, found = inputs.need("holes", HoleSet), Findings()
    files = _files(p.files)
    progress(0.02, f"{len(files)} pictures")
    known = _by_table(p.table, files, holes, found) if p.table.strip() else _by_name(files, holes, found)
    ends = dict(zip(holes.collars["hole"].astype(str), holes.collars["depth_m"].to_numpy(float), strict=True))
    whole: list[bytes] = []
    small: list[bytes] = []
    records = []
    total = 0
    for number, (path, hole, start, stop) in enumerate(sorted(known, key=lambda k: (k[1], k[2], k[3]))):
        progress(0.05 + 0.9 * number / len(known), path.name)
        if hole not in ends:
            found.add("left out", "there is no such hole", f"{hole}: picture left out", file=path.name, hole=[hole])
            continue
        if not stop > start >= 0.0:
            found.add(
                "left out", "depths are not from less to more", f"{start:g} to {stop:g} m: left out", file=path.name
            )
            continue
        if start > ends[hole] + _SAME:
            found.add("look", "the picture lies below the end of the hole", f"{start:g} m: kept", file=path.name)
        try:
            picture, thumb, size = photographs.as_jpeg(path, p.longest)
        except InputError as error:
            found.add("left out", error.what, "picture left out", file=path.name)
            continue
        total += len(picture) + len(thumb)
        if total > _MOST_BYTES:
            raise InputError(
                f"the pictures take more than {_MOST_BYTES / 1e9:g} GB", fix="Give a shorter longer side, or fewer"
            )
        whole.append(picture)
        small.append(thumb)
        records.append((hole, start, stop, p.rows, path.name, *size))
    if not records:
        raise InputError(
            "none of the pictures can be placed along the holes",
            where=holes.name,
            fix="Name files like HOLE_143.0-147.5.jpg, or give a table of hole, from, to and file",
        )
    table = pd.DataFrame(records, columns=["hole", "from_m", "to_m", "rows", "file", "width", "height"])
    _say_overlaps(table, found)
    traces, index = path_from(holes)
    middle = 0.5 * (table["from_m"] + table["to_m"]).to_numpy(float)
    xyz = desurvey.locate(traces, hole_codes(table["hole"], index).astype(np.int64), middle)
    table = table.assign(x=xyz[:, 0], y=xyz[:, 1], z=xyz[:, 2])
    progress(1.0, f"{len(table)} pictures of {table['hole'].nunique()} holes")
    return {
        "pictures": CorePictures(
            name=p.name or f"Core of {holes.name}",
            crs=inputs.crs,
            table=table,
            data=np.frombuffer(b"".join(whole), dtype=np.uint8),
            starts=np.concatenate([[0], np.cumsum([len(b) for b in whole])]).astype(np.int64),
            small=np.frombuffer(b"".join(small), dtype=np.uint8),
            small_starts=np.concatenate([[0], np.cumsum([len(b) for b in small])]).astype(np.int64),
            findings=found.frame(),
        )
    }


def _files(given: tuple[str, ...]) -> list[Path]:
    """The picture files of files and folders, each once, by name."""
    out: dict[Path, None] = {}
    for each in given:
        path = given_path(each)
        if path.is_dir():
            inside = sorted(f for f in path.iterdir() if f.is_file() and f.suffix.lower() in photographs.ENDINGS)
            out |= dict.fromkeys(inside)
        elif path.is_file():
            out[path] = None
        else:
            raise InputError("there is no such file", where=each, fix="Check the path")
    if not out:
        raise InputError("there are no pictures", fix="Choose JPEG, PNG or TIFF files, or a folder with some")
    if len(out) > _MOST:
        raise InputError(f"{len(out):,} pictures are too many at once", fix=f"Bring in at most {_MOST:,}")
    return list(out)


Known = list[tuple[Path, str, float, float]]


def _by_name(files: list[Path], holes: HoleSet, found: Findings) -> Known:
    names = Names(holes.collars["hole"].astype(str))
    out = []
    for path in files:
        told = names.read(path.stem)
        if told is None:
            found.add("left out", "the file name tells no hole or depths", "picture left out", file=path.name)
        else:
            out.append((path, *told))
    return out


def _by_table(ref: str, files: list[Path], holes: HoleSet, found: Findings) -> Known:
    """Hole, from and to of each picture that a table names; the column with the most file names is the one."""
    raw = tables_in.read(ref, found, "core pictures")
    by_name = {key: f for f in files for key in (f.stem.lower(), f.name.lower())}
    texts = {c: [_last(t) for t in raw.text(c).fillna("").astype(str)] for c in raw.layout.columns}
    hits = {c: sum(t in by_name for t in cells) for c, cells in texts.items()}
    column = max(hits, key=lambda c: hits[c], default="")
    if not column or not hits[column]:
        raise InputError("no column of the table names the pictures", where=raw.file, fix="Give their file names in it")
    role = mapped(raw, "interval", {})
    start, stop = (length_column(raw, role[r], "auto", found, "core pictures") for r in ("from_m", "to_m"))
    hole = raw.text(role["hole"]).fillna("").astype(str).str.strip().tolist()
    out, named = [], set()
    for k, cell in enumerate(texts[column]):
        if cell in by_name:
            out.append((by_name[cell], hole[k], float(start[k]), float(stop[k])))
            named.add(by_name[cell])
        elif cell:
            found.add("look", "a picture of the table is not there", cell, file=raw.file, line=[int(raw.line[k])])
    for path in files:
        if path not in named:
            found.add("left out", "the table does not name the picture", "picture left out", file=path.name)
    return out


def _last(cell: str) -> str:
    """The file's name of a path in a table, whichever way its slashes lean."""
    return cell.strip().replace("\\", "/").rpartition("/")[2].lower()


def _say_overlaps(table: pd.DataFrame, found: Findings) -> None:
    for hole, mine in table.groupby("hole", sort=False):
        start, stop = mine["from_m"].to_numpy(float), np.maximum.accumulate(mine["to_m"].to_numpy(float))
        for k in np.flatnonzero(start[1:] < stop[:-1] - _SAME).tolist():
            found.add(
                "look",
                "pictures overlap",
                f"{hole} at {start[k + 1]:g} m: the later one lies on top",
                file=str(mine["file"].iloc[k + 1]),
                hole=[str(hole)],
            )


OPERATION = Operation(
    name="import-core-pictures",
    example=Example(
        {"holes": "Emberlow holes"},
        {"files": ["core/boxes/EMB014_141.0-145.5.jpg", "core/boxes/EMB014_145.5-150.0.jpg"], "rows": 3},
    ),
    title="Import core pictures",
    area="Data",
    help="Reads photographs of core boxes with the hole and depths of each, told by a table or by their file names. Strip logs show them by depth, row by row where a picture has several rows of core.",
    params=ImportCorePictures,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",), help="The holes that the pictures are of"),),
    outputs=(Output("pictures", "core", "Core pictures"),),
)

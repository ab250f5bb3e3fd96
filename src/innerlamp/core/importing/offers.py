"""What files are: told by what stands in them, as an offer that the user corrects before anything is imported."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from ..elements import measured
from ..errors import InputError, LampError
from ..formats.grids import pictures, rasters
from ..formats.shapes import features, mining
from ..formats.tables import columns, line_files, rawtable, tables_in, vectors
from ..formats.tables.rawtable import Layout
from ..formats.tables.saved_mappings import SavedMapping, shape_of
from ..given_paths import given_path
from .control_samples import kind_of
from .core_names import names_depths
from .detection import GRADES
from .tiles import Extent, extent_of_head, extent_of_raster
from .told_units import has_unit

MOST_FILES = 2000
# What a file may be: key, label, and the table of roles that its columns play ('' for none).
KINDS: dict[str, tuple[str, str]] = {
    "collar": ("hole collars", "collar"),
    "survey": ("hole surveys", "survey"),
    "assay": ("assays", "interval"),
    "lithology": ("geology log", "interval"),
    "recovery": ("recovery and RQD", "interval"),
    "density": ("densities along holes", "interval"),
    "alteration": ("alteration log", "interval"),
    "weathering": ("weathering log", "interval"),
    "interval": ("other intervals along holes", "interval"),
    "reading": ("readings along holes", "reading"),
    "log": ("LAS log of a hole", ""),
    "controls": ("control samples", "controls"),
    "samples": ("samples", "points"),
    "stations": ("stations", "points"),
    "structures": ("structural readings", "structures"),
    "workings": ("old workings", "points"),
    "lines": ("survey lines", "lines"),
    "resistivity": ("resistivity readings", "resistivity"),
    "electrodes": ("electrodes", "electrodes"),
    "cells": ("block model", "points"),
    "heights": ("points of a surface", "points"),
    "ground": ("ground surface (DEM)", ""),
    "grid": ("grid of values", ""),
    "features": ("map features", ""),
    "surface": ("surface", ""),
    "blocks": ("block model", ""),
    "element": ("element of an OMF file", ""),
    "picture": ("picture", ""),
    "core": ("picture of core", ""),
    "base": ("base-station record", ""),
    "": ("not known: leave out", ""),
}
TABLES = (*(k for k, (_, roles) in KINDS.items() if roles), "log", "base", "")
OWN_KINDS = ("recovery", "density", "alteration", "weathering")
HOLE_KINDS = ("collar", "survey", "assay", "lithology", *OWN_KINDS, "interval", "reading", "log", "controls")
# Files that belong to another one and are read with it.
_COMPANIONS = {
    ".shx",
    ".dbf",
    ".prj",
    ".cpg",
    ".qix",
    ".sbn",
    ".sbx",
    ".xml",
    ".pgw",
    ".jgw",
    ".tfw",
    ".wld",
    ".jpgw",
    ".pngw",
    ".mtl",
    ".ini",
    ".log",
    ".pdf",
    ".docx",
    ".doc",
    ".zip",
    ".py",
}


@dataclass(frozen=True)
class Offer:
    """A file, or one table, layer or element of it, and what it seems to be.

    Attributes
    ----------
    ref
        Path, with ``#part`` where the file has several.
    kind
        A key of `KINDS`; '' where nothing fits.
    why
        In words, by what it was told.
    fits
        The kinds that it can be read as.
    roles
        Column of each role.
    layout
        How the table is laid out; None for other files.
    needs_points
        Whether it is a picture that names no place of its own.
    mapping
        Name of the saved mapping that was taken; '' for none.
    extent
        Of a grid whose file tells it at once: west, south, east, north and the size of a cell, in its own system.
    """

    ref: str
    kind: str
    why: str
    fits: tuple[str, ...]
    roles: dict[str, str] = field(default_factory=dict)
    layout: Layout | None = None
    needs_points: bool = False
    mapping: str = ""
    extent: Extent | None = None

    @property
    def label(self) -> str:
        """File and part as people read them."""
        path, part = tables_in.split(self.ref)
        return f"{path.name} · {part}" if part else path.name


def found_files(paths: Iterable[Path | str]) -> list[Path]:
    """Return the files among paths and in folders, by name; hidden ones, projects and companions are passed over.

    Raises
    ------
    InputError
        When a path is not there, or folders hold more than 2,000 files.
    """
    out: list[Path] = []

    def take(path: Path, depth: int) -> None:
        if path.is_dir():
            if path.suffix == ".lamp" or depth > 8:
                return
            for child in sorted(path.iterdir()):
                if not child.name.startswith(".") and not child.is_symlink():
                    take(child, depth + 1)
        elif path.is_file() and (depth == 0 or path.suffix.lower() not in _COMPANIONS):
            out.append(path)
        if len(out) > MOST_FILES:
            raise InputError(
                f"there are more than {MOST_FILES} files", where=str(path.parent), fix="Take one folder at a time"
            )

    for each in paths:
        path = given_path(each)
        if not path.exists():
            raise InputError("there is no such file or folder", where=str(each), fix="Check the path")
        take(path, 0)
    return list(dict.fromkeys(out))


def offers_of(path: Path, saved: Sequence[SavedMapping] = ()) -> list[Offer]:
    """Return what a file holds; never fails: what can't be read is an offer of nothing that says why."""
    try:
        return [_with_saved(offer, saved) for offer in _look(path)]
    except LampError as error:
        return [Offer(str(path), "", str(error), ("",))]
    except (OSError, ValueError) as error:
        return [Offer(str(path), "", f"can't be read ({error})", ("",))]


def _look(path: Path) -> list[Offer]:
    ending = path.suffix.lower()
    if not path.stat().st_size:
        return [Offer(str(path), "", "the file is empty", ("",))]
    with path.open("rb") as handle:
        head = handle.read(4096)
    if head[:4] == mining.MAGIC:
        return [Offer(f"{path}#{n}", "element", "Open Mining Format", ("element", "")) for n in mining.elements(path)]
    if ending in (".vtp", ".obj", ".ply", ".stl"):
        return [Offer(str(path), "surface", f"{ending[1:].upper()} file", ("surface", ""))]
    if ending in (".vti", ".vtr"):
        return [Offer(str(path), "blocks", f"{ending[1:].upper()} file", ("blocks", ""))]
    if ending == ".vtu":
        return [Offer(str(path), "blocks", "VTU file", ("blocks", "surface", ""))]
    if ending == ".dxf":
        faces = _holds(path, b"3DFACE") or _holds(path, b"POLYFACE")
        if faces and any(
            _holds(path, w) for w in (b"LWPOLYLINE", b"AcDb3dPolyline", b"AcDbLine", b"\nPOINT", b"\nLINE")
        ):
            return [
                Offer(f"{path}#faces", "surface", "3D faces of a DXF drawing", ("surface", "")),
                Offer(f"{path}#lines", "features", "lines and points of a DXF drawing", ("features", "")),
            ]
        kinds = ("surface", "features", "") if faces else ("features", "surface", "")
        return [Offer(str(path), kinds[0], "DXF with 3D faces" if faces else "DXF drawing", kinds)]
    if ending in vectors.DRIVERS:
        layers = features.layers(path)
        return [
            _map_layer(path, f"{path}#{n}" if len(layers) > 1 else str(path), f"{ending[1:].upper()} layer")
            for n in layers
        ]
    if ending in (".asc", ".nc", ".grd") and (ending == ".nc" or b"ncols" in head[:400].lower()):
        return [_grid(path, "grid file", extent_of_head(head) if ending == ".asc" else None)]
    if ending in pictures.EXTENSIONS:
        return [_picture_or_grid(path)]
    return _tables(path)


def _map_layer(path: Path, ref: str, why: str) -> Offer:
    """A layer of map features; points with grades are what a table of the same columns would be."""
    try:
        layout = tables_in.look(ref)
    except LampError:  # lines, polygons, or nothing at all: reading says more
        return Offer(ref, "features", why, ("features", ""))
    told = [measured(c, layout.unit_of(c)) for c in layout.columns]
    grades = any(m is not None and m.unit in GRADES for m in told)
    kind, _ = kind_of_table(layout, tables_in.first_rows(ref, layout, 60), tables_in.split(ref)[1] or path.stem)
    fits = (*(k for k in TABLES if k), "features", "")
    if grades and kind == "samples":
        why = f"{why} of points with grades"
    else:
        kind, why = "features", f"{why} of points"
    return Offer(ref, kind, why, fits, columns.guess(layout.columns, KINDS[kind][1]) if KINDS[kind][1] else {}, layout)


def _holds(path: Path, word: bytes) -> bool:
    with path.open("rb") as handle:
        return any(word in chunk for chunk in (handle.read(1 << 20) for _ in range(8)))


def _grid(path: Path, why: str, extent: Extent | None = None) -> Offer:
    name = path.stem.lower()
    ground = bool(re.search(r"dem|dtm|dsm|elev|topo|terrain|ground|height|srtm", name))
    kinds = ("ground", "grid", "") if ground else ("grid", "ground", "")
    why = f"{why}, named like a ground surface" if ground else why
    return Offer(str(path), kinds[0], why, kinds, extent=extent)


def _picture_or_grid(path: Path) -> Offer:
    try:
        with rasters.opened(path) as data:
            affine = rasters.affine_of(path, data)
            bands, kind, placed = data.count, data.dtypes[0], affine is not None
            extent = extent_of_raster(affine, data.width, data.height)
            palette = any(str(c).endswith("palette") for c in data.colorinterp)
    except InputError:
        raise
    except Exception as error:  # rasterio raises its own errors and GDAL's
        raise InputError("can't be read as a picture or grid", where=path.name, fix="Use PNG, JPEG or TIFF") from error
    if bands == 1 and not palette and kind != "uint8" and placed:
        return _grid(path, "one band of numbers with a place", extent)
    if not placed and names_depths(path.stem):
        return Offer(
            str(path), "core", "picture named by a hole and depths", ("core", "picture", ""), needs_points=True
        )
    why = "picture with its place" if placed else "picture without a place: pick points on it"
    fits = ("picture", "grid", "ground", "") if placed else ("picture", "")
    return Offer(str(path), "picture", why, fits, needs_points=not placed)


def _tables(path: Path) -> list[Offer]:
    parts = tables_in.parts(path)
    out = []
    for ref in [f"{path}#{p}" for p in parts] if len(parts) > 1 else [str(path)]:
        try:
            layout = tables_in.look(ref)
        except LampError as error:
            out.append(Offer(ref, "", str(error), ("",)))
            continue
        if layout.medium == "LAS log":
            out.append(Offer(ref, "log", "LAS log", ("log", "reading", ""), layout=layout))
            continue
        if layout.medium == line_files.MEDIUM:
            roles = columns.guess(layout.columns, "lines")
            out.append(Offer(ref, "lines", "rows below headers of lines", TABLES, roles, layout))
            continue
        kind, why = kind_of_table(layout, tables_in.first_rows(ref, layout, 60), tables_in.split(ref)[1] or path.stem)
        out.append(
            Offer(
                ref, kind, why, TABLES, columns.guess(layout.columns, KINDS[kind][1]) if KINDS[kind][1] else {}, layout
            )
        )
    return out


def kind_of_table(layout: Layout, rows: list[list[str]], name: str) -> tuple[str, str]:
    """Return what a table seems to be, from its headings and first rows, and in words by what that was told.

    `name` (of file or sheet) decides only between kinds that the content leaves open.
    """
    have = layout.columns
    word = name.lower()

    def covers(table: str) -> bool:
        return not columns.missing(columns.guess(have, table), table)

    def roles(table: str) -> dict[str, str]:
        return columns.guess(have, table)

    def cells(column: str) -> list[str]:
        at = have.index(column)
        return [r[at].strip() for r in rows if len(r) > at]

    def numeric(column: str) -> bool:
        filled = [c for c in cells(column) if c.lower() not in rawtable.NO_VALUE]
        good = [c for c in filled if re.match(r"^[<>]?\s*[-+]?[\d.,]+([eE][-+]?\d+)?$", c) or has_unit(c)]
        return len(good) > 0.5 * len(filled)

    ert = roles("resistivity")
    if covers("resistivity") and {"rho", "resistance", "voltage"} & set(ert) and all(numeric(ert[c]) for c in "abmn"):
        return "resistivity", "columns a, b, m, n with a resistance or resistivity"
    controls = roles("controls")
    kinds = [bool(kind_of(c)) for c in cells(controls["type"]) if c] if covers("controls") else []
    # Among assays they are told row by row when these are read; a table of them alone has hardly anything else.
    if any(kinds) and (not covers("interval") or sum(kinds) > 0.8 * len(kinds)):
        return "controls", f"'{controls['type']}' says standard, blank or duplicate"
    hole = roles("collar").get("hole", "")
    if hole and not _is_coordinate(hole):
        if covers("interval"):
            return _interval_kind(layout, roles("interval"), numeric, word)
        # Azimuth, dip and a depth stand in tables of collars too: what has a place, and one row a hole, is one.
        if covers("collar") and covers("survey") and _one_row_each(cells(hole)):
            collar = roles("collar")
            if numeric(collar["x"]) and numeric(collar["y"]):
                return "collar", "one row a hole with easting and northing, azimuth and dip"
        if covers("survey"):
            return "survey", "hole, depth, azimuth and dip"
        if covers("collar"):
            return "collar", "one row a hole with easting and northing"
        if covers("reading"):
            return "reading", "hole and depth"
    if "x" in roles("points") and "y" in roles("points"):
        return _place_kind(have, roles, numeric, cells, word)
    electrodes = roles("electrodes")
    if "distance_m" in electrodes and ("electrode" in electrodes or "z" in electrodes):
        return "electrodes", "electrode and distance along the line"
    line = roles("lines")
    times = [c for c in have if re.match(r"(?i)^(time|utc|hh)", c.strip())] or [line[r] for r in ("time",) if r in line]
    if times and any(numeric(c) for c in have if c not in times):
        return "base", "times and readings without a place"
    return "", "no columns that belong to a known table"


def _one_row_each(ids: Sequence[str]) -> bool:
    """Whether hardly any ID stands in more than one row; a hole that was entered twice makes no table of readings."""
    named = [i for i in ids if i]
    return bool(named) and len(set(named)) >= 0.8 * len(named)


def _is_coordinate(heading: str) -> bool:
    return columns.plain(heading) in ("x", "y", "z")


def own_kind(ref: str) -> str:
    """Return recovery, density, alteration or weathering for a table of intervals that is one; '' else."""
    layout = tables_in.look(ref)
    kind, _ = kind_of_table(layout, tables_in.first_rows(ref, layout, 60), "")
    return kind if kind in OWN_KINDS else ""


def _interval_kind(layout: Layout, role: dict[str, str], numeric: object, word: str) -> tuple[str, str]:
    assert callable(numeric)
    rest = [c for c in layout.columns if c not in role.values()]
    words = [c for c in rest if not numeric(c)]
    rock = next((c for c in words if columns.tells(c, "rock")), "")
    graded = [c for c in rest if layout.unit_of(c) in GRADES or (not layout.unit_of(c) and measured(c))]
    # A laboratory's element is a grade even where its first rows are all codes; a share of a mineral or of core is none.
    grades = [c for c in graded if measured(c, layout.unit_of(c)) and (numeric(c) or layout.unit_of(c) in GRADES)]
    others = [c for c in graded if c not in grades and numeric(c) and layout.unit_of(c) != "%"]
    seen_by_eye = rock and all(layout.unit_of(c) == "%" for c in grades)
    if (grades or others) and not seen_by_eye:
        return "assay", f"from, to and grades ({', '.join((grades or others)[:3])})"
    for kind, line in (("recovery", "rqd"), ("recovery", "recovery"), ("density", "density")):
        hit = next((c for c in rest if columns.names(c, line) and numeric(c)), "")
        if hit:
            return kind, f"from, to and {hit}"
    if rock:
        return "lithology", f"from, to and codes ({rock})"
    for kind in ("alteration", "weathering"):
        hit = next((c for c in words if columns.tells(c, kind)), "")
        if hit:
            return kind, f"from, to and {hit}"
    if words and re.search(r"lith|geol|rock|log", word):
        return "lithology", f"from, to and codes ({words[0]})"
    percent = [c for c in graded if numeric(c)]
    if percent:
        return "assay", f"from, to and grades ({', '.join(percent[:3])})"
    return "interval", "hole, from and to"


def _place_kind(have: Sequence[str], roles: object, numeric: object, cells: object, word: str) -> tuple[str, str]:
    assert callable(roles)
    assert callable(numeric)
    assert callable(cells)
    if not columns.missing(roles("structures"), "structures"):
        return "structures", "easting, northing, dip and direction"
    electrodes = roles("electrodes")
    if "electrode" in electrodes and (
        re.search(r"electrode|topo|elec", word) or "electrode" in electrodes["electrode"].lower()
    ):
        return "electrodes", "electrode number with its place"
    if {"line", "distance_m", "x", "y"} <= set(electrodes) and not [
        c for c in have if c not in electrodes.values() and numeric(c)
    ]:
        return "electrodes", "line, distance along it and place, and nothing else"
    line = roles("lines")
    rest = [c for c in have if c not in line.values() and numeric(c)]
    if "line" in line and rest:
        values = cells(line["line"])
        if len(set(values)) <= max(1, len(values) // 3):
            return "lines", f"many rows share a value of '{line['line']}'"
    if "line" not in line and rest and re.search(r"line|profile|mag", word) and ("fiducial" in line or "time" in line):
        return "lines", "readings with fiducials or times, one line a file"
    if len(columns.cell_sizes(have)) == 3:
        return "cells", "cell centres with cell sizes"
    if any(re.search(r"(?i)gravity|bouguer|mgal|absolute", c) for c in have):
        return "stations", "easting, northing and gravity"
    if not [c for c in have if c not in roles("points").values()] and "z" in roles("points"):
        return "heights", "three columns of coordinates"
    if re.search(r"working|adit|shaft|mine", word):
        return "workings", "easting and northing; named like workings"
    return "samples", "easting and northing"


def _with_saved(offer: Offer, saved: Sequence[SavedMapping]) -> Offer:
    if offer.layout is None:
        return offer
    shape = shape_of(offer.layout.columns)
    hit = next((m for m in saved if m.shape == shape and m.kind in KINDS), None)
    if hit is None:
        return offer
    have = set(offer.layout.columns)
    return replace(
        offer,
        kind=hit.kind,
        why=f"same columns as the saved mapping '{hit.name}'",
        mapping=hit.name,
        roles={r: c for r, c in hit.roles.items() if c in have},
    )


def as_kind(offer: Offer, kind: str) -> Offer:
    """Return an offer that the user says is something else; its columns are guessed anew."""
    roles: dict[str, str] = {}
    if offer.layout is not None and KINDS[kind][1]:
        roles = columns.guess(offer.layout.columns, KINDS[kind][1])
    return replace(offer, kind=kind, roles=roles, why="chosen by hand", mapping="")


def said_otherwise(offers: Sequence[Offer], told: Sequence[str]) -> list[Offer]:
    """Return offers with those that are named taken as what is said of them: ``FILE=KIND``, ``FILE#SHEET=KIND``.

    Raises
    ------
    InputError
        When no offer has that name, several do, or there is no such kind.
    """
    out = list(offers)
    for words in told:
        name, _, kind = words.rpartition("=")
        kind = kind.strip().lower()
        kind = next((k for k, (label, _) in KINDS.items() if kind in (k, label)), kind)
        if kind not in KINDS and kind not in ("none", "nothing"):
            known = ", ".join(k for k in KINDS if k)
            raise InputError(f"'{kind}' is no kind of file", where=words, fix=f"There are: {known}; none leaves it out")
        file, _, part = name.strip().partition("#")
        path = Path(file)
        mine = [
            k
            for k, o in enumerate(out)
            if o.ref == name.strip()
            or (tables_in.split(o.ref)[0].name == path.name and (not part or tables_in.split(o.ref)[1] == part))
        ]
        if not mine:
            raise InputError(f"no file is called '{name}'", where=words, fix="Name one of those that are brought in")
        if len(mine) > 1:
            which = ", ".join(f"{path.name}#{tables_in.split(out[k].ref)[1]}" for k in mine)
            raise InputError(f"'{name}' may be several", where=words, fix=f"Name one of {which}")
        out[mine[0]] = as_kind(out[mine[0]], "" if kind in ("none", "nothing") else kind)
    return out


def lacking(offer: Offer) -> list[str]:
    """Return the labels of required roles that have no column yet."""
    table = KINDS[offer.kind][1]
    return columns.missing(offer.roles, table) if table and offer.layout is not None else []

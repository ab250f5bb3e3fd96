"""Writing tables, surfaces and block models as plain files."""

from __future__ import annotations

import re
from contextvars import ContextVar
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ...findings import report_by_hole
from ...given_paths import outside_projects
from ...items.fields import BlockModel, Surface
from ...items.holes import HoleSet

GUARDED: ContextVar[bool] = ContextVar("guarded", default=False)
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write_csv(table: pd.DataFrame, path: Path | str) -> None:
    """Write a table as CSV in UTF-8; where `GUARDED` is set texts that a spreadsheet would take for formulas are guarded.

    Raises
    ------
    InputError
        When the place is inside the folder of a project.
    """
    (guarded(table) if GUARDED.get() else table).to_csv(outside_projects(path), index=False)


def guarded(table: pd.DataFrame) -> pd.DataFrame:
    """Return a table with an apostrophe before each text, heading or cell, that a spreadsheet would take for a formula."""

    def safe(value: Any) -> Any:
        return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value

    out = table.copy()
    for column in out.columns:
        if out[column].dtype.kind not in "fiubM":
            out[column] = out[column].astype(object).map(safe)
    return out.rename(columns=safe)


def file_part(name: str) -> str:
    """Return a name as a part of a file's name: what would lead to another folder is an underscore."""
    return re.sub(r"[\x00-\x1f/\\:*?\"<>|]", "_", name).strip(". ") or "table"


def write_holes(holes: HoleSet, path: Path | str) -> list[Path]:
    """Write collars to `path` and the other tables beside it (``name_survey.csv`` ...); returns all files."""
    path = Path(path)
    written = [path]
    write_csv(holes.collars, path)
    others = {"survey": holes.surveys, **holes.tables}
    if len(holes.findings):
        others["findings"] = holes.findings
        others["by_hole"] = report_by_hole(holes.collars, holes.surveys, holes.tables, holes.findings)
    for name, table in others.items():
        written.append(path.with_name(f"{path.stem}_{file_part(name)}.csv"))
        write_csv(table, written[-1])
    return written


def write_obj(surface: Surface, path: Path | str) -> None:
    """Write a surface as Wavefront OBJ (east, north, up in metres)."""
    with Path(path).open("w", encoding="ascii") as handle:
        handle.write(f"# {surface.crs}, metres, east north up\n")
        np.savetxt(handle, surface.vertices, fmt="v %.3f %.3f %.3f")
        np.savetxt(handle, np.asarray(surface.triangles) + 1, fmt="f %d %d %d")


def blocks_table(blocks: BlockModel) -> pd.DataFrame:
    """Return the present cells of a block model as rows: centre, sizes, properties."""
    mesh, cells = blocks.mesh, np.argwhere(blocks.present)
    centres, (low, high) = mesh.centres(cells), mesh.levels(*cells.T)
    sizes = {"dx": mesh.u[cells[:, 0]], "dy": mesh.v[cells[:, 1]], "dz": high - low}
    table = pd.DataFrame({"x": centres[:, 0], "y": centres[:, 1], "z": centres[:, 2], **sizes})
    if mesh.is_turned:
        table["azimuth"] = mesh.azimuth
    for name, values in blocks.properties.items():
        table[name] = np.asarray(values)[tuple(cells.T)]
    return table

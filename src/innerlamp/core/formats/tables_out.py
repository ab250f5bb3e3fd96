"""Writing tables, surfaces and block models as plain files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from ..findings import report_by_hole
from ..items.fields import BlockModel, Surface
from ..items.holes import HoleSet


def write_csv(table: pd.DataFrame, path: Path | str) -> None:
    """Write a table as CSV in UTF-8."""
    table.to_csv(path, index=False)


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
        written.append(path.with_name(f"{path.stem}_{name}.csv"))
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

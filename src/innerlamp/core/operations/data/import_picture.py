"""Importing pictures: with a place of their own, or placed by points picked on them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd

from ...compute.geometry.placing import Fit, fit_places
from ...crs import same_system
from ...declaring.operation import Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats.grids import pictures
from ...formats.tables import tables_in
from ...importing.reading import title
from ...items.base import Item
from ...items.picture import Picture
from ...local_grid import LocalGrid, is_local, local_grid
from ...progress import Progress
from .systems import system_of_file

Affine = tuple[float, float, float, float, float, float]


class ImportPicture(Params):
    file: str = param(
        ..., "Picture", editor="file", help="PNG, JPEG or TIFF; a GeoTIFF or a world file beside it gives its place"
    )
    name: str = param("", "Name", help="The file's name when empty")
    coordinates: str = system_of_file()
    points: tuple[tuple[float, float, float, float], ...] = param(
        (),
        "Picked points",
        editor="picks",
        help="Column and row of the picture, easting and northing; three or more, far apart. They go before a place that the file names",
    )
    fit: Fit = param(
        "affine",
        "Placed by",
        help="affine: each axis scaled and turned (paper that shrank). similarity: one scale and turn",
    )


def _run(inputs: Inputs, p: ImportPicture, progress: Progress) -> dict[str, Item]:
    found = Findings()
    path, _ = tables_in.split(p.file)
    progress(0.1, "Reading")
    raw = pictures.read(path)
    pixels, affine = raw.pixels, raw.affine
    if raw.thinned > 1:
        found.add(
            "note",
            f"the picture is larger than {max(pixels.shape[:2])} pixels",
            f"thinned {raw.thinned:.2g} times",
            file=path.name,
        )
    picked = pd.DataFrame(columns=["col", "row", "x", "y", "residual_m"], dtype=float)
    if p.points:
        points = np.array(p.points, dtype=float)
        shown, places = points[:, :2] / raw.thinned, points[:, 2:]
        values, residual = fit_places(shown, places, p.fit)
        a, b, c, d, e, f = (float(v) for v in values)
        affine = (a, b, c, d, e, f)
        picked = pd.DataFrame(
            {"col": points[:, 0], "row": points[:, 1], "x": points[:, 2], "y": points[:, 3], "residual_m": residual}
        )
        rms = float(np.sqrt(np.mean(residual**2)))
        exact = len(points) == 3 and p.fit == "affine"
        found.add(
            "note",
            f"placed by {len(points)} points",
            "three points fit exactly: a fourth would show the error"
            if exact
            else f"residual {rms:.2f} m, largest {residual.max():.2f} m",
            file=path.name,
        )
        if a * e - b * d > 0:
            found.add("look", "the picture lies mirrored", "kept; check the picked points", file=path.name)
    elif affine is None:
        raise InputError(
            "the picture names no place", where=path.name, fix="Pick three or more points on it, or give a world file"
        )
    elif not raw.crs and is_local(p.coordinates):
        grid = local_grid(p.coordinates)
        affine = _through(grid, affine)
        found.add("note", "the picture is in a local grid", f"turned into {inputs.crs}: {grid.words}", file=path.name)
    elif not raw.crs and not p.coordinates.strip():
        found.add("look", "the picture names no coordinate system", f"taken as {inputs.crs}", file=path.name)
    elif not same_system(raw.crs or p.coordinates.strip(), inputs.crs):
        raw = replace(raw, crs=raw.crs or p.coordinates.strip())
        progress(0.5, "Turning into the project's system")
        pixels, affine = pictures.to_system(raw, inputs.crs)
        found.add("note", f"the picture is in {raw.crs}", f"turned into {inputs.crs}", file=path.name)
    progress(1.0, "Done")
    item = Picture(
        name=p.name or title(path), crs=inputs.crs, pixels=pixels, affine=affine, points=picked, findings=found.frame()
    )
    return {"picture": item}


def _through(grid: LocalGrid, affine: Affine) -> Affine:
    """The place of a picture (x = a col + b row + c, y = d col + e row + f) seen through a local grid."""
    a, b, c, d, e, f = affine
    turned = [grid.turn * complex(*pair) for pair in ((a, d), (b, e))]
    corner = grid.shift + grid.turn * (complex(c, f) - grid.origin)
    return turned[0].real, turned[1].real, corner.real, turned[0].imag, turned[1].imag, corner.imag


OPERATION = Operation(
    name="import-picture",
    title="Import a picture or scanned map",
    area="Data",
    help="Reads a picture that knows its place, or places it by three or more picked points and says how well they fit.",
    params=ImportPicture,
    run=_run,
    outputs=(Output("picture", "picture", "Picture"),),
)

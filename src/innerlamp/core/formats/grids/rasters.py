"""Opening rasters from outside: by the driver that their first bytes name and no other, and nothing beside them is read
but the world file that gives their place.

A text that describes another raster, or a server, is no raster here, whatever it is called.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ...errors import InputError

Affine = tuple[float, float, float, float, float, float]
# No descriptions beside a file, no listing of its folder: what a raster is stands in it.
_ENV = {"GDAL_DISABLE_READDIR_ON_OPEN": "EMPTY_DIR", "GDAL_PAM_ENABLED": "NO", "GDAL_GEOREF_SOURCES": "INTERNAL"}
_WORLD = {
    "GTiff": (".tfw", ".tifw", ".wld"),
    "PNG": (".pgw", ".pngw", ".wld"),
    "JPEG": (".jgw", ".jpgw", ".jpegw", ".wld"),
}


def driver_of(path: Path) -> str:
    """Return the driver for a raster by its first bytes: GTiff, PNG or JPEG.

    Raises
    ------
    InputError
        When it is none of these.
    """
    try:
        with path.open("rb") as handle:
            head = handle.read(8)
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=path.name, fix="Check the path") from error
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return "GTiff"
    if head == b"\x89PNG\r\n\x1a\n":
        return "PNG"
    if head[:3] == b"\xff\xd8\xff":
        return "JPEG"
    raise InputError("can't be read as a picture or grid", where=path.name, fix="Use PNG, JPEG or TIFF")


@contextmanager
def opened(path: Path) -> Iterator[Any]:
    """Open a raster to read from; the caller turns what the library raises into a sentence."""
    import rasterio

    with (
        warnings.catch_warnings(action="ignore"),
        rasterio.Env(**_ENV),
        rasterio.open(str(path.resolve()), driver=driver_of(path)) as data,
    ):
        yield data


def affine_of(path: Path, data: Any) -> Affine | None:
    """Return (a, b, c, d, e, f) of pixels to places, by the raster itself, else by its world file; None without any."""
    t = data.transform
    if not t.is_identity:
        return (t.a, t.b, t.c, t.d, t.e, t.f)
    for ending in _WORLD[driver_of(path)]:
        for each in (path.with_suffix(ending), path.with_suffix(ending.upper())):
            if each.is_file():
                return _world(each)
    return None


def _world(path: Path) -> Affine:
    """The six numbers of a world file, in its order: it gives the centre of the first pixel."""
    try:
        if path.stat().st_size > 4096:
            raise ValueError
        a, d, b, e, c, f = (float(w.replace(",", ".")) for w in path.read_text(encoding="ascii").split()[:6])
    except (OSError, ValueError) as error:
        raise InputError("the world file has not six numbers", where=path.name) from error
    return (a, b, c - (a + b) / 2, d, e, f - (d + e) / 2)

"""Pictures (PNG, JPEG, TIFF) and their places, through rasterio: world files and GeoTIFF tags."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...items.picture import Picture
from . import rasters

EXTENSIONS = (".png", ".jpg", ".jpeg", ".tif", ".tiff")
_LONGEST = 4096
_MOST_PIXELS = 400_000_000
Affine = tuple[float, float, float, float, float, float]


@dataclass(frozen=True)
class RawPicture:
    """Pixels as read, and the place and system that the file names; None and '' where it names none.

    `thinned` is how many file pixels one pixel stands for, along each side.
    """

    pixels: NDArray[np.uint8]
    affine: Affine | None
    crs: str
    thinned: float


def look(path: Path) -> tuple[int, int, bool]:
    """Return columns, rows, and whether the file names its place; pixels are not read."""
    try:
        with rasters.opened(path) as data:
            return data.width, data.height, rasters.affine_of(path, data) is not None
    except InputError:
        raise
    except Exception as error:  # rasterio raises its own errors and GDAL's
        raise InputError("can't be read as a picture", where=path.name, fix="Use PNG, JPEG or TIFF") from error


def read(path: Path, longest: int = _LONGEST) -> RawPicture:
    """Read a picture, thinned to at most `longest` pixels a side.

    Raises
    ------
    InputError
        When it can't be read or is too large.
    """
    from rasterio.enums import ColorInterp, Resampling

    try:
        with rasters.opened(path) as data:
            if data.width * data.height > _MOST_PIXELS:
                raise InputError(
                    f"the picture has {data.width * data.height / 1e6:,.0f} million pixels",
                    where=path.name,
                    fix="Cut it, or save it smaller",
                )
            step = max(1.0, max(data.width, data.height) / longest)
            shape = (max(1, round(data.height / step)), max(1, round(data.width / step)))
            palette = data.colorinterp[0] == ColorInterp.palette
            bands = data.read(
                list(range(1, min(data.count, 4) + 1)),
                out_shape=(min(data.count, 4), *shape),
                resampling=Resampling.nearest if palette else Resampling.average,
            )
            place = rasters.affine_of(path, data)
            sx, sy = data.width / shape[1], data.height / shape[0]
            if place is not None:
                a, b, c, d, e, f = place
                affine = (a * sx, b * sy, c, d * sx, e * sy, f)
            else:
                affine = None
            crs = data.crs.to_string() if data.crs else ""
            colours = data.colormap(1) if palette else None
            alpha = any(c == ColorInterp.alpha for c in data.colorinterp)
    except InputError:
        raise
    except Exception as error:  # as above
        raise InputError("can't be read as a picture", where=path.name, fix="Use PNG, JPEG or TIFF") from error
    return RawPicture(_rgba(bands, colours, alpha), affine, crs, step)


def _rgba(bands: NDArray[Any], colours: dict[int, tuple[int, ...]] | None, alpha: bool) -> NDArray[np.uint8]:
    if colours is not None:
        table = np.zeros((256, 4), dtype=np.uint8)
        for key, value in colours.items():
            if 0 <= key < 256:
                table[key] = value
        return np.asarray(table[bands[0].astype(np.uint8)])
    if bands.dtype != np.uint8:
        low, high = (float(v) for v in np.nanpercentile(bands[:3].astype(float), [1, 99]))
        bands = (
            np.clip((np.nan_to_num(bands.astype(float), nan=low) - low) / max(high - low, 1e-12), 0, 1) * 255
        ).astype(np.uint8)
    out = np.full((*bands.shape[1:], 4), 255, dtype=np.uint8)
    out[..., :3] = np.moveaxis(bands[:3], 0, -1) if len(bands) >= 3 else bands[0][..., None]
    if alpha and len(bands) in (2, 4):
        out[..., 3] = bands[-1]
    return out


def to_system(picture: RawPicture, crs: str) -> tuple[NDArray[np.uint8], Affine]:
    """Return pixels and place of a picture turned into another coordinate system."""
    from rasterio.transform import Affine as Transform
    from rasterio.warp import Resampling, calculate_default_transform, reproject

    assert picture.affine is not None
    rows, columns = picture.pixels.shape[:2]
    source = Transform(*picture.affine)
    west, east = sorted((source.c, source.c + source.a * columns + source.b * rows))
    south, north = sorted((source.f, source.f + source.d * columns + source.e * rows))
    there, width, height = calculate_default_transform(picture.crs, crs, columns, rows, west, south, east, north)
    out = np.zeros((4, height, width), dtype=np.uint8)
    for band in range(4):
        reproject(
            np.ascontiguousarray(picture.pixels[..., band]),
            out[band],
            src_transform=source,
            src_crs=picture.crs,
            dst_transform=there,
            dst_crs=crs,
            resampling=Resampling.bilinear,
        )
    return np.ascontiguousarray(np.moveaxis(out, 0, -1)), (there.a, there.b, there.c, there.d, there.e, there.f)


def write(item: Picture, path: Path | str) -> list[Path]:
    """Write a picture as GeoTIFF, or as PNG or JPEG with a world file beside it."""
    import rasterio
    from rasterio.transform import Affine as Transform

    path = Path(path)
    ending = path.suffix.lower()
    driver = {".png": "PNG", ".jpg": "JPEG", ".jpeg": "JPEG"}.get(ending, "GTiff")
    bands = 3 if driver == "JPEG" else 4
    rows, columns = item.pixels.shape[:2]
    extra = {"compress": "deflate", "photometric": "rgb", "alpha": "yes"} if driver == "GTiff" else {}
    if driver == "GTiff":
        extra |= {"crs": item.crs, "transform": Transform(*item.affine)}
    size = {"width": columns, "height": rows, "count": bands, "dtype": "uint8"}
    with warnings.catch_warnings(action="ignore"), rasterio.open(path, "w", driver=driver, **size, **extra) as out:
        out.write(np.moveaxis(item.pixels[..., :bands], -1, 0))
    written = [path]
    path.with_name(f"{path.name}.aux.xml").unlink(missing_ok=True)
    if driver != "GTiff":
        a, b, c, d, e, f = item.affine
        # A world file gives the centre of the first pixel, and its six numbers in this order.
        values = (a, d, b, e, c + (a + b) / 2, f + (d + e) / 2)
        written.append(path.with_suffix({"PNG": ".pgw", "JPEG": ".jgw"}[driver]))
        written[-1].write_text("".join(f"{v:.10f}\n" for v in values), encoding="ascii")
    return written

"""Photographs as files: read with bounds, turned upright, made smaller, and kept as JPEG; through Pillow."""

from __future__ import annotations

import io
import re
import warnings
import zipfile
from pathlib import Path
from typing import Any

from ...errors import InputError
from ...items.core_pictures import CorePictures

ENDINGS = (".jpg", ".jpeg", ".png", ".tif", ".tiff")
_DRIVERS = ("JPEG", "PNG", "TIFF")
_MOST_PIXELS = 120_000_000
SMALL = 220  # pixels of the longer side of small pictures
_QUALITY = 85


def as_jpeg(path: Path, longest: int) -> tuple[bytes, bytes, tuple[int, int]]:
    """Return a photograph as JPEG, at most `longest` pixels on its longer side, a small one of it, and its size.

    What the camera says of its orientation is followed; nothing else of what it wrote is kept.

    Raises
    ------
    InputError
        When it can't be read, or has more pixels than a photograph has.
    """
    from PIL import Image, ImageOps

    try:
        with warnings.catch_warnings(action="ignore"), Image.open(path, formats=_DRIVERS) as raw:
            if raw.width * raw.height > _MOST_PIXELS:
                raise InputError(
                    f"the picture has {raw.width * raw.height / 1e6:,.0f} million pixels",
                    where=path.name,
                    fix=f"Save it with at most {_MOST_PIXELS // 1_000_000} million",
                )
            raw.draft("RGB", (longest, longest))  # a JPEG is not read larger than it is kept
            image: Any = ImageOps.exif_transpose(raw)
            image = image.convert("RGB")
    except InputError:
        raise
    except Exception as error:  # Pillow raises whatever its decoders do
        raise InputError("can't be read as a picture", where=path.name, fix="Use JPEG, PNG or TIFF") from error
    out = []
    for side in (longest, SMALL):
        image.thumbnail((side, side), Image.Resampling.LANCZOS)
        if side == longest:
            size = image.size
        sink = io.BytesIO()
        image.save(sink, "JPEG", quality=_QUALITY)
        out.append(sink.getvalue())
    return out[0], out[1], (int(size[0]), int(size[1]))


def write_all(item: CorePictures, path: Path) -> None:
    """Write pictures into a ZIP file, named by hole and depths, with their table (``pictures.csv``) beside them."""
    table = item.table.copy()
    names: list[str] = []
    for hole, start, stop in zip(table["hole"], table["from_m"], table["to_m"], strict=True):
        plain = re.sub(r"[^\w.-]+", "_", str(hole))
        name = f"{plain}_{start:.2f}-{stop:.2f}"
        again = sum(n.startswith(f"{name}.") or n.startswith(f"{name} ") for n in names)
        names.append(f"{name} ({again + 1}).jpg" if again else f"{name}.jpg")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as out:
        for row, name in enumerate(names):
            out.writestr(name, item.jpeg(row))
        out.writestr("pictures.csv", table.assign(file=names).to_csv(index=False))

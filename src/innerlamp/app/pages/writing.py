"""Writing pages: PDF and SVG in vectors, PNG and GeoTIFF as pictures of the PDF, each whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QRectF, QSize, QSizeF
from PySide6.QtGui import QColor, QPageLayout, QPageSize, QPainter, QPdfWriter

from ...core.crs import parse_crs
from ...core.errors import InputError, LampError
from ...core.given_paths import outside_projects
from ...core.items.page import Element, Page
from ..context.context import Context
from .charts import paint_chart
from .frames import ground_of, map_rect, paint_map, paint_section
from .furniture import paint_inset, paint_north, paint_notes, paint_picture, paint_scale, paint_title
from .legends import paint_legend
from .logs import paint_log
from .paper import MM
from .track_logs import paint_tracks

ENDINGS = (".pdf", ".svg", ".png", ".tif", ".tiff")
_MOST_PIXELS = 400_000_000


def paint_page(painter: QPainter, ctx: Context, page: Page, sheet: int = 0) -> list[str]:
    """Draw a sheet of a page in pixels of 96 to the inch; returns what could not be drawn, in words."""
    problems: list[str] = []
    painter.fillRect(QRectF(0, 0, page.width * MM, page.height * MM), QColor("#FFFFFF"))
    for element in page.on_sheet(sheet):
        painter.save()
        try:
            _paint(painter, ctx, page, element)
        except LampError as error:
            problems.append(f"{element.kind}: {error}")
        finally:
            painter.restore()
    return problems


def _paint(painter: QPainter, ctx: Context, page: Page, element: Element) -> None:
    here = page.on_sheet(element.sheet)
    maps = [e for e in here if e.kind == "map" and e.scale]
    target = maps[min(element.of, len(maps) - 1)] if maps else None
    if element.kind in ("map", "section", "log", "chart"):  # what lies under a frame does not shine through
        painter.fillRect(QRectF(element.x * MM, element.y * MM, element.w * MM, element.h * MM), QColor("#FFFFFF"))
    if element.kind == "map" and element.scale:
        paint_map(painter, ctx, element, [e for e in here if e.kind == "section" and e.line and e.scale])
    elif element.kind == "section":
        paint_section(painter, ctx, element)
    elif element.kind == "log":
        (paint_tracks if element.tracks else paint_log)(painter, ctx, element)
    elif element.kind == "chart":
        paint_chart(painter, ctx, element)
    elif element.kind == "title":
        paint_title(painter, element, page.name)
    elif element.kind == "notes":
        paint_notes(painter, element)
    elif element.kind == "picture":
        paint_picture(painter, element)
    elif element.kind == "legend":
        frames = [e for e in here if e.kind in ("map", "section", "log") and e is not target]
        paint_legend(painter, ctx, element, [*([target] if target is not None else []), *frames])
    elif target is None:
        return
    elif element.kind == "scale bar":
        paint_scale(painter, element, target)
    elif element.kind == "north":
        paint_north(painter, element, target, page.crs)
    elif element.kind == "inset":
        paint_inset(painter, ctx, element, target)


def pdf_of(title: str, width: float, height: float, *draw: Callable[[QPainter], object]) -> bytes:
    """Return a PDF with a sheet (mm) for each of `draw`, drawn in pixels of 96 to the inch, fonts embedded."""
    stored = QByteArray()
    buffer = QBuffer(stored)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setCreator("Inner Lamp")
    writer.setTitle(title)
    writer.setResolution(96)
    size = QPageSize(QSizeF(width, height), QPageSize.Unit.Millimeter, "", QPageSize.SizeMatchPolicy.ExactMatch)
    writer.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, QMarginsF(0, 0, 0, 0)))
    painter = QPainter(writer)
    try:
        for number, each in enumerate(draw):
            if number:
                writer.newPage()
            each(painter)
    finally:
        painter.end()
    del painter, writer  # before the buffer that they write into
    buffer.close()
    return bytes(stored.data())


def pdf_bytes(ctx: Context, page: Page) -> tuple[bytes, list[str]]:
    """Return the page as a PDF of its true size, fonts embedded, and what could not be drawn."""
    problems: list[str] = []
    sheets: list[Callable[[QPainter], object]] = [
        lambda painter, k=k: problems.extend(paint_page(painter, ctx, page, k))  # type: ignore[misc]
        for k in range(page.sheets)
    ]
    return pdf_of(page.name, page.width, page.height, *sheets), list(dict.fromkeys(problems))


def _svg(ctx: Context, page: Page, path: Path) -> list[str]:
    from PySide6.QtSvg import QSvgGenerator

    # The older of the two versions knows clip paths.
    svg = QSvgGenerator(QSvgGenerator.SvgVersion.Svg11)
    svg.setFileName(str(path))
    svg.setResolution(96)
    svg.setSize(QSize(round(page.width * MM), round(page.height * MM)))
    svg.setViewBox(QRectF(0, 0, page.width * MM, page.height * MM))
    svg.setTitle(page.name)
    painter = QPainter(svg)
    try:
        return paint_page(painter, ctx, page)
    finally:
        painter.end()


def picture_of(pdf: bytes, dots_per_inch: float, paper: int = 255) -> np.ndarray:
    """Return the first page of a PDF as pixels: (rows, columns, 3), or 4 with the opacity of the paper below 255."""
    import pypdfium2

    document = pypdfium2.PdfDocument(pdf)
    try:
        picture = document[0].render(scale=dots_per_inch / 72.0, fill_color=(255, 255, 255, paper), rev_byteorder=True)
        return np.asarray(picture.to_numpy())[:, :, : 3 if paper == 255 else 4].copy()
    finally:
        document.close()


def _raster(ctx: Context, page: Page, path: Path, dots_per_inch: float) -> list[str]:
    from rasterio import open as open_raster
    from rasterio.transform import Affine

    pixels = (page.width / 25.4 * dots_per_inch) * (page.height / 25.4 * dots_per_inch)
    if not 20 <= dots_per_inch <= 2400 or pixels > _MOST_PIXELS:
        raise InputError(
            f"{dots_per_inch:g} dots per inch make {pixels / 1e6:,.0f} million pixels of this page", fix="Take fewer"
        )
    pdf, problems = pdf_bytes(ctx, page)
    picture = picture_of(pdf, dots_per_inch)
    rows, columns = picture.shape[:2]
    profile: dict[str, Any] = {"width": columns, "height": rows, "count": 3, "dtype": "uint8"}
    target = next(iter(page.maps), None)
    if path.suffix.lower() == ".png":
        from PySide6.QtGui import QImage

        image = QImage(picture.data, columns, rows, 3 * columns, QImage.Format.Format_RGB888)
        image.setDotsPerMeterX(round(dots_per_inch / 0.0254))
        image.setDotsPerMeterY(round(dots_per_inch / 0.0254))
        if not image.save(str(path)):
            raise InputError("the picture can't be written", where=str(path))
        return problems
    if target is None:
        raise InputError(
            "the page has no map that could place it on the ground", where=page.name, fix="Write it as PNG"
        )
    rect = map_rect(target)
    west, _, _, north = ground_of(target)
    pixel = target.scale * 0.0254 / dots_per_inch
    per = dots_per_inch / 96.0
    transform = Affine(pixel, 0.0, west - rect.left() * per * pixel, 0.0, -pixel, north + rect.top() * per * pixel)
    with open_raster(
        path,
        "w",
        driver="GTiff",
        crs=parse_crs(page.crs).to_wkt(),
        transform=transform,
        compress="deflate",
        photometric="RGB",
        **profile,
    ) as out:
        out.write(np.moveaxis(picture, -1, 0))
    return problems


def write_page(ctx: Context, page: Page, path: Path, dots_per_inch: float = 300.0) -> list[str]:
    """Write a page in the format that the file's ending asks for; returns what could not be drawn, in words.

    Raises
    ------
    InputError
        For another ending, a folder that is not there, or too many pixels.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise InputError(
            f"pages can't be written as '{path.suffix or path.name}'",
            where=page.name,
            fix="Use one of: " + ", ".join(ENDINGS),
        )
    if ending != ".pdf" and page.sheets > 1:
        raise InputError(f"its {page.sheets} sheets do not go into one picture", where=page.name, fix="Write it as PDF")
    outside_projects(path)
    if not path.parent.is_dir():
        raise InputError("there is no such folder", where=str(path.parent))
    part = path.with_name(f".{path.stem}.{os.getpid()}.part{ending}")
    try:
        if ending == ".pdf":
            pdf, problems = pdf_bytes(ctx, page)
            part.write_bytes(pdf)
        elif ending == ".svg":
            problems = _svg(ctx, page, part)
        else:
            problems = _raster(ctx, page, part, dots_per_inch)
        part.replace(path)
    except OSError as error:
        raise InputError(f"can't write the file ({error.strerror})", where=str(path)) from error
    finally:
        part.unlink(missing_ok=True)
    return problems


BLEED = 8.0  # millimetres round an element that its drawing may reach into


def element_picture(ctx: Context, page: Page, number: int, dots_per_inch: float) -> np.ndarray:
    """Return one element with its bleed as pixels (rows, columns, 4: red, green, blue, opacity), as it comes out on paper."""
    element = page.layout[number]
    here = element.model_copy(update={"x": BLEED, "y": BLEED})
    pdf = pdf_of("", element.w + 2 * BLEED, element.h + 2 * BLEED, lambda painter: _paint(painter, ctx, page, here))
    return picture_of(pdf, dots_per_inch, paper=0)

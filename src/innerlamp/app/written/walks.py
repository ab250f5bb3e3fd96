"""Scenes and walk-throughs written for others: one HTML file, or a PDF with a sheet for each view."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter

from ...core.errors import InputError
from ...core.items.page import Element
from ...core.items.walk import Stop, Walk
from ...core.progress import SILENT, Progress
from ...core.project.records import Entry
from ...core.running.errands import SceneExport
from ..context.seen import SeenContext
from ..pages.legends import paint_legend
from ..pages.paper import FAINT, INK, MM, font_of
from ..pages.writing import pdf_of
from .html import page_of
from .pictures import Studio, turntable, write_film
from .scene_data import layer_of, legends_of, scene_of
from .stage import Placed, camera_of, staged
from .whole import whole

ENDINGS = (".html", ".pdf")
_SHEET = (297.0, 210.0)
_DOTS = 170.0  # pixels to the inch of the pictures on paper


def scene_data(ctx: Any, title: str, stops: list[Stop]) -> dict[str, Any]:
    """Return views of a project as the data of one scene; what is shown in two colours is two layers.

    Raises
    ------
    InputError
        When nothing is lit in any of them, or the scene would be too large.
    """
    every = ctx.entries()
    contexts = [SeenContext(ctx, s.lit, s.colour_by) for s in stops]
    pairs: dict[tuple[str, str], Entry] = {}
    for seen in contexts:
        for entry in seen.lit_entries():
            pairs.setdefault((entry.id, seen.attribute_of(entry)), entry)
    colours: dict[str, set[str]] = {}
    for item, attribute in pairs:
        colours.setdefault(item, set()).add(attribute)
    whole = SeenContext(ctx, [item for item, _ in pairs])
    stage = staged(whole)  # for the place of all of it
    if not any(p.props for p in stage.placed):
        raise InputError("nothing is lit that could be shown", fix="Light items, or take views that show some")
    layers: list[dict[str, Any]] = []
    legends: list[dict[str, Any]] = []
    drawn: list[Placed] = []
    names: dict[tuple[str, str], str] = {}
    for (item, attribute), entry in pairs.items():
        one = SeenContext(ctx, [item], {item: attribute})
        one_stage = staged(one)
        shift = one_stage.origin - stage.origin
        for placed in one_stage.placed:
            layer = layer_of(one, placed, stage.origin, shift)
            layer["name"] = f"{entry.name} · {attribute}" if len(colours[item]) > 1 else entry.name
            names[item, attribute] = layer["name"]
            if layer["parts"] or layer["labels"]:
                layers.append(layer)
                drawn.append(placed)
                for legend in legends_of(one, [placed]):
                    same = next((g for g in legends if {**g, "layers": []} == {**legend, "layers": []}), None)
                    if same is None:
                        legends.append(legend | {"layers": [layer["name"]]})
                    else:
                        same["layers"].append(layer["name"])
    made = []
    for stop, seen in zip(stops, contexts, strict=True):
        lit = seen.lit_entries()
        made.append(
            {
                "name": stop.name,
                "caption": stop.caption,
                "camera": camera_of(stop, lit, every),
                "exaggeration": stop.exaggeration,
                "lit": [names[e.id, seen.attribute_of(e)] for e in lit if (e.id, seen.attribute_of(e)) in names],
            }
        )
    return scene_of(title, stage.origin, QColor(whole.theme.canvas), layers, legends, made)


def write_html(ctx: Any, title: str, stops: list[Stop], path: Path) -> None:
    """Write views of a project as one HTML file, whole or not at all."""
    page = page_of(scene_data(ctx, title, stops))
    with whole(path) as part:
        part.write_bytes(page.encode())


def stop_picture(ctx: Any, stop: Stop, size: tuple[int, int], ratio: float = 1.0) -> np.ndarray:
    """Return what a view shows as pixels (rows, columns, 3)."""
    seen = SeenContext(ctx, stop.lit, stop.colour_by)
    studio = Studio(seen, staged(seen), size, stop.exaggeration, ratio)
    try:
        return studio.picture(camera_of(stop, seen.lit_entries(), ctx.entries(), size[0] / size[1]))
    finally:
        studio.close()


def write_turn(ctx: Any, stop: Stop, path: Path, how: SceneExport, progress: Progress = SILENT) -> None:
    """Write a view turned once around as a film or a sequence of pictures."""
    seen = SeenContext(ctx, stop.lit, stop.colour_by)
    studio = Studio(seen, staged(seen), how.size, stop.exaggeration, how.ratio)
    try:
        camera = camera_of(stop, seen.lit_entries(), ctx.entries(), how.size[0] / how.size[1])
        write_film(turntable(studio, camera, how.frames), path, how.seconds, how.frames, progress)
    finally:
        studio.close()


def write_walk(ctx: Any, walk: Walk, path: Path, progress: Progress = SILENT) -> None:
    """Write a walk-through as HTML, or as a PDF with a sheet for each view.

    Raises
    ------
    InputError
        For another ending, a folder that is not there, or views that show nothing.
    """
    stops = walk.views
    if path.suffix.lower() == ".html":
        write_html(ctx, walk.name, stops, path)
        return
    if path.suffix.lower() != ".pdf":
        raise InputError(
            f"walk-throughs can't be written as '{path.suffix or path.name}'",
            where=walk.name,
            fix="Use one of: " + ", ".join(ENDINGS),
        )

    def sheet(number: int) -> Any:
        def draw(painter: QPainter) -> None:
            progress(number / len(stops), f"View {number + 1} of {len(stops)}")
            _paint_sheet(painter, ctx, walk, stops[number], number)

        return draw

    with whole(path) as part:
        part.write_bytes(pdf_of(walk.name, *_SHEET, *(sheet(k) for k in range(len(stops)))))


def _paint_sheet(painter: QPainter, ctx: Any, walk: Walk, stop: Stop, number: int) -> None:
    """Name, picture and caption to the left, the legend beside them."""
    left, wide, high = 10.0, 214.0, 140.0
    painter.fillRect(QRectF(0, 0, _SHEET[0] * MM, _SHEET[1] * MM), QColor("#FFFFFF"))
    painter.setPen(INK)
    painter.setFont(font_of(14.0, bold=True))
    painter.drawText(QRectF(left * MM, 8 * MM, wide * MM, 9 * MM), Qt.AlignmentFlag.AlignVCenter, stop.name)
    ratio = _DOTS / 96.0
    size = round(wide / 25.4 * _DOTS), round(high / 25.4 * _DOTS)
    pixels = np.ascontiguousarray(stop_picture(ctx, stop, size, ratio))
    image = QImage(pixels.data, size[0], size[1], 3 * size[0], QImage.Format.Format_RGB888)
    frame = QRectF(left * MM, 19 * MM, wide * MM, high * MM)
    painter.drawImage(frame, image)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(frame)
    painter.setFont(font_of(10.5))
    words = QRectF(left * MM, (22 + high) * MM, wide * MM, 36 * MM)
    painter.drawText(words, int(Qt.AlignmentFlag.AlignTop) | int(Qt.TextFlag.TextWordWrap), stop.caption)
    painter.setFont(font_of(7.5))
    painter.setPen(FAINT)
    foot = QRectF(left * MM, 201 * MM, (_SHEET[0] - 2 * left) * MM, 5 * MM)
    painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, walk.name)
    painter.drawText(foot, Qt.AlignmentFlag.AlignRight, f"{number + 1} of {len(walk.stops)}")
    told = {"kind": "map", "x": 0, "y": 0, "w": 10, "h": 10, "lit": stop.lit, "colour_by": stop.colour_by}
    place = {"kind": "legend", "x": left + wide + 7, "y": 19, "w": 56, "h": high}
    paint_legend(painter, ctx, Element.model_validate(place), [Element.model_validate(told)])

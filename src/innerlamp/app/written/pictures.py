"""Pictures of a 3D scene at any size, and turns around it, drawn off the screen."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401 - registers the OpenGL classes
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow, vtkWindowToImageFilter

from ...core.errors import InputError
from ...core.progress import SILENT, Progress
from .scenery import Scenery
from .stage import Camera, Stage
from .whole import whole

MOST_PIXELS = 64_000_000
FILMS, PICTURES = (".webp", ".gif", ".zip"), (".png", ".jpg")
SIDE = 8192  # pixels that a side may have


class Studio:
    """A scene that is drawn off the screen, as often as cameras are given.

    Raises
    ------
    InputError
        When the picture would be too large.
    """

    def __init__(self, ctx: Any, stage: Stage, size: tuple[int, int], exaggeration: float, ratio: float = 1.0) -> None:
        width, height = size
        if min(size) < 16 or max(size) > SIDE or width * height > MOST_PIXELS:
            raise InputError(
                f"a picture of {width} × {height} pixels can't be drawn", fix=f"Take at most {SIDE} a side"
            )
        self.factor = exaggeration
        self.renderer = vtkRenderer()
        self.window = vtkRenderWindow()
        self.window.SetOffScreenRendering(True)
        self.window.SetMultiSamples(0)
        self.window.SetAlphaBitPlanes(1)
        self.window.SetSize(width, height)
        self.window.AddRenderer(self.renderer)
        self.scenery = Scenery(self.renderer, ctx.theme, ratio)
        self.scenery.show(stage, exaggeration)

    def picture(self, camera: Camera) -> NDArray[np.uint8]:
        """Return what a camera sees as pixels (rows, columns, 3), the top row first."""
        width, height = self.window.GetSize()
        self.scenery.look(camera)
        self.scenery.follow(width, height)
        self.window.Render()
        grab = vtkWindowToImageFilter()
        grab.SetInput(self.window)
        grab.ReadFrontBufferOff()
        grab.Update()
        out = grab.GetOutput()
        pixels = vtk_to_numpy(out.GetPointData().GetScalars()).reshape(height, width, -1)
        return np.ascontiguousarray(pixels[::-1, :, :3])

    def close(self) -> None:
        """Let the graphics go."""
        self.renderer.RemoveAllViewProps()
        self.window.Finalize()


def turned(camera: Camera, degrees: float) -> Camera:
    """Return a camera carried round what it looks at, clockwise as seen from above."""
    place, focus, up = (np.array(camera[k : k + 3], dtype=float) for k in (0, 3, 6))
    a = -np.radians(degrees)
    turn = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    return (*(focus + turn @ (place - focus)).tolist(), *focus.tolist(), *(turn @ up).tolist(), camera[9])


def turntable(studio: Studio, camera: Camera, count: int) -> Iterator[NDArray[np.uint8]]:
    """Yield pictures once around, `count` of them."""
    for k in range(count):
        yield studio.picture(turned(camera, 360.0 * k / count))


def write_film(
    frames: Iterator[NDArray[np.uint8]], path: Path, seconds: float, count: int, progress: Progress = SILENT
) -> None:
    """Write pictures as a film (animated GIF or WebP) or, as .zip, as a sequence of PNG files; whole or not at all.

    Raises
    ------
    InputError
        For another ending, or a place that can't be written.
    """
    from PIL import Image

    ending = path.suffix.lower()
    if ending not in FILMS:
        raise InputError(
            f"a film can't be written as '{path.suffix or path.name}'", fix="Use one of: " + ", ".join(FILMS)
        )

    def drawn() -> Iterator[Image.Image]:
        for number, pixels in enumerate(frames):
            progress(number / count, f"Picture {number + 1} of {count}")
            yield Image.fromarray(pixels)

    with whole(path) as part:
        if ending == ".zip":
            with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as out:
                for number, picture in enumerate(drawn(), start=1):
                    stored = io.BytesIO()
                    picture.save(stored, "PNG")
                    out.writestr(f"{number:04d}.png", stored.getvalue())
            return
        pictures = drawn()
        first = next(pictures)
        each = round(1000.0 * seconds / count)
        how: dict[str, Any] = {"quality": 82, "method": 2} if ending == ".webp" else {}
        first.save(part, save_all=True, append_images=pictures, duration=each, loop=0, **how)


def write_picture(pixels: NDArray[np.uint8], path: Path) -> None:
    """Write pixels as PNG or JPEG; whole or not at all.

    Raises
    ------
    InputError
        For another ending, or a place that can't be written.
    """
    from PIL import Image

    ending = path.suffix.lower()
    if ending not in PICTURES:
        raise InputError(
            f"a picture can't be written as '{path.suffix or path.name}'", fix="Use one of: " + ", ".join(PICTURES)
        )
    with whole(path) as part:
        Image.fromarray(pixels).save(part)

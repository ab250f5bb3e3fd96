"""Pages written without a window: for the command line and scripts."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

from ...core.items.page import Page
from ...core.items.walk import Walk
from ...core.progress import Progress
from ...core.project.store import Store
from ...core.running.errands import Exporter, SceneExport

if TYPE_CHECKING:
    from ..context.context import Context


def export_page(store: Store, page: Page, path: Path, dots_per_inch: float = 300.0) -> list[Path]:
    """Write a page of a project, and say what it could not show; without a display Qt draws off the screen."""
    for problem in draw_page(store, page, path, dots_per_inch):
        print(f"not drawn: {problem}", file=sys.stderr)
    return [path]


def draw_page(store: Store, page: Page, path: Path, dots_per_inch: float) -> list[str]:
    """Write a page of a project; returns what it could not show."""
    from ..pages.writing import write_page

    return write_page(_context(store), page, path, dots_per_inch)


def draw_walk(store: Store, walk: Walk, path: Path) -> None:
    """Write a walk-through of a project as HTML or PDF."""
    from ..written.walks import write_walk

    write_walk(_context(store), walk, path)


def draw_scene(store: Store, errand: SceneExport, progress: Progress) -> None:
    """Write a 3D view of a project as HTML, as a picture, or as a film once around it."""
    from ...core.items.walk import Stop
    from ..written import pictures, walks

    ctx, path = _context(store), Path(errand.path)
    stop = Stop.model_validate(errand.stop)
    if path.suffix.lower() == ".html":
        walks.write_html(ctx, stop.caption or path.stem, [stop], path)
    elif path.suffix.lower() in pictures.FILMS:
        walks.write_turn(ctx, stop, path, errand, progress)
    else:
        pictures.write_picture(walks.stop_picture(ctx, stop, errand.size, errand.ratio), path)


EXPORTER = Exporter(draw_page, draw_walk, draw_scene)  # what is handed to the workers


def _context(store: Store) -> Context:
    """A context of a project without a window."""
    from PySide6.QtWidgets import QApplication

    if QApplication.instance() is None and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from ...core.jobs.runner import Runner
    from ..context.context import Context
    from .application import make_application

    make_application()
    ctx = Context(Runner(Path(tempfile.gettempdir())))  # its workers are never started
    ctx.look_at(store)
    return ctx

"""Pages written without a window: for the command line and scripts."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from ..core.items.page import Page
from ..core.project.store import Store


def export_page(store: Store, page: Page, path: Path, dots_per_inch: float = 300.0) -> list[Path]:
    """Write a page of a project, and say what it could not show; without a display Qt draws off the screen."""
    for problem in draw_page(store, page, path, dots_per_inch):
        print(f"not drawn: {problem}", file=sys.stderr)
    return [path]


def draw_page(store: Store, page: Page, path: Path, dots_per_inch: float) -> list[str]:
    """Write a page of a project; returns what it could not show."""
    from PySide6.QtWidgets import QApplication

    if QApplication.instance() is None and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from ..core.jobs.runner import Runner
    from .context import Context
    from .main import make_application
    from .pages.writing import write_page

    make_application()
    ctx = Context(Runner(Path(tempfile.gettempdir())))  # its workers are never started
    ctx.look_at(store)
    return write_page(ctx, page, path, dots_per_inch)

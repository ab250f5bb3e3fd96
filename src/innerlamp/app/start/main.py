"""Starts the window."""

from __future__ import annotations

import contextlib
import faulthandler
import logging
import os
import signal
import sys
import traceback
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication

from ...core.jobs.runner import Runner
from ...core.project import left
from ..base import settings
from ..context.context import Context
from ..mainwindow.window import Window
from ..theme.theme import PAPER, THEMES, Theme, apply_theme
from .application import make_application
from .headless import EXPORTER


def make_window(logs: Path | None = None) -> Window:
    """Return a window with its context and warm workers."""
    app = make_application()
    chosen = THEMES.get(settings.load().theme) or preferred_theme(app)
    apply_theme(app, chosen)
    context = Context(Runner(logs or settings.logs_folder(), exporter=EXPORTER))
    context.theme = chosen
    window = Window(context)
    # The workers load their libraries while nobody waits for the window any more.
    QTimer.singleShot(2500, context.warm_up)
    return window


def preferred_theme(app: QApplication) -> Theme:
    """Return the look that the desktop prefers: night where it is dark."""
    return THEMES["night"] if app.styleHints().colorScheme() == Qt.ColorScheme.Dark else PAPER


def start(path: Path | None, demo: bool = False, files: Sequence[Path] = ()) -> int:
    """Open the window on a project (or the demo, the last one, or the start page) and run it; returns the exit code.

    `files` are offered for bringing in.
    """
    logs = settings.logs_folder()
    with contextlib.suppress(OSError):
        logs.mkdir(parents=True, exist_ok=True)
        logging.basicConfig(filename=logs / "window.log", level=logging.WARNING, format="%(asctime)s %(message)s")
        faulthandler.enable((logs / "crash.log").open("w"))
    app = make_application()
    window = make_window(logs)

    def unexpected(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        logging.error("%s", "".join(traceback.format_exception(kind, error, trace)))
        window.ctx.say(
            f"Something unexpected went wrong ({kind.__name__}: {error}). Nothing stored was lost; details are in {logs / 'window.log'}.",
            "bad",
        )

    sys.excepthook = unexpected
    # A window that was left with its run comes back when its project is opened elsewhere.
    signal.signal(left.CALL, lambda *_: window.come_back())
    window.show()
    last = settings.load().last_project
    if demo:
        window.open_demo()  # the window is there already: the first time its items appear in it as they are made
    elif path is None and last and (Path(last) / "catalogue.sqlite").is_file():
        path = Path(last)
    if path is not None:
        window.open_path(path)
    if files:
        window.take_files(files)
    if os.environ.get("INNERLAMP_QUIT_WHEN_DRAWN"):
        quit_when_drawn(window)
    leave(app.exec())
    return 0


def quit_when_drawn(window: Window) -> None:
    """Close the window as soon as everything has been drawn once (for measuring the start)."""
    timer = QTimer(window)

    def look() -> None:
        if window.ctx.store is not None and window.settled():
            timer.stop()
            window.close()

    timer.timeout.connect(look)
    timer.start(20)


def leave(code: int) -> None:
    """End the process at once, after everything was closed.

    VTK's window and Qt's display would otherwise be taken down in an order that nobody defines,
    which now and then ends in a crash after all work is done.
    """
    sys.stdout.flush()
    sys.stderr.flush()
    logging.shutdown()
    os._exit(code)

"""Opens the window on a machine that has never seen the demo, and prints when the window, the first item and all are there."""

from __future__ import annotations

import os
import time

from PySide6.QtCore import QTimer

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start import main as program

BEGIN = time.perf_counter()


def watch(window: Window) -> None:
    """Print seconds as they come, and end when the demo is complete."""
    timer, told = QTimer(window), set[str]()

    def tell(what: str) -> None:
        if what not in told:
            told.add(what)
            print(f"{what}\t{time.perf_counter() - BEGIN:.1f}", flush=True)

    def look() -> None:
        if window.ctx.store is None:
            return
        tell("window")
        if window.ctx.entries() and window.settled():
            tell("first item")
            if not window.demo.busy:
                tell("complete")
                os._exit(0)

    timer.timeout.connect(look)
    timer.start(20)


if __name__ == "__main__":
    make = program.make_window

    def made(logs=None):  # type: ignore[no-untyped-def]
        window = make(logs)
        watch(window)
        return window

    program.make_window = made
    program.start(None, demo=True)

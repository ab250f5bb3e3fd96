"""Letting the window live until something is so: for pictures and measurements of the real window."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from ..mainwindow.window import Window


def wait_until(ready: Callable[[], bool], seconds: float = 60.0) -> bool:
    """Let the window live until something is so; returns whether it came to be."""
    end = time.monotonic() + seconds
    wake = QTimer()
    wake.setSingleShot(True)
    while time.monotonic() < end:
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        if ready():
            return True
        # Sleep until something happens, a timer at the latest.
        wake.start(5)
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
    return False


def settle(window: Window, seconds: float = 60.0) -> bool:
    """Wait until everything is read and drawn, with what starts a moment later."""
    good = wait_until(window.settled, seconds)
    wait_until(lambda: not any(_soon(timer) for timer in window.findChildren(QTimer)), 1.0)
    return wait_until(window.settled, seconds) and good


def _soon(timer: QTimer) -> bool:
    """Whether a timer will do something once and soon: what is gathered before it is shown."""
    return timer.isActive() and timer.isSingleShot() and timer.interval() <= 150

"""The Qt application, one a process."""

from __future__ import annotations

import sys

from PySide6.QtGui import QSurfaceFormat
from PySide6.QtWidgets import QApplication


def make_application() -> QApplication:
    """Return the Qt application, made once."""
    existing = QApplication.instance()
    if isinstance(existing, QApplication):
        return existing
    form = QSurfaceFormat()
    form.setSamples(0)
    QSurfaceFormat.setDefaultFormat(form)
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Inner Lamp")
    app.setQuitOnLastWindowClosed(True)
    return app

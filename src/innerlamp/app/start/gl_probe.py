"""Says which OpenGL a program gets here: `python -m innerlamp.app.start.gl_probe`; run by the doctor as a process of its own."""

from __future__ import annotations

import sys

from PySide6.QtGui import QGuiApplication, QOffscreenSurface, QOpenGLContext


def main() -> int:
    """Print renderer and version; 3 when there is none."""
    application = QGuiApplication([])
    context, surface = QOpenGLContext(), QOffscreenSurface()
    if not context.create():
        return 3
    surface.setFormat(context.format())
    surface.create()
    if not context.makeCurrent(surface):
        return 3
    functions = context.functions()
    print(functions.glGetString(0x1F01), "|", functions.glGetString(0x1F02))
    context.doneCurrent()
    del application
    return 0


if __name__ == "__main__":
    sys.exit(main())

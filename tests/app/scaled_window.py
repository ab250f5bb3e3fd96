"""Run by `test_scaling` on a screen and at a scale of its own: prints what does not fit, as JSON."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QScrollArea, QWidget

from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import make_window
from innerlamp.app.start.waiting import settle, wait_until


def in_scroll_area(widget: QWidget | None) -> bool:
    while widget is not None:
        if isinstance(widget, QScrollArea):
            return True
        widget = widget.parentWidget()
    return False


def main(project: Path) -> None:
    app = make_application()
    window = make_window(Path(tempfile.mkdtemp()))
    window.show()
    window.activateWindow()
    wait_until(window.isActiveWindow, 10)
    assert window.open_path(project)
    settle(window)
    free = app.primaryScreen().availableGeometry()
    place = window.geometry()
    cut, outside = [], []
    for kind in (QLabel, QAbstractButton, QComboBox):
        for widget in window.findChildren(kind):
            if not widget.isVisible():
                continue
            words = widget.currentText() if isinstance(widget, QComboBox) else widget.text()
            wraps = isinstance(widget, QLabel) and (widget.wordWrap() or not words)
            # A button may do without its margins, never without its words.
            need = widget.fontMetrics().horizontalAdvance(words.replace("&", "").partition("\n")[0])
            if not wraps and need > widget.width():
                cut.append(words)
            corner = widget.mapTo(window, widget.rect().bottomRight())
            if not in_scroll_area(widget) and (corner.x() > window.width() or corner.y() > window.height()):
                outside.append(words)
    scene = window.centre.pane("scene")
    assert isinstance(scene, ScenePane)
    ends = [scene.scale._mapper.GetInput().GetPoint(k)[0] for k in (0, 1)]
    report = {
        "ratio": window.devicePixelRatioF(),
        "title_free": place.top() - free.top(),
        "inside": free.contains(place),
        "share": place.width() * place.height() / (free.width() * free.height()),
        "cut": cut,
        "outside": outside,
        "bar_share": (ends[1] - ends[0]) / scene.window_.GetSize()[0],
    }
    print("REPORT " + json.dumps(report))
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))

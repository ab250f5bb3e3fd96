"""What the window stands on: the Qt binding keeps its references, the ramps are those of their source, start-up stays light."""

from __future__ import annotations

import gc
import subprocess
import sys
import weakref

import colorcet
import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.colours import PALE_START, table
from innerlamp.app.panes.table import PANES
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.legend import RAMPS


def test_calls_into_qt_lose_no_reference(qapp: object) -> None:
    # PySide6 6.12.0 on Python 3.11 took one reference from None at every call that returns nothing:
    # after some minutes of mouse moves the process was ended (measured: 270 a mouse move).
    label, other = QLabel("x"), QWidget()

    def calls() -> None:
        label.setText("y")
        label.isVisible()
        other.setVisible(False)
        other.layout()
        QPointF(1, 2).x()

    calls()
    before = [sys.getrefcount(v) for v in (None, True, False)]
    for _ in range(2000):
        calls()
    after = [sys.getrefcount(v) for v in (None, True, False)]
    assert [abs(a - b) < 200 for a, b in zip(after, before, strict=True)] == [True] * 3, (before, after)


@pytest.mark.parametrize("name", RAMPS)
def test_ramps_are_those_of_colorcet(name: str) -> None:
    source = np.array([QColor(c).getRgb() for c in colorcet.palette[RAMPS[name]]])
    if name in PALE_START:
        source = source[np.linspace(26, 255, 256).astype(int)]
    assert np.array_equal(table(name), source)


def test_the_window_loads_no_numerical_library() -> None:
    code = "import sys, innerlamp.app.start.main, innerlamp.app.panes.space.scene_pane; print({m.split('.')[0] for m in sys.modules} & {'numba', 'scipy', 'rasterio', 'skimage', 'ppigrf', 'matplotlib', 'colorcet'})"
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert out.stdout.strip() == "set()"


@pytest.mark.parametrize("kind", PANES)
def test_a_closed_pane_leaves_nothing_behind(demo_window: Window, kind: str) -> None:
    window, frame = demo_window, demo_window.centre.frames[3]
    other = "table" if kind != "table" else "section"
    frame.show_kind(other)
    settle(window)
    signals = [s for s in vars(window.ctx).values() if hasattr(s, "connect") and hasattr(s, "__len__")]
    before = [len(s) for s in signals]
    frame.show_kind(kind)
    assert settle(window)
    gone = weakref.ref(frame.pane)  # type: ignore[arg-type]
    frame.show_kind(other)
    settle(window)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # outside of `exec` nobody else sends them
    wait_until(lambda: gc.collect() >= 0 and gone() is None, 3)
    assert gone() is None
    assert [len(s) for s in signals] == before

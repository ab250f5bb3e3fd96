"""Turns the demo's scene, filling the centre, as a hand does, and prints the seconds of each frame; then of one at rest."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from innerlamp.app.mainwindow.centre import DEFAULT
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import make_window
from innerlamp.app.start.waiting import settle

FRAMES = 72


def main(project: Path) -> None:
    make_application()
    window = make_window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    assert window.open_path(project)
    window.centre.restore({"kinds": list(DEFAULT)})
    settle(window)
    window.centre.toggle_fill(1)
    settle(window)
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    for what in ("turning", "at rest"):
        if what == "turning":
            pane._begin_to_move()
        else:
            pane._come_to_rest()
        taken = []
        for _ in range(FRAMES if what == "turning" else 12):
            begin = time.perf_counter()
            pane.renderer.GetActiveCamera().Azimuth(5.0)
            pane.renderer.ResetCameraClippingRange()
            pane._turn_furniture()
            pane.window_.Render()
            taken.append(time.perf_counter() - begin)
        print("\t".join([what, *(f"{t:.5f}" for t in taken)]), flush=True)
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))

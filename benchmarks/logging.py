"""Times a strip log of 32 tracks over 1,500 m; run in a process of its own, prints milliseconds drawn whole and a scroll."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtWidgets import QApplication

from innerlamp.app.painters.logs.tracks import Rows
from innerlamp.app.panes.logs.log_view import LogView, ShownHole
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import leave
from innerlamp.app.theme.theme import PAPER
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.tracks import Track


def main() -> None:
    app = make_application()
    rng = np.random.default_rng(4)
    end, tracks, rows, legends = 1500.0, [], [], []
    start = np.arange(0.0, end, 1.0)
    for k in range(32):
        name = f"A{k}"
        if k % 8 == 0:
            codes = np.repeat(np.array(["SLATE", "GRAN", "CARB", "PORPH", "VEIN"] * 30, dtype=object), 10)
            tracks.append(Track("rock", (name,), 36))
            legends.append(
                {
                    name: Legend(
                        name,
                        classes={"SLATE": "#bbbbbb", "GRAN": "#ee8866", "CARB": "#77aadd"},
                        patterns={"SLATE": "dashes"},
                    )
                }
            )
            values = codes
        else:
            tracks.append(Track("curve" if k % 4 == 3 else "bars", (name,), 36))
            legends.append({name: Legend(name, "ppm", scale="log", low=1.0, high=1000.0)})
            values = np.exp(rng.normal(3, 1.5, len(start)))
        rows.append(Rows(("item", "assay"), np.arange(len(start)), start, start + 1.0, {name: values}))
    view = LogView(PAPER)
    view.resize(1260, 760)
    view.show()
    hole = ShownHole("H1", "facts", end, np.array([0.0, end]), np.array([[0.0, 0.0, 0.0], [0.0, 0.0, -end]]), rows, [])
    view.show_holes([hole], tracks, legends, [t.title for t in tracks], fit=True)
    QApplication.processEvents()
    whole = []
    for _ in range(8):
        begin = time.perf_counter()
        view.viewport().repaint()
        whole.append(time.perf_counter() - begin)
    view.zoom(6.0)
    QApplication.processEvents()
    steps = []
    for k in range(30):
        begin = time.perf_counter()
        view.verticalScrollBar().setValue(200 + 30 * k)
        QApplication.processEvents()
        steps.append(time.perf_counter() - begin)
    print(1000 * float(np.median(whole)), 1000 * float(np.median(steps)))
    view.close()
    leave(0)
    del app


if __name__ == "__main__":
    main()

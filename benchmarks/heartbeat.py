"""Beats every 5 ms in the real window while it is idle, while a heavy inversion runs, and while its result lands."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from PySide6.QtCore import Qt, QTimer

from innerlamp.app.start.main import leave, make_window
from innerlamp.app.start.waiting import settle, wait_until


def main() -> None:
    window = make_window(Path(sys.argv[1]).parent / "logs")
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.open_path(Path(sys.argv[1]))
    window.ctx.auto_refresh = False
    settle(window)
    gaps: list[float] = []
    last = [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    def tell(what: str) -> None:
        print(what, *(f"{g:.4f}" for g in gaps), sep="\t")
        gaps.clear()

    heart = QTimer()
    heart.setTimerType(Qt.TimerType.PreciseTimer)
    heart.setInterval(5)
    heart.timeout.connect(beat)
    heart.start()
    wait_until(lambda: False, 2.0)
    gaps.clear()
    wait_until(lambda: False, 3.0)
    tell("nothing runs")
    find = window.ctx.store.find  # type: ignore[union-attr]
    job = window.ctx.start(
        "invert-magnetics",
        {"attribute": "TMI_ANOM_nT", "cell": 100.0, "cell_z": 50.0, "spacing": 120.0, "depth": 700.0},
        {"lines": find("Airborne magnetics").id, "ground": find("Ground").id},
    )
    wait_until(lambda: not job.active, 300)
    assert job.state == "done", job.state
    tell("an inversion runs")
    settle(window)
    tell("its result is stored and drawn in all panes")
    heart.stop()
    window.close()
    leave(0)


if __name__ == "__main__":
    main()

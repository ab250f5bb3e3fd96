"""Where compiled kernels are kept: only the newest states of their sources stay, and none that may still be in use goes."""

from __future__ import annotations

import os
import time
from pathlib import Path

from innerlamp.core.compute.kernel_cache import forget_old, sources_digest


def test_old_states_are_forgotten_and_the_newest_stay(tmp_path: Path) -> None:
    now = time.time()
    for days in range(7):
        (tmp_path / f"state{days}").mkdir()
        os.utime(tmp_path / f"state{days}", (now - 86_400 * days - 60,) * 2)
    forget_old(tmp_path)
    assert sorted(p.name for p in tmp_path.iterdir()) == [f"state{k}" for k in range(4)]
    for k in range(3):  # made today, by several copies of the program
        (tmp_path / f"today{k}").mkdir()
    forget_old(tmp_path)
    assert {f"today{k}" for k in range(3)} <= {p.name for p in tmp_path.iterdir()}
    forget_old(tmp_path / "nowhere")


def test_the_same_sources_have_the_same_folder() -> None:
    assert sources_digest() == sources_digest() and len(sources_digest()) == 20

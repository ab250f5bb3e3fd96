"""A window that was left with its run: hidden until the run ends, and called back by whoever opens the project meanwhile."""

from __future__ import annotations

import contextlib
import json
import os
import signal
from pathlib import Path

from . import ground_rules

_NAME = "left.json"
CALL = signal.SIGUSR1


def mark(folder: Path) -> None:
    """Say in a project's folder that this process holds it without a window to be seen, and comes back when called."""
    temporary = folder / f".{_NAME}.{os.getpid()}"
    temporary.write_text(json.dumps({"pid": os.getpid()}), encoding="ascii")
    temporary.rename(folder / _NAME)


def unmark(folder: Path) -> None:
    """Take the mark away."""
    with contextlib.suppress(OSError):
        (folder / _NAME).unlink(missing_ok=True)


def call_back(folder: Path) -> bool:
    """Ask the process that was left with a project to show its window again; whether there is one.

    The mark alone is not believed: the lock must name the same process, so that a mark that was left behind, or made
    up, calls nobody else.
    """
    try:
        said = json.loads(ground_rules.read_plain(folder / _NAME)[:1000])
        holder = json.loads(ground_rules.read_plain(folder / "lock")[:2000])
        pid = int(said["pid"])
        if pid <= 1 or pid != int(holder["pid"]) or pid == os.getpid():
            return False
        os.kill(pid, CALL)
    except (OSError, ValueError, KeyError, TypeError):
        return False
    return True

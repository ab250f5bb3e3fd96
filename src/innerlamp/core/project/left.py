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
    temporary.write_text(json.dumps({"pid": os.getpid(), "started": _started(os.getpid())}), encoding="ascii")
    temporary.rename(folder / _NAME)


def unmark(folder: Path) -> None:
    """Take the mark away."""
    with contextlib.suppress(OSError):
        (folder / _NAME).unlink(missing_ok=True)


def call_back(folder: Path) -> bool:
    """Ask the process that was left with a project to show its window again; whether there is one.

    The mark alone is not believed, nor what stands in the lock: both may be made up, and a signal ends most programs. The
    lock must be held by that very process, as the kernel says, and the process must be as old as the mark says.
    """
    try:
        said = json.loads(ground_rules.read_plain(folder / _NAME)[:1000])
        holder = json.loads(ground_rules.read_plain(folder / "lock")[:2000])
        pid = int(said["pid"])
        if pid <= 1 or pid != int(holder["pid"]) or pid == os.getpid():
            return False
        if said["started"] != _started(pid) or not _holds(pid, folder / "lock"):
            return False
        os.kill(pid, CALL)
    except (OSError, ValueError, KeyError, TypeError, IndexError):
        return False
    return True


def _started(pid: int) -> str:
    """When a process was started, in ticks since the machine was; a number that was given anew is another process."""
    # The name of the program stands in parentheses and may hold any letter: fields are counted from the last one.
    return Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace").rpartition(")")[2].split()[19]


def _holds(pid: int, lock: Path) -> bool:
    """Whether the kernel says that a process holds the writer's lock of a file."""
    number, found = lock.stat().st_ino, False
    for line in Path("/proc/locks").read_text(encoding="ascii", errors="replace").splitlines():
        words = line.split()
        if len(words) > 5 and words[1] == "FLOCK" and words[3:5] == ["WRITE", str(pid)]:
            found = found or words[5].rpartition(":")[2] == str(number)
    return found

"""One writer at a time: an advisory lock that dies with its process."""

from __future__ import annotations

import fcntl
import getpass
import json
import os
import socket
from datetime import datetime
from pathlib import Path
from typing import IO

from ..errors import ProjectError


class ProjectBusy(ProjectError):
    """Somebody else has the project open for writing."""


def take(folder: Path) -> IO[str]:
    """Take the writer's lock of a project folder; keep the returned handle open to hold it.

    Raises
    ------
    ProjectBusy
        When another process holds it; the text says who, where and since when.
    """
    handle = (folder / "lock").open("a+", encoding="utf-8")
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        handle.seek(0)
        text = handle.read()
        handle.close()
        raise ProjectBusy(
            f"the project is open for writing by {_holder(text)}",
            where=folder.name,
            fix="Close it there, or look at it read-only here",
        ) from error
    handle.seek(0)
    handle.truncate()
    who = {
        "user": getpass.getuser(),
        "host": socket.gethostname(),
        "pid": os.getpid(),
        "since": datetime.now().isoformat(" ", "seconds"),
    }
    handle.write(json.dumps(who))
    handle.flush()
    return handle


def _holder(text: str) -> str:
    try:
        who = json.loads(text)
        return f"{who['user']} on {who['host']} (process {who['pid']}, since {who['since']})"
    except (ValueError, KeyError, TypeError):
        return "another process"

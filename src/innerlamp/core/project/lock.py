"""One writer at a time: an advisory lock that dies with its process."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import getpass
import json
import os
import socket
import stat
from datetime import datetime
from pathlib import Path
from typing import IO

from ..errors import ProjectError

_NOT_TO_WRITE = (errno.EROFS, errno.EACCES, errno.EPERM)


class ProjectBusy(ProjectError):
    """The project can't be written here and now: somebody else writes, or its place is read-only."""


def take(folder: Path) -> IO[str]:
    """Take the writer's lock of a project folder; keep the returned handle open to hold it.

    Raises
    ------
    ProjectBusy
        When another process holds it; the text says who, where and since when. Also when the place can't be written.
    ProjectError
        When the lock is no plain file, or the file system gives no locks.
    """
    try:
        # Never through a link: what it leads to would be overwritten.
        number = os.open(folder / "lock", os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, 0o644)
    except OSError as error:
        if error.errno in _NOT_TO_WRITE:
            raise ProjectBusy(
                f"the project lies where nothing can be written ({error.strerror})",
                where=folder.name,
                fix="It can be looked at; copy it to change it",
            ) from error
        raise ProjectError(f"its lock can't be opened ({error.strerror})", where=folder.name) from error
    handle = os.fdopen(number, "r+", encoding="utf-8")
    if not stat.S_ISREG(os.fstat(number).st_mode):
        handle.close()
        raise ProjectError("its lock is no plain file", where=folder.name, fix="Take the file 'lock' out of it")
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        text = handle.read(2000)
        handle.close()
        if error.errno not in (errno.EWOULDBLOCK, errno.EACCES):
            raise ProjectError(
                f"the file system of the project gives no locks ({error.strerror})",
                where=folder.name,
                fix="Keep the project on a disk of this machine, or look at it read-only",
            ) from error
        raise ProjectBusy(
            f"the project is open for writing by {_holder(text)}",
            where=folder.name,
            fix="Close it there, or look at it read-only here",
        ) from error
    handle.truncate(0)
    who = {
        "user": getpass.getuser(),
        "host": socket.gethostname(),
        "pid": os.getpid(),
        "since": datetime.now().isoformat(" ", "seconds"),
    }
    try:
        handle.write(json.dumps(who))
        handle.flush()
    except OSError as error:
        with contextlib.suppress(OSError):
            handle.close()
        raise ProjectError(f"its lock can't be written ({error.strerror})", where=folder.name) from error
    return handle


def check_held(folder: Path, handle: IO[str]) -> None:
    """Refuse to go on when the lock was taken away from under its holder: somebody else may write now.

    Raises
    ------
    ProjectError
        When the lock, or the whole project, is not where it was.
    """
    try:
        there, mine = (folder / "lock").lstat(), os.fstat(handle.fileno())
    except (OSError, ValueError) as error:
        raise ProjectError("the project is not where it was", where=str(folder), fix="Open it anew") from error
    if (there.st_dev, there.st_ino) != (mine.st_dev, mine.st_ino):
        raise ProjectError("the lock of the project was taken away", where=str(folder), fix="Open it anew")


def _holder(text: str) -> str:
    try:
        who = json.loads(text)
        return f"{who['user']} on {who['host']} (process {who['pid']}, since {who['since']})"
    except (ValueError, KeyError, TypeError):
        return "another process"

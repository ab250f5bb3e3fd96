"""What must be so of a project's folder before anything in it is opened: plain files and folders, and none that leads away.

A project may come from anywhere. A symbolic link in it, or a name that another file shares, would let opening it
change what lies outside; a pipe or a device would never answer.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from ..errors import ProjectError

_MOST = 5_000_000  # files and folders
_OWN = ("lock", "catalogue.sqlite", "catalogue.sqlite-wal", "catalogue.sqlite-shm", "catalogue.sqlite-journal")


def check(folder: Path, write: bool) -> None:
    """Refuse a project folder with links, pipes or devices in it, and for writing one whose files are shared by name.

    Raises
    ------
    ProjectError
        Names what is wrong.
    """
    count = 0
    waiting = [folder]
    while waiting:
        place = waiting.pop()
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    count += 1
                    if count > _MOST:
                        raise ProjectError(f"the project folder holds more than {_MOST:,} files", where=folder.name)
                    if entry.is_symlink():
                        _refuse(folder, entry.path, "is a symbolic link, and leads out of the project")
                    if entry.is_dir(follow_symlinks=False):
                        waiting.append(Path(entry.path))
                    elif not entry.is_file(follow_symlinks=False):
                        _refuse(folder, entry.path, "is no plain file")
        except OSError as error:
            raise ProjectError(f"the project folder can't be read ({error.strerror})", where=str(place)) from error
    if write:
        for name in _OWN:
            there = folder / name
            if there.exists() and there.stat().st_nlink > 1:
                _refuse(folder, str(there), "is shared with another name by a hard link", "Copy the project first")


def _refuse(folder: Path, path: str, why: str, fix: str = "") -> None:
    inside = Path(path).relative_to(folder)
    raise ProjectError(
        f"{str(inside)!r} {why}",
        where=folder.name,
        fix=fix or "Projects hold plain files and folders only: take it out, or ask where the project comes from",
    )


def read_plain(path: Path) -> bytes:
    """Return what a plain file holds; a link is not followed (it raises OSError)."""
    handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
    with os.fdopen(handle, "rb") as file:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(22, "it is no plain file")
        return file.read()


def is_plain(path: Path) -> bool:
    """Return whether a path is a plain file itself, not what a link leads to."""
    return stat.S_ISREG(path.lstat().st_mode)

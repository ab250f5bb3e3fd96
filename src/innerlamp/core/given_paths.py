"""Paths as the user gave them."""

from __future__ import annotations

from pathlib import Path

from .errors import InputError


def given_path(text: Path | str) -> Path:
    """Return the path of a text, `~` written out; whether anything is there is for the caller to ask.

    Raises
    ------
    InputError
        When no path can be so: an unknown user after `~`, a name that is too long, a zero byte, a closed folder.
    """
    try:
        path = Path(text).expanduser()
        path.stat()
    except (FileNotFoundError, NotADirectoryError):
        pass
    except OSError as error:
        raise InputError(f"can't be looked at ({error.strerror})", where=str(text), fix="Check the path") from error
    except (RuntimeError, ValueError) as error:
        raise InputError("there is no such file or folder", where=str(text), fix="Check the path") from error
    return path


def outside_projects(path: Path | str) -> Path:
    """Return a path that is to be written; nothing but the program's own records goes into a project's folder.

    Raises
    ------
    InputError
        When it lies in the folder of a project, or is one.
    """
    target = Path(path)
    try:
        whole = target.resolve()
        inside = next((up for up in (whole, *whole.parents) if (up / "catalogue.sqlite").exists()), None)
    except (OSError, RuntimeError, ValueError):
        return target  # what is wrong with it is said by whoever writes
    if inside is not None:
        raise InputError(
            "that is inside the folder of a project, which other files would damage",
            where=str(inside),
            fix="Write it beside the project",
        )
    return target

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

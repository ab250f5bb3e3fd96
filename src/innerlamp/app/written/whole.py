"""Files that appear whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ...core.errors import InputError
from ...core.given_paths import outside_projects


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """Give a place beside a file to write to; what stands there at the end becomes the file.

    Raises
    ------
    InputError
        When there is no such folder, it is that of a project, or it can't be written; nothing is left then.
    """
    outside_projects(path)
    if not path.parent.is_dir():
        raise InputError("there is no such folder", where=str(path.parent))
    part = path.with_name(f".{path.stem}.{os.getpid()}.part{path.suffix}")
    try:
        yield part
        part.replace(path)
    except OSError as error:
        raise InputError(f"can't write the file ({error.strerror or error})", where=str(path)) from error
    finally:
        part.unlink(missing_ok=True)

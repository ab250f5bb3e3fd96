"""Starting processes of our own: none of them takes modules from the folder that somebody happens to stand in."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager

_SAFE = "PYTHONSAFEPATH"  # what -P is for processes that are started by a library
_LOCK = threading.Lock()


@contextmanager
def without_current_folder() -> Iterator[None]:
    """Let Python processes that are started here leave the current folder out of where modules come from."""
    with _LOCK:
        before = os.environ.get(_SAFE)
        os.environ[_SAFE] = "1"
        try:
            yield
        finally:
            if before is None:
                del os.environ[_SAFE]
            else:
                os.environ[_SAFE] = before

"""Where compiled kernels are kept: one folder of the user's for each state of their sources, shared by all copies of the program.

A kernel may call kernels of other modules, so all of their sources together name the folder: what was compiled from others is
never taken. Only the user can write there, as where the program itself lies.
"""

from __future__ import annotations

import functools
import hashlib
import os
import shutil
import time
from pathlib import Path
from typing import Any

from numba.core.caching import _CacheLocator  # the class that numba's setting CACHE_LOCATOR_CLASSES asks for

_HERE = Path(__file__).parent
_KEPT = 4  # states of the sources, the newest


def cache_root() -> Path:
    """Return the folder of all kept kernels."""
    base = os.environ.get("INNERLAMP_KERNELS") or os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "inner-lamp" / "kernels"


@functools.cache
def sources_digest() -> str:
    """Return the digest of all sources that kernels stand in."""
    told = hashlib.blake2b(digest_size=10)
    for path in sorted(_HERE.rglob("*.py")):
        text = path.read_bytes()
        if b"compiled" in text:
            told.update(str(path.relative_to(_HERE)).encode())
            told.update(text)
    return told.hexdigest()


def forget_old(root: Path) -> None:
    """Remove the kernels of all but the newest states of the sources."""
    try:
        states = sorted((p for p in root.iterdir() if p.is_dir()), key=lambda p: p.stat().st_mtime, reverse=True)
    except OSError:
        return
    for old in states[_KEPT:]:
        if time.time() - old.stat().st_mtime > 86_400:
            shutil.rmtree(old, ignore_errors=True)


class SharedLocator(_CacheLocator):  # type: ignore[misc]  # the library has no types
    """Keeps the kernels of a module in the user's folder."""

    def __init__(self, func: Any, file: str) -> None:
        self._line = func.__code__.co_firstlineno
        inside = Path(file).resolve().relative_to(_HERE).with_suffix("")
        self._folder = cache_root() / sources_digest() / "-".join(inside.parts)

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> SharedLocator | None:
        """Return the place of a function's kernels; None where the folder can't be written, so that numba looks elsewhere."""
        try:
            found = cls(py_func, py_file)
            found.ensure_cache_path()
        except (OSError, ValueError):
            return None
        return found

    def get_cache_path(self) -> str:
        """Return the folder."""
        return str(self._folder)

    def get_source_stamp(self) -> str:
        """Return what the sources are told by."""
        return sources_digest()

    def get_disambiguator(self) -> str:
        """Return what tells functions of one name apart."""
        return str(self._line)

"""What was worked out and may be asked for again: kept up to so many bytes, the latest used last to go.

One store for the whole process, so that its bound is one figure. It is emptied when a project is closed.
"""

from __future__ import annotations

import dataclasses
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import numpy as np
import pandas as pd

T = TypeVar("T")
_TEXT = 60  # bytes of a short text in a table of objects
_LEAST = 200  # bytes that anything takes


def size_of(value: Any) -> int:
    """Return about how many bytes of memory a value takes; arrays that are mapped from a file take none."""
    if isinstance(value, np.ndarray):
        base: Any = value
        while base is not None and not isinstance(base, np.memmap):
            base = getattr(base, "base", None)
        if base is not None:
            return _LEAST
        return int(value.nbytes) + (_TEXT * value.size if value.dtype.kind == "O" else 0)
    if isinstance(value, pd.DataFrame):
        widths = (_TEXT if dtype.kind == "O" else getattr(dtype, "itemsize", 8) for dtype in value.dtypes)
        return len(value) * sum(widths) + _LEAST
    if isinstance(value, dict):
        return sum(map(size_of, value.values())) + _LEAST
    if isinstance(value, tuple | list):
        return sum(map(size_of, value)) + _LEAST if len(value) < 1_000 else _TEXT * len(value)
    if isinstance(value, str | bytes):
        return len(value) + _TEXT
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return sum(size_of(getattr(value, f.name)) for f in dataclasses.fields(value)) + _LEAST
    return _LEAST


@dataclasses.dataclass
class _Held:
    value: Any
    size: int
    owner: weakref.ref[Any] | None


class Kept:
    """Values by key, up to so many bytes in all; the newest is kept in any case. Threads may share it.

    Parameters
    ----------
    most
        Bytes.
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self._held: OrderedDict[Hashable, _Held] = OrderedDict()
        self._bytes = 0
        self._lock = threading.RLock()

    @property
    def bytes(self) -> int:
        """About how much is held."""
        return self._bytes

    def __len__(self) -> int:
        return len(self._held)

    def of(self, key: Hashable, make: Callable[[], T], *, owner: Any = None, size: Callable[[T], int] = size_of) -> T:
        """Return what is kept under a key, or make it.

        Parameters
        ----------
        owner
            What the value was worked out of, where the key is no more than its `id`: when the owner goes, so does the value.
        size
            How many bytes a value takes.
        """
        with self._lock:
            found = self._held.get(key)
            if found is not None and (found.owner is None or found.owner() is owner):
                self._held.move_to_end(key)
                return found.value  # type: ignore[no-any-return]
        value = make()
        ref = None if owner is None else weakref.ref(owner, lambda gone: self._owner_went(key, gone))
        with self._lock:
            self._drop(key)
            self._held[key] = _Held(value, size(value) + _LEAST, ref)
            self._bytes += self._held[key].size
            while self._bytes > self.most and len(self._held) > 1:
                self._drop(next(iter(self._held)))
        return value

    def _owner_went(self, key: Hashable, gone: weakref.ref[Any]) -> None:
        with self._lock:
            found = self._held.get(key)
            if found is not None and found.owner is gone:
                self._drop(key)

    def _drop(self, key: Hashable) -> None:
        found = self._held.pop(key, None)
        if found is not None:
            self._bytes -= found.size

    def clear(self) -> None:
        """Let all go."""
        with self._lock:
            self._held.clear()
            self._bytes = 0


KEPT = Kept(400_000_000)

"""A plain-Python signal: who is interested is called when something happened."""

from __future__ import annotations

import inspect
import weakref
from collections.abc import Callable
from typing import Any, Generic, ParamSpec

P = ParamSpec("P")


class Signal(Generic[P]):
    """Calls its listeners in the order in which they were connected.

    Bound methods are held weakly, so that a listener that is thrown away needs no goodbye;
    plain functions are held strongly. Meant for one thread.
    """

    def __init__(self) -> None:
        self._slots: list[Callable[[], Callable[..., Any] | None]] = []

    def connect(self, slot: Callable[P, Any]) -> Callable[[], None]:
        """Add a listener; returns a function that removes it again."""
        ref: Callable[[], Callable[..., Any] | None]
        ref = weakref.WeakMethod(slot) if inspect.ismethod(slot) else (lambda: slot)
        self._slots.append(ref)

        def disconnect() -> None:
            if ref in self._slots:
                self._slots.remove(ref)

        return disconnect

    def emit(self, *args: P.args, **kwargs: P.kwargs) -> None:
        """Call every listener that still lives."""
        for ref in list(self._slots):
            slot = ref()
            if slot is None:
                self._slots.remove(ref)
            else:
                slot(*args, **kwargs)

    def __len__(self) -> int:
        return len(self._slots)

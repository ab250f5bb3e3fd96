"""Tables and dictionaries that can't be changed in place: an item is what it was when it was made."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd


def _refuse(*_: object, **__: object) -> Any:
    raise TypeError("items never change: make a new one (dataclasses.replace)")


class FrozenDict(dict[Any, Any]):
    """A dictionary that can't be changed; arrays, tables and dictionaries in it neither."""

    __setitem__ = __delitem__ = pop = popitem = clear = update = setdefault = __ior__ = _refuse

    def __reduce__(self) -> tuple[type[dict[Any, Any]], tuple[dict[Any, Any]]]:
        return dict, (dict(self),)


class FrozenTable(pd.DataFrame):
    """A table that can't be changed; what is made of it (rows, columns, a copy) is a plain table."""

    __setitem__ = __delitem__ = insert = pop = update = _update_inplace = _refuse  # type: ignore[misc]

    @property
    def _constructor(self) -> Any:
        return pd.DataFrame

    @property
    def loc(self) -> Any:
        return _READING["loc"]("loc", self)

    @property
    def iloc(self) -> Any:
        return _READING["iloc"]("iloc", self)

    @property
    def at(self) -> Any:
        return _READING["at"]("at", self)

    @property
    def iat(self) -> Any:
        return _READING["iat"]("iat", self)

    def __reduce__(self) -> tuple[type[pd.DataFrame], tuple[pd.DataFrame]]:
        return pd.DataFrame, (self.copy(deep=False),)


# Indexers that read as those of a plain table do.
_READING: dict[str, type] = {
    kind: type(f"Frozen{kind}", (type(getattr(pd.DataFrame(), kind)),), {"__setitem__": _refuse})
    for kind in ("loc", "iloc", "at", "iat")
}


def frozen(values: dict[Any, Any]) -> FrozenDict:
    """Return a dictionary that stays as it is, and so does what it holds."""
    return values if isinstance(values, FrozenDict) else FrozenDict({k: kept(v) for k, v in values.items()})


def kept(value: Any) -> Any:
    """Return a value that can't be changed in place: arrays are locked, tables and dictionaries wrapped."""
    if isinstance(value, np.ndarray):
        value.flags.writeable = False
    elif isinstance(value, pd.DataFrame) and not isinstance(value, FrozenTable):
        return FrozenTable(value, copy=False)
    elif isinstance(value, dict):
        return frozen(value)
    return value

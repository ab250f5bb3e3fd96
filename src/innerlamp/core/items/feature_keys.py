"""Keys of features: which feature is meant, whatever row it stands in.

A key is made from the shape when a feature is first changed, and stays with the feature through all later changes. A file
that comes in anew in another order, or without some features, gives the same keys to the same shapes.
"""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Sequence

import numpy as np

from ..errors import InputError
from .features import Features

_MILLIMETRE = 1e-3  # coordinates closer than this are the same
_ODD = np.uint64(0x9E3779B97F4A7C15)


def _mixed(values: np.ndarray) -> np.ndarray:
    """Return 64-bit numbers that differ in about half of their bits where `values` (uint64) differ in one.

    The last step of a published generator: Steele, Lea & Flood (2014), Fast splittable pseudorandom number generators.
    """
    v = (values + _ODD).astype(np.uint64)
    v = (v ^ (v >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    v = (v ^ (v >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return v ^ (v >> np.uint64(31))


def shape_keys(item: Features) -> np.ndarray:
    """Return a key (n,) for each feature from its vertices and the types of its parts, whatever row it stands in.

    Features of one shape are told apart by what their rows say, and by their order where that is equal, too.
    """
    count, parts = len(item.table), np.diff(item.starts).astype(np.int64)
    with np.errstate(over="ignore"):
        part_of = np.repeat(np.arange(len(parts)), parts)
        place = np.arange(len(item.vertices)) - np.repeat(item.starts[:-1].astype(np.int64), parts)
        told = _mixed(place.astype(np.uint64))
        for axis in range(3):
            z = item.vertices[:, axis]
            whole = np.where(np.isfinite(z), np.rint(np.nan_to_num(z) / _MILLIMETRE), -(2.0**62)).astype(np.int64)
            told = _mixed(told ^ whole.view(np.uint64))
        sums = np.zeros(len(parts), dtype=np.uint64)
        np.add.at(sums, part_of, told)
        sums = _mixed(sums + item.part_types.astype(np.uint64))
        keys = np.zeros(count, dtype=np.uint64)
        np.add.at(keys, item.owner.astype(np.int64), sums)
        keys = _mixed(keys)
        _, first, number = np.unique(keys, return_index=True, return_inverse=True)
        if len(first) < count:
            keys = _apart(item, keys, number)
    return keys


def _apart(item: Features, keys: np.ndarray, number: np.ndarray) -> np.ndarray:
    """Tell features of equal shape apart: by what their rows say, then by their order."""
    out = keys.copy()
    for group in np.flatnonzero(np.bincount(number) > 1):
        rows = np.flatnonzero(number == group)
        said = [repr([str(v) for v in item.table.iloc[r].tolist()]) for r in rows]
        for nth, k in enumerate(sorted(range(len(rows)), key=lambda k: (said[k], k))):
            if nth:
                out[rows[k]] = _mixed(keys[rows[k] : rows[k] + 1] + np.uint64(nth))[0]
    return out


def keys_of(item: Features) -> np.ndarray:
    """Return the key (n,) of each feature: those that it has kept, or those that its shapes give."""
    if item.keys is not None and len(item.keys) == len(item.table):
        return item.keys
    return shape_keys(item)


def keyed(item: Features) -> Features:
    """Return features that keep the keys that they have now, whatever is done to their shapes."""
    return item if item.keys is not None else dataclasses.replace(item, keys=keys_of(item))


def made_key(*parts: object) -> np.uint64:
    """Return a key from what a feature was made of: the keys of others, or the places that were drawn."""
    told = hashlib.blake2b(
        repr([p.tolist() if isinstance(p, np.ndarray) else str(p) for p in parts]).encode(), digest_size=8
    )
    return np.uint64(int.from_bytes(told.digest(), "little"))


def free_key(key: np.uint64, taken: np.ndarray) -> np.uint64:
    """Return a key, or the next one that none of `taken` is."""
    while np.isin(key, taken):
        key = made_key(key)
    return key


def texts(item: Features, rows: Sequence[int]) -> list[str]:
    """Return the keys of some rows as texts, as parameters keep them."""
    keys = keys_of(item)
    return [f"{int(keys[r]):016x}" for r in rows]


def rows_meant(item: Features, keys: Sequence[str]) -> list[int]:
    """Return the rows of the features that keys mean, in the order of the keys.

    Raises
    ------
    InputError
        When one is no longer there, or a text is no key.
    """
    try:
        wanted = np.array([int(k, 16) for k in keys], dtype=np.uint64)
    except (ValueError, OverflowError) as error:
        raise InputError(
            "a feature is named by 16 letters and digits", fix="Name features by their rows instead"
        ) from error
    have = keys_of(item)
    row_of = {int(have[r]): int(r) for r in np.flatnonzero(np.isin(have, wanted))}
    unlike = list(dict.fromkeys(wanted.tolist()))
    lacking = len(unlike) - len(row_of)
    if lacking:
        what = (
            "the feature that was meant is"
            if len(unlike) == 1
            else f"{lacking} of the {len(unlike)} features that were meant are"
        )
        raise InputError(
            f"{what} no longer there, or has another shape", where=item.name, fix="Choose again what to change"
        )
    return [row_of[key] for key in unlike]

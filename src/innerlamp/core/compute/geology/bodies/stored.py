"""A model of units as plain values and arrays, for keeping, and put together again from what a file holds."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ....errors import InputError
from .model import Contact, Frame, Lattice, Move, Piece, UnitModel
from .solids import Solids

_MOST_TEXT, _MOST = 4_000_000, 5_000


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


Three = tuple[float, float, float]


class _Lattice(_Strict):
    origin: Three
    spacing: Three
    array: str


class _Frame(_Strict):
    origin: Three
    axes: tuple[Three, Three, Three]


class _Contact(_Strict):
    name: str
    lattice: int
    sign: float
    level: float
    frame: _Frame | None
    thick: int | None
    moved: tuple[int, ...]


class _Move(_Strict):
    name: str
    frame: _Frame
    slip: Three
    bend: int | None
    length: float | None
    height: float | None
    ends: tuple[tuple[int, float], ...]


class _Piece(_Strict):
    unit: int
    contacts: tuple[int, ...]


class _Rules(_Strict):
    units: tuple[str, ...] = Field(min_length=1, max_length=_MOST)
    low: Three
    high: Three
    lattices: tuple[_Lattice, ...] = Field(max_length=_MOST)
    contacts: tuple[_Contact, ...] = Field(max_length=_MOST)
    pieces: tuple[_Piece, ...] = Field(max_length=_MOST)
    faults: tuple[_Move, ...]
    blocks: str  # digest of the numbers of units in the blocks beside


def digest(values: np.ndarray) -> str:
    """Return what tells an array of numbers of units (nx, ny, nz) from others, NaN for none."""
    return hashlib.blake2b(
        np.nan_to_num(np.asarray(values, float), nan=-9.0).astype(np.int16).tobytes(), digest_size=12
    ).hexdigest()


def taken_apart(model: UnitModel, blocks: np.ndarray) -> tuple[str, dict[str, np.ndarray]]:
    """Return the rules of a model as text, and the weights (nx, ny, nz) of its fields by name; `blocks` (nx, ny, nz) are the numbers of units beside it."""
    lattices: list[Lattice] = []

    def number(lattice: Lattice | None) -> int | None:
        if lattice is None:
            return None
        for k, each in enumerate(lattices):
            if each is lattice:
                return k
        lattices.append(lattice)
        return len(lattices) - 1

    def framed(frame: Frame | None) -> dict[str, Any] | None:
        return None if frame is None else {"origin": frame.origin.tolist(), "axes": frame.axes.tolist()}

    contacts = [
        {"name": c.name, "lattice": number(c.lattice), "sign": c.sign, "level": float(c.level), "frame": framed(c.frame),
         "thick": number(c.thick), "moved": list(c.moved)}
        for c in model.contacts
    ]  # fmt: skip
    faults = [
        {"name": f.name, "frame": framed(f.frame), "slip": f.slip.tolist(), "bend": number(f.bend),
         "length": f.length if np.isfinite(f.length) else None, "height": f.height if np.isfinite(f.height) else None,
         "ends": [list(e) for e in f.ends]}
        for f in model.faults
    ]  # fmt: skip
    rules = {
        "units": list(model.units),
        "low": np.asarray(model.low, float).tolist(),
        "high": np.asarray(model.high, float).tolist(),
        "lattices": [
            {"origin": lat.origin.tolist(), "spacing": lat.spacing.tolist(), "array": f"k{k}"}
            for k, lat in enumerate(lattices)
        ],
        "contacts": contacts,
        "pieces": [{"unit": p.unit, "contacts": list(p.contacts)} for p in model.pieces],
        "faults": faults,
        "blocks": digest(blocks),
    }
    return json.dumps(rules), {f"k{k}": lat.weights for k, lat in enumerate(lattices)}


def bodies_apart(bodies: Solids) -> dict[str, np.ndarray]:
    """Return bodies as arrays by name, to be kept beside the fields: places (k, 3) in metres, triangles (t, 3), sides (t, 2)."""
    return {
        "body places": bodies.places.astype(np.float64),
        "body triangles": bodies.triangles.astype(np.int32),
        "body sides": bodies.sides.astype(np.int16),
    }


def bodies_kept(arrays: Mapping[str, np.ndarray], units: int) -> Solids | None:
    """Return the bodies that were kept as places (k, 3) in metres, triangles (t, 3) and sides (t, 2); None where there are none, or they are damaged."""
    places, triangles, sides = (arrays.get(f"body {n}") for n in ("places", "triangles", "sides"))
    if places is None or triangles is None or sides is None:
        return None
    if places.ndim != 2 or places.shape[1] != 3 or triangles.ndim != 2 or triangles.shape[1] != 3:
        return None
    if sides.shape != (len(triangles), 2) or not np.isfinite(places).all():
        return None
    if len(triangles) and (
        triangles.min() < 0 or triangles.max() >= len(places) or sides.min() < -1 or sides.max() >= units
    ):
        return None
    return Solids(places, triangles.astype(np.int64), sides.astype(np.int64), units)


def put_together(rules: str, arrays: Mapping[str, np.ndarray], blocks: np.ndarray | None = None) -> UnitModel | None:
    """Return the model that was kept; None when the blocks beside it (numbers of units) were changed since.

    Raises
    ------
    InputError
        When what is kept is damaged: it may come from anywhere.
    """
    if len(rules) > _MOST_TEXT:
        raise InputError("the contacts of the model are damaged: their rules are too long")
    try:
        read = _Rules.model_validate_json(rules)
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(
            f"the contacts of the model are damaged: {'.'.join(map(str, first['loc']))}: {first['msg']}"
        ) from error
    if blocks is not None and digest(blocks) != read.blocks:
        return None
    made: list[Lattice] = []
    for lat in read.lattices:
        weights = arrays.get(lat.array)
        if weights is None or weights.ndim != 3 or min(weights.shape[:2]) < 4 or 1 < weights.shape[2] < 4:
            raise InputError("the contacts of the model are damaged: a field is missing")
        if not np.isfinite(weights).all() or not min(lat.spacing) > 0:
            raise InputError("the contacts of the model are damaged: a field has places without a number")
        made.append(
            Lattice(np.array(lat.origin), np.array(lat.spacing), np.ascontiguousarray(weights, dtype=np.float32))
        )
    count = len(read.faults)

    def lattice(k: int | None, flat: bool) -> Lattice | None:
        if k is None:
            return None
        if not 0 <= k < len(made) or (made[k].weights.shape[2] == 1) != flat:
            raise InputError("the contacts of the model are damaged: a contact names a field that is not there")
        return made[k]

    def frame(f: _Frame | None) -> Frame | None:
        return None if f is None else Frame(np.array(f.origin), np.array(f.axes))

    contacts = []
    for c in read.contacts:
        main = lattice(c.lattice, c.frame is not None)
        if main is None or any(not 0 <= j < count for j in c.moved):
            raise InputError("the contacts of the model are damaged: a contact names a fault that is not there")
        contacts.append(Contact(c.name, main, c.sign, c.level, frame(c.frame), lattice(c.thick, True), c.moved))
    faults = []
    for f in read.faults:
        plane = frame(f.frame)
        assert plane is not None
        if any(not 0 <= j < count for j, _ in f.ends):
            raise InputError("the contacts of the model are damaged: a fault ends at one that is not there")
        sizes = [np.inf if w is None or w <= 0 else w for w in (f.length, f.height)]
        faults.append(Move(f.name, plane, np.array(f.slip), lattice(f.bend, True), sizes[0], sizes[1], f.ends))
    pieces = tuple(Piece(p.unit, p.contacts) for p in read.pieces)
    return UnitModel(read.units, tuple(contacts), pieces, np.array(read.low), np.array(read.high), tuple(faults))

"""Simplices (segments, triangles, tetrahedra) cut by the contacts of a model in the order of their age.

An edge whose ends lie on both sides of a contact is bisected where the contact passes it; the pieces of a simplex then lie
on one side of each contact, and each has one unit. Which edge is cut, and where, depends on the edge alone, and the new
corner's name (64 bits mixed of the names of the edge's ends and of the contact) too: simplices that share an edge or a face
are cut alike without knowing of each other, and pieces are joined again by the names of their corners, exactly and without
a tolerance. (Bisection of simplices: Maubach 1995, SIAM Journal on Scientific Computing 16, 210; marching by tetrahedra:
Doi and Koide 1991, IEICE Transactions E74, 214.)

Along a fault each side has its own values: a corner on the fault belongs to both, and what cuts one side cuts the edges that
lie on the fault, so that both sides share the faces of the fault.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from .bisecting import CODES, CORNERS, LEAST, PIECES, bisected
from .model import FloatArray, IntArray, UnitModel
from .reading import natural_codes, shares_at, values_at

_FACES, _SPOTS = 60_000, 40_000  # room that a turn begins with


@dataclass(frozen=True)
class Simplices:
    """What is to be cut.

    Attributes
    ----------
    nodes
        Places (n, 3), metres.
    corners
        Nodes (m, 2), (m, 3) or (m, 4) of segments, triangles or tetrahedra.
    rim
        Bits (n,) of the sides of the whole on which a node lies; a face whose corners share a bit lies on its outside.
    owner
        To whom (m,) each belongs, for sums; from 0 on, in order.
    """

    nodes: FloatArray
    corners: IntArray
    rim: IntArray
    owner: IntArray | None = None


@dataclass(frozen=True)
class Cut:
    """What came of it.

    Attributes
    ----------
    places
        Corners (k, 3) of faces, metres; each once.
    faces
        Corners (f, 1), (f, 2) or (f, 3) of faces between pieces of different labels: points, segments, triangles.
    sides
        Labels (f, 2): of segments on the left and right, of triangles on the side that they look away from and the one that
        they look to, of points before and after; -1 outside.
    sums
        Length, area or volume (owners, labels) in metres to that power; empty unless asked for.
    """

    places: FloatArray
    faces: IntArray
    sides: IntArray
    sums: FloatArray


def stages_of(model: UnitModel) -> tuple[IntArray, IntArray]:
    """Return surfaces in the order in which they cut (n, 2), each with its piece (-1 for faults), and the turn (s,) of each surface."""
    many = len(model.contacts)
    rows = [(many + j, -1) for j in range(len(model.faults))]
    rows += [(c, k) for k, piece in enumerate(model.pieces) for c in piece.contacts]
    order = np.array(rows, dtype=np.int64).reshape(-1, 2)
    turn = np.full(many + len(model.faults), -1, dtype=np.int64)
    for k, (s, _) in enumerate(rows):
        turn[s] = max(turn[s], k)
    return order, turn


def read_at(model: UnitModel, nodes: FloatArray) -> tuple[IntArray, FloatArray]:
    """Return on which sides (n,) of the faults nodes (n, 3) lie, as bits, and all signed surfaces there (n, s), metres."""
    codes = natural_codes(model.packed, nodes)
    natural = np.empty((len(nodes), len(model.packed.kind)))
    values_at(model.packed, nodes, codes, natural)
    return codes, natural


def cut(
    model: UnitModel,
    what: Simplices,
    *,
    faces: bool = True,
    sums: bool = False,
    threads: int = 2,
    read: tuple[IntArray, FloatArray] | None = None,
) -> Cut:
    """Cut simplices by a model of units.

    Parameters
    ----------
    what
        Segments, triangles or tetrahedra, metres.
    faces
        Whether faces between units are wanted. Labels are pieces of the model, the background after them.
    sums
        Whether lengths, areas or volumes by owner are wanted.
    threads
        On how many cores.
    read
        What `read_at` gives for the nodes, where it is at hand.

    Returns
    -------
    Cut
        Its `sides` and the columns of its `sums` are pieces of the model.
    """
    p = model.packed
    nodes = np.ascontiguousarray(what.nodes, dtype=float)
    codes, natural = read if read is not None else read_at(model, nodes)
    edges = [nodes[what.corners[:, k]] - nodes[what.corners[:, 0]] for k in range(1, what.corners.shape[1])]
    far = 4.0 * float(np.sqrt(max((float(np.einsum("ij,ij->i", e, e).max(initial=0.0)) for e in edges), default=0.0)))
    # A node so near to a contact that it would be a corner twice is moved to its positive side.
    natural[np.abs(natural) < LEAST] = LEAST
    natural_parts = np.zeros((len(nodes), len(p.slip)))
    shares_at(p, nodes, codes, natural_parts)
    stages, turn = stages_of(model)
    count = len(what.corners)
    owner = what.owner if what.owner is not None else np.zeros(count, dtype=np.int64)
    labels = len(model.pieces) + 1
    share = max(1, -(-count // max(threads, 1)))
    starts = range(0, count, share)

    def turn_of(begin: int) -> tuple[list[tuple[np.ndarray, ...]], FloatArray]:
        nv = what.corners.shape[1]
        surfaces, many = len(p.kind), len(p.slip)
        room = (
            np.empty((CORNERS, surfaces, CODES if many else 1)), np.zeros((CORNERS, max(many, 1), CODES))[:, :many],
            np.empty((CORNERS, 3)), np.empty(CORNERS, np.uint64), np.empty(CORNERS, np.int64), np.empty(CORNERS, np.int64),
            np.empty((PIECES, nv), np.int64),
        )  # fmt: skip
        end = min(begin + share, count)
        mine = np.zeros((int(owner[begin:end].max(initial=-1)) + 1 if sums else 0, labels))
        out: list[tuple[np.ndarray, ...]] = []
        spots, named = np.empty((_SPOTS, 3)), np.empty(_SPOTS, np.uint64)
        shapes, tags = np.empty((_FACES, nv - 1 if faces else 0), np.int64), np.empty((_FACES, 3), np.int64)
        keys = np.empty(_FACES, np.uint64)
        while begin < end:
            begin, k, f = bisected(
                p, stages, nodes, natural, natural_parts, codes, what.rim, what.corners, owner, begin, end, turn,
                *room, spots, named, shapes, tags, keys, mine, far,
            )  # fmt: skip
            out.append((spots[:k].copy(), named[:k].copy(), shapes[:f].copy(), tags[:f].copy(), keys[:f].copy()))
        return out, mine

    if len(starts) > 1:
        with ThreadPoolExecutor(len(starts)) as pool:
            done = list(pool.map(turn_of, starts))
    else:
        done = [turn_of(b) for b in starts]
    total = np.zeros((int(owner.max(initial=-1)) + 1 if sums else 0, labels))
    for _, mine in done:
        total[: len(mine)] += mine
    if not faces:
        return Cut(
            np.empty((0, 3)), np.empty((0, what.corners.shape[1] - 1), np.int64), np.empty((0, 2), np.int64), total
        )
    places, shapes, sides = _paired([block for blocks, _ in done for block in blocks], what.corners.shape[1])
    return Cut(places, shapes, sides, total)


def _paired(blocks: Sequence[tuple[np.ndarray, ...]], nv: int) -> tuple[FloatArray, IntArray, IntArray]:
    """Join corners by their names, and faces by their corners: those that part two labels, once each."""
    if not blocks:
        return np.empty((0, 3)), np.empty((0, nv - 1), np.int64), np.empty((0, 2), np.int64)
    offsets = np.cumsum([0, *(len(b[0]) for b in blocks)])[:-1]
    _, first, back = np.unique(np.concatenate([b[1] for b in blocks]), return_index=True, return_inverse=True)
    places = np.concatenate([b[0] for b in blocks])[first]
    shapes = back[np.concatenate([b[2] + o for b, o in zip(blocks, offsets, strict=True)])]
    tags = np.concatenate([b[3] for b in blocks])
    label, turned, rim = tags[:, 0], tags[:, 1], tags[:, 2].astype(bool)
    # Turned so that a triangle looks away from its own piece, and a side has it on its left.
    flip = turned < 0
    if nv > 2:
        shapes[flip] = shapes[flip][:, [0, 2, 1] if nv == 4 else [1, 0]]
    keys = np.concatenate([b[4] for b in blocks])
    order = np.argsort(keys, kind="stable")
    same = np.zeros(len(order), dtype=bool)
    same[:-1] = keys[order[1:]] == keys[order[:-1]]
    follows = np.concatenate([[False], same[:-1]])
    one = order[same]
    two = order[np.flatnonzero(same) + 1]
    alone = order[~same & ~follows]
    alone = alone[rim[alone]]
    differ = label[one] != label[two]
    one, two = one[differ], two[differ]
    out = np.concatenate([shapes[one], shapes[alone]])
    sides = np.concatenate(
        [np.column_stack([label[one], label[two]]), np.column_stack([label[alone], np.full(len(alone), -1)])]
    )
    return places, out, sides

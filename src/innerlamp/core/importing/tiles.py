"""Tiles: grids of one cell size that lie side by side are parts of one."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from ..errors import InputError
from ..formats.grids import ascii_grids

Extent = tuple[float, float, float, float, float]  # west, south, east, north, size of a cell


def extent_of_head(head: bytes) -> Extent | None:
    """Return where an ASCII grid lies by the lines above its values, in its own units; None for cells that are not square."""
    try:
        (nx, ny, x0, y0, dx, dy), _, _ = ascii_grids.lattice_of(head, "")
    except InputError:  # said when it is read
        return None
    west, south = x0 - dx / 2, y0 - dy / 2
    return (west, south, west + nx * dx, south + ny * dy, dx) if dx == dy else None


def extent_of_raster(affine: tuple[float, ...] | None, width: int, height: int) -> Extent | None:
    """Return where a raster lies that is north up with square cells, in its own units; others are no tiles."""
    if affine is None or affine[1] or affine[3] or affine[0] <= 0 or abs(affine[0] + affine[4]) > 1e-6 * affine[0]:
        return None
    cell, west, north = affine[0], affine[2], affine[5]
    return west, north - cell * height, west + cell * width, north, cell


def tile_sets(stems: Sequence[str], extents: Sequence[Extent | None], by_name: bool) -> list[list[int]]:
    """Return the numbers of grids by what they are parts of: those that touch without covering each other are tiles.

    With `by_name` the names of their files (`stems`) have to begin alike, too.
    """
    sets: list[list[int]] = []
    for number, extent in enumerate(extents):
        alike = [s for s in sets if not by_name or len(beginning([stems[k] for k in (number, *s)])) > 1]
        touching = [s for s in alike if any(_touch(extent, extents[k]) for k in s)]
        if touching and not any(_cover(extent, extents[k]) for s in touching for k in s):
            sets = [s for s in sets if s not in touching]
            sets.append([*itertools.chain(*touching), number])
        else:
            sets.append([number])
    return sets


def beginning(stems: Sequence[str]) -> str:
    """Return what the names of files begin with in common, without numbers at its end."""
    same = itertools.takewhile(lambda letters: len(set(letters)) == 1, zip(*stems, strict=False))
    return "".join(letters[0] for letters in same).rstrip("_- .0123456789")


def _touch(a: Extent | None, b: Extent | None) -> bool:
    """Whether two extents have one cell size and lie side by side, or overlap by no more than ten cells."""
    if a is None or b is None or abs(a[4] - b[4]) > 1e-3 * a[4]:
        return False
    apart = max(a[0] - b[2], b[0] - a[2], a[1] - b[3], b[1] - a[3])
    beside = max(min(a[2], b[2]) - max(a[0], b[0]), min(a[3], b[3]) - max(a[1], b[1]))
    return -10 * a[4] <= apart <= 1.01 * a[4] and beside > 2 * a[4]


def _cover(a: Extent | None, b: Extent | None) -> bool:
    """Whether two extents overlap by more than a seam."""
    if a is None or b is None:
        return True
    return min(min(a[2], b[2]) - max(a[0], b[0]), min(a[3], b[3]) - max(a[1], b[1])) > 10 * a[4]

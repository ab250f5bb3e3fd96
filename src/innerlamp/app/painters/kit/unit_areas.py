"""Areas of rock units: a colour, and a pattern drawn as strokes, so that it stays sharp on paper."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from ....core.items.features import HOLE, Features
from ....core.kept import KEPT
from .cached import CachedDrawing
from .room import seen_part

_STEP = 15.0  # pixels (at 96 to the inch) between repeats
_FEW, _TILES_EACH = 200, 8  # rings up to which there is one piece; tiles along each side of the rest
_MOST = 40_000  # strokes of one area; more would be a grey haze


@dataclass(frozen=True)
class Piece:
    """Areas that lie together: told apart from others by what they are made of."""

    key: bytes
    path: QPainterPath
    box: QRectF


class UnitAreas(CachedDrawing):
    """All areas of one unit."""

    def __init__(self, pieces: Sequence[Piece], colour: QColor, pattern: str, z: float, opacity: int = 190) -> None:
        super().__init__()
        self.pieces, self.colour, self.pattern, self.opacity = pieces, colour, pattern, opacity
        self._box = QRectF()
        for piece in pieces:
            self._box = self._box.united(piece.box)
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self._box

    def follow(self, old: object) -> None:
        """Take over the picture of the same unit before an edit, and draw only what that changed."""
        if not isinstance(old, UnitAreas) or (old.colour, old.pattern, old.opacity, old.zValue()) != (
            self.colour,
            self.pattern,
            self.opacity,
            self.zValue(),
        ):
            return
        mine, theirs = ({piece.key for piece in each.pieces} for each in (self, old))
        changed = QRectF()
        for piece in (*self.pieces, *old.pieces):
            if piece.key not in mine or piece.key not in theirs:
                changed = changed.united(piece.box)
        self.adopt(old, changed)

    def draw(self, painter: QPainter) -> None:
        # The outline of a piece reaches beyond its box by a pixel.
        edge = 2.0 / max(abs(painter.transform().m11()), 1e-12)
        seen = painter.clipBoundingRect() if painter.hasClipping() else None
        for piece in self.pieces:
            if seen is None or seen.intersects(piece.box.adjusted(-edge, -edge, edge, edge)):
                self._draw_piece(painter, piece.path)

    def _draw_piece(self, painter: QPainter, path: QPainterPath) -> None:
        fill = QColor(self.colour)
        fill.setAlpha(self.opacity)
        pen = QPen(self.colour.darker(150), 0.8)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.setBrush(fill)
        painter.drawPath(path)
        if self.pattern == "plain":
            return
        transform, view = painter.transform(), seen_part(painter)
        painter.save()
        painter.setClipPath(path, Qt.ClipOperation.IntersectClip)
        painter.resetTransform()
        box = transform.mapRect(path.boundingRect()).intersected(view)
        # The pattern is tied to the ground, so that it does not swim when the map is moved.
        origin = transform.map(QPointF(0.0, 0.0))
        draw_pattern(painter, self.pattern, box, origin, self.colour.darker(135))
        painter.restore()


def pieces_of(item: Features, units: Sequence[np.ndarray]) -> list[list[Piece]]:
    """Return the rings of each unit (numbers of parts) as pieces by where they lie.

    Holes stay with the ring that they are cut out of. A piece that is made of the same vertices as one before
    is that one: an edit makes few anew.
    """
    out: list[list[Piece]] = [[] for _ in units]
    if not units:
        return out
    starts, parts = item.starts, np.concatenate(units)
    unit = np.repeat(np.arange(len(units)), [len(each) for each in units])
    first = np.asarray(item.part_types[parts] != HOLE)
    ring = np.maximum(np.cumsum(first) - 1, 0)  # of each part
    corner = item.vertices[starts[parts[first] if first.any() else parts[:1]], :2]
    (west, south), (east, north) = corner.min(axis=0), corner.max(axis=0)
    i, j = (
        np.clip(_TILES_EACH * (corner[:, k] - low) / max(high - low, 1e-9), 0, _TILES_EACH - 1).astype(np.int64)
        for k, low, high in ((0, west, east), (1, south, north))
    )
    many = np.bincount(unit[first], minlength=len(units)) > _FEW
    place = unit * _TILES_EACH**2 + np.where(many[unit], (i * _TILES_EACH + j)[ring], 0)
    order = np.argsort(place, kind="stable")
    count = (starts[parts + 1] - starts[parts])[order]
    ends = np.cumsum(count)
    index = np.repeat(starts[parts[order]] - ends + count, count) + np.arange(int(ends[-1]))
    xy = np.ascontiguousarray(item.vertices[index, :2])
    joined = np.ones(len(xy), dtype=np.int32)
    joined[ends - 1] = 0
    cuts = np.flatnonzero(np.diff(place[order])) + 1
    for begin, end in zip((0, *cuts.tolist()), (*cuts.tolist(), len(order)), strict=True):
        rows = slice(int(ends[begin] - count[begin]), int(ends[end - 1]))
        out[unit[order[begin]]].append(piece_of(xy[rows], joined[rows]))
    return out


def piece_of(xy: np.ndarray, joined: np.ndarray) -> Piece:
    """Return rings as a piece: corners (n, 2), and whether each is joined to the one after it (n,)."""
    whole = hashlib.blake2b(xy.data, digest_size=16)
    whole.update(joined.data)
    key = whole.digest()

    def make() -> Piece:
        path: QPainterPath = pg.arrayToQPath(xy[:, 0], xy[:, 1], connect=joined, finiteCheck=False)
        return Piece(key, path, path.boundingRect())

    return KEPT.of(("area", key), make, size=lambda _: 2 * xy.nbytes)


def draw_pattern(painter: QPainter, pattern: str, box: QRectF, origin: QPointF, colour: QColor) -> None:
    """Fill a box (pixels) with a pattern; `origin` is where its lattice starts."""
    if box.isEmpty() or pattern not in _TILES:
        return
    columns, rows = int(box.width() / _STEP) + 3, int(box.height() / _STEP) + 3
    if columns * rows > _MOST:
        return
    painter.setPen(QPen(colour, 0.9))
    painter.setBrush(colour)
    left = box.left() - (box.left() - origin.x()) % _STEP - _STEP
    top = box.top() - (box.top() - origin.y()) % _STEP - _STEP
    first_row = round((top - origin.y()) / _STEP)
    lines: list[QLineF] = []
    tile = _TILES[pattern]
    for row in range(rows):
        shift = 0.5 * _STEP if (first_row + row) % 2 else 0.0
        for column in range(-1, columns):
            tile(painter, lines, left + column * _STEP + shift, top + row * _STEP)
    if lines:
        painter.drawLines(lines)


Tile = Callable[[QPainter, list[QLineF], float, float], None]


def _dots(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    for dx, dy in ((3.0, 3.0), (9.5, 10.0)):
        painter.drawEllipse(QPointF(x + dx, y + dy), 0.6, 0.6)


def _pebbles(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    painter.drawEllipse(QPointF(x + 10.5, y + 4.0), 0.6, 0.6)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(QPointF(x + 4.0, y + 9.0), 2.8, 2.0)
    painter.setBrush(painter.pen().color())


def _dashes(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    lines += [QLineF(x + 1, y + 4, x + 8, y + 4), QLineF(x + 7, y + 11, x + 14, y + 11)]


def _rules(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    lines += [QLineF(x, y + 3, x + _STEP, y + 3), QLineF(x, y + 10.5, x + _STEP, y + 10.5)]


def _slants(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    half = 0.5 * _STEP
    lines += [QLineF(x, y + _STEP, x + half, y), QLineF(x + half, y + _STEP, x + _STEP, y)]


def _lattice(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    half = 0.5 * _STEP
    lines += [QLineF(x, y + _STEP, x + half, y), QLineF(x, y, x + half, y + _STEP)]


def _blocks(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    lines += [QLineF(x, y, x + _STEP, y), QLineF(x, y, x, y + _STEP)]


def _crosses(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    cx, cy = x + 7.5, y + 7.5
    lines += [QLineF(cx - 2.6, cy, cx + 2.6, cy), QLineF(cx, cy - 2.6, cx, cy + 2.6)]


def _wedges(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    cx, cy = x + 7.5, y + 7.5
    lines += [QLineF(cx - 2.6, cy - 2.6, cx, cy + 2.6), QLineF(cx, cy + 2.6, cx + 2.6, cy - 2.6)]


def _ripples(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    points = [QPointF(x + k * 2.2, y + 7.0 + 1.8 * math.sin(k * 1.1)) for k in range(6)]
    painter.drawPolyline(QPolygonF(points))


def _flecks(painter: QPainter, lines: list[QLineF], x: float, y: float) -> None:
    lines += [
        QLineF(x + 2, y + 5, x + 5, y + 2),
        QLineF(x + 9, y + 12, x + 11, y + 9),
        QLineF(x + 10, y + 3, x + 13, y + 4.5),
    ]


_TILES: dict[str, Tile] = {
    "dots": _dots,
    "pebbles": _pebbles,
    "dashes": _dashes,
    "rules": _rules,
    "slants": _slants,
    "lattice": _lattice,
    "blocks": _blocks,
    "crosses": _crosses,
    "wedges": _wedges,
    "ripples": _ripples,
    "flecks": _flecks,
}

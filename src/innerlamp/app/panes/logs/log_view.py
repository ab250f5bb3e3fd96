"""The drawing of a strip log: holes side by side, a depth scale and tracks for each, scrolled and zoomed together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QPointF, QRect, QRectF, Qt
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QAbstractScrollArea

from ....core.compute.drilling.ties import tied
from ....core.items.attributes import plain_number
from ....core.items.legend import Legend
from ....core.items.tracks import Track
from ....core.numbers import round_length
from ...painters.logs.tracks import Rows, Strip, paint_ties, paint_track
from ...theme.theme import Theme

FloatArray = NDArray[np.float64]
SCALE_WIDTH, GAP = 46, 34
HEAD = 74
_GRAB = 4.0  # pixels within which a boundary is taken


@dataclass
class ShownHole:
    """A hole of the log: name, words of its header, end depth (m), places (n, 3) at depths (m), and the rows of each track."""

    name: str
    facts: str
    end: float
    depths: FloatArray
    places: FloatArray
    rows: list[Rows | None] = field(default_factory=list)
    runs: list[tuple[str, float]] = field(default_factory=list)  # unit and depth of the top of each of its runs

    @property
    def elevations(self) -> FloatArray:
        """Elevations at its depths, metres."""
        return self.places[:, 2]

    def place_at(self, depth: FloatArray | float) -> FloatArray:
        """Easting, northing and elevation at depths, shape (…, 3)."""
        return np.stack([np.interp(depth, self.depths, self.places[:, k]) for k in range(3)], axis=-1)


@dataclass(frozen=True)
class Hit:
    """What lies under the pointer: number of the hole and of the track (-1 beside all), depth in metres, row (-1 for none)."""

    hole: int
    track: int
    depth: float
    row: int


class LogView(QAbstractScrollArea):
    """Draws only what is in view; the wheel scrolls, with Ctrl it zooms about the pointer."""

    pointed = QtSignal(object)
    clicked = QtSignal(object)
    twice = QtSignal(object)
    moved = QtSignal(object, float, float)  # what lies above a boundary, its depth, the depth it is dragged to

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.holes: list[ShownHole] = []
        self.tracks: tuple[Track, ...] = ()
        self.legends: list[dict[str, Legend]] = []
        self.titles: list[str] = []
        self.by_elevation = False
        self.per_metre = 1.0
        self.mark: tuple[str, float] | None = None  # hole and depth of the shared cursor
        self.chosen: dict[tuple[str, str], set[int]] = {}
        self.editing = False  # whether boundaries of logged intervals can be dragged
        self._grabbed: Hit | None = None
        self._dragged_to = 0.0
        self.painted: list[tuple[int, int]] = []  # hole and track of what was drawn last
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.viewport().setMouseTracking(True)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setAccessibleName("Strip log")
        font = QFont(self.font())
        font.setPointSizeF(7.5)
        self.small = font

    # ---- places

    def show_holes(
        self,
        holes: list[ShownHole],
        tracks: Sequence[Track],
        legends: list[dict[str, Legend]],
        titles: list[str],
        fit: bool,
    ) -> None:
        """Show holes with tracks; `fit` brings all of their depth into view."""
        self.holes, self.tracks, self.legends, self.titles = holes, tuple(tracks), legends, titles
        if fit:
            self.fit()
        self._ranges()
        self.viewport().update()

    @property
    def low(self) -> float:
        """Where the log begins: depth 0, or the highest collar."""
        if not self.by_elevation:
            return 0.0
        return -max((float(h.elevations[0]) for h in self.holes), default=0.0)

    @property
    def span(self) -> float:
        """Metres from top to bottom of all holes."""
        if not self.by_elevation:
            return max((h.end for h in self.holes), default=1.0)
        return max((-float(h.elevations.min()) for h in self.holes), default=1.0) - self.low

    def fit(self) -> None:
        """All of the depth in view."""
        self.per_metre = max(self.viewport().height() - HEAD - 8, 40) / max(self.span, 1.0)
        self._ranges()
        self.verticalScrollBar().setValue(0)
        self.viewport().update()

    def _ranges(self) -> None:
        page = max(self.viewport().height() - HEAD, 1)
        bar = self.verticalScrollBar()
        bar.setRange(0, max(int(self.span * self.per_metre) + 8 - page, 0))
        bar.setPageStep(page)
        bar.setSingleStep(30)
        across = self.horizontalScrollBar()
        across.setRange(0, max(self.total_width() - self.viewport().width(), 0))
        across.setPageStep(self.viewport().width())
        across.setSingleStep(30)

    def hole_width(self) -> int:
        """Pixels of one hole with its scale and tracks."""
        return SCALE_WIDTH + sum(t.width for t in self.tracks)

    def total_width(self) -> int:
        """Pixels of all holes."""
        return len(self.holes) * self.hole_width() + max(len(self.holes) - 1, 0) * GAP + 6

    def left_of(self, hole: int) -> int:
        """Where a hole begins in the view."""
        return hole * (self.hole_width() + GAP) - self.horizontalScrollBar().value()

    def track_rect(self, hole: int, track: int) -> QRectF:
        """Where a track of a hole is drawn, below its head."""
        x = self.left_of(hole) + SCALE_WIDTH + sum(t.width for t in self.tracks[:track])
        return QRectF(x, HEAD, self.tracks[track].width, max(self.viewport().height() - HEAD, 0))

    def to_y(self, hole: int) -> Callable[[FloatArray], FloatArray]:
        """The function from depths of a hole to pixels."""
        shown, top = self.holes[hole], HEAD - self.verticalScrollBar().value()

        def y(depth: FloatArray) -> FloatArray:
            at = np.asarray(depth, dtype=float)
            if self.by_elevation:
                at = -np.interp(at, shown.depths, shown.elevations) - self.low
            return top + at * self.per_metre

        return y

    def depth_at(self, hole: int, y: float) -> float:
        """Depth in a hole at a pixel."""
        shown = self.holes[hole]
        down = (y - HEAD + self.verticalScrollBar().value()) / self.per_metre
        if not self.by_elevation:
            return float(down)
        order = np.argsort(-shown.elevations, kind="stable")
        return float(np.interp(down + self.low, -shown.elevations[order], shown.depths[order]))

    def hit(self, at: QPointF) -> Hit | None:
        """What lies at a place of the view; None beside all holes or in their heads."""
        if at.y() < HEAD:
            return None
        for hole, shown in enumerate(self.holes):
            left = self.left_of(hole)
            if not left <= at.x() <= left + self.hole_width():
                continue
            depth = self.depth_at(hole, at.y())
            if not -0.01 <= depth <= shown.end + 0.01:
                return None
            track = next((k for k in range(len(self.tracks)) if self.track_rect(hole, k).contains(at)), -1)
            rows = shown.rows[track] if track >= 0 else None
            return Hit(hole, track, depth, -1 if rows is None else self._row_at(rows, depth))
        return None

    def _row_at(self, rows: Rows, depth: float) -> int:
        if not len(rows.start):
            return -1
        inside = np.flatnonzero((rows.start <= depth) & (depth < rows.stop))
        if len(inside):
            return int(inside[-1])
        if (rows.stop > rows.start).any():
            return -1
        nearest = int(np.abs(rows.start - depth).argmin())
        return nearest if abs(rows.start[nearest] - depth) * self.per_metre < 8.0 else -1

    # ---- drawing

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self.viewport())
        painter.setFont(self.small)
        painter.fillRect(self.viewport().rect(), QColor(self.theme.canvas))
        self.painted = []
        height = self.viewport().height()
        # Of a scrolled log only what came into view is drawn; a little more, so that outlines meet.
        band = QRectF(0, event.rect().top() - 4, self.viewport().width(), event.rect().height() + 8)
        for hole, shown in enumerate(self.holes):
            left = self.left_of(hole)
            if left > self.viewport().width() or left + self.hole_width() + GAP < 0:
                continue
            to_y = self.to_y(hole)
            if hole + 1 < len(self.holes):
                self._tie(painter, hole)
            self._scale(painter, hole, left)
            end = float(to_y(np.array([shown.end]))[0])
            whole = self.depth_at(hole, HEAD), self.depth_at(hole, height)
            part = self.depth_at(hole, max(band.top(), HEAD)), self.depth_at(hole, min(band.bottom(), height))
            for k, track in enumerate(self.tracks):
                rect = self.track_rect(hole, k)
                if rect.right() < 0 or rect.left() > self.viewport().width():
                    continue
                start = max(float(to_y(np.zeros(1))[0]), HEAD)
                rect = QRectF(rect.left(), start, rect.width(), max(min(end, height) - start, 0.0))
                rows = shown.rows[k]
                seen = rect.intersected(band)
                if rows is not None and len(rows.start) and seen.height() > 0:
                    # Texts make room for each other: which of them show must not depend on what is drawn anew.
                    box, (top, bottom) = (rect, whole) if track.kind in ("values", "notes") else (seen, part)
                    paint_track(painter, track, rows, Strip(box, top, bottom, to_y, self.legends[k], self.theme))
                    self._selected(painter, rows, rect, to_y)
                    self.painted.append((hole, k))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(self.theme.line), 1.0))
                painter.drawRect(rect)
            if self._grabbed is not None and self._grabbed.hole == hole:
                self._moving_line(painter, to_y)
            if self.mark is not None and self.mark[0] == shown.name:
                y = float(to_y(np.array([self.mark[1]]))[0])
                if y >= HEAD:
                    painter.setPen(QPen(QColor(self.theme.lit), 1.2))
                    painter.drawLine(QPointF(left, y), QPointF(left + self.hole_width(), y))
            if band.top() < HEAD:
                self._head(painter, hole, left)

    def _selected(self, painter: QPainter, rows: Rows, rect: QRectF, to_y: Callable[[FloatArray], FloatArray]) -> None:
        wanted = self.chosen.get(rows.source)
        if not wanted:
            return
        at = np.flatnonzero(np.isin(rows.rows, list(wanted)))
        painter.setPen(QPen(QColor(self.theme.lit), 2.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for a, b in zip(to_y(rows.start[at]).tolist(), to_y(rows.stop[at]).tolist(), strict=True):
            box = QRectF(rect.left() + 1, min(a, b), rect.width() - 2, max(abs(b - a), 2.0))
            if box.bottom() > HEAD:
                painter.drawRect(box.intersected(rect))

    def _scale(self, painter: QPainter, hole: int, left: int) -> None:
        shown, to_y = self.holes[hole], self.to_y(hole)
        step = max(round_length(70.0 / self.per_metre), 0.1)
        painter.setPen(QColor(self.theme.faint))
        if self.by_elevation:
            first, last = float(shown.elevations.min()), float(shown.elevations.max())
            values = np.arange(np.ceil(first / step), np.floor(last / step) + 1) * step
            places = HEAD - self.verticalScrollBar().value() + (-values - self.low) * self.per_metre
        else:
            values = np.arange(0.0, shown.end + 1e-6, step)
            places = to_y(values)
        for value, y in zip(values.tolist(), places.tolist(), strict=True):
            if HEAD + 6 <= y <= self.viewport().height() + 6:
                painter.drawLine(QPointF(left + SCALE_WIDTH - 5, y), QPointF(left + SCALE_WIDTH, y))
                box = QRectF(left, y - 7, SCALE_WIDTH - 8, 14)
                painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value:,.10g}")

    def _head(self, painter: QPainter, hole: int, left: int) -> None:
        shown, theme = self.holes[hole], self.theme
        painter.fillRect(QRectF(left, 0, self.hole_width() + 2, HEAD), QColor(theme.panel))
        font = QFont(self.small)
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(QColor(theme.text))
        metrics = painter.fontMetrics()
        painter.drawText(QPointF(left + 4, 13), shown.name)
        beside = left + 10 + metrics.horizontalAdvance(shown.name)
        painter.setFont(self.small)
        painter.setPen(QColor(theme.faint))
        room = int(left + self.hole_width() - beside)
        painter.drawText(
            QPointF(beside, 13), painter.fontMetrics().elidedText(shown.facts, Qt.TextElideMode.ElideRight, room)
        )
        painter.drawText(QPointF(left + 4, 31), "m a.s.l." if self.by_elevation else "m")
        for k, track in enumerate(self.tracks):
            rect = self.track_rect(hole, k)
            box = QRectF(rect.left() + 2, 18, rect.width() - 4, 36)
            painter.setPen(QColor(theme.text))
            flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
            painter.save()
            painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
            painter.drawText(box, int(flags), self.titles[k])
            painter.restore()
            painter.setPen(QColor(theme.faint))
            low, high = self._ends(k, track)
            under = QRectF(rect.left() + 2, HEAD - 16, rect.width() - 4, 14)
            painter.drawText(under, Qt.AlignmentFlag.AlignLeft, low)
            painter.drawText(under, Qt.AlignmentFlag.AlignRight, high)
            painter.setPen(QPen(QColor(theme.line), 1.0))
            painter.drawLine(QPointF(rect.left(), 18), QPointF(rect.left(), HEAD))
        painter.drawLine(QPointF(left, HEAD - 0.5), QPointF(left + self.hole_width(), HEAD - 0.5))

    def _ends(self, k: int, track: Track) -> tuple[str, str]:
        """What the left and right edge of a track stand for."""
        if track.kind == "planes":
            return "0°", "90°"
        if track.kind not in ("bars", "curve", "filled curve") or not track.attributes:
            return "", ""
        legend = self.legends[k].get(track.attributes[0])
        if legend is None:
            return "", ""
        return plain_number(legend.low), plain_number(legend.high)

    def _tie(self, painter: QPainter, hole: int) -> None:
        first, second = self.holes[hole], self.holes[hole + 1]
        pairs = tied(self._levels(hole), self._levels(hole + 1))
        if not pairs:
            return
        a = self.to_y(hole)(np.array([first.runs[i][1] for i, _ in pairs]))
        b = self.to_y(hole + 1)(np.array([second.runs[j][1] for _, j in pairs]))
        left = self.left_of(hole) + self.hole_width()
        painter.save()
        painter.setClipRect(QRectF(left, HEAD, GAP, self.viewport().height() - HEAD))
        paint_ties(painter, list(zip(a.tolist(), b.tolist(), strict=True)), left, left + GAP, QColor(self.theme.faint))
        painter.restore()

    def _levels(self, hole: int) -> list[tuple[str, float]]:
        """Units of a hole with what they are tied by: their depth, or how far down their top lies."""
        shown = self.holes[hole]
        if not self.by_elevation:
            return shown.runs
        tops = np.interp([d for _, d in shown.runs], shown.depths, shown.elevations)
        return [(u, -float(z)) for (u, _), z in zip(shown.runs, tops, strict=True)]

    def _moving_line(self, painter: QPainter, to_y: Callable[[FloatArray], FloatArray]) -> None:
        assert self._grabbed is not None
        rect = self.track_rect(self._grabbed.hole, self._grabbed.track)
        y = float(to_y(np.array([self._dragged_to]))[0])
        painter.setPen(QPen(QColor(self.theme.lit), 2.0))
        painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
        painter.drawText(QPointF(rect.right() + 3, y - 2), f"{self._dragged_to:g} m")

    # ---- hands

    def zoom(self, factor: float, y: float | None = None) -> None:
        """Stretch the depths about a place of the view."""
        bar = self.verticalScrollBar()
        at = (self.viewport().height() + HEAD) / 2 if y is None else max(y, HEAD)
        down = (at - HEAD + bar.value()) / self.per_metre
        least = 0.5 * max(self.viewport().height() - HEAD, 40) / max(self.span, 1.0)
        self.per_metre = float(np.clip(self.per_metre * factor, least, 400.0))
        self._ranges()
        bar.setValue(int(down * self.per_metre - at + HEAD))
        self.viewport().update()

    def show_depth(self, hole: int, depth: float) -> None:
        """Bring a depth into view."""
        y = float(self.to_y(hole)(np.array([depth]))[0])
        if not HEAD + 10 <= y <= self.viewport().height() - 10:
            bar = self.verticalScrollBar()
            bar.setValue(int(bar.value() + y - 0.5 * (self.viewport().height() + HEAD)))

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1.0015 ** event.angleDelta().y(), event.position().y())
            event.accept()
        else:
            super().wheelEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        key = event.key()
        bar = self.verticalScrollBar()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.zoom(0.8 if key == Qt.Key.Key_Minus else 1.25)
        elif key == Qt.Key.Key_Home:
            self.fit()
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            bar.setValue(bar.value() + (60 if key == Qt.Key.Key_Down else -60))
        else:
            super().keyPressEvent(event)

    def boundary_at(self, at: QPointF) -> Hit | None:
        """The boundary of a column of rock within some pixels of a place: its hole, track and depth, the row above it."""
        hit = self.hit(at)
        if hit is None or hit.track < 0 or self.tracks[hit.track].kind != "rock":
            return None
        rows = self.holes[hit.hole].rows[hit.track]
        if rows is None or not len(rows.stop):
            return None
        inner = np.flatnonzero(rows.stop < self.holes[hit.hole].end - 1e-6)
        if not len(inner):
            return None
        away = np.abs(self.to_y(hit.hole)(rows.stop[inner]) - at.y())
        best = int(np.argmin(away))
        if away[best] > _GRAB:
            return None
        row = int(inner[best])
        return Hit(hit.hole, hit.track, float(rows.stop[row]), row)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self.editing and event.button() == Qt.MouseButton.LeftButton:
            self._grabbed = self.boundary_at(event.position())
            self._dragged_to = self._grabbed.depth if self._grabbed is not None else 0.0
        super().mousePressEvent(event)

    def _drag(self, at: QPointF) -> None:
        """Show where the boundary would go: between the ends of both its intervals, to a round depth as fine as pixels are."""
        assert self._grabbed is not None
        rows = self.holes[self._grabbed.hole].rows[self._grabbed.track]
        assert rows is not None
        digits = 2 if self.per_metre > 20 else 1
        low = float(rows.start[self._grabbed.row])
        below = np.flatnonzero(np.abs(rows.start - self._grabbed.depth) < 1e-6)
        high = float(rows.stop[below[0]]) if len(below) else self.holes[self._grabbed.hole].end
        step = 10.0**-digits
        wanted = round(self.depth_at(self._grabbed.hole, at.y()), digits)
        self._dragged_to = float(np.clip(wanted, low + step, high - step))
        self.viewport().update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._grabbed is not None:
            self._drag(event.position())
            return
        over = self.editing and self.boundary_at(event.position()) is not None
        self.viewport().setCursor(Qt.CursorShape.SplitVCursor if over else Qt.CursorShape.ArrowCursor)
        self.pointed.emit(self.hit(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        grabbed, self._grabbed = self._grabbed, None
        if grabbed is not None:
            self.viewport().update()
            if abs(self._dragged_to - grabbed.depth) > 1e-6:
                self.moved.emit(grabbed, grabbed.depth, self._dragged_to)
                return
        self.clicked.emit(self.hit(event.position()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.twice.emit(self.hit(event.position()))

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._ranges()

    def scrollContentsBy(self, dx: int, dy: int) -> None:  # noqa: N802
        below = QRect(0, HEAD, self.viewport().width(), self.viewport().height() - HEAD)
        if dx or abs(dy) >= below.height():
            self.viewport().update()
        else:
            self.viewport().scroll(0, dy, below)

    def place_of(self, hole: int, track: int, depth: float) -> QPoint:
        """The middle of a track at a depth, in pixels of the view."""
        rect = self.track_rect(hole, track)
        return QPoint(int(rect.center().x()), int(self.to_y(hole)(np.array([depth]))[0]))

"""Drawings that are kept as a picture while the map is moved: large ones would hold every frame up."""

from __future__ import annotations

import time

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QTimer
from PySide6.QtGui import QImage, QPainter, QTransform
from PySide6.QtWidgets import QWidget

_MARGIN = 0.25  # of the view, drawn on each side of it, so that a pan has something to show
_MOTION, _REST = 0.3, 180  # seconds within which two frames are one motion; milliseconds until it is drawn anew


class CachedDrawing(pg.GraphicsObject):  # type: ignore[misc]  # the library has no types
    """Base of graphics that draw in pixels. Subclasses have `draw`.

    A pan shifts the picture; a zoom in motion stretches it, and when it rests it is drawn anew.
    On anything but a screen nothing is kept.
    """

    def __init__(self) -> None:
        super().__init__()
        self._picture: QImage | None = None
        self._transform = QTransform()
        self._frame = QRectF()
        self._painted = 0.0
        self._rest = QTimer()
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST)
        self._rest.timeout.connect(self.forget)

    def draw(self, painter: QPainter) -> None:
        """Draw with the painter's transform from metres to pixels."""
        raise RuntimeError("each drawing draws itself")

    def forget(self) -> None:
        """Draw anew the next time."""
        self._picture = None
        self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        if not isinstance(painter.device(), QImage | QWidget):
            self.draw(painter)
            return
        now, transform = time.monotonic(), painter.transform()
        moving, self._painted = now - self._painted < _MOTION, now
        view = QRectF(painter.viewport())
        if self._picture is not None and self._frame.size() == self._sized(view).size():
            old = self._transform
            same = all(
                abs(a - b) <= 1e-9 * abs(b) + 1e-12
                for a, b in ((transform.m11(), old.m11()), (transform.m22(), old.m22()))
            )
            shift = QPointF(transform.dx() - old.dx(), transform.dy() - old.dy())
            inside = self._frame.translated(shift).contains(view)
            if (same and inside) or moving:
                self._show(painter, old, transform)
                if not same or not inside:
                    self._rest.start()
                return
        self._render(painter, transform, view)
        self._show(painter, transform, transform)

    @staticmethod
    def _sized(view: QRectF) -> QRectF:
        wide, high = _MARGIN * view.width(), _MARGIN * view.height()
        return view.adjusted(-wide, -high, wide, high)

    def _render(self, painter: QPainter, transform: QTransform, view: QRectF) -> None:
        ratio = float(painter.device().devicePixelRatioF())
        self._frame, self._transform = self._sized(view), QTransform(transform)
        picture = QImage(
            int(self._frame.width() * ratio) + 1,
            int(self._frame.height() * ratio) + 1,
            QImage.Format.Format_ARGB32_Premultiplied,
        )
        picture.setDevicePixelRatio(ratio)
        picture.fill(0)
        inner = QPainter(picture)
        inner.setRenderHints(painter.renderHints())
        inner.setTransform(transform * QTransform.fromTranslate(-self._frame.left(), -self._frame.top()))
        self.draw(inner)
        inner.end()
        self._picture = picture
        self._rest.stop()

    def _show(self, painter: QPainter, old: QTransform, new: QTransform) -> None:
        assert self._picture is not None
        painter.save()
        # From the pixels of the picture by way of the ground to those of the screen.
        painter.setTransform(old.inverted()[0] * new)
        painter.drawImage(self._frame.topLeft(), self._picture)
        painter.restore()

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
        self._dirty = QRectF()  # metres; what of the picture is not as it should be
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

    def adopt(self, old: CachedDrawing, changed: QRectF) -> None:
        """Take the picture of a drawing that looked the same but for a rectangle (metres; an empty one: the very same)."""
        self._picture, old._picture = old._picture, None
        self._transform, self._frame, self._painted = old._transform, old._frame, old._painted
        self._dirty = old._dirty.united(changed)

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
                if not self._dirty.isEmpty():
                    self._mend(painter)
                self._show(painter, old, transform)
                if not same or not inside:
                    self._rest.start()
                return
        self._render(painter, transform, view)
        self._show(painter, transform, transform)

    def _mend(self, painter: QPainter) -> None:
        """Draw the part of the picture anew that is not as it should be."""
        assert self._picture is not None
        inner = QPainter(self._picture)
        inner.setRenderHints(painter.renderHints())
        inner.setTransform(self._transform * QTransform.fromTranslate(-self._frame.left(), -self._frame.top()))
        box = inner.transform().mapRect(self._dirty).adjusted(-3.0, -3.0, 3.0, 3.0)
        inner.save()
        inner.resetTransform()
        inner.setClipRect(box)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_Clear)
        inner.fillRect(box, 0)
        inner.restore()
        inner.setClipRect(inner.transform().inverted()[0].mapRect(box))
        self.draw(inner)
        inner.end()
        self._dirty = QRectF()

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
        self._picture, self._dirty = picture, QRectF()
        self._rest.stop()

    def _show(self, painter: QPainter, old: QTransform, new: QTransform) -> None:
        assert self._picture is not None
        painter.save()
        # From the pixels of the picture by way of the ground to those of the screen.
        painter.setTransform(old.inverted()[0] * new)
        painter.drawImage(self._frame.topLeft(), self._picture)
        painter.restore()

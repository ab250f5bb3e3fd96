"""Pictures of areas of units as panes hold them, for tests."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from innerlamp.app.painters.kit.unit_areas import UnitAreas


def areas_in(pane: object, item: str) -> list[UnitAreas]:
    """The areas that a pane draws of an item."""
    return [g for g in pane.layers.graphics(item) if isinstance(g, UnitAreas)]  # type: ignore[attr-defined]


def areas_image(pane: object, item: str, box: QRectF | None = None, wide: int = 800, high: int = 500) -> np.ndarray:
    """The areas of an item in plain colours, (high, wide, 3), north or up at the top; black where there is none."""
    areas = areas_in(pane, item)
    assert areas
    whole = QRectF() if box is None else box
    if box is None:
        for each in areas:
            whole = whole.united(each.boundingRect())
    image = QImage(wide, high, QImage.Format.Format_RGB32)
    image.fill(0)
    painter = QPainter(image)
    painter.scale(wide / whole.width(), -high / whole.height())
    painter.translate(-whole.left(), -whole.bottom())
    for each in areas:
        for piece in each.pieces:
            painter.fillPath(piece.path, each.colour)
    painter.end()
    data = np.frombuffer(image.constBits(), dtype=np.uint8).reshape(high, wide, 4)
    return data[:, :, 2::-1].copy()

"""One picture of core in a window of its own, as large as the window; arrow keys go to its neighbours in the hole."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QDialog, QWidget

from ....core.items.core_pictures import CorePictures
from ...painters.kit.bitmaps import fitted
from ...painters.logs.core_boxes import picture


class CoreWindow(QDialog):
    """Shows a picture whole, with its hole and depths in the title."""

    def __init__(self, parent: QWidget, item: CorePictures, row: int) -> None:
        super().__init__(parent)
        self.item, self.row = item, row
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setModal(False)
        self.resize(900, 420)
        self.setToolTip("Left and right go to the pictures above and below in the hole; Esc closes")
        self._name()

    def _name(self) -> None:
        record = self.item.table.iloc[self.row]
        self.setWindowTitle(f"{record['hole']}  {record['from_m']:g} to {record['to_m']:g} m")
        self.update()

    def step(self, by: int) -> None:
        """Go to a neighbour in the same hole, where there is one."""
        table = self.item.table
        mine = np.flatnonzero((table["hole"] == table["hole"].iloc[self.row]).to_numpy())
        mine = mine[np.argsort(table["from_m"].to_numpy(float)[mine], kind="stable")]
        at = int(np.flatnonzero(mine == self.row)[0]) + by
        if 0 <= at < len(mine):
            self.row = int(mine[at])
            self._name()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self.step(step)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor("#1B1B1B"))
        image = picture(self.item, self.row, np.inf)
        if image.isNull():
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(fitted(image, QRectF(0, 0, self.width(), self.height())), image)

"""Pictures out of bytes that come from outside: PNG and JPEG, told by their first bytes, and nothing else."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage

_KINDS = ((b"\x89PNG\r\n\x1a\n", "PNG"), (b"\xff\xd8\xff", "JPG"))


def bitmap(data: bytes) -> QImage:
    """Return a picture; a null one for bytes of any other kind, which Qt might read as a text that names files."""
    kind = next((name for head, name in _KINDS if data.startswith(head)), "")
    if not kind:
        return QImage()
    return QImage.fromData(data, kind)  # type: ignore[arg-type]  # the stubs say bytes, the library takes text


def fitted(image: QImage, rect: QRectF) -> QRectF:
    """Return where a picture stands in a rectangle: as large as fits, undistorted, in its middle."""
    share = min(rect.width() / image.width(), rect.height() / image.height())
    out = QRectF(0, 0, image.width() * share, image.height() * share)
    out.moveCenter(rect.center())
    return out

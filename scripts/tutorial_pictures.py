"""Takes the pictures of the guide's tutorial while its lines are followed: `bash scripts/with_display.sh python scripts/tutorial_pictures.py`."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
AFTER = {
    "The form says": "tutorial-files",
    "On the card **Volume**": "tutorial-shell",
    "On the card **Targets**": "tutorial-targets",
}


def main() -> None:
    """Follow the tutorial in a window of 1,280 by 800 and write one picture after each of three lines."""
    sys.path.insert(0, str(ROOT))
    from PySide6.QtCore import Qt
    from PySide6.QtGui import QImage
    from PySide6.QtWidgets import QFileDialog
    from tests.app.test_tutorial import LINES, Reader

    from innerlamp.app.start.application import make_application
    from innerlamp.app.start.main import make_window
    from innerlamp.app.start.waiting import settle, wait_until

    make_application()
    folder = Path(tempfile.mkdtemp())
    window = make_window(folder / "logs")
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.activateWindow()
    wait_until(window.isActiveWindow, 10)
    QFileDialog.getExistingDirectory = staticmethod(lambda *_: str(folder))  # type: ignore[method-assign]
    reader = Reader(window, folder)
    target = ROOT / "src" / "innerlamp" / "guide" / "pictures"
    target.mkdir(exist_ok=True)
    for line in LINES:
        reader.do(line)
        name = next((n for start, n in AFTER.items() if line.startswith(start)), "")
        if name:
            window.centre.fit_all()
            settle(window)
            wait_until(lambda: False, 0.6)
            image: QImage = window.screen().grabWindow(0, 0, 0, 1280, 800).toImage()
            small = image.scaledToWidth(900, Qt.TransformationMode.SmoothTransformation)
            small.convertToFormat(QImage.Format.Format_Indexed8, Qt.ImageConversionFlag.ThresholdDither).save(
                str(target / f"{name}.png")
            )
            print(target / f"{name}.png")
    window.close()


if __name__ == "__main__":
    main()

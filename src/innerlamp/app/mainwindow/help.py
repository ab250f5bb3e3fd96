"""The help window: the guide and a page for each operation, with search."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSplitter,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from ...core.running.help_pages import GUIDE, HelpPage, found, pages
from .finder import ALSO


class HelpWindow(QDialog):
    """Stays open beside the work; F1 in a form shows the page of its operation."""

    def __init__(self, parent: QWidget, keys: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Help")
        self.resize(860, 600)
        text = "# Keys\n\n" + "\n".join(f"- {line}" for line in keys.splitlines() if line.strip())
        self._all = [*pages(), HelpPage("keys", "Keys", "Guide", text)]
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find in the help: variogram, half of limit, magnetic north …")
        self.search.setAccessibleName("Find in the help")
        self.search.textChanged.connect(lambda _: self._fill())
        box.addWidget(self.search)
        parts = QSplitter()
        self.list = QListWidget()
        self.list.setAccessibleName("Pages")
        self.list.setMinimumWidth(250)
        self.list.currentItemChanged.connect(lambda now, _: self._show(now))
        self.text = QTextBrowser()
        self.text.setOpenExternalLinks(False)
        self.text.setSearchPaths([str(GUIDE)])
        self.text.setAccessibleName("Page")
        parts.addWidget(self.list)
        parts.addWidget(self.text)
        parts.setStretchFactor(1, 1)
        box.addWidget(parts, 1)
        self._fill()

    def _fill(self) -> None:
        words = self.search.text().strip()
        shown = found(self._all, words, ALSO) if words else self._all
        self.list.clear()
        for page in shown:
            item = QListWidgetItem(page.title)
            item.setToolTip(page.where)
            item.setData(Qt.ItemDataRole.UserRole, page)
            self.list.addItem(item)
        if shown:
            self.list.setCurrentRow(0)
        else:
            self.text.setMarkdown(f"No page has the words *{words}*.")

    def _show(self, item: QListWidgetItem | None) -> None:
        page = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if isinstance(page, HelpPage):
            self.text.setMarkdown(page.text)

    def show_page(self, key: str) -> None:
        """Show the window with one page, '' for the first."""
        self.search.clear()
        for row in range(self.list.count()):
            item = self.list.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole).key == key:
                self.list.setCurrentRow(row)
        self.show()
        self.raise_()
        self.activateWindow()

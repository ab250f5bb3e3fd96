"""The tutorial of the guide, followed word by word in the real window: each numbered line is read and done, none is skipped."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QFileDialog, QLabel, QLineEdit, QPushButton, QWidget

from innerlamp.app.forms.intake_form import IntakeForm
from innerlamp.app.mainwindow.new_project import NewProject
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.tables.checks_pane import ChecksPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.running.help_pages import GUIDE
from innerlamp.core.running.table import OPERATIONS

from .conftest import choose, type_into

TEXT = (GUIDE / "tutorial.md").read_text(encoding="utf-8")
LINES = re.findall(r"^\d+\. (.+)$", TEXT, flags=re.M)
LEFT = Qt.MouseButton.LeftButton


class Reader:
    """A new user who does just what a line says, and knows nothing else."""

    def __init__(self, window: Window, folder: Path) -> None:
        self.window, self.folder = window, folder
        self.raw = folder / "Emberlow raw files"

    def do(self, line: str) -> None:
        for pattern, act in self.sentences().items():
            found = re.fullmatch(pattern, line)
            if found:
                act(*found.groups())
                assert settle(self.window)
                return
        raise AssertionError(f"the tutorial says what nobody can do: {line}")

    def sentences(self) -> dict[str, Callable[..., None]]:
        return {
            r"Choose \*\*(.+) › (.+)\*\* and pick a folder: `(.+)` is made in it\.": self.copy_files,
            r"Press `Ctrl\+N`, write `(.+)` to find the coordinate system, and press \*\*(.+)\*\*\.": self.new_project,
            r"Drop (.+) on the window\.": self.drop,
            r"Press \*\*(.+)\*\*\.": self.press,
            r"The form says `(.+)`": self.form_says,
            r"Select \*\*(.+)\*\* on the shelf\.": self.select,
            r"On the card \*\*(.+?)\*\* is `(.+?)`(?: and \*\*(.+?)\*\* is `(.+?)`)?\.": self.card_says,
            r"On the card \*\*(.+?)\*\* is about `([\d.]+) (.+?)`\.": self.card_says_about,
            r"In \*\*(.+)\*\*, open \*\*(.+)\*\*\.": self.open_step,
            r"Set \*\*(.+)\*\* to `(.+)`\.": self.set_field,
        }

    def copy_files(self, menu: str, words: str, made: str) -> None:
        bar = self.window.menuBar()
        top = next(a for a in bar.actions() if a.text().replace("&", "") == menu)
        action = next(a for a in top.menu().actions() if a.text().replace("&", "") == words)  # type: ignore[attr-defined]
        action.trigger()
        assert (self.folder / made).is_dir()

    def new_project(self, search: str, button: str) -> None:
        def fill() -> None:
            dialog = QApplication.activeModalWidget()
            assert isinstance(dialog, NewProject)
            dialog.path.setText(str(self.folder / "Tutorial.lamp"))
            type_into(dialog.search, search)
            press = next(b for b in dialog.findChildren(QPushButton) if b.text().replace("&", "") == button)
            QTest.mouseClick(press, LEFT)

        QTimer.singleShot(300, fill)
        QTest.keyClick(self.window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
        assert self.window.ctx.store is not None
        assert self.window.ctx.store.crs == "EPSG:32629"

    def drop(self, names: str) -> None:
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.raw / n)) for n in re.findall(r"`(.+?)`", names)])
        event = QDropEvent(QPointF(200.0, 200.0), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)
        form = self.window.steps.intake
        assert isinstance(form, IntakeForm)
        assert wait_until(lambda: form.list.rowCount() > 0 and form.run_button.isEnabled(), 120)

    def press(self, words: str) -> None:
        buttons = [b for b in self.window.findChildren(QPushButton) if b.isVisible()]
        button = next(b for b in buttons if b.text().replace("&", "") == words)
        QTest.mouseClick(button, LEFT)
        form = self.window.steps.intake
        if isinstance(form, IntakeForm) and form.isVisible():
            assert wait_until(lambda: not form.queue.busy, 120), form.problem.text()
        assert wait_until(lambda: not any(job.active for job in self.window.ctx.jobs), 200)
        if words == "Run":
            assert self.window.ctx.jobs[-1].state == "done", self.window.strip.last.text()
        if words == "Show their checks":
            assert isinstance(self.window.centre.pane("checks"), ChecksPane)

    def form_says(self, words: str) -> None:
        seen = [label.text() for label in self.window.steps.findChildren(QLabel) if label.isVisible()]
        assert words in seen, seen

    def select(self, name: str) -> None:
        assert self.window.ctx.store is not None
        item = self.window.ctx.store.find(name).id
        row = self.window.shelf.rows()[item]
        tree = self.window.shelf.tree
        tree.scrollToItem(row)
        QTest.mouseClick(tree.viewport(), LEFT, pos=tree.visualItemRect(row).center())
        assert self.window.ctx.selected == item

    def card_says(self, *pairs: str | None) -> None:
        facts = self.window.card.findChild(QLabel, "facts").text()
        plain = re.sub(r"<[^>]+>", "", facts).replace("&nbsp;", " ")
        for name, value in zip(pairs[::2], pairs[1::2], strict=True):
            if name is not None:
                assert re.search(rf"{re.escape(name)} {re.escape(value or '')}(?![\d.])", plain), plain

    def card_says_about(self, name: str, value: str, unit: str) -> None:
        plain = re.sub(r"<[^>]+>", "", self.window.card.findChild(QLabel, "facts").text()).replace("&nbsp;", " ")
        found = re.search(rf"{re.escape(name)} ([\d.,]+) {re.escape(unit)}", plain)
        assert found, plain
        assert float(found.group(1).replace(",", "")) == pytest.approx(float(value), rel=0.03)

    def open_step(self, area: str, title: str) -> None:
        self.window.steps.show_area(area)
        name = next(n for n, op in OPERATIONS.items() if op.title == title)
        button = self.window.steps.step_buttons[name]
        assert title in " ".join(button.text().split())
        QTest.mouseClick(button, LEFT)
        assert self.window.steps.form is not None
        assert self.window.steps.form.operation.name == name

    def set_field(self, label: str, value: str) -> None:
        form = self.window.steps.form
        assert form is not None
        op = form.operation
        by_label = {s.label: form.slots[s.slot] for s in op.inputs}
        by_label |= {i.label: form.fields[n] for n, i in op.fields().items() if n in form.fields}
        widget = by_label[label]
        assert isinstance(widget, QWidget)
        box = widget if isinstance(widget, QComboBox) else widget.findChild(QComboBox)
        if box is not None:
            choose(box, value)
            box.activated.emit(box.currentIndex())
            return
        edit = widget.findChild(QLineEdit) or widget
        assert isinstance(edit, QLineEdit)
        type_into(edit, value)


@pytest.mark.timeout(280)
def test_the_tutorial_can_be_followed_to_its_end(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    reader = Reader(window, tmp_path)
    assert len(LINES) > 30
    for line in LINES:
        reader.do(line)


def test_the_tutorial_shows_its_pictures(window: Window) -> None:
    window.show_help("tutorial")
    assert window.help is not None
    names = re.findall(r"!\[.+?\]\((.+?)\)", TEXT)
    assert len(names) == 3
    for name in names:
        assert (GUIDE / name).stat().st_size < 260_000
        found = window.help.text.loadResource(2, QUrl(name))  # 2: an image
        assert found is not None
    assert "Emberlow" in window.help.text.toPlainText()

"""A real window on a virtual display, closed without leftovers after each test."""

from __future__ import annotations

import gc
import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QColor, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QMenu, QSplitter, QWidget
from shiboken6 import isValid

from innerlamp.app.base import settings
from innerlamp.app.mainwindow.centre import DEFAULT
from innerlamp.app.mainwindow.window import RIGHT, Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import make_window
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.declaring.operation import AREAS


@pytest.fixture(scope="session")
def qapp_cls() -> type:
    if not os.environ.get("DISPLAY"):
        pytest.exit("The tests of the window need a display, and no Xvfb is there: run 'make setup-dev'.", returncode=1)
    return type(make_application())


class House:
    """The window that tests of a process share, with its warm workers; each test gets it as if it had just been opened."""

    def __init__(self, logs: Path) -> None:
        self.logs = logs
        self.kept: Window | None = None
        self.sizes: list[tuple[QSplitter, list[int]]] = []

    def window(self) -> Window:
        """The window without a project."""
        if self.kept is None or self.kept.ctx.closed:
            self.kept = opened(self.logs)
            self.sizes = [(s, s.sizes()) for s in self.kept.findChildren(QSplitter)]
        return self.kept

    def as_new(self) -> None:
        """Bring the window back to what it was: no project, the first panes, nothing filled, typed or chosen."""
        window = self.kept
        if window is None or window.ctx.closed:
            self.kept = None
            if window is not None:  # widgets that stay would slow all that come after them
                bury(window)
            return
        ctx = window.ctx
        end_jobs(window)
        for other in QApplication.topLevelWidgets():
            if other is not window and other.isVisible():
                other.close()
        window.steps.close_form()
        ctx.close_project()
        if ctx.theme.name != "paper":
            window.set_theme("paper")
        ctx.set_area(None)
        ctx.set_sketch(None)
        window.centre.restore({"kinds": [DEFAULT[:2], DEFAULT[2:]]})
        for frame, kind in zip(window.centre.frames, DEFAULT, strict=True):
            frame.show_kind(kind, anew=True)
        window.centre.set_current(0)
        for splitter, sizes in self.sizes:
            if isValid(splitter):
                splitter.setSizes(sizes)
        window.legends.setVisible(True)
        window.stack.setSizes(list(RIGHT))
        window.centre.rows.setSizes([500, 430])
        for line in window.centre.lines:
            line.setSizes([500] * line.count())
        window.shelf.search.clear()
        window.strip.log.hide()
        window.strip.log.clear()
        window.strip.say("Ready.")
        window.steps.show_area(AREAS[0])
        window.setGeometry(0, 0, 1280, 800)
        window.show()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        window.activateWindow()
        wait_until(lambda: window.settled() and window.isActiveWindow(), 10)
        assert window.strip.rows == {}  # a row that stays would take its height from all that comes after


def opened(logs: Path) -> Window:
    """A new window on the screen, with the keyboard."""
    made = make_window(logs)
    made.setGeometry(0, 0, 1280, 800)
    made.show()
    made.activateWindow()  # without a window manager nobody else gives the window its keys
    assert wait_until(made.isActiveWindow, 10)
    return made


def bury(window: Window) -> None:
    """Delete a closed window: outside of `exec` nobody sends deferred deletes."""
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    gc.collect()
    wait_until(lambda: False, 0.05)


def end_jobs(window: Window) -> None:
    """Stop what runs. What hangs from a changed item is made again in turn: one that is stopped may let the next one begin."""
    ctx = window.ctx
    for _ in range(30):
        active = [job for job in ctx.jobs if job.active]
        if not active:
            break
        for job in active:
            ctx.runner.cancel(job)
        wait_until(lambda: not any(j.active for j in ctx.jobs), 5)


@pytest.fixture(scope="session")
def house(qapp: object, tmp_path_factory: pytest.TempPathFactory) -> Iterator[House]:
    made = House(tmp_path_factory.mktemp("logs"))
    yield made
    if made.kept is not None and not made.kept.ctx.closed:
        made.kept.hide()
        made.kept.close()


@pytest.fixture
def window(request: pytest.FixtureRequest, qapp: object, house: House, tmp_path: Path) -> Iterator[Window]:
    """A window without a project: the shared one, or where the window itself is tested (`own_window`) one of its own."""
    if request.node.get_closest_marker("own_window") is None:
        yield house.window()
        house.as_new()
        return
    if house.kept is not None:
        house.kept.hide()
    made = opened(tmp_path / "logs")
    yield made
    end_jobs(made)
    made.hide()  # a hidden window does not ask whether to stop what runs
    made.close()
    bury(made)
    del made
    if house.kept is not None and not house.kept.ctx.closed:
        house.kept.show()
        house.kept.activateWindow()


@pytest.fixture
def demo_window(window: Window, demo_path: Path, tmp_path: Path) -> Window:
    """The window on a copy of the demo project, everything drawn."""
    copy = tmp_path / "Emberlow.lamp"
    shutil.copytree(demo_path, copy)
    settings.trust(copy)  # as the demo that the window made itself
    assert window.open_path(copy)
    assert settle(window)
    return window


def screen_image(window: Window) -> QImage:
    """What is on the screen, OpenGL included."""
    at = window.frameGeometry()
    return window.screen().grabWindow(0, at.x(), at.y(), at.width(), at.height()).toImage()


def widget_image(window: Window, widget: QWidget) -> QImage:
    corner = widget.mapToGlobal(widget.rect().topLeft())
    return window.screen().grabWindow(0, corner.x(), corner.y(), widget.width(), widget.height()).toImage()


def colours_in(image: QImage, step: int = 3) -> set[tuple[int, int, int]]:
    """The different colours of an image, sampled."""
    found = set()
    for x in range(0, image.width(), step):
        for y in range(0, image.height(), step):
            c = QColor(image.pixel(x, y))
            found.add((c.red(), c.green(), c.blue()))
    return found


def coloured_share(image: QImage, step: int = 3) -> float:
    """Share of pixels that have a colour rather than a shade of grey."""
    pixels = [QColor(image.pixel(x, y)) for x in range(0, image.width(), step) for y in range(0, image.height(), step)]
    return sum(c.saturation() > 60 for c in pixels) / len(pixels)


def type_into(edit: QLineEdit, text: str) -> None:
    """Replace what stands in a line by typing."""
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, text)


def map_alone(window: Window, name: str) -> MapPane:
    """The map filling the centre with one item, which is lit and selected."""
    store = window.ctx.store
    assert store is not None
    for item in list(window.ctx.lit):
        window.ctx.set_lit(item, False)
    found = store.find(name).id
    window.ctx.set_lit(found)
    window.ctx.select_item(found)
    window.centre.toggle_fill(0)
    settle(window)
    window.centre.fit_all()
    settle(window)
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    return pane


def drag(view: QWidget, start: QPoint, stop: QPoint) -> None:
    """Drag with the left button, in steps, as a hand does."""
    QTest.mouseMove(view, start)
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    for k in range(1, 6):
        QTest.mouseMove(view, start + (stop - start) * (k / 5))
        wait_until(lambda: False, 0.02)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=stop)


def finish_jobs(window: Window, seconds: float = 180.0) -> str:
    """Wait until nothing runs any more; returns what the strip says."""
    assert wait_until(lambda: not any(job.active for job in window.ctx.jobs), seconds)
    assert settle(window)
    return window.strip.last.text()


def choose(box: QComboBox, text: str) -> None:
    """Choose an entry of a box with the keyboard."""
    index = next(i for i in range(box.count()) if box.itemText(i) == text)
    box.setFocus()
    while box.currentIndex() != index:
        QTest.keyClick(box, Qt.Key.Key_Down if box.currentIndex() < index else Qt.Key.Key_Up)


def scene_alone(window: Window, *names: str) -> ScenePane:
    """The 3D pane filling the centre, with some items lit."""
    for entry in window.ctx.entries():
        window.ctx.set_lit(entry.id, entry.name in names)
    frame = next(f for f in window.centre.frames if f.pane is not None and f.pane.kind == "scene")
    window.centre.toggle_fill(frame.number)
    settle(window)
    pane = frame.pane
    assert isinstance(pane, ScenePane)
    return pane


def pick(window: Window, name: str, text: str) -> None:
    """Step through a box of the card with the keyboard: the card is made anew at each step and must keep the focus."""
    window.card.findChild(QComboBox, name).setFocus()
    for _ in range(40):
        box = window.card.findChild(QComboBox, name)
        assert box.hasFocus()
        index = box.findText(text)
        if box.currentIndex() == index:
            return
        QTest.keyClick(box, Qt.Key.Key_Down if box.currentIndex() < index else Qt.Key.Key_Up)
    raise AssertionError(f"'{text}' was not reached")


def run_form(window: Window, seconds: float = 120.0) -> str:
    """Press Run, wait for the job to end, return what the strip says."""
    form = window.steps.form
    assert form is not None
    before = len(window.ctx.jobs)
    QTest.mouseClick(form.run_button, Qt.MouseButton.LeftButton)
    assert form.problem.isHidden(), form.problem.text()
    assert len(window.ctx.jobs) == before + 1
    job = window.ctx.jobs[-1]
    assert wait_until(lambda: not job.active, seconds), job.message
    assert job.state == "done", job.message
    assert settle(window)
    return window.strip.last.text()


Until = Callable[[Callable[[], bool]], bool]


def menu_path(menu: QMenu, *words: str) -> None:
    """Choose an entry of a menu and its submenus, as a hand does."""
    menu.aboutToShow.emit()
    for word in words[:-1]:
        menu = next(a for a in menu.actions() if a.text().endswith(word) and a.menu() is not None).menu()  # type: ignore[assignment]
    action = next(a for a in menu.actions() if a.text() == words[-1])
    assert action.isEnabled()
    action.trigger()


def light_only(window: Window, *names: str) -> None:
    """Light some items and no others; the last one is selected."""
    ctx, store = window.ctx, window.ctx.store
    assert store is not None
    wanted = [store.find(name).id for name in names]
    for item in list(ctx.lit):
        if item not in wanted:
            ctx.set_lit(item, False)
    for item in wanted:
        ctx.set_lit(item)
    ctx.select_item(wanted[-1])
    settle(window)

"""Finding one's way: heads that cut nothing, steps under headings, Ctrl+K, systems by name, a new project that starts clean."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from innerlamp.app.base import settings
from innerlamp.app.mainwindow import window as window_module
from innerlamp.app.mainwindow.finder import ALSO, best, operations
from innerlamp.app.mainwindow.new_project import NewProject
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.main import make_window, preferred_theme
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.declaring.operation import AREAS
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo import build

from ..scale import LONG
from .conftest import choose, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton


def test_no_head_cuts_a_tool_and_what_has_no_room_works_in_the_menu(demo_window: Window) -> None:
    window = demo_window
    window.steps.open_intake()  # the widest form: the panes are narrowest
    assert settle(window)
    hidden = 0
    for frame in window.centre.frames:
        tools = frame.tools
        for widget in [w for w in tools.widgets if not w.isHidden() and w not in tools.put_away]:
            assert widget.width() >= widget.sizeHint().width()
            assert widget.geometry().right() <= tools.width()
        hidden += len(tools.put_away)
        assert tools.more.isVisible() == bool(tools.put_away)
    assert hidden > 0
    frame = next(f for f in window.centre.frames if f.pane is not None and f.pane.kind == "section")
    QTest.mouseClick(frame.tools.more, LEFT)
    assert wait_until(frame.tools.menu.isVisible, 5)
    vertical = next(w for w in frame.tools.put_away if isinstance(w, QComboBox))
    choose(vertical, vertical.itemText(vertical.count() - 1))
    assert wait_until(lambda: window.ctx.exaggeration > 1.0, 5)
    QTest.keyClick(frame.tools.menu, Qt.Key.Key_Escape)
    # With room again it is back in its head.
    window.steps.close_form()
    window.centre.toggle_fill(frame.number)
    assert settle(window)
    assert frame.tools.put_away == []
    assert vertical.isVisible() and vertical.parentWidget() is frame.tools


@pytest.mark.parametrize("area", AREAS)
def test_steps_stand_under_headings_and_none_is_cut(demo_window: Window, area: str) -> None:
    steps = demo_window.steps
    steps.show_area(area)  # type: ignore[arg-type]
    assert settle(demo_window)
    for name, button in steps.step_buttons.items():
        text = button.text()
        assert "…" not in text
        wide = max(button.fontMetrics().horizontalAdvance(line) for line in text.split("\n"))
        assert wide <= button.width()
        if name in OPERATIONS:
            assert OPERATIONS[name].title.split()[-1] in text


@pytest.mark.parametrize(
    ("words", "operation"),
    [
        ("dem", "import-grid"),
        ("bouguer", "regional-residual"),
        ("variogram", "grid-kriging"),
        ("rtp", "filter-grid"),
        ("idw", "grid-neighbours"),
        ("pca", "principal-components"),
        ("shapefile", "import-features"),
        ("diurnal", "diurnal-correction"),
    ],
)
def test_words_that_people_use_find_the_operation(words: str, operation: str) -> None:
    opened: list[str] = []
    hits = best(operations(opened.append), words)
    hits[0].open()
    assert opened == [operation]
    assert set(ALSO) <= set(OPERATIONS)


def test_ctrl_k_opens_operations_items_and_commands(demo_window: Window) -> None:
    window = demo_window
    QTest.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    finder = window.finder
    assert wait_until(finder.isVisible, 5)
    QTest.keyClicks(finder.line, "krig variogram")
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    assert window.steps.form is not None
    assert window.steps.form.operation.name == "grid-kriging"
    finder.open_finder()
    QTest.keyClicks(finder.line, "gravity stations")
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    assert window.ctx.entry(window.ctx.selected).name == "Gravity stations"  # type: ignore[union-attr]
    assert window.ctx.selected in window.ctx.lit
    theme = window.ctx.theme.name
    finder.open_finder()
    QTest.keyClicks(finder.line, "paper or night")
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    assert window.ctx.theme.name != theme
    finder.open_finder()
    QTest.keyClicks(finder.line, "no such thing")
    assert finder.list.item(0).text() == "Nothing has these words."
    QTest.keyClick(finder.line, Qt.Key.Key_Escape)
    assert not finder.isVisible()


def test_a_system_is_found_by_name_zone_or_code_and_recent_ones_stand_first(qapp: object, tmp_path: Path) -> None:
    dialog = NewProject(folder=tmp_path)
    assert dialog.list.count() == 0
    for typed, first in (("UTM 19S", "EPSG:32719"), ("32633", "EPSG:32633"), ("sweref99 tm", "EPSG:3006")):
        type_into(dialog.search, typed)
        assert dialog.crs == first
    type_into(dialog.search, "lambert")
    assert all("ambert" in dialog.list.item(k).text() for k in range(dialog.list.count()))
    type_into(dialog.search, "nowhere at all")
    assert "No projected system" in dialog.problem.text()
    dialog.accept()
    assert not dialog.result()
    type_into(dialog.search, "utm zone 19 s")
    dialog.accept()
    assert dialog.result()
    assert settings.load().recent_systems == ("EPSG:32719",)
    again = NewProject(folder=tmp_path)
    assert again.crs == "EPSG:32719"


def test_files_dropped_before_there_is_a_project_propose_its_system_and_are_brought_in_next(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    files = tmp_path / "data"
    files.mkdir()
    (files / "soils.csv").write_text("Muestra;Longitud;Latitud;Cu ppm\nA1;-70,31;-22,40;31\nA2;-70,32;-22,41;35\n")
    seen: list[str] = []

    def fill(dialog: NewProject) -> int:
        assert wait_until(lambda: bool(dialog.proposed), 20)
        seen.extend([dialog.list.item(0).text(), dialog.from_files.text()])
        dialog.path.setText(str(tmp_path / "south.lamp"))
        QTest.mouseClick(dialog.make, Qt.MouseButton.LeftButton)
        return int(dialog.result())

    monkeypatch.setattr(window_module.NewProject, "exec", fill)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(files))])
    where, left = QPointF(200.0, 200.0), Qt.MouseButton.LeftButton
    window.dropEvent(QDropEvent(where, Qt.DropAction.CopyAction, data, left, Qt.KeyboardModifier.NoModifier))
    assert wait_until(lambda: window.ctx.store is not None, 20)
    assert seen[0].startswith("EPSG:32719 · WGS 84 / UTM zone 19S · zone of the place in soils.csv")
    assert "brought in next" in seen[1]
    assert window.ctx.store is not None
    assert window.ctx.store.crs == "EPSG:32719"
    form = window.steps.intake
    assert form is not None
    assert wait_until(lambda: form.list.rowCount() == 1 and form.run_button.isEnabled(), 30)
    QTest.mouseClick(form.run_button, Qt.MouseButton.LeftButton)
    assert wait_until(lambda: not form.queue.busy and len(window.ctx.entries()) == 1, 60), form.problem.text()
    box = window.ctx.entries()[0].bounds
    assert 300_000 < box[0] < 400_000
    assert 7_500_000 < box[2] < 7_530_000


def test_a_new_project_starts_clean_and_says_what_to_do_first(
    demo_window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = demo_window

    def fill(dialog: NewProject) -> int:
        dialog.path.setText(str(tmp_path / "fresh.lamp"))
        dialog.search.setText("utm 19s")
        dialog.accept()
        return int(dialog.result())

    monkeypatch.setattr(window_module.NewProject, "exec", fill)
    window.centre.frames[0].show_kind("chart")
    window.new_project()
    assert settle(window)
    assert window.ctx.store is not None
    assert window.ctx.store.crs == "EPSG:32719"
    kinds = [f.pane.kind for f in window.centre.frames if f.pane is not None]
    assert kinds == ["map", "scene", "section", "table"]  # the arrangement of the other project stayed with it
    for frame in window.centre.frames:
        assert frame.empty.isVisible()
        assert frame.pane is not None
        assert not frame.pane.isVisible()
    assert "Ctrl+I" in window.centre.frames[0].empty.text()
    (tmp_path / "s.csv").write_text("east,north,Cu\n402000,7502000,1\n402100,7502100,2\n")
    job = window.ctx.start("import-points", {"file": str(tmp_path / "s.csv")}, {})
    assert wait_until(lambda: not job.active, 30)
    assert settle(window)
    for frame in window.centre.frames:
        assert not frame.empty.isVisible()
        assert frame.pane is not None
        assert frame.pane.isVisible()


@pytest.mark.own_window
def test_the_demo_appears_in_the_window_while_it_is_made_and_goes_on_where_it_stopped(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(build, "STEPS", build.STEPS[:3])
    place = tmp_path / "data" / "Emberlow.lamp"
    monkeypatch.setattr(build, "default_place", lambda: place)
    window.open_demo()
    assert window.ctx.store is not None  # at once: nothing is made yet, and the window can be used
    assert window.demo.busy
    assert wait_until(lambda: len(window.ctx.entries()) == 1, 60)
    assert window.ctx.entries()[0].name == "Ground"
    assert wait_until(lambda: window.centre.pane("map").drawn_items() == [window.ctx.entries()[0].id], 20)  # type: ignore[union-attr]
    # Closed in the middle and opened again, it is completed.
    window.ctx.close_project()
    assert not window.demo.busy
    window.open_demo()
    assert wait_until(lambda: not window.demo.busy, 90)
    assert [e.name for e in window.ctx.entries()] == ["Ground", "Emberlow holes", "Soils"]
    assert len(window.ctx.lit) == 2  # soils are left dim
    assert window.strip.last.text() == "Emberlow is complete."
    assert window.ctx.section is not None
    window.ctx.close_project()
    window.open_demo()
    assert not window.demo.busy


@pytest.mark.parametrize("order", [(0, -1), (-1, 0)], ids=["walk last", "walk first"])
def test_a_step_of_the_demo_that_lands_at_once_is_no_end_and_is_made_once(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, order: tuple[int, int]
) -> None:
    walk = next(step for step in build.STEPS if step[0] == "make-walk")
    both = (build.STEPS[0], walk)
    monkeypatch.setattr(build, "STEPS", tuple(both[k] for k in order))
    place = tmp_path / "data" / "Emberlow.lamp"
    monkeypatch.setattr(build, "default_place", lambda: place)
    window.open_demo()
    assert wait_until(lambda: not window.demo.busy, 60)
    assert window.strip.last.text() == "Emberlow is complete."
    names = ["Ground", "Emberlow in six views"]
    assert sorted(e.name for e in window.ctx.entries()) == sorted(names)
    # It ended before the last landing was noted: what is there is known again.
    store = window.ctx.store
    assert store is not None
    store.set_workspace({"demo": {}, "demo complete": False})
    window.ctx.close_project()
    window.open_demo()
    assert wait_until(lambda: not window.demo.busy, 60)
    assert window.strip.last.text() == "Emberlow is complete."
    assert sorted(e.name for e in window.ctx.entries()) == sorted(names)


def some_steps() -> tuple[build.Step, ...]:
    """Steps of the demo with one operation of each kind that takes little time, in their order; all in the long run."""
    few = {
        "import-grid",
        "import-holes",
        "composite",
        "orient-core",
        "grade-shell",
        "contours",
        "make-page",
        "make-walk",
    }
    chosen: list[build.Step] = []
    made: set[str] = set()
    for step in build.STEPS:
        operation, _, inputs, outputs = step
        once = operation in few and operation not in {s[0] for s in chosen}
        if LONG or (once and set(inputs.values()) <= made):
            chosen.append(step)
            made |= set(outputs.values())
    return tuple(chosen)


@pytest.mark.own_window
def test_the_demo_comes_to_its_end_and_looks_the_same_when_opened_again(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = some_steps()
    assert len(steps) >= 6
    monkeypatch.setattr(build, "STEPS", steps)
    place = tmp_path / "data" / "Emberlow.lamp"
    monkeypatch.setattr(build, "default_place", lambda: place)
    window.open_demo()
    # Stopped halfway and gone on with.
    assert wait_until(lambda: len(window.ctx.entries()) >= len(steps) // 2, 400)
    for job in window.ctx.jobs:
        if job.active and window.ctx.session is not None:
            window.ctx.session.desk.cancel(job)
    assert wait_until(lambda: not window.demo.busy, 60)
    window.open_demo()
    assert wait_until(lambda: not window.demo.busy, 1_200)
    assert window.strip.last.text() == "Emberlow is complete."
    assert len({e.recipe.group for e in window.ctx.entries() if e.recipe}) == len(steps)  # each was made once
    assert settle(window)

    def pictures() -> dict[str, QImage]:
        window.ctx.point_at(np.nan, np.nan, np.nan, "")
        settle(window)
        kinds = ("map", "section")
        return {k: widget_image(window, p) for k in kinds if (p := window.centre.pane(k)) is not None}

    first, exaggeration = pictures(), window.ctx.section_exaggeration
    window.ctx.close_project()
    window.open_demo()
    assert settle(window)
    assert window.ctx.section_exaggeration == exaggeration
    second = pictures()
    for kind, image in first.items():
        assert not different(image, second[kind]), kind


def different(one: QImage, other: QImage) -> int:
    """How many of the pixels, sampled, are others."""
    assert one.size() == other.size()
    xs, ys = range(0, one.width(), 3), range(0, one.height(), 3)
    return sum(one.pixel(x, y) != other.pixel(x, y) for x in xs for y in ys)


def test_f1_shows_the_page_of_the_open_form_and_the_help_is_searched(demo_window: Window) -> None:
    window = demo_window
    window.steps.open_form("grid-kriging")
    QTest.keyClick(window, Qt.Key.Key_F1)
    assert window.help is not None
    assert wait_until(window.help.isVisible, 5)
    assert "Grid by kriging" in window.help.text.toPlainText()
    assert "Matheron 1963" in window.help.text.toPlainText()
    type_into(window.help.search, "base station")
    assert window.help.list.item(0).text() == "Diurnal correction"
    assert "base record" in window.help.text.toPlainText()
    type_into(window.help.search, "qqq zzz")
    assert "No page has the words" in window.help.text.toPlainText()
    window.show_help("keys")
    assert "Ctrl+K" in window.help.text.toPlainText()
    window.help.close()


def test_the_window_fits_the_free_part_of_the_screen_and_comes_back_where_it_was(qapp: object, tmp_path: Path) -> None:
    def opened() -> Window:
        made = make_window(tmp_path / "logs")
        made.show()
        return made

    free = QApplication.primaryScreen().availableGeometry()
    for known in ((), ("5000", "-400", "3000", "2000"), ("nonsense", "1", "2", "3")):
        settings.save(replace(settings.load(), window=known))
        window = opened()
        assert free.contains(window.geometry())
        assert window.geometry().top() >= free.top() + 30  # room for a title bar
        # Nothing in it asks for more than a small laptop has.
        assert window.minimumSizeHint().width() <= 1366
        assert window.minimumSizeHint().height() <= 738
        window.close()
    window = opened()
    window.setGeometry(40, 50, 1100, 700)
    window.close()
    again = opened()
    assert (again.width(), again.height()) == (1100, 700)
    again.close()


def test_the_first_start_is_light_or_dark_as_the_desktop_prefers(qapp: object, tmp_path: Path) -> None:
    # A virtual display has no desktop that prefers anything: what it would answer is given here.
    for scheme, name in (
        (Qt.ColorScheme.Dark, "night"),
        (Qt.ColorScheme.Light, "paper"),
        (Qt.ColorScheme.Unknown, "paper"),
    ):
        hints = SimpleNamespace(colorScheme=lambda scheme=scheme: scheme)
        assert preferred_theme(SimpleNamespace(styleHints=lambda hints=hints: hints)).name == name  # type: ignore[arg-type]
    # Once the user chose, that holds.
    settings.save(replace(settings.load(), theme="night"))
    window = make_window(tmp_path / "logs")
    assert window.ctx.theme.name == "night"
    window.close()
    settings.save(replace(settings.load(), theme=""))

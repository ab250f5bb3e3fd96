"""Pictures of the main views, taken from the real window."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QScrollArea

from ...core.compute.geometry.planes import SectionPlane
from ...core.errors import LampError
from ...core.items.section_look import Beside, SectionLook
from ...core.items.style import Style
from ..forms.contacts_preview import ContactsPreview
from ..forms.fields import AreaField
from ..forms.grid_preview import KrigingPreview
from ..mainwindow.centre import DEFAULT
from ..mainwindow.item_history import HistoryList
from ..mainwindow.window import Window
from ..panes.charts.chart_pane import ChartPane
from ..panes.charts.profile_pane import ProfilePane
from ..panes.logs.log_pane import LogPane
from ..panes.map.map_pane import MapPane
from ..panes.sheets.page_pane import PagePane
from ..panes.sheets.walk_pane import WalkPane
from ..panes.space.scene_pane import ScenePane
from ..panes.tables.checks_pane import ChecksPane
from ..panes.tables.table_pane import TablePane
from .application import make_application
from .main import leave, make_window
from .waiting import settle, wait_until


def grab(window: Window, path: Path) -> None:
    """Write a picture of the window as it is on the screen, OpenGL included."""
    settle(window)
    end = time.monotonic() + 0.4
    wait_until(lambda: time.monotonic() > end, 1.0)
    screen = window.screen()
    at = window.frameGeometry()
    picture = screen.grabWindow(0, at.x(), at.y(), at.width(), at.height())
    if not picture.save(str(path)):
        raise LampError("the picture can't be written", where=str(path))


def take_shots(project: Path, folder: Path) -> int:
    """Open the demo project, write one picture of each main view under `folder`; returns the exit code."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise LampError(f"can't make the folder ({error.strerror})", where=str(folder)) from error
    make_application()
    window = make_window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    if not window.open_path(project):
        raise LampError("the demo project can't be opened", where=str(project))
    for name, arrange in VIEWS.items():
        arrange(window)
        settle(window)
        grab(window, folder / f"{name}.png")
        print(folder / f"{name}.png")
    window.ctx.say("")
    window.centre.restore({"kinds": list(DEFAULT)})  # as who opens the demo next expects it
    window.close()
    leave(0)
    return 0


def _find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def _light(window: Window, *names: str) -> None:
    wanted = [_find(window, n) for n in names]
    for item in list(window.ctx.lit):
        if item not in wanted:
            window.ctx.set_lit(item, False)
    for item in wanted:
        window.ctx.set_lit(item)


def _panes(window: Window, kinds: tuple[str, ...]) -> None:
    for number, kind in enumerate(kinds):
        window.centre.frames[number].show_kind(kind)
        settle(window)


def _overview(window: Window) -> None:
    _light(window, "Ground", "Geological map", "Emberlow holes", "Sn shell 800 ppm", "Targets")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    window.steps.show_area("Geology")
    settle(window)
    window.centre.fit_all()
    holes = window.ctx.item(_find(window, "Emberlow holes"))
    if holes is not None:
        row = holes.tables["assay"].iloc[2400]  # type: ignore[attr-defined]
        window.ctx.point_at(float(row["x"]), float(row["y"]), float(row["z"]), "")


def _map(window: Window) -> None:
    _light(window, "Ground", "Soil Sn", "Soils", "Emberlow holes", "Sn shell 800 ppm", "Targets")
    window.steps.show_area("Maps")
    window.centre.toggle_fill(0)
    settle(window)
    window.centre.fit_all()


def _scene(window: Window) -> None:
    window.centre.toggle_fill(0)
    _light(window, "Ground", "Emberlow holes", "Sn shell 800 ppm", "Targets", "Susceptibility of Airborne magnetics")
    window.centre.toggle_fill(1)
    settle(window)
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    window.ctx.select_item(_find(window, "Sn shell 800 ppm"))
    pane.look_from("From SW")
    settle(window)
    pane.fit_item(window.ctx.selected)
    pane.renderer.GetActiveCamera().Dolly(0.62)
    pane.render_soon()


def _inversion(window: Window) -> None:
    """A run that is set up again while another is under way, its present model in all panes."""
    window.centre.toggle_fill(1)
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    pane.look_from("From SE")
    _light(window, "Ground", "Magnetics")
    window.ctx.select_item(_find(window, "Airborne magnetics"))
    window.ctx.set_section(SectionPlane(504_000.0, 5_602_600.0, 507_500.0, 5_603_600.0))
    form = window.steps.open_form("invert-magnetics")
    settle(window)
    window.centre.fit_all()
    for name, value in (("cell", 100.0), ("cell_z", 40.0)):
        form.fields[name].set_value(value)
        form.fields[name].touched = True
    area = form.fields["outline"]
    assert isinstance(area, AreaField)
    area.set_value(
        ((504_400.0, 5_601_900.0), (507_400.0, 5_601_900.0), (507_400.0, 5_604_600.0), (504_900.0, 5_604_600.0))
    )
    form._changed()
    wait_until(lambda: window.ctx.sketch is not None and window.settled(), 30)
    inputs = {"lines": _find(window, "Airborne magnetics"), "ground": _find(window, "Ground")}
    params = {"attribute": "TMI_ANOM_nT", "cell": 75.0, "cell_z": 40.0, "growth": 1.1, "character": "compact"}
    job = window.ctx.start("invert-magnetics", params | {"outline": area.value()}, inputs)
    wait_until(lambda: job.id in window.strip.rows and len(job.curve) >= 2, 120)
    window.strip.rows[job.id].look.setChecked(True)
    wait_until(lambda: f"job {job.id}" in {e.id for e in window.ctx.lit_entries()} and len(job.curve) >= 6, 60)


def _geology(window: Window) -> None:
    """The model of units from holes, map and readings: its form with the contact table, and the model in all panes."""
    window.steps.close_form()
    for job in window.ctx.jobs:
        window.ctx.runner.cancel(job)
    wait_until(lambda: not any(j.active for j in window.ctx.jobs), 30)
    window.ctx.set_section(SectionPlane(503_250.0, 5_602_750.0, 504_150.0, 5_602_150.0))
    _light(window, "Emberlow geology", "Emberlow holes", "Sn shell 2500 ppm")
    window.ctx.set_colour_by(_find(window, "Emberlow holes"), "Rock")
    window.ctx.select_item(_find(window, "Emberlow geology"))
    _panes(window, ("map", "scene", "section", "log"))
    settle(window)
    window.centre.fit_all()
    model = window.ctx.item(_find(window, "Emberlow geology"))
    if model is not None:  # what lies on the bodies would hide them
        legend = window.ctx.legend("unit", model)
        window.ctx.set_legend(replace(legend, hidden=("Till", "Clay")))
    scene = window.centre.pane("scene")
    assert isinstance(scene, ScenePane)
    scene.look_from("From SE")
    log = window.centre.pane("log")
    assert isinstance(log, LogPane)
    window.ctx.select_item(_find(window, "Emberlow geology"))
    history = window.card.findChild(HistoryList)
    if history is not None:
        history.open(0)
    wait_until(lambda: window.steps.form is not None and window.steps.form.preview is not None, 20)
    form = window.steps.form
    assert form is not None and isinstance(form.preview, ContactsPreview)
    preview = form.preview
    wait_until(lambda: bool(preview.pairs), 20)
    settle(window)
    for area in window.steps.findChildren(QScrollArea):
        area.ensureWidgetVisible(preview)
    settle(window)
    window.centre.fit_all()
    chart = window.centre.pane("map")
    assert isinstance(chart, MapPane)
    chart.plot.setRange(xRange=(503_000.0, 504_450.0), yRange=(5_601_650.0, 5_603_050.0))
    settle(window)


def _import(window: Window) -> None:
    _panes(window, ("map", "scene", "section", "table"))
    from ...demo.build import FILES

    for job in window.ctx.jobs:
        window.ctx.runner.cancel(job)
    wait_until(lambda: not any(j.active for j in window.ctx.jobs), 10)
    _light(window, "Ground", "Emberlow holes", "Resistivity", "Structural readings")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    window.steps.close_form()
    form = window.steps.open_intake(
        [FILES / n for n in ("drilling", "geochemistry", "geophysics", "geology", "terrain")]
    )
    wait_until(lambda: not form.looking, 30)
    settle(window)
    form.list.selectRow(next(k for k, o in enumerate(form.offers) if o.kind == "assay"))
    wait_until(lambda: form.preview.table.rowCount() > 0, 10)
    table = window.centre.pane("table")
    assert isinstance(table, TablePane)
    table.show_table("by hole")
    window.centre.fit_all()


def _checks(window: Window) -> None:
    window.steps.show_area("Data")
    _light(window, "Ground", "Emberlow holes", "Old geological map")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    _panes(window, ("map", "chart", "checks", "chart"))
    for number, what in ((1, "Control"), (3, "Along")):
        pane = window.centre.frames[number].pane
        assert isinstance(pane, ChartPane)
        pane.show_view(what)
        settle(window)
    window.centre.fit_all()
    checks = window.centre.frames[2].pane
    assert isinstance(checks, ChecksPane)
    checks.view.selectRow(7)
    checks.go()


def _targets(window: Window) -> None:
    _panes(window, ("map", "scene", "section", "table"))
    settle(window)
    _light(window, "Ground", "Targets score", "Emberlow holes", "Sn shell 800 ppm", "Targets")
    window.ctx.select_item(_find(window, "Targets"))
    window.steps.open_form("rank-targets")
    settle(window)
    table = window.centre.pane("table")
    assert isinstance(table, TablePane)
    table.view.selectRow(0)


def _charts(window: Window) -> None:
    _light(window, "Ground", "Emberlow holes")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    window.steps.show_area("Data")
    for number, (kind, what) in enumerate(
        (("chart", "Histogram"), ("chart", "Scatter"), ("chart", "Boxes"), ("table", ""))
    ):
        window.centre.frames[number].show_kind(kind)
        settle(window)
        pane = window.centre.frames[number].pane
        if isinstance(pane, ChartPane):
            for box, text in ((pane.what, what), (pane.upward, "W_ppm"), (pane.by, "Rock")):
                box.setCurrentText(text)
            pane.redraw()
    settle(window)
    table = window.centre.pane("table")
    assert isinstance(table, TablePane)
    table.show_table("assay")
    table.filter.setText("Sn_ppm > 2000 and W_ppm < 400")
    table.apply_filter()
    table.select_shown()


def _profiles(window: Window) -> None:
    """What an inversion left: lines of readings and of the model, and the residual on the map."""
    window.ctx.restyle(_find(window, "Ground"), Style())
    fit = "Fit of Airborne magnetics"
    _light(window, "Ground", fit)
    window.ctx.select_item(_find(window, fit))
    window.ctx.set_colour_by(_find(window, fit), "normalised_residual")
    _panes(window, ("map", "profile", "section", "table"))
    settle(window)
    window.centre.fit_all()
    pane = window.centre.frames[1].pane
    assert isinstance(pane, ProfilePane)
    pane.three.setChecked(True)
    pane.first.setCurrentText("observed")
    pane.other.setCurrentText("predicted")
    pane.line.setCurrentIndex(69)
    pane.redraw()
    settle(window)
    item = window.ctx.item(window.ctx.selected)
    if item is not None:
        row = item.table.iloc[700]  # type: ignore[attr-defined]
        window.ctx.point_at(float(row["x"]), float(row["y"]), float(row["z"]), "")


def _kriging(window: Window) -> None:
    _light(window, "Ground", "Soils", "Soil Sn")
    window.ctx.select_item(_find(window, "Soils"))
    _panes(window, ("map", "scene", "chart", "table"))
    settle(window)
    form = window.steps.open_form("contours")
    form.slots["grid"].setCurrentIndex(form.slots["grid"].findData(_find(window, "Soil Sn")))
    form._slot_changed()
    form.run()
    wait_until(lambda: not any(j.active for j in window.ctx.jobs), 60)
    window.ctx.select_item(_find(window, "Soils"))
    chart = window.centre.pane("chart")
    assert isinstance(chart, ChartPane)
    chart.show_view("Probability")
    form = window.steps.open_form("grid-kriging")
    settle(window)
    assert isinstance(form.preview, KrigingPreview)
    preview = form.preview.variogram
    wait_until(lambda: preview.view.model is not None, 30)
    window.centre.fit_all()


def _stereonet(window: Window) -> None:
    window.steps.show_area("Maps")
    _light(window, "Ground", "Structural readings", "Geological map")
    window.ctx.select_item(_find(window, "Structural readings"))
    _panes(window, ("map", "stereonet", "section", "table"))
    settle(window)
    window.centre.fit_all()


def _drawing(window: Window) -> None:
    window.steps.show_area("Maps")
    _light(window, "Geological map", "Old geological map", "Structural readings")
    window.ctx.select_item(_find(window, "Geological map"))
    _panes(window, ("map", "stereonet", "section", "table"))
    window.centre.toggle_fill(0)
    settle(window)
    window.centre.fit_all()
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    pane.go_to(503_600.0, 5_602_300.0, 0.0)
    pane.drawing.setChecked(True)
    settle(window)
    tool = pane.draw_tool
    tool.value.setCurrentText("GREIS")
    for x, y in (
        (503_470.0, 5_602_480.0),
        (503_690.0, 5_602_540.0),
        (503_800.0, 5_602_380.0),
        (503_720.0, 5_602_180.0),
    ):
        tool.clicked(x, y, False, False)
    tool.moved(503_530.0, 5_602_170.0)


def _page(window: Window) -> None:
    pane = window.centre.pane("map")
    if isinstance(pane, MapPane):
        pane.draw_tool.leave()
        pane.drawing.setChecked(False)
    window.centre.toggle_fill(0)
    _light(window, "Geological map")
    window.ctx.select_item(_find(window, "Emberlow A3"))
    _panes(window, ("page", "stereonet", "section", "table"))
    window.centre.toggle_fill(0)
    settle(window)
    page = window.centre.pane("page")
    assert isinstance(page, PagePane)
    page.choose(1)


def _log(window: Window) -> None:
    window.centre.toggle_fill(0)
    window.steps.show_area("Drilling")
    _light(window, "Ground", "Emberlow holes", "Oriented core by set")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    _panes(window, ("map", "stereonet", "section", "log"))
    window.centre.toggle_fill(3)
    settle(window)
    log = window.centre.pane("log")
    assert isinstance(log, LogPane)
    kept = tuple(t for t in log.tracks if t.attributes[:1] in (("Rock",), ("Sn_ppm",), ("Cu_pct",), ()))
    log.which.setCurrentText("EMB010")
    log.set_tracks(kept)
    log.set_beside(["EMB006"])
    settle(window)
    log.fit()


def _intercepts(window: Window) -> None:
    window.centre.toggle_fill(3)
    _light(window, "Ground", "Sn intercepts", "Sn shell 800 ppm", "Oriented core by set")
    window.ctx.select_item(_find(window, "Sn intercepts"))
    window.steps.show_area("Drilling")
    _panes(window, ("map", "scene", "section", "table"))
    settle(window)
    window.centre.fit_all()
    window.ctx.say("")
    table = window.centre.pane("table")
    assert isinstance(table, TablePane)
    table.show_table("intercepts")
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    pane.fit_item(window.ctx.selected)


def _long_section(window: Window) -> None:
    _light(window, "Ground", "Main vein, long section")
    window.ctx.select_item(_find(window, "Long section of the main vein"))
    _panes(window, ("page", "scene", "section", "table"))
    window.centre.toggle_fill(0)
    settle(window)


def _section(window: Window) -> None:
    window.centre.toggle_fill(0)
    _light(window, "Ground", "Emberlow holes", "Sn shell 800 ppm", "Targets")
    window.ctx.select_item(_find(window, "Emberlow holes"))
    window.ctx.set_colour_by(window.ctx.selected, "Rock")
    _panes(window, ("map", "scene", "section", "table"))
    window.centre.toggle_fill(2)
    look = SectionLook(panels=("Magnetics", "Soil Sn"), strip=True)
    for one in (
        Beside("bars", "Sn_ppm"),
        Beside("curve", "W_ppm", "left"),
        Beside("values", "Sn_ppm", width=20.0),
        Beside("intervals", "Alteration", "left", width=6.0),
    ):
        look = look.with_beside(one)
    window.ctx.set_section(SectionPlane(503_450.0, 5_602_700.0, 503_790.0, 5_602_080.0))
    window.ctx.set_corridor(30.0)
    window.ctx.set_section_look(look)
    settle(window)
    window.centre.fit_all()


def _walk(window: Window) -> None:
    window.ctx.set_section_look(SectionLook())
    window.centre.toggle_fill(2)
    window.ctx.set_colour_by(_find(window, "Emberlow holes"), "Sn_ppm")
    window.ctx.select_item(_find(window, "Emberlow in six views"))
    _panes(window, ("walk", "scene", "section", "table"))
    window.centre.toggle_fill(0)
    settle(window)
    pane = window.centre.pane("walk")
    assert isinstance(pane, WalkPane)
    pane.views.setCurrentRow(3)


VIEWS: dict[str, Callable[[Window], None]] = {
    "overview": _overview,
    "map": _map,
    "scene": _scene,
    "inversion": _inversion,
    "geology": _geology,
    "import": _import,
    "checks": _checks,
    "targets": _targets,
    "charts": _charts,
    "profiles": _profiles,
    "kriging": _kriging,
    "stereonet": _stereonet,
    "drawing": _drawing,
    "page": _page,
    "log": _log,
    "intercepts": _intercepts,
    "long_section": _long_section,
    "section": _section,
    "walk": _walk,
}

"""One sitting of a geologist in the real window, with mouse and keys: from raw tables to a ranked target and back."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLineEdit

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.panes.tables.table_pane import TablePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.errors import LampError
from innerlamp.core.items.fields import BlockModel, Surface
from innerlamp.core.items.points import TargetSet
from innerlamp.demo import truth
from innerlamp.demo.build import FILES

from .conftest import choose, coloured_share, colours_in, run_form, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton


def open_step(window: Window, area: int, operation: str) -> None:
    """Go to a work area by its key and click a step."""
    QTest.keyClick(window, Qt.Key(Qt.Key.Key_0 + area), Qt.KeyboardModifier.ControlModifier)
    assert wait_until(lambda: operation in window.steps.step_buttons, 5)
    QTest.mouseClick(window.steps.step_buttons[operation], LEFT)
    assert window.steps.form is not None
    assert window.steps.form.operation.name == operation


def fill(window: Window, **values: str) -> None:
    form = window.steps.form
    assert form is not None
    for name, value in values.items():
        widget = form.fields.get(name) or form.slots[name]
        box = widget if isinstance(widget, QComboBox) else widget.findChild(QComboBox)
        if box is not None:
            choose(box, value)
        else:
            edit = widget.findChild(QLineEdit)
            assert edit is not None
            type_into(edit, value)


def click_map(pane: MapPane, x: float, y: float) -> None:
    point = pane.plot.getViewBox().mapViewToScene(QPointF(x, y))
    at = pane.plot.mapFromScene(point)
    QTest.mouseMove(pane.plot.viewport(), QPoint(at.x(), at.y()))
    QTest.mouseClick(pane.plot.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, QPoint(at.x(), at.y()))


@pytest.mark.timeout(280)
def test_sitting(window: Window, tmp_path: Path) -> None:
    ctx = window.ctx
    map_pane, scene = window.centre.pane("map"), window.centre.pane("scene")
    section, table = window.centre.pane("section"), window.centre.pane("table")
    assert isinstance(map_pane, MapPane)
    assert isinstance(scene, ScenePane)
    assert isinstance(section, SectionPane)
    assert isinstance(table, TablePane)
    assert window.middle.currentWidget() is window.start_page
    ctx.create(tmp_path / "West.lamp", truth.CRS)
    assert window.middle.currentWidget() is window.centre

    # Ground, then holes: the form shows what it understood; a wrong path is said in the form.
    open_step(window, 1, "import-grid")
    fill(window, file=str(FILES / "terrain" / "dem_20m.asc"), name="Ground")
    run_form(window)
    open_step(window, 1, "import-holes")
    form = window.steps.form
    assert form is not None
    QTest.mouseClick(form.run_button, LEFT)
    assert form.problem.text() == "choose the collar table."
    folder = FILES / "drilling"
    fill(
        window,
        collar=str(folder / "collars.csv"),
        survey=str(folder / "downhole_surveys.csv"),
        assay=str(folder / "assays.csv"),
        lithology=str(folder / "geology_log.csv"),
    )
    assert wait_until(lambda: getattr(form.preview, "tabs", None) is not None and form.preview.tabs.count() == 4, 5)  # type: ignore[union-attr]
    combos = form.preview.combos  # type: ignore[union-attr]
    assert combos["survey"]["azimuth"].currentText() == "Azi grid"
    assert form.preview.tables["collar"].item(0, 0).text() == "EMB001"  # type: ignore[union-attr]
    run_form(window)
    table.show_table("findings")
    assert table.model is not None
    first = [table.model.data(table.model.index(0, c)) for c in range(3)]
    assert first[0] == "left out"
    whats = {table.model.data(table.model.index(r, 1)) for r in range(table.model.rowCount())}
    assert "survey reading beyond the end of hole" in whats
    assert "hole ID has spaces around it" in whats

    # Soils, magnetics, gravity.
    open_step(window, 1, "import-points")
    fill(window, file=str(FILES / "geochemistry" / "soils_emberlow.csv"), name="Soils")
    run_form(window)
    open_step(window, 1, "import-points")
    fill(window, file=str(FILES / "geophysics" / "gravity_stations.csv"), name="Gravity", content="stations")
    run_form(window)
    open_step(window, 1, "import-lines")
    fill(window, file=str(FILES / "geophysics" / "airborne_magnetics.csv"), name="Magnetics")
    run_form(window)
    assert [e.kind for e in ctx.entries()] == ["grid", "holes", "points", "points", "lines"]

    # Grid a soil element.
    open_step(window, 2, "grid-minimum-curvature")
    fill(window, samples="Soils", attribute="Sn ppm", transform="log10", cell="40")
    said = run_form(window)
    assert "Sn ppm grid" in said

    # Everything together: lamps, a section drawn across the map, one cursor.
    rows = window.shelf.rows()
    holes = ctx.store.find("Drillholes").id  # type: ignore[union-attr]
    soils = ctx.store.find("Soils").id  # type: ignore[union-attr]
    window.shelf.tree.setCurrentItem(rows[soils])
    lit_before = soils in ctx.lit
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space)
    assert (soils in ctx.lit) is not lit_before
    settle(window)
    window.centre.fit_all()
    settle(window)
    assert holes in map_pane.drawn_items()
    assert holes in scene.drawn_items()
    east, north = truth.ORIGIN[0] + truth.APEX[0], truth.ORIGIN[1] + truth.APEX[1]
    QTest.mouseClick(map_pane.across, LEFT)
    click_map(map_pane, east - 450, north + 240)
    click_map(map_pane, east + 620, north - 330)
    assert wait_until(lambda: ctx.section is not None, 5)
    settle(window)
    pixel = map_pane.plot.metres_per_pixel()[0]
    assert ctx.section is not None
    assert (ctx.section.x0, ctx.section.y1) == pytest.approx((east - 450, north - 330), abs=2 * pixel)
    assert section.drawn_count() > 10
    assert section.caption.text().startswith("A → B 11")
    picture = widget_image(window, scene.canvas)
    assert len(colours_in(picture)) > 150  # shaded ground
    assert coloured_share(picture) > 0.01  # coloured holes and grid
    middle = section.plot.getViewBox().mapViewToScene(QPointF(ctx.section.length / 2, 250.0))
    QTest.mouseMove(section.plot.viewport(), QPoint(int(middle.x()), int(middle.y())))
    assert wait_until(lambda: ctx.cursor.source == "section", 5)
    assert ctx.cursor.z == pytest.approx(250.0, abs=2 * section.plot.metres_per_pixel()[1])
    assert f"{ctx.cursor.z:.1f} m" in window.strip.cursor_words.text()
    assert map_pane._cross[0].isVisible()
    assert map_pane._cross[1].value() == pytest.approx(ctx.cursor.x)
    # Dragging an end of the line turns the section.
    before = ctx.section.azimuth
    end = map_pane.handle.getHandles()[1]  # type: ignore[union-attr]
    at = map_pane.plot.mapFromScene(end.scenePos())
    view = map_pane.plot.viewport()
    QTest.mousePress(view, LEFT, Qt.KeyboardModifier.NoModifier, at)
    for step in range(1, 6):
        QTest.mouseMove(view, at + QPoint(0, 3 * step))
        wait_until(lambda: False, 0.03)
    QTest.mouseRelease(view, LEFT, Qt.KeyboardModifier.NoModifier, at + QPoint(0, 15))
    settle(window)
    assert ctx.section.azimuth > before + 3

    # Inversion in the background: the misfit falls while the window lives.
    open_step(window, 4, "invert-magnetics")
    fill(window, lines="Magnetics", ground="Ground", attribute="TMI_ANOM_nT", cell="120", cell_z="60", spacing="150")
    assert wait_until(lambda: "cells" in window.steps.form.cost.text(), 5)  # type: ignore[union-attr]
    run_form(window)
    job = ctx.jobs[-1]
    misfits = [m for _, m in job.curve]
    assert misfits[0] > 2 * misfits[-1]
    assert misfits[-1] == pytest.approx(1.0, abs=0.1)
    model = ctx.item(ctx.store.find("Susceptibility of Magnetics").id)  # type: ignore[union-attr]
    assert isinstance(model, BlockModel)
    values = model.properties["susceptibility"]
    best = np.unravel_index(np.nanargmax(values), values.shape)
    # The strongest source is the gabbro, barren as it is.
    x, y, _ = model.mesh.centres(np.array([best]))[0]
    assert x == pytest.approx(truth.ORIGIN[0] + truth.GABBRO[0], abs=300)
    assert y == pytest.approx(truth.ORIGIN[1] + truth.GABBRO[1], abs=300)

    # Composites, shell, ranking.
    open_step(window, 3, "composite")
    fill(window, holes="Drillholes", attribute="Sn_ppm", length="8")
    run_form(window)
    open_step(window, 5, "grade-shell")
    fill(window, attribute="Sn_ppm", cutoff="800", cell="20", azimuth="62", dip="80", ratio="3")
    run_form(window)
    shell = ctx.item(ctx.selected)
    assert isinstance(shell, Surface)
    assert shell.closed
    assert 1e6 < shell.volume_m3 < 5e7
    assert ctx.selected in scene.drawn_items()
    open_step(window, 6, "rank-targets")
    fill(
        window,
        soil="Sn ppm grid",
        model="Susceptibility of Magnetics",
        shell="Sn_ppm ≥ 800",
        holes="Drillholes",
        ground="Ground",
    )
    assert wait_until(lambda: len(window.steps.form.preview.curves) == 4, 5)  # type: ignore[union-attr]
    run_form(window)
    targets = ctx.item(ctx.selected)
    assert isinstance(targets, TargetSet)
    shares = targets.table[[c for c in targets.table.columns if c.endswith("share")]]
    assert shares.sum(axis=1).to_numpy() == pytest.approx(targets.table["score"].to_numpy())
    assert targets.table["score"].is_monotonic_decreasing
    # Click the third: all panes go there.
    third = targets.table.iloc[2]
    cell = table.view.visualRect(table.model.index(2, 1)).center()
    QTest.mouseClick(table.view.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, cell)
    settle(window)
    (x0, x1), (y0, y1) = map_pane.plot.viewRange()
    assert ((x0 + x1) / 2, (y0 + y1) / 2) == pytest.approx((third["x"], third["y"]), abs=2 * pixel)
    along, off = ctx.section.to_plane(np.array([third["x"]]), np.array([third["y"]]))
    assert (along[0], off[0]) == pytest.approx((ctx.section.length / 2, 0.0), abs=1.0)
    focus = np.array(scene.renderer.GetActiveCamera().GetFocalPoint()) + scene.origin
    assert focus[:2] == pytest.approx([third["x"], third["y"]], abs=1.0)

    # Save, close, open again: everything as it was.
    names = [e.name for e in ctx.entries()]
    view_of = (list(ctx.lit), ctx.section, ctx.selected)
    QTest.keyClick(window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert wait_until(lambda: ctx.store is None, 5)
    assert window.middle.currentWidget() is window.start_page
    assert window.start_page.last.text() == "Go on with West"
    QTest.mouseClick(window.start_page.last, LEFT)
    assert settle(window)
    assert [e.name for e in ctx.entries()] == names
    assert (list(ctx.lit), ctx.section, ctx.selected) == view_of
    assert set(map_pane.drawn_items()) == set(ctx.lit)
    assert ctx.problems == {}
    with pytest.raises(LampError):
        ctx.start("composite", {"attribute": "Sn_ppm"}, {"holes": "nothing"})

"""Maps in the window: kriging with its variogram dragged, contours with labels in their lines."""

from __future__ import annotations

import re

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from innerlamp.app.forms.grid_preview import CoarsePreview, KrigingPreview, SpectrumPreview
from innerlamp.app.forms.variogram_preview import VariogramPreview, round_step
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.map.contour_lines import ContourLines
from innerlamp.app.panes.charts.stereo_pane import StereoPane
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.fields import Grid
from innerlamp.demo import truth

from .conftest import choose, colours_in, drag, run_form, widget_image

LEFT = Qt.MouseButton.LeftButton


def open_kriging(window: Window) -> VariogramPreview:
    window.ctx.select_item(window.ctx.store.find("Soils").id)  # type: ignore[union-attr]
    form = window.steps.open_form("grid-kriging")
    assert isinstance(form.preview, KrigingPreview)
    preview = form.preview.variogram
    assert wait_until(lambda: preview.view.model is not None, 20)
    settle(window)
    return preview


def test_the_variogram_is_fitted_dragged_and_kriged_with(demo_window: Window) -> None:
    window = demo_window
    preview = open_kriging(window)
    view = preview.view
    assert view.model is not None
    fitted = view.model.structures[0].range
    assert "pairs" in preview.words.text()
    image = widget_image(window, view)
    lit = window.ctx.theme.lit.lower()
    assert (
        sum(image.pixelColor(x, y).name() == lit for x in range(0, image.width()) for y in range(0, image.height(), 2))
        > 40
    )
    start, target = view.handles()["sill"], view.place(fitted * 0.5, view.model.sill * 0.9)
    QTest.mousePress(view, LEFT, pos=start.toPoint())
    QTest.mouseMove(view, target.toPoint())
    QTest.mouseRelease(view, LEFT, pos=target.toPoint())
    settle(window)
    form = window.steps.form
    assert form is not None
    dragged = float(str(form.values()["range_m"]))
    assert dragged == pytest.approx(fitted * 0.5, rel=0.1)
    assert view.model.structures[0].range == pytest.approx(dragged)
    words = run_form(window)
    assert f"range {dragged:.3g} m" in words
    store = window.ctx.store
    assert store is not None
    grid = store.load(store.find("Sn ppm kriged").id)
    variance = store.load(store.find("Variance of Sn ppm kriged").id)
    assert isinstance(grid, Grid)
    assert isinstance(variance, Grid)
    assert grid.values.shape == variance.values.shape
    QTest.mouseClick(preview.again, LEFT)
    assert view.model.structures[0].range == pytest.approx(fitted)


def test_the_handles_can_not_leave_the_plot(demo_window: Window) -> None:
    preview = open_kriging(demo_window)
    view = preview.view
    QTest.mousePress(view, LEFT, pos=view.handles()["nugget"].toPoint())
    QTest.mouseMove(view, QPoint(5, -300))
    assert view.model is not None
    assert 0 <= view.model.nugget < view.model.sill
    QTest.mouseMove(view, QPoint(5, 3000))
    assert view.model.nugget == pytest.approx(0.0, abs=1e-6)
    QTest.mouseRelease(view, LEFT)
    assert [round_step(v) for v in (0.3, 1.0, 1.1, 45.0)] == [0.5, 1.0, 2.0, 50.0]


def test_the_range_across_is_dragged_along_the_axis(demo_window: Window) -> None:
    window = demo_window
    view = open_kriging(window).view
    assert view.model is not None and view.model.ratio == 1.0
    start = view.handles()["ratio"]
    target = QPointF(view.frame().left() + 0.4 * (start.x() - view.frame().left()), start.y())
    QTest.mousePress(view, LEFT, pos=start.toPoint())
    QTest.mouseMove(view, target.toPoint())
    QTest.mouseRelease(view, LEFT, pos=target.toPoint())
    settle(window)
    form = window.steps.form
    assert form is not None
    assert float(str(form.values()["ratio"])) == pytest.approx(0.4, abs=0.03)
    assert view.model.ratio == pytest.approx(0.4, abs=0.03)


def test_contours_are_drawn_with_their_labels(demo_window: Window) -> None:
    window = demo_window
    for item in list(window.ctx.lit):
        window.ctx.set_lit(item, False)
    window.ctx.select_item(window.ctx.store.find("Ground").id)  # type: ignore[union-attr]
    window.steps.open_form("contours")
    settle(window)
    words = run_form(window)
    assert "levels from" in words
    window.centre.toggle_fill(0)
    window.centre.fit_all()
    settle(window)
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    (lines,) = [g for g in pane.layers.graphics() if isinstance(g, ContourLines)]
    assert wait_until(lambda: lines.labels > 3, 5)  # drawn anew when the map rests
    entry = window.ctx.store.find("Contours of Ground")  # type: ignore[union-attr]
    assert window.ctx.attribute_of(entry) == "elevation"
    item = window.ctx.item(entry.id)
    levels = np.unique(item.table["elevation"])  # type: ignore[union-attr]
    steps = np.diff(levels)
    assert steps == pytest.approx(steps[0])
    assert steps[0] in (5.0, 10.0, 20.0)


def test_the_stereonet_shows_and_selects_readings(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find("Structural readings").id)  # type: ignore[union-attr]
    window.centre.show_view("stereonet", "")
    settle(window)
    pane = window.centre.pane("stereonet")
    assert isinstance(pane, StereoPane)
    readings = window.ctx.item(window.ctx.selected).table  # type: ignore[union-attr]
    whole = readings[readings[["dip", "dip direction"]].notna().all(axis=1)]
    veins = int((whole["Feature"] == "vein").sum())
    assert len(whole) == 299  # one dip of 118 was left empty
    assert veins > 40
    assert wait_until(lambda: pane.words.text().startswith("299 readings"), 10)
    choose(pane.of, "vein")
    pane.redraw()
    settle(window)
    mean = re.match(rf"{veins} readings; mean plane (\d+)° towards (\d+)°", pane.words.text())
    assert mean, pane.words.text()
    assert int(mean[1]) == pytest.approx(truth.VEIN_DIP, abs=3)
    assert int(mean[2]) == pytest.approx(truth.VEIN_STRIKE + 90, abs=4)
    colours = colours_in(widget_image(window, pane.plot))
    assert len(colours) > 10
    # A drag round all poles of the veins selects them, and the table shows the same rows.
    pane.view.brushed.emit(QRectF(-1.0, -1.0, 2.0, 2.0))
    assert len(window.ctx.selection.rows) == veins
    table = window.ctx.item(window.ctx.selected).table  # type: ignore[union-attr]
    assert set(table["Feature"].iloc[list(window.ctx.selection.rows)]) == {"vein"}
    choose(pane.of, "selected")
    pane.redraw()
    settle(window)
    assert pane.words.text().startswith(f"{veins} readings")
    window.ctx.select_item(window.ctx.store.find("Soils").id)  # type: ignore[union-attr]
    settle(window)
    assert pane.hint.isVisible()


def test_a_coarse_grid_follows_the_form(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find("Soils").id)  # type: ignore[union-attr]
    form = window.steps.open_form("grid-neighbours")
    preview = form.preview
    assert isinstance(preview, CoarsePreview)
    assert wait_until(lambda: preview.shown is not None, 20)
    first = preview.shown
    assert first is not None and max(first.values.shape) <= 90
    choose(form.fields["method"].box, "nearest neighbour")  # type: ignore[attr-defined]
    assert wait_until(lambda: preview.shown is not first and preview.shown is not None, 20), preview.words.text()
    assert not np.array_equal(first.values, preview.shown.values, equal_nan=True)  # type: ignore[union-attr]
    settle(window)
    assert len(colours_in(widget_image(window, preview.picture))) > 30
    form.fields["cell"].set_value("none at all")
    form.fields["cell"].changed.emit()
    settle(window)
    assert preview.shown is not None  # a bad value leaves the last picture


def test_the_band_of_the_spectrum_is_dragged_and_tells_a_depth(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find("Magnetics").id)  # type: ignore[union-attr]
    form = window.steps.open_form("source-depth")
    preview = form.preview
    assert isinstance(preview, SpectrumPreview)
    assert wait_until(lambda: np.isfinite(preview.depth_m), 20)
    settle(window)
    before, (low, high) = preview.depth_m, preview.band.getRegion()
    box = preview.plot.getViewBox()

    def at(frequency: float) -> QPoint:
        y = 0.5 * sum(box.viewRange()[1])
        return preview.plot.mapFromScene(box.mapViewToScene(QPointF(frequency, y)))

    view, start, stop = preview.plot.viewport(), at(high), at(low + 0.5 * (high - low))
    drag(view, start, stop)
    settle(window)
    assert preview.depth_m != before
    assert float(str(form.values()["shortest"])) == pytest.approx(1000.0 / preview.band.getRegion()[1], rel=1e-3)
    words = run_form(window)
    assert f"tops of sources {preview.depth_m:,.0f} m" in words

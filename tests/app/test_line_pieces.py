"""Many line pieces at once look as if each were drawn; sections that are dragged come back whole."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtGui import QColor, QImage

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit import line_pieces
from innerlamp.app.painters.kit.line_pieces import LinePieces
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane

from .conftest import light_only


def drawn(pieces: LinePieces) -> np.ndarray:
    """The pixels of a view that shows pieces."""
    view = pg.GraphicsView()
    box = pg.ViewBox(enableMenu=False, defaultPadding=0.0)
    view.setCentralItem(box)
    view.setBackground("w")
    view.resize(400, 300)
    box.addItem(pieces)
    box.setRange(xRange=(0, 400), yRange=(0, 300), padding=0, disableAutoRange=True)
    view.show()
    assert wait_until(lambda: pieces.shown > 0, 5)
    image = view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    view.close()
    data = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)
    return data[:, : image.width(), :3].copy()


def test_pieces_that_share_a_pixel_are_drawn_once_and_look_the_same(qapp: object, monkeypatch: object) -> None:
    rng = np.random.default_rng(5)
    start = np.column_stack([rng.uniform(20, 380, 30_000), rng.uniform(20, 280, 30_000)])
    stop = start + rng.uniform(-0.6, 0.6, start.shape)
    long = rng.random(30_000) < 0.01
    stop[long] += rng.uniform(-30, 30, (int(long.sum()), 2))
    code = (start[:, 0] > 200).astype(int)
    code[:50] = -1  # of no colour: not drawn
    colours = [QColor("#0072B2"), QColor("#D55E00")]
    few = LinePieces(colours, code, start, stop, 3.0, 1)
    assert [len(p) for _, p in few.groups()] == [int((code == k).sum()) for k in (0, 1)]
    fast = drawn(few)
    assert few.shown < 29_000
    line_pieces._FEW = 10**9
    try:
        every = LinePieces(colours, code, start, stop, 3.0, 1)
        whole = drawn(every)
        assert every.shown == 29_950
    finally:
        line_pieces._FEW = 2_000
    other = (np.abs(fast.astype(int) - whole).max(axis=2) > 60).mean()
    assert other < 0.03
    # Colours keep to their halves.
    blue = (fast[..., 0].astype(int) - fast[..., 2]) > 80  # the bytes are blue, green, red
    assert blue[:, :185].any() and not blue[:, 240:].any()


def test_a_dragged_section_is_whole_again_at_rest(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    ctx.set_colour_by(ctx.store.find("Emberlow holes").id, "Sn_ppm")  # type: ignore[union-attr]
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    ctx.set_corridor(2_000.0)  # all of the samples
    settle(window)
    here = ctx.section
    assert here is not None

    def bars() -> int:
        return sum(
            len(p)
            for g in pane.layers.graphics()
            if isinstance(g, LinePieces) and g.zValue() == 9.5
            for _, p in g.groups()
        )

    before = bars()
    assert before > 2_000
    ctx.set_section(here.moved(3.0, 0.0))
    ctx.set_section(here.moved(6.0, 0.0))
    pane.draw()
    assert bars() == 0  # while it moves the traces alone are drawn
    assert settle(window)
    assert abs(bars() - before) < 0.05 * before
    ctx.set_section(SectionPlane(here.x0, here.y0, here.x1, here.y1))
    settle(window)
    assert bars() == before

"""Contract: every control of the card does what it says in every pane that shows the item, and undo takes it back.

A third of the pairs of kind and control in each run, each pair every third day; all in the long run. What is asserted is
what is drawn: the pixels of map, section and 3D before, with the control changed, and after Ctrl+Z.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLineEdit, QSlider

from innerlamp.app.context.context import values_of
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.attributes import is_ground
from innerlamp.core.items.features import Features
from innerlamp.core.items.kinds import KINDS

from ..choices.tenth import third_of_this_run
from .conftest import type_into, widget_image

PANES = ("map", "section", "scene")
# Paper has no place on the ground, and pictures of core stand in logs.
NOT_SHOWN = {"page": PANES, "walk": PANES, "core": PANES}
CONTROLS = (
    "lamp",
    "opacity",
    "colourBy",
    "ramp",
    "scale",
    "legend_low",
    "legend_high",
    "legend_cutoff",
    "sizeBy",
    "widthBy",
    "shapeBy",
    "labelBy",
    "form3d",
    "every3d",
    "raised3d",
)
# On the map holes are lines; how something stands in space is seen in 3D alone.
NOT_IN = {("map", "widthBy")} | {
    (pane, name) for pane in ("map", "section") for name in ("form3d", "every3d", "raised3d")
}


def pictures(window: Window) -> dict[str, np.ndarray]:
    assert settle(window)
    wait_until(lambda: False, 0.3)  # pictures of moving views are drawn anew at rest
    assert settle(window)
    out = {}
    for kind in PANES:
        pane = window.centre.pane(kind)
        image = widget_image(window, pane).convertToFormat(QImage.Format.Format_RGB32)
        data = np.frombuffer(image.constBits(), dtype=np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)
        out[kind] = data[:, : image.width(), :3].copy()
    return out


def differs(a: dict[str, np.ndarray], b: dict[str, np.ndarray]) -> set[str]:
    """Panes that look different. Where two sheets lie in one depth a pixel may come out a shade apart: that is none."""

    def other(k: str) -> bool:
        away = np.abs(a[k].astype(int) - b[k]).max(axis=2)
        return bool((away > 16).any() or (away > 0).sum() > 40)

    return {k for k in PANES if a[k].shape != b[k].shape or other(k)}


def first_of(window: Window, kind: str) -> str:
    """The item of a kind that has most to choose from."""
    entries = [e for e in window.ctx.entries() if e.kind == kind and not is_ground(e.attributes)]
    if kind == "blocks":  # not the long section, which is a sheet
        entries = [e for e in entries if e.name.startswith("Susceptibility")]
    if kind == "points":
        entries = [e for e in entries if e.name == "Soils"]
    return max(entries, key=lambda e: len(e.attributes)).id


@pytest.mark.parametrize("kind", [k for k in KINDS if k not in NOT_SHOWN])
def test_every_control_of_the_card_is_seen_in_every_pane_and_undone(demo_window: Window, kind: str) -> None:
    window, ctx = demo_window, demo_window.ctx
    item = first_of(window, kind)
    ground = next(e.id for e in ctx.entries() if is_ground(e.attributes))
    for other in list(ctx.lit):
        ctx.set_lit(other, False)
    ctx.set_lit(ground)
    ctx.set_lit(item)
    ctx.select_item(item)
    for number, pane in enumerate(PANES):
        window.centre.frames[number].show_kind(pane)
    through = ctx.entry(item)
    assert through is not None
    west, east, south, north, *_ = through.bounds
    x, y = 0.5 * (west + east), 0.5 * (south + north)
    if kind == "targets":  # few places: the section goes through the best
        x, y = ctx.item(item).table[["x", "y"]].iloc[0]  # type: ignore[union-attr]
    if kind == "features":  # contours: the section goes through the highest
        settle(window)
        shapes = ctx.item(item)
        assert isinstance(shapes, Features)
        top = int(shapes.table[ctx.attribute_of(through)].to_numpy(float).argmax())
        part = int(np.flatnonzero(shapes.owner == top)[0])
        x, y = shapes.vertices[shapes.starts[part] : shapes.starts[part + 1], :2].mean(axis=0)
    ctx.set_section(SectionPlane(x - 700.0, y - 40.0, x + 700.0, y + 60.0))
    ctx.set_corridor(250.0)
    window.activateWindow()
    before = pictures(window)
    expected = set(PANES) - set(NOT_SHOWN.get(kind, ()))
    done = []
    for control in ("lamp", *(c for c in CONTROLS[1:] if third_of_this_run([f"{kind} {c}"]))):
        act = change(window, item, control)
        if act is None:
            continue
        act()
        changed = differs(before, pictures(window))
        wanted = {pane for pane in expected if (pane, control) not in NOT_IN}
        assert wanted <= changed, f"{control} of {kind} is not seen in {wanted - changed}"
        assert changed <= expected, f"{control} of {kind} changes {changed - expected}"
        window.setFocus()
        QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        left = differs(before, pictures(window))
        assert not left, f"{control} of {kind} was not taken back in {left}"
        done.append(control)
    assert "lamp" in done
    if third_of_this_run(CONTROLS) == list(CONTROLS) and kind in (
        "points",
        "holes",
        "blocks",
        "grid",
        "lines",
        "electrodes",
        "targets",
    ):
        assert {"ramp", "legend_low", "legend_high", "legend_cutoff"} <= set(done)


def change(window: Window, item: str, control: str) -> Callable[[], None] | None:
    """How to change a control of the card by hand; None where the card of this item has none."""
    ctx, card = window.ctx, window.card
    entry = ctx.entry(item)
    assert entry is not None
    if control == "lamp":
        return lambda: ctx.set_lit(item, False)
    if control == "opacity":
        slider = card.findChild(QSlider, "opacity")
        assert slider is not None

        def fade() -> None:
            slider.setFocus()
            for _ in range(3):
                QTest.keyClick(slider, Qt.Key.Key_PageDown)
            assert wait_until(lambda: ctx.style(item).opacity < 0.5, 5)

        return fade
    if control in ("every3d", "raised3d"):
        line = card.findChild(QLineEdit, control)
        if line is None:
            return None

        def lifted() -> None:
            type_into(line, "40" if control == "every3d" else "150")
            QTest.keyClick(line, Qt.Key.Key_Return)

        return lifted
    if control.startswith("legend_"):
        edit = card.findChild(QLineEdit, control)
        loaded = ctx.item(item)
        if edit is None or loaded is None:
            return None
        values = np.asarray(values_of(loaded, ctx.attribute_of(entry)), dtype=float)
        low, middle, high = np.nanpercentile(values, [10, 62, 80])
        if kind_has_one_value(values):
            middle = high + 1.0  # a shell: above its level
        value = {"legend_low": low, "legend_high": high, "legend_cutoff": middle}[control]
        legend = ctx.legend(ctx.attribute_of(entry), loaded)
        if control == "legend_low":
            value = legend.low + 0.4 * (legend.high - legend.low)
        if control == "legend_high":
            value = legend.low + 0.5 * (legend.high - legend.low)

        def typed() -> None:
            type_into(edit, f"{value:.6g}")
            QTest.keyClick(edit, Qt.Key.Key_Return)

        return typed
    box = card.findChild(QComboBox, control)
    if box is None or box.count() < 2:
        return None
    texts = [box.itemText(k) for k in range(box.count())]
    now = box.currentText()
    wanted = next((t for t in reversed(texts) if t not in (now, "classes", "none")), None)
    if control == "ramp":
        wanted = "tide" if now != "tide" else "ember"
    if wanted is None or (control == "scale" and not log_fits(window, item)):
        return None

    def chosen() -> None:
        box.setCurrentText(wanted)  # the list is not opened: each key in it would already choose
        box.textActivated.emit(wanted)

    return chosen


def kind_has_one_value(values: np.ndarray) -> bool:
    return len(np.unique(values[np.isfinite(values)])) == 1


def log_fits(window: Window, item: str) -> bool:
    entry, loaded = window.ctx.entry(item), window.ctx.item(item)
    assert entry is not None and loaded is not None
    legend = window.ctx.legend(window.ctx.attribute_of(entry), loaded)
    return legend.low > 0 and legend.scale == "linear"

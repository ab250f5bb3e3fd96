"""Names from data that look like markup: the window shows them as they are, in every pane, label and tooltip."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

import innerlamp.app
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.waiting import settle
from innerlamp.app.theme.plain import axis_words, plain_tip
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.points import PointSet
from innerlamp.core.project.store import Store

EVIL = "<img src='/dev/zero'>"  # as markup it would be read without an end
ROOT = Path(innerlamp.app.__file__).parent


def test_all_labels_of_the_window_are_plain_by_birth() -> None:
    for file in ROOT.rglob("*.py"):
        text = file.read_text(encoding="utf-8")
        if file.name != "plain.py":
            assert not re.search(r"(?<![\w.])QLabel\(", text), f"{file.name}: use Label of theme.plain"
        for call in re.findall(r"setHtml\(|setTextFormat\(Qt\.TextFormat\.(?!Plain)\w+\)", text):
            assert file.name in ("card.py", "stereo_pane.py"), f"{file.name}: {call}"


def test_tooltips_and_axes_show_what_they_are_given() -> None:
    assert plain_tip("Sn in ppm\nof the fine fraction") == "Sn in ppm\nof the fine fraction"
    assert EVIL not in plain_tip(f"a {EVIL}") and "&lt;img" in plain_tip(f"a {EVIL}")
    assert axis_words("Au < 5 & Ag") == "Au &lt; 5 &amp; Ag"


@pytest.mark.parametrize("pane", ["map", "section", "scene", "table", "chart", "checks", "profile", "stereonet"])
def test_a_project_full_of_markup_is_shown_as_words(window: Window, tmp_path: Path, pane: str) -> None:
    path = tmp_path / "evil.lamp"
    rng = np.random.default_rng(4)
    table = pd.DataFrame(
        {
            "x": 402000.0 + rng.uniform(0, 100, 40),
            "y": 7502000.0 + rng.uniform(0, 100, 40),
            "z": np.full(40, 4000.0),
            EVIL: rng.uniform(0, 9, 40),
            f"{EVIL} b": rng.uniform(0, 9, 40),
            "code": rng.choice([EVIL, "<b>bold</b>", "&amp;"], 40),
            "line": np.repeat(["1", EVIL], 20),
        }
    )
    with Store.create(path, "EPSG:32719") as store:
        item = PointSet(name=EVIL, crs="EPSG:32719", table=table, units={EVIL: "<u>ppm</u>"})
        store.light({store.put(item): True})
    assert window.open_path(path)
    ctx = window.ctx
    entry = ctx.entries()[0]
    ctx.select_item(entry.id)
    ctx.set_section(SectionPlane(402000.0, 7502050.0, 402100.0, 7502050.0))
    window.centre.frames[0].show_kind(pane)
    window.centre.toggle_fill(0)
    for attribute in (EVIL, "code"):
        ctx.set_colour_by(entry.id, attribute)
        assert settle(window)
    ctx.say(f"About {EVIL}.", "bad")
    assert settle(window)
    seen = 0
    for label in window.findChildren(QLabel):
        if EVIL in label.text():
            seen += 1
            assert label.textFormat() == Qt.TextFormat.PlainText, label.objectName()
        assert not (label.textFormat() == Qt.TextFormat.AutoText and "<" in label.text()), label.text()
    assert seen > 0
    for widget in window.findChildren(QWidget):
        tip = widget.toolTip()
        assert EVIL not in tip, widget.objectName()

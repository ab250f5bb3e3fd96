"""Inverting a survey from the window: what the form proposes and says, stopping with what there is, going on from it."""

from __future__ import annotations

import re

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.waiting import wait_until
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import SurveyLines

from .conftest import type_into

LEFT = Qt.MouseButton.LeftButton


def find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def test_a_run_is_proposed_stopped_with_what_it_has_and_gone_on_from(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    assert ctx.store is not None
    lines, ground = find(window, "Airborne magnetics"), find(window, "Ground")
    ctx.select_item(lines)
    form = window.steps.open_form("invert-magnetics")
    assert wait_until(lambda: "cells" in form.cost.text(), 20)
    said = form.cost.text()
    # The lines are 60 to 70 m apart and flown at about 70 m.
    assert float(form.values()["cell"]) == 50.0 and float(form.values()["growth"]) == 1.1
    assert re.search(r"[\d,]+ readings", said) and "MB" in said and "main field" in said
    cell = form.fields["cell"].findChild(QLineEdit)
    assert isinstance(cell, QLineEdit)
    type_into(cell, "150")
    assert wait_until(lambda: form.cost.text() != said, 20)
    inputs = {"lines": lines, "ground": ground}
    params = {"attribute": "TMI_ANOM_nT", "cell": 100.0, "cell_z": 50.0, "depth": 800.0, "growth": 1.1}
    job = ctx.start("invert-magnetics", params, inputs)
    assert wait_until(lambda: job.id in window.strip.rows and len(job.curve) >= 2, 180)
    row = window.strip.rows[job.id]
    assert row.keep.isVisible() and row.keep.text() == "Stop and keep"
    QTest.mouseClick(row.keep, LEFT)
    assert wait_until(lambda: not job.active, 20)
    assert job.state == "done" and "not reached" in job.outcome
    assert wait_until(window.settled, 30)
    early = ctx.store.find("Susceptibility of Airborne magnetics 2")
    fit = ctx.store.load(ctx.store.find("Fit of Airborne magnetics 2").id)
    assert isinstance(fit, SurveyLines)
    first = float(np.mean(fit.table["normalised_residual"] ** 2))
    assert first > 1.5
    job = ctx.start(
        "invert-magnetics", params | {"role_of_known": "start", "known": "susceptibility"}, inputs | {"start": early.id}
    )
    assert wait_until(lambda: not job.active, 120)
    assert job.state == "done", job.error
    assert wait_until(window.settled, 30)
    fit = ctx.store.load(ctx.store.find("Fit of Airborne magnetics 3").id)
    assert isinstance(fit, SurveyLines)
    assert float(np.mean(fit.table["normalised_residual"] ** 2)) < 1.2 < first
    model = ctx.store.load(ctx.store.find("Susceptibility of Airborne magnetics 3").id)
    assert isinstance(model, BlockModel)
    assert {"susceptibility", "sensitivity"} <= set(model.attributes)

"""Contract: every operation is run by its form in the window, and what it made is shown by every kind of pane.

A tenth of the operations in each run, another one each day; all with INNERLAMP_WALK=all.
"""

from __future__ import annotations

import pytest

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.table import PANES
from innerlamp.app.start.waiting import settle
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import file_params

from ..choices.cases import base_params
from ..choices.examples import WITHOUT_EXAMPLE
from ..choices.tenth import of_this_run
from .conftest import finish_jobs, run_form

# Forms of these ask for what other examples make, or files that are written first; commands walk them.
ASKED = {"merge-holes"}  # its form wants a tick beside each pair before it runs; test_bringing_in gives it
BY_COMMAND = {
    name
    for name, op in OPERATIONS.items()
    if op.example is not None
    and (op.example.after or any("@" in str(v) for v in (*op.example.inputs.values(), *op.example.params.values())))
}


@pytest.mark.parametrize("name", of_this_run([n for n in OPERATIONS if n not in WITHOUT_EXAMPLE | BY_COMMAND | ASKED]))
def test_every_operation_runs_by_its_form_and_every_pane_shows_what_it_made(demo_window: Window, name: str) -> None:
    window, ctx, op = demo_window, demo_window.ctx, OPERATIONS[name]
    store = ctx.store
    assert store is not None and op.example is not None
    before = {e.id: e.version for e in store.entries()}
    told: list[str] = []
    ctx.said.connect(lambda words, level: told.append(words) if level == "bad" else None)
    inputs = {
        slot: store.find(given).id if isinstance(given, str) else [store.find(g).id for g in given]
        for slot, given in op.example.inputs.items()
    }
    ctx.ask.emit(name, inputs, file_params(base_params(op)))
    assert settle(window)
    run_form(window)
    finish_jobs(window)
    after = {e.id: e.version for e in store.entries()}
    made = [i for i, version in after.items() if before.get(i) != version]
    assert made
    for item in made[:2]:
        ctx.set_lit(item)
        ctx.select_item(item)
        for kind in PANES:
            window.centre.frames[0].show_kind(kind)
            assert settle(window)
    assert not told
    for _ in range(24):  # what was lit and chosen is taken back before the run
        if {e.id: e.version for e in store.entries()} == before:
            break
        ctx.undo()
        finish_jobs(window)
    assert {e.id for e in store.entries()} == set(before)

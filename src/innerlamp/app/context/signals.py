"""What the window tells its parts: all signals of the context."""

from __future__ import annotations

from typing import Any

from ...core.jobs.runner import Job
from ...core.project.records import Notice
from ...core.signal import Signal
from ..session.view import Cursor, Selection


class Signals:
    """Signals that all parts of the window share; views listen to them and re-read what they show."""

    def __init__(self) -> None:
        self.project_changed: Signal[[]] = Signal()
        self.items_changed: Signal[[Notice]] = Signal()
        self.loaded: Signal[[str]] = Signal()
        self.lit_changed: Signal[[]] = Signal()
        self.selected_changed: Signal[[str]] = Signal()
        self.cursor_changed: Signal[[Cursor]] = Signal()
        self.selection_changed: Signal[[Selection]] = Signal()
        self.section_changed: Signal[[]] = Signal()
        self.legend_changed: Signal[[str]] = Signal()
        self.view_changed: Signal[[]] = Signal()
        self.theme_changed: Signal[[]] = Signal()
        self.go_to: Signal[[float, float, float]] = Signal()
        self.pointed: Signal[[Selection]] = Signal()
        self.clicked: Signal[[float, float, str]] = Signal()
        # A pane asks for a form (operation, inputs, values) or for another pane (kind, what it is to show).
        self.ask: Signal[[str, dict[str, Any], dict[str, Any]]] = Signal()
        self.wish: Signal[[str, str]] = Signal()
        self.jobs_changed: Signal[[list[Job]]] = Signal()
        self.compared: Signal[[int, int]] = Signal()
        self.landed: Signal[[Job, dict[str, str]]] = Signal()
        self.said: Signal[[str, str]] = Signal()
        # What the open form works on: an area that every pane lets be drawn and reshaped, cells and readings to show.
        self.area_changed: Signal[[]] = Signal()
        self.sketch_changed: Signal[[]] = Signal()
        self.grid_changed: Signal[[]] = Signal()  # the local grid that coordinates are told in

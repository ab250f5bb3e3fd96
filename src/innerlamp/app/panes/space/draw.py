"""Sketching in 3D: lines, outlines and notes on what is drawn, in the section, on a measured plane or at an elevation."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QLineEdit
from vtkmodules.vtkRenderingCore import vtkProp3D, vtkRenderer

from ....core.compute.geometry.planes import SectionPlane
from ....core.numbers import number_or_none
from ...context.context import Context
from ...painters.space.actors import actor
from ...painters.space.polydata import polydata
from ...scene.sight import Line, Sight
from ..drawing.space_draw import SHAPES, SNAP_PIXELS, Place, SpaceDraw, draw_box

DRAWN, SECTION, MEASURED, LEVEL = "what is drawn", "the section", "the measured plane", "an elevation"
_TIP = "line, outline: click places, double-click or Enter ends. note: click where it stands"


class SceneDraw(SpaceDraw):
    """The row of drawing controls over the 3D pane. A click falls on what `ground` says, or snaps to a place near it."""

    def __init__(
        self,
        ctx: Context,
        renderer: vtkRenderer,
        sight: Sight,
        measured: Callable[[], list[np.ndarray]],
        changed: Callable[[], None],
        leave: Callable[[], None],
    ) -> None:
        super().__init__(ctx, "scene", SHAPES, _TIP, leave)
        self._renderer, self.sight, self._measured, self._changed = renderer, sight, measured, changed
        self._known: tuple[object, np.ndarray] = (None, np.empty((0, 3)))
        self._props: list[vtkProp3D] = []
        self.ground = draw_box("sceneDrawGround", "Where clicks fall: on what is drawn, or on a plane", 8)
        self.ground.addItems([DRAWN, SECTION, MEASURED, LEVEL])
        self.level = QLineEdit()
        self.level.setObjectName("sceneDrawLevel")
        self.level.setPlaceholderText("m")
        self.level.setFixedWidth(60)
        self.level.setToolTip("Elevation of the places that are clicked, in metres")
        self._row.insertWidget(2, self.ground)
        self._row.insertWidget(3, self.level)
        self._row.addStretch(1)
        self.ground.currentTextChanged.connect(lambda text: self.level.setVisible(text == LEVEL))
        self.level.hide()

    def begin(self) -> None:
        self.ctx.say(
            "Draw: click in the scene; a drag still turns it. Double-click or Enter ends, Ctrl+Z takes a click back, Esc leaves."
        )

    # ---- where a click goes

    def place(self, point: QPoint) -> Place | None:
        """Where a click goes: to a place near it that is known, else on the ground that is chosen; None for nowhere."""
        pixel = np.array([point.x(), point.y()], dtype=float)
        key = self.lit_key()
        if key != self._known[0]:
            self._known = (key, self.lit_places())
        mine = np.array([p.xyz for p in self.sketch]).reshape(-1, 3)
        known = np.concatenate([self._known[1], mine])
        away = np.linalg.norm(self.sight.pixels(known) - pixel, axis=1)
        if np.isfinite(away).any() and np.nanmin(away) <= SNAP_PIXELS:
            x, y, z = known[int(np.nanargmin(away))].tolist()
            return Place((pixel[0], pixel[1]), (x, y, z), True)
        found = self._on_ground(point)
        if found is None:
            return None
        x, y, z = found.tolist()
        return Place((pixel[0], pixel[1]), (x, y, z))

    def _on_ground(self, point: QPoint) -> np.ndarray | None:
        ground, line = self.ground.currentText(), self.sight.line(point)
        if ground == DRAWN:
            return self.sight.place_at(point)
        if ground == SECTION:
            return in_section(line, self.ctx.section)
        if ground == MEASURED:
            points = self._measured()
            if len(points) < 3:
                return None
            a, b, c = points
            return line.on_plane(a, np.cross(b - a, c - a))
        level = number_or_none(self.level.text())
        return None if level is None else line.on_plane(np.array([0.0, 0.0, level]), np.array([0.0, 0.0, 1.0]))

    def _why_not(self) -> str:
        """What keeps a click from falling anywhere."""
        return {
            DRAWN: "Nothing is drawn there: click on a surface, a hole or a grid.",
            SECTION: "The section does not lie there: click inside its frame."
            if self.ctx.section is not None
            else "Draw a section on the map first.",
            MEASURED: "The plane does not lie there: turn the view."
            if len(self._measured()) == 3
            else "Measure three points first (M): they give the plane.",
            LEVEL: "Type the elevation, and look at it from above or below.",
        }[self.ground.currentText()]

    # ---- mouse

    def moved(self, point: QPoint) -> None:
        """Show where the next click would go to, where that is quick to tell."""
        if self.isVisible() and (self.sketch or self.ground.currentText() != DRAWN):
            self.show_sketch(self.place(point) if self.ground.currentText() != DRAWN else None)

    def clicked(self, point: QPoint, double: bool) -> None:
        """Take a click in the scene."""
        if double:
            self.finish()
            return
        there = self.place(point)
        if there is None:
            self.ctx.say(self._why_not(), "look")
        else:
            self.take(there, False)

    def show_sketch(self, ahead: Place | None = None) -> None:
        for prop in self._props:
            self._renderer.RemoveViewProp(prop)
        self._props.clear()
        at = np.array([p.xyz for p in (*self.sketch, *([ahead] if ahead else []))]).reshape(-1, 3)
        if self.isVisible() and len(at):
            at = self.sight.in_scene(at)
            lit = QColor(self.ctx.theme.lit)
            self._props.append(actor(polydata(at, vertices=True), lit, point_size=9, shaded=False))
            if len(at) > 1:
                run = np.column_stack([np.arange(len(at) - 1), np.arange(1, len(at))])
                if self.mode.currentText() == "outline" and len(at) > 2:
                    run = np.vstack([run, (len(at) - 1, 0)])
                line = actor(polydata(at, lines=run), lit, shaded=False)
                line.GetProperty().SetLineWidth(2.5)
                self._props.append(line)
        for prop in self._props:
            prop.PickableOff()
            self._renderer.AddViewProp(prop)
        self._changed()


def in_section(line: Line, plane: SectionPlane | None) -> np.ndarray | None:
    """Return where a line of sight first meets a section, bends and all; None where it does not."""
    if plane is None:
        return None
    best: tuple[float, np.ndarray] | None = None
    for a, b in zip(plane.places[:-1], plane.places[1:], strict=True):
        run = b - a
        found = line.on_plane(np.array([*a, 0.0]), np.array([-run[1], run[0], 0.0]))
        if found is None:
            continue
        share = float((found[:2] - a) @ run) / max(float(run @ run), 1e-12)
        far = float(np.linalg.norm(found - line.start))
        if -1e-9 <= share <= 1.0 + 1e-9 and (best is None or far < best[0]):
            best = (far, found)
    return None if best is None else best[1]

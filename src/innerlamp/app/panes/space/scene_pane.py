"""The 3D pane: VTK in a plain widget, drawn only when something changed."""

from __future__ import annotations

import time
from typing import Any, ClassVar

import numpy as np
import vtkmodules.vtkInteractionStyle
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401 - registers the OpenGL classes
from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QColor, QKeyEvent, QMouseEvent, QResizeEvent, QShowEvent
from PySide6.QtWidgets import QPushButton, QToolTip
from vtkmodules.vtkInteractionStyle import vtkInteractorStyleTrackballCamera
from vtkmodules.vtkRenderingCore import vtkProp3D, vtkRenderer

from ....core.items.attributes import is_ground
from ....core.project.records import Notice
from ...context.context import Context, Cursor, Selection
from ...painters.kit.views import SceneView
from ...painters.layers import Layers
from ...painters.space.actors import actor
from ...painters.space.polydata import cube, polydata
from ...scene.axes import SceneAxes
from ...scene.cameras import box_of, camera_as_data, direction_of, looking_words, seen_from, set_camera
from ...scene.canvas import Canvas
from ...scene.marks import CornerCompass, CornerScale, corner_caption, dress_words
from ...scene.quality import Quality, quiet_background
from ...scene.sight import Sight
from ...scene.words import faded_prop, is_words, part_labels
from ...theme.plain import plain_tip
from ..base.area_handles import SceneArea
from ..base.boxes import exaggeration_box, show_exaggeration
from ..base.pane import Pane
from ..base.run_sketch import in_scene
from ..base.selection import selected_places
from ..base.under_pointer import words_at
from .draw import SceneDraw
from .hands import SceneHands
from .kept_views import SELECTED, VIEWS, ViewChoice
from .measure import Measure, measure_switch
from .share import ShareMenu
from .slab import Slab, section_outline
from .slab_handles import SlabHandles


class ScenePane(Pane):
    """Everything that is lit in space. Left drag turns, middle drag shifts, wheel zooms, arrow keys turn."""

    kind: ClassVar[str] = "scene"
    title: ClassVar[str] = "3D"
    delay: ClassVar[int] = 110

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.view = ViewChoice(ctx, self.look_from, self._camera)
        self.tools.addWidget(self.view)
        self.vertical = exaggeration_box(ctx)
        self.tools.addWidget(self.vertical)
        self.measuring = measure_switch(self._measure_toggled)
        self.tools.addWidget(self.measuring)
        self.slab = Slab(ctx, self._cut_again, lambda: self.measure.points)
        self.tools.addWidget(self.slab)
        self.sketching = QPushButton("Draw")
        self.sketching.setCheckable(True)
        self.sketching.setToolTip("Draw lines, outlines and notes in space: on what is seen, or on a plane (D)")
        self.tools.addWidget(self.sketching)
        self.sharing = ShareMenu(ctx, self.as_stop)
        self.tools.addWidget(self.sharing)
        self.frame_seconds = 0.0
        self._initialized = False
        self._frame = QTimer(self)
        self._frame.setSingleShot(True)
        self._frame.setInterval(30)
        self._frame.timeout.connect(self._render_now)
        self.canvas = Canvas(self, self)
        self.canvas.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.body.addWidget(self.canvas)
        self.renderer = vtkRenderer()
        self.window_ = self.canvas.GetRenderWindow()
        self.window_.AddRenderer(self.renderer)
        self.quality = Quality(self.renderer, self.window_)
        style = vtkInteractorStyleTrackballCamera()
        self.interactor = self.window_.GetInteractor()
        self.interactor.SetInteractorStyle(style)
        self.caption = corner_caption(self.renderer)
        self.scale = CornerScale(self.renderer)
        self.compass = CornerCompass(self.renderer)
        self.axes = SceneAxes(self.renderer)
        self.measure = Measure(self.renderer)
        self.origin = np.zeros(3)
        self.sight = Sight(self.renderer, self.canvas, lambda: self.origin, lambda: ctx.exaggeration)
        self.handles = SlabHandles(self.sight)
        self.draw_tool = SceneDraw(
            ctx,
            self.renderer,
            self.sight,
            lambda: self.measure.points,
            self.render_soon,
            lambda: self.sketching.setChecked(False),
        )
        self.body.insertWidget(0, self.draw_tool)
        self.sketching.toggled.connect(self._sketch_toggled)
        self.area = SceneArea(ctx, self.sight)
        self._off += [ctx.area_changed.connect(self.on_section), ctx.sketch_changed.connect(self.on_section)]
        self.hands = SceneHands(
            ctx, self.handles, self.area, self.draw_tool, self.measuring.isChecked, self._measure_at, self.pick
        )
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(180)
        self._rest.timeout.connect(self._come_to_rest)
        self._observers = [
            self.interactor.AddObserver("StartInteractionEvent", lambda *_: self._begin_to_move()),
            self.interactor.AddObserver("InteractionEvent", lambda *_: self._update_caption()),
            self.interactor.AddObserver("EndInteractionEvent", lambda *_: self._rest.start()),
        ]
        self.layers = Layers(self.renderer.AddViewProp, self.renderer.RemoveViewProp, faded_prop)
        self._fixtures: list[vtkProp3D] = []
        self._cursor = actor(cube(14.0), QColor(ctx.theme.lit), shaded=False)
        self._cursor.VisibilityOff()
        self._cursor.PickableOff()
        self.renderer.AddActor(self._cursor)
        self._chosen: list[vtkProp3D] = []
        self._fitted = False
        self._hover = QTimer(self)
        self._hover.setSingleShot(True)
        self._hover.setInterval(260)
        self._hover.timeout.connect(self._name_what_lies_there)
        self._pointer = QPoint()
        self.canvas.setMouseTracking(True)
        self.canvas.installEventFilter(self)
        self.view.offer()
        self.redraw()

    # ---- drawing

    def draw(self) -> None:
        ctx = self.ctx
        show_exaggeration(self.vertical, ctx)
        entries = ctx.lit_entries()
        if not self.layers:
            self._place_origin()
        draped = any(e.kind == "grid" and not is_ground(e.attributes) for e in entries)
        x, y, z = self.origin.tolist()
        self.layers.update(ctx, SceneView((x, y, z), draped), entries, wait=True)
        self._words_on_top()
        self._stretch()
        self.slab.cut(self.layers.graphics(), self.origin)
        self._dress()
        self._update_caption()
        self._draw_section()
        self._draw_measure()
        self.draw_tool.show_sketch()
        self.show_selection(ctx.selection, render=False)
        if not self._fitted and self.layers and not ctx.reading:
            self._fitted = True
            self.look_from(next(iter(VIEWS)))
        self.render_soon()

    def _place_origin(self) -> None:
        boxes = np.array([e.bounds for e in self.ctx.entries()] or [(0.0,) * 6])
        with np.errstate(all="ignore"):
            good = boxes[np.isfinite(boxes[:, :4]).all(axis=1)]
        if len(good):
            self.origin = np.array([good[:, 0].min(), good[:, 2].min(), 0.0])

    def _words_on_top(self) -> None:
        # Translucent surfaces are drawn in the order of the props: words added last stay readable.
        for prop in self.layers.graphics():
            if is_words(prop):
                self.renderer.RemoveViewProp(prop)
                self.renderer.AddViewProp(prop)

    def _stretch(self) -> None:
        factor = self.ctx.exaggeration
        for prop in self.layers.graphics():
            prop.SetScale(1.0, 1.0, 1.0)
            if is_words(prop):
                x, y, z = prop.GetPosition()
                base = getattr(prop, "base_z", None)
                if base is None:
                    base = z
                    prop.base_z = z
                prop.SetPosition(x, y, base * factor)
            else:
                prop.SetScale(1.0, 1.0, factor)

    def _dress(self) -> None:
        back = QColor(self.ctx.theme.canvas)
        quiet_background(self.renderer, back, dark=back.lightnessF() < 0.5)
        ink = QColor(self.ctx.theme.text)
        dress_words(self.caption, ink, back)
        self.scale.dress(ink, back)
        self.compass.dress(ink, QColor(self.ctx.theme.faint))

    def _draw_section(self) -> None:
        for prop in self._fixtures:
            self.renderer.RemoveViewProp(prop)
        self._fixtures.clear()
        box, plane = self._box(), self.ctx.section
        lit = QColor(self.ctx.theme.lit)
        self._fixtures += in_scene(self.ctx, self.origin) + self.area.graphics(lit)
        if box is None or plane is None:
            self.handles.stand(None, 0.0)
        else:
            self._fixtures += section_outline(plane, box, self.origin, self.ctx.exaggeration, lit)
            self.handles.stand(plane if self.slab.isChecked() else None, float(box[1][2] + self.origin[2]))
            self._fixtures += self.handles.graphics(lit)
        for prop in self._fixtures:
            prop.PickableOff()
            self.renderer.AddViewProp(prop)

    def _box(self) -> tuple[np.ndarray, np.ndarray] | None:
        entries = [e for e in self.ctx.lit_entries() if np.isfinite(e.bounds[:4]).all()]
        low, high = box_of(entries)
        return (low - self.origin, high - self.origin) if entries else None

    def drawn_items(self) -> list[str]:
        """Ids of the items in the scene."""
        return self.layers.items()

    def on_project(self) -> None:
        self.view.offer()
        self.layers.clear()
        self._fitted = False
        self.redraw()

    def _cut_again(self) -> None:
        self.slab.cut(self.layers.graphics(), self.origin)
        self._draw_section()
        self.render_soon()

    def on_items(self, notice: Notice) -> None:
        super().on_items(notice)
        self.draw_tool.on_items(tuple(notice.added))

    def on_loaded(self, item: str) -> None:
        super().on_loaded(item)
        self.draw_tool.on_items((item,))

    def on_section(self) -> None:
        self.slab.cut(self.layers.graphics(), self.origin)
        self._draw_section()
        self.render_soon()

    # ---- camera

    def _camera(self) -> list[float]:
        return camera_as_data(self.renderer.GetActiveCamera(), self.origin, self.ctx.exaggeration)

    def as_stop(self) -> dict[str, Any]:
        """The view as it is now, as a stop of a walk-through."""
        lit = [e for e in self.ctx.lit_entries() if e.kind not in ("page", "walk")]
        return {
            "name": "View",
            "lit": [e.id for e in lit],
            "colour_by": {e.id: self.ctx.attribute_of(e) for e in lit if self.ctx.attribute_of(e)},
            "camera": self._camera(),
            "exaggeration": self.ctx.exaggeration,
        }

    def look_from(self, name: str) -> None:
        """Look from one of `VIEWS` at everything, or from where the camera is at the selected item."""
        if name == SELECTED:
            self.fit_item(self.ctx.selected)
            return
        self.view.setCurrentText(name)
        kept = self.view.kept().get(name)
        if kept is not None:
            set_camera(self.renderer.GetActiveCamera(), kept, self.origin, self.ctx.exaggeration)
            self.renderer.ResetCameraClippingRange()
            self._update_caption()
            self.render_soon()
            return
        azimuth, altitude = VIEWS[name]
        if azimuth is None:
            azimuth = (self.ctx.section.view_azimuth + 180) % 360 if self.ctx.section else 180
        self.aim(float(azimuth), float(altitude))
        self.fit()

    def aim(self, azimuth: float, altitude: float) -> None:
        """Put the camera in a direction (degrees clockwise from north, degrees above) from what it looks at."""
        camera = self.renderer.GetActiveCamera()
        focus = np.array(camera.GetFocalPoint())
        away, up = seen_from(azimuth, altitude)
        camera.SetPosition(*(focus + away * max(camera.GetDistance(), 1.0)))
        camera.SetViewUp(*up)
        camera.OrthogonalizeViewUp()
        self._update_caption()

    def fit(self) -> None:
        box = self._box()
        if box is not None:
            self._frame_box(*box)

    def fit_item(self, item: str) -> None:
        """Bring one item into view without turning the camera."""
        entry = self.ctx.entry(item)
        if entry is not None and np.isfinite(entry.bounds).all():
            b = entry.bounds
            self._frame_box(np.array([b[0], b[2], b[4]]) - self.origin, np.array([b[1], b[3], b[5]]) - self.origin)

    def _frame_box(self, low: np.ndarray, high: np.ndarray) -> None:
        factor = self.ctx.exaggeration
        # Only the focus and distance change; the direction stays.
        self.renderer.ResetCamera(low[0], high[0], low[1], high[1], low[2] * factor, high[2] * factor)
        self.renderer.GetActiveCamera().Dolly(1.2)  # nearer, without changing the lens
        self.renderer.ResetCameraClippingRange()
        self._update_caption()
        self.render_soon()

    def direction(self) -> tuple[float, float]:
        """Direction in which the viewer looks (degrees clockwise from grid north) and how far down (degrees)."""
        return direction_of(self.renderer.GetActiveCamera())

    def _update_caption(self) -> None:
        self.caption.SetInput(looking_words(self.renderer.GetActiveCamera(), self.ctx.exaggeration))
        self._turn_furniture()

    def _turn_furniture(self) -> None:
        """Let what depends on the camera follow it: scale, compass, and the sides on which the axes lie."""
        width, height = self.window_.GetSize()
        ratio = float(self.canvas.devicePixelRatioF())
        self.scale.update(height, ratio)
        self.compass.update(width, height, ratio)
        theme = self.ctx.theme
        self.axes.update(self._box(), self.origin, self.ctx.exaggeration, QColor(theme.text), QColor(theme.canvas))

    def _part_labels(self) -> None:
        """Hide labels that would lie on others as the camera stands; those of what was lit last come first."""
        fixed = self.axes.labels()
        mine = [p for i in reversed(self.layers.items()) for p in self.layers.graphics(i) if is_words(p)]
        away = [p for p in mine if not self.slab.holds(p, self.origin)]
        for prop in away:
            prop.VisibilityOff()
        labels = [p for p in mine if p not in away] + fixed
        part_labels(labels, self.renderer.GetActiveCamera(), self.window_.GetSize(), self.canvas.devicePixelRatioF())

    def _begin_to_move(self) -> None:
        self._rest.stop()
        self.quality.move()
        for prop in self.layers.graphics():  # words take a sixth of a frame
            if is_words(prop):
                prop.VisibilityOff()
        self._show_detail("coarse")

    def _come_to_rest(self) -> None:
        self.quality.still()
        self._show_detail("fine")
        self.render_soon()

    def _show_detail(self, wanted: str) -> None:
        """Of what is drawn in two ways show the one for a scene at rest (fine), or for one that moves (coarse)."""
        for item in self.layers.items():
            mine = [p for p in self.layers.graphics(item) if hasattr(p, "detail")]
            if any(p.detail == "coarse" for p in mine):
                for prop in mine:
                    prop.SetVisibility(prop.detail == wanted)

    def go_to(self, x: float, y: float, z: float) -> None:
        z = z if np.isfinite(z) else 0.0
        place = (np.array([x, y, z]) - self.origin) * [1, 1, self.ctx.exaggeration]
        camera = self.renderer.GetActiveCamera()
        shift = np.array(camera.GetPosition()) - np.array(camera.GetFocalPoint())
        distance = float(np.linalg.norm(shift))
        shift *= min(1.0, 1600.0 / max(distance, 1.0))
        camera.SetFocalPoint(*place)
        camera.SetPosition(*(place + shift))
        self.renderer.ResetCameraClippingRange()
        self._update_caption()
        self.render_soon()

    # ---- cursor, selection, picking

    def show_cursor(self, cursor: Cursor) -> None:
        show = np.isfinite(cursor.x) and np.isfinite(cursor.z) and cursor.source != self.kind and bool(self.layers)
        self._cursor.SetVisibility(bool(show))
        if show:
            x, y, z = np.array([cursor.x, cursor.y, cursor.z]) - self.origin
            self._cursor.SetPosition(x, y, z * self.ctx.exaggeration)
        self.render_soon()

    def on_selected(self, item: str) -> None:
        self.show_selection(self.ctx.selection)

    def show_selection(self, selection: Selection, render: bool = True) -> None:
        for prop in self._chosen:
            self.renderer.RemoveViewProp(prop)
        self._chosen.clear()
        xyz = selected_places(self.ctx, selection)
        xyz = xyz[np.isfinite(xyz).all(axis=1)] if len(xyz) else xyz
        if len(xyz):
            mesh = polydata((xyz - self.origin) * [1, 1, self.ctx.exaggeration], vertices=True)
            mark = actor(mesh, QColor(self.ctx.theme.lit), point_size=14, shaded=False)
            mark.PickableOff()
            self._chosen.append(mark)
            self.renderer.AddActor(mark)
        if render:
            self.render_soon()

    def pick(self, point: QPoint) -> None:
        """Put the shared cursor on what is drawn at a pixel of the canvas."""
        place = self.sight.place_at(point)
        if place is not None:
            self.ctx.point_at(float(place[0]), float(place[1]), float(place[2]), self.kind)

    def _measure_toggled(self, on: bool) -> None:
        if not on:
            self.measure.clear()
        self._draw_measure()

    def _sketch_toggled(self, on: bool) -> None:
        self.draw_tool.open(on)
        if on:
            self.canvas.setFocus()

    def _draw_measure(self) -> None:
        theme = self.ctx.theme
        self.measure.draw(
            self.origin, self.ctx.exaggeration, QColor(theme.lit), QColor(theme.text), QColor(theme.canvas)
        )
        self.render_soon()

    def _measure_at(self, point: QPoint) -> None:
        place = self.sight.place_at(point)
        if place is not None:
            self.measure.add(place)
            self._draw_measure()

    def under(self, point: QPoint) -> str:
        """What is drawn at a pixel of the canvas: its name and values; '' for nothing."""
        place = self.sight.place_at(point)
        if place is None:
            return ""
        for name in self.layers.items():
            if self.sight.picked(self.layers.graphics(name)):
                entry, item = self.ctx.entry(name), self.ctx.item(name)
                return words_at(item, self.ctx.attribute_of(entry), place) if entry and item is not None else ""
        return ""

    def _name_what_lies_there(self) -> None:
        if self.closed or not self._initialized or self.quality.moving:
            return
        words = self.under(self._pointer)
        if words:
            QToolTip.showText(self.canvas.mapToGlobal(self._pointer), plain_tip(words), self.canvas)
        else:
            QToolTip.hideText()

    def eventFilter(self, watched: object, event: QEvent) -> bool:  # noqa: N802
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.MouseMove:
            self._pointer = event.position().toPoint()
            if event.buttons() == Qt.MouseButton.NoButton:
                self._hover.start()
        if event.type() == QEvent.Type.Leave:
            self._hover.stop()
        if isinstance(event, QMouseEvent):
            return self.hands.take(event)
        if event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress) and self.draw_tool.key(event):
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            turn = {
                Qt.Key.Key_Left: (-10, 0),
                Qt.Key.Key_Right: (10, 0),
                Qt.Key.Key_Up: (0, 8),
                Qt.Key.Key_Down: (0, -8),
            }.get(Qt.Key(event.key()))
            if turn:
                azimuth, down = self.direction()
                self.aim((azimuth + 180 + turn[0]) % 360, float(np.clip(down + turn[1], -80, 89)))
            elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
                self.renderer.GetActiveCamera().Zoom(0.8 if event.key() == Qt.Key.Key_Minus else 1.25)
            elif event.key() == Qt.Key.Key_Home:
                self.fit()
            elif event.key() == Qt.Key.Key_M:
                self.measuring.toggle()
            elif event.key() == Qt.Key.Key_L:
                self.slab.toggle()
            elif event.key() == Qt.Key.Key_D:
                self.sketching.toggle()
            else:
                return True  # the interactor's own single-letter commands are not ours
            self.renderer.ResetCameraClippingRange()
            self.render_soon()
            return True
        return False

    # ---- frames

    def render_soon(self) -> None:
        """Draw one frame soon; many calls in a row give one frame."""
        if not self.closed and not self._frame.isActive():
            # Slow frames are spaced out so that the window stays usable.
            self._frame.setInterval(30 if self.frame_seconds < 0.08 else int(min(600, 2000 * self.frame_seconds)))
            self._frame.start()

    @property
    def settled(self) -> bool:
        return super().settled and not self._frame.isActive() and not self._rest.isActive()

    def _render_now(self) -> None:
        if self.closed or not self.isVisible() or not self._initialized:
            return
        if not self._fitted and self.ctx.reading:
            return  # nobody knows yet where to look from: what has come by then is drawn once
        begin = time.perf_counter()
        self._turn_furniture()
        self.renderer.ResetCameraClippingRange()
        if not self.quality.moving:
            self._part_labels()
            self.quality.still()
        self.window_.Render()
        self.frame_seconds = time.perf_counter() - begin

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        super().showEvent(event)
        if not self._initialized:
            self._initialized = True
            self.interactor.Initialize()
        self.render_soon()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self.render_soon()

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.close_pane()
        super().closeEvent(event)

    def close_pane(self) -> None:
        if self.closed:
            return
        super().close_pane()
        self._frame.stop()
        self._rest.stop()
        self._hover.stop()
        for observer in self._observers:
            self.interactor.RemoveObserver(observer)
        self.layers.clear()
        self.axes.clear()
        self.renderer.RemoveAllViewProps()
        self.window_.Finalize()
        self.canvas.removeEventFilter(self)
        self.canvas.close()

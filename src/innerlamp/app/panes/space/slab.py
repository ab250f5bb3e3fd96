"""The section in 3D: its outline, and its slab, outside of which every item is cut off."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QMenu, QToolButton
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPlaneCollection
from vtkmodules.vtkRenderingCore import vtkActor, vtkProp3D

from ....core.compute.geometry.planes import SectionPlane, Side, in_corridor
from ....core.items.fields import BlockModel
from ...context.context import Context
from ...painters.space.actors import actor
from ...painters.space.models import plane_as_style
from ...painters.space.polydata import polydata
from ...painters.space.scene_painters import text
from .slab_handles import behind


class Slab(QToolButton):
    """The switch of the slab; `changed` is called when it is turned on or off."""

    def __init__(self, ctx: Context, changed: Callable[[], None], measured: Callable[[], list[np.ndarray]]) -> None:
        super().__init__()
        self.ctx, self._changed, self._measured = ctx, changed, measured
        # A place on a plane and the direction (east, north, up) in which everything is kept.
        self.cut_at: tuple[np.ndarray, np.ndarray] | None = None
        self.setPopupMode(QToolButton.ToolButtonPopupMode.MenuButtonPopup)
        menu = QMenu(self)
        menu.aboutToShow.connect(self._offers)
        self.setMenu(menu)
        self.setText("Slab")
        self.setCheckable(True)
        self.setToolTip(
            "Show only what lies in the corridor of the section; drag or step the section to move it (L). Its handles in the scene move and turn it, its menu cuts at a plane"
        )
        self.toggled.connect(self._toggled)

    def _offers(self) -> None:
        """Cutting at a plane: the one that three measured points lie in, or the section."""
        menu = self.menu()
        menu.clear()
        points, plane = self._measured(), self.ctx.section
        for words, way in (("keep what lies below", -1.0), ("keep what lies above", 1.0)):
            action = menu.addAction(f"Cut at the measured plane, {words}")
            action.setEnabled(len(points) == 3)
            action.triggered.connect(lambda _=False, way=way: self.cut_measured(way))
        for words, way in (("behind", 1.0), ("in front of", -1.0)):
            action = menu.addAction(f"Cut at the section, keep what lies {words} it")
            action.setEnabled(plane is not None and not plane.bends)
            action.triggered.connect(lambda _=False, way=way: self.cut_at_section(way))
        action = menu.addAction("No cut")
        action.setEnabled(self.cut_at is not None)
        action.triggered.connect(lambda _=False: self._cut(None))
        menu.addSeparator()
        models = bool(self._models())
        action = menu.addAction("Slice block models at the measured plane")
        action.setEnabled(models and len(points) == 3)
        action.triggered.connect(lambda _=False: self._slice(self._measured_plane()))
        action = menu.addAction("Slice block models at the section")
        action.setEnabled(models and plane is not None and not plane.bends)
        action.triggered.connect(lambda _=False: self._slice(self._section_plane()))

    def _models(self) -> list[tuple[str, BlockModel]]:
        """The block models that are seen."""
        found = [(e.id, self.ctx.item(e.id)) for e in self.ctx.lit_entries() if e.kind == "blocks"]
        return [(name, item) for name, item in found if isinstance(item, BlockModel)]

    def _slice(self, at: tuple[np.ndarray, np.ndarray] | None) -> None:
        """Show block models as their slice at a plane; it stays there, and its numbers stand in the card."""
        if at is not None:
            for name, item in self._models():
                style = replace(self.ctx.style(name), form="slice at a plane", plane=plane_as_style(item, *at))
                self.ctx.restyle(name, style)

    def _cut(self, at: tuple[np.ndarray, np.ndarray] | None) -> None:
        self.cut_at = at
        self._changed()

    def cut_measured(self, way: float) -> None:
        """Cut everything at the plane of three measured points; `way` is 1 to keep what lies above, -1 below."""
        found = self._measured_plane()
        if found is not None:
            self._cut((found[0], way * found[1]))

    def _measured_plane(self) -> tuple[np.ndarray, np.ndarray] | None:
        """A place on the plane of three measured points, and its upward unit normal."""
        a, b, c = self._measured()
        normal = np.cross(b - a, c - a)
        size = float(np.linalg.norm(normal))
        if size < 1e-9:
            self.ctx.say("The three points lie on one line: there is no plane through them.", "look")
            return None
        up = normal / size
        return a, up if up[2] >= 0 else -up

    def _section_plane(self) -> tuple[np.ndarray, np.ndarray] | None:
        """A place on the section and the level unit vector that points behind it."""
        plane = self.ctx.section
        return None if plane is None else (np.array([plane.x0, plane.y0, 0.0]), behind(plane))

    def cut_at_section(self, way: float) -> None:
        """Cut everything at the section as it lies now; `way` is 1 to keep what lies behind it, -1 in front."""
        found = self._section_plane()
        if found is not None:
            self._cut((found[0], way * found[1]))

    def _toggled(self, on: bool) -> None:
        section = self.ctx.section
        if on and (section is None or section.bends):
            self.setChecked(False)
            why = (
                "Draw a section on the map first" if section is None else "A fence has no slab: draw a straight section"
            )
            self.ctx.say(f"{why}: the slab is its corridor.", "look")
        else:
            self._changed()

    def cut(self, props: Iterable[vtkProp3D], origin: np.ndarray) -> None:
        """Cut everything to the slab, or to nothing."""
        plane, ctx = self.ctx.section, self.ctx
        on = self.isChecked() and plane is not None and not plane.bends
        planes = slab_planes(plane, ctx.corridor, ctx.corridor_side, origin) if on and plane is not None else None
        if self.cut_at is not None:
            planes = planes or vtkPlaneCollection()
            place, keep = self.cut_at
            one = vtkPlane()  # the scene is stretched upwards: so is the place, and the direction the other way round
            one.SetOrigin(*((place - origin) * [1.0, 1.0, ctx.exaggeration]).tolist())
            one.SetNormal(*(keep / [1.0, 1.0, ctx.exaggeration]).tolist())
            planes.AddItem(one)
        cut_off(props, planes)

    def holds(self, prop: vtkProp3D, origin: np.ndarray) -> bool:
        """Whether words stand within the slab and on the side that a cut keeps, where there are any."""
        plane = self.ctx.section
        if self.cut_at is not None:
            stand = np.array(prop.GetPosition()) / [1.0, 1.0, self.ctx.exaggeration] + origin
            if float((stand - self.cut_at[0]) @ self.cut_at[1]) < 0:
                return False
        if plane is None or plane.bends or not self.isChecked():
            return True
        at = np.array(prop.GetPosition()) + origin
        _, off = plane.to_plane(at[:1], at[1:2])
        return bool(in_corridor(off, self.ctx.corridor, self.ctx.corridor_side)[0])


def slab_planes(plane: SectionPlane, width: float, side: Side, origin: np.ndarray) -> vtkPlaneCollection:
    """Return the two planes between which a scene is kept, relative to its origin."""
    back = behind(plane)
    start = np.array([plane.x0, plane.y0, 0.0]) - [origin[0], origin[1], 0.0]
    thick = max(width, 0.05)
    low = 0.0 if side == "behind" else -thick
    high = 0.0 if side == "in front" else thick
    out = vtkPlaneCollection()
    for at, normal in ((low, back), (high, -back)):
        cut = vtkPlane()
        cut.SetOrigin(*(start + at * back).tolist())
        cut.SetNormal(*normal.tolist())
        out.AddItem(cut)
    return out


def cut_off(props: Iterable[vtkProp3D], planes: vtkPlaneCollection | None) -> None:
    """Keep of actors what lies between planes; None keeps all."""
    for prop in props:
        if isinstance(prop, vtkActor) and prop.GetMapper() is not None:
            if planes is None:
                prop.GetMapper().RemoveAllClippingPlanes()
            else:
                prop.GetMapper().SetClippingPlanes(planes)


def section_outline(
    plane: SectionPlane, box: tuple[np.ndarray, np.ndarray], origin: np.ndarray, factor: float, colour: QColor
) -> list[vtkProp3D]:
    """Return the frame of a section from the lowest to the highest of a box (relative to the origin), its ends named."""
    low, high = box[0][2], box[1][2]
    along = plane.places - origin[:2]
    count = len(along)
    corners = np.concatenate([np.column_stack([along, np.full(count, z)]) for z in (low, high)])
    edges = [[k, k + 1] for k in (*range(count - 1), *range(count, 2 * count - 1))] + [
        [k, k + count] for k in range(count)
    ]
    frame = actor(polydata(corners, lines=np.array(edges)), colour, shaded=False)
    frame.GetProperty().SetLineWidth(2.0)
    frame.SetScale(1.0, 1.0, factor)
    names = zip("AB", (corners[count], corners[-1]), strict=True)
    letters = [text(name, (x, y, z * factor), colour, 14, bold=True) for name, (x, y, z) in names]
    for letter in letters:
        letter.SetDisplayOffset(0, 9)  # above the handles of the slab
    return [frame, *letters]

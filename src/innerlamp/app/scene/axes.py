"""Axes of the 3D scene: easting, northing and elevation with ticks, on the sides that lie behind."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QColor
from vtkmodules.vtkRenderingCore import vtkActor, vtkBillboardTextActor3D, vtkProp3D, vtkRenderer

from ...core.numbers import round_length
from ..painters.space.actors import actor
from ..painters.space.polydata import polydata
from ..painters.space.scene_painters import text

_TICKS = 5  # about so many along an axis
_WORDS = 11  # points


def ticks(low: float, high: float, about: int = _TICKS) -> np.ndarray:
    """Round places between two values, some `about` of them."""
    if not high > low:
        return np.array([low])
    step = round_length((high - low) / about)
    first = np.ceil(low / step - 1e-9) * step
    return np.asarray(np.arange(first, high + 1e-9 * step, step))


class SceneAxes:
    """A floor and two back walls with lines at round coordinates; they change sides as the camera turns."""

    def __init__(self, renderer: vtkRenderer) -> None:
        self._renderer = renderer
        self._props: list[vtkProp3D] = []
        self._key: tuple[object, ...] = ()
        self.words: list[str] = []

    def clear(self) -> None:
        """Take the axes out of the scene."""
        for prop in self._props:
            self._renderer.RemoveViewProp(prop)
        self._props.clear()
        self._key, self.words = (), []

    def labels(self) -> list[vtkBillboardTextActor3D]:
        """The numbers at the ticks; those that have no room among other words are hidden by the pane."""
        return [p for p in self._props if isinstance(p, vtkBillboardTextActor3D)]

    def update(
        self, box: tuple[np.ndarray, np.ndarray] | None, origin: np.ndarray, factor: float, ink: QColor, back: QColor
    ) -> None:
        """Fit the axes to a box (relative to `origin`, metres), the vertical `factor`, the camera and the theme."""
        if box is None:
            self.clear()
            return
        low, high = (np.asarray(v, dtype=np.float64) for v in box)
        if high[2] - low[2] < 1.0:
            high = high + np.array([0.0, 0.0, 1.0])
        away = np.array(self._renderer.GetActiveCamera().GetDirectionOfProjection())
        east_far, north_far = bool(away[0] > 0), bool(away[1] > 0)
        # Seen from below, what lies behind is the roof.
        roof = bool(away[2] > 0.05)
        key = (
            *low.tolist(),
            *high.tolist(),
            *origin.tolist(),
            factor,
            ink.name(),
            back.name(),
            east_far,
            north_far,
            roof,
        )
        if key == self._key:
            return
        self.clear()
        self._key = key
        x_wall = high[0] if east_far else low[0]
        y_wall = high[1] if north_far else low[1]
        z_floor = high[2] if roof else low[2]
        at = [ticks(low[k] + origin[k], high[k] + origin[k]) - origin[k] for k in range(3)]
        lines: list[tuple[list[float], list[float]]] = []
        for x in at[0]:
            lines += [([x, low[1], z_floor], [x, high[1], z_floor]), ([x, y_wall, low[2]], [x, y_wall, high[2]])]
        for y in at[1]:
            lines += [([low[0], y, z_floor], [high[0], y, z_floor]), ([x_wall, y, low[2]], [x_wall, y, high[2]])]
        for z in at[2]:
            lines += [([low[0], y_wall, z], [high[0], y_wall, z]), ([x_wall, low[1], z], [x_wall, high[1], z])]
        self._add_lines(lines, factor, _between(ink, back, 0.85), 1.0)
        corner = [x_wall, y_wall]
        frame = [
            ([low[0], y_wall, z_floor], [high[0], y_wall, z_floor]),
            ([x_wall, low[1], z_floor], [x_wall, high[1], z_floor]),
            ([*corner, low[2]], [*corner, high[2]]),
        ]
        x_near = low[0] if east_far else high[0]
        y_near = low[1] if north_far else high[1]
        frame += [
            ([x_near, y_wall, low[2]], [x_near, y_wall, high[2]]),
            ([x_wall, y_near, low[2]], [x_wall, y_near, high[2]]),
        ]
        self._add_lines(frame, factor, _between(ink, back, 0.55), 1.4)
        self._label(at, origin, factor, (ink, back), (low, high, x_wall, y_wall, x_near))

    def _label(self, at, origin, factor, colours, sides) -> None:  # type: ignore[no-untyped-def]
        low, high, x_wall, y_wall, x_near = sides
        ink, back = colours
        top = high[2] * factor
        out = 0.025 * float(max(high[:2] - low[:2]))
        out_x = out if x_wall == high[0] else -out
        out_y = out if y_wall == high[1] else -out
        lift = 0.6 * out
        for k, (name, values) in enumerate(zip(("E", "N", "elev"), at, strict=True)):
            clear = [v for v in values if k == 2 or _inside(v, low[k], high[k])]
            for number, value in enumerate(clear):
                shown = f"{value + origin[k]:,.0f}".replace(",", " ")
                # The axis is named once, at the middle of its ticks; elevations at the upper end.
                named = number == (len(clear) - 1 if k == 2 else len(clear) // 2)
                words = f"{shown} m {name}" if named else shown
                if k == 0:
                    place = (value, y_wall + out_y, top + lift)
                elif k == 1:
                    place = (x_wall + out_x, value, top + lift)
                else:
                    place = (x_near, y_wall + out_y, value * factor)
                self._add(text(words, place, _between(ink, back, 0.3), _WORDS))
                self.words.append(words)

    def _add_lines(
        self, lines: list[tuple[list[float], list[float]]], factor: float, colour: QColor, width: float
    ) -> None:
        if not lines:
            return
        points = np.array(lines, dtype=np.float64).reshape(-1, 3)
        made: vtkActor = actor(polydata(points, lines=np.arange(len(points)).reshape(-1, 2)), colour, shaded=False)
        made.GetProperty().SetLineWidth(width)
        made.SetScale(1.0, 1.0, factor)
        self._add(made)

    def _add(self, prop: vtkProp3D) -> None:
        prop.PickableOff()
        self._props.append(prop)
        self._renderer.AddViewProp(prop)


def _inside(value: float, low: float, high: float) -> bool:
    """Whether a tick keeps clear of the corners, where the labels of two axes would meet."""
    return low + 0.03 * (high - low) <= value <= high - 0.03 * (high - low)


def _between(ink: QColor, back: QColor, share: float) -> QColor:
    """A colour on the way from the ink to the background."""
    mix = (
        round(a + share * (b - a))
        for a, b in zip((ink.red(), ink.green(), ink.blue()), (back.red(), back.green(), back.blue()), strict=True)
    )
    return QColor(*mix)

"""Where a section lies: through holes, along lines, across or along planes, to the other side."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QMenu, QToolButton

from ....core.compute.geometry.axis_sets import mean_axis
from ....core.compute.geometry.orientations import plane_normal
from ....core.compute.geometry.planes import SIDES, SectionPlane, about, turned
from ....core.items.attributes import orientation
from ....core.items.features import LINE, Features, part_vertices
from ....core.items.fields import BlockModel, sheet_line
from ....core.items.holes import HoleSet
from ....core.items.points import PointSet
from ...context.context import Context
from ..base.selection import table_of

MOST_BENDS = 60


class PlaceMenu(QToolButton):
    """The menu of what can be done with the section, by what is there and selected; `step` goes on by corridors."""

    def __init__(self, ctx: Context, step: Callable[[float], None]) -> None:
        super().__init__()
        self.ctx, self._step = ctx, step
        self.setText("Place")
        self.setToolTip(
            "Through a hole, across or along what is selected, a fence, from the other side, to one side only"
        )
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        menu.aboutToShow.connect(self._offers)
        self.setMenu(menu)

    def _offers(self) -> None:
        menu = self.menu()
        menu.clear()
        plane = self.ctx.section
        hole = self._selected_hole()
        self._offer(
            menu, f"Through {hole[0]}" if hole else "Through the selected hole", self._through_hole, hole is not None
        )
        strike = self._strike()
        self._offer(menu, "Along the strike of the selected planes", lambda: self._along(0.0), strike is not None)
        self._offer(menu, "Across the selected planes", lambda: self._along(90.0), strike is not None)
        sheet = self._selected_sheet()
        self._offer(menu, "Along the selected long section", lambda: self._fence(sheet, 0.0), len(sheet) > 1)
        holes = self._selected_holes()
        self._offer(menu, "Fence through the selected holes", lambda: self._fence(holes), len(holes) > 1)
        line = self._selected_line()
        self._offer(menu, "Along the selected line of a map", lambda: self._fence(line), len(line) > 1)
        menu.addSeparator()
        there = plane is not None
        self._offer(menu, "From the other side", lambda: self._turn(180.0), there)
        self._offer(menu, "Turned by a right angle", lambda: self._turn(90.0), there)
        self._offer(menu, "One corridor back (Page Down)", lambda: self._step(-1.0), there)
        self._offer(menu, "One corridor on (Page Up)", lambda: self._step(1.0), there)
        menu.addSeparator()
        for side in SIDES:
            action = menu.addAction(f"Corridor on {side}" if side == "both sides" else f"Corridor {side} only")
            action.setCheckable(True)
            action.setChecked(side == self.ctx.corridor_side)
            action.triggered.connect(lambda _=False, s=side: self.ctx.set_corridor_side(s))

    def _offer(self, menu: QMenu, words: str, act: Callable[[], None], possible: bool) -> None:
        action = menu.addAction(words)
        action.setEnabled(possible)
        action.triggered.connect(lambda _=False: act())

    def _selected_hole(self) -> tuple[str, float, float, float, float] | None:
        """Name, place, azimuth (degrees) and plan length (m) of the hole of the selected row."""
        selection = self.ctx.selection
        item = self.ctx.item(selection.item) if selection.item and selection.rows else None
        if not isinstance(item, HoleSet):
            return None
        table = table_of(item, selection.table)
        if table is None or selection.rows[0] >= len(table):
            return None
        name = str(table["hole"].iloc[selection.rows[0]])
        path = item.stations[(item.stations["hole"].astype(str) == name).to_numpy()]
        if not len(path):
            return None
        x, y = path["x"].to_numpy(float), path["y"].to_numpy(float)
        dx, dy = float(x[-1] - x[0]), float(y[-1] - y[0])
        here = self.ctx.section
        steep = np.hypot(dx, dy) < 1.0
        azimuth = (
            (here.azimuth if here is not None else 90.0) if steep else float(np.degrees(np.arctan2(dx, dy)) % 360.0)
        )
        return name, float(0.5 * (x[0] + x[-1])), float(0.5 * (y[0] + y[-1])), azimuth, float(np.hypot(dx, dy))

    def _through_hole(self) -> None:
        hole = self._selected_hole()
        if hole is not None:
            _, x, y, azimuth, plan = hole
            length = max(self.ctx.section.length if self.ctx.section is not None else 0.0, 2.0 * plan, 200.0)
            self.ctx.set_section(about(x, y, azimuth, length))

    def _strike(self) -> float | None:
        """Strike in degrees of the mean of the selected planes, or of those of the selected item."""
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry is not None else None
        names = orientation(item.attributes) if isinstance(item, PointSet) else None
        if not isinstance(item, PointSet) or names is None:
            return None
        rows = self.ctx.selection.rows if self.ctx.selection.item == self.ctx.selected else ()
        t = item.table.iloc[list(rows)] if rows else item.table
        dip, to = t[names[0]].to_numpy(float), t[names[1]].to_numpy(float)
        good = np.isfinite(dip) & np.isfinite(to)
        if not good.any():
            return None
        mean = mean_axis(plane_normal(dip[good], to[good]))
        return float((np.degrees(np.arctan2(mean[0], mean[1])) + 90.0) % 180.0)

    def _along(self, turn: float) -> None:
        strike, here = self._strike(), self.ctx.section
        entry = self.ctx.entry(self.ctx.selected)
        if strike is None or entry is None:
            return
        west, east, south, north = entry.bounds[:4]
        x, y = 0.5 * (west + east), 0.5 * (south + north)
        length = max(float(np.hypot(east - west, north - south)), 200.0)
        if here is not None and not np.isfinite([x, y]).all():
            x, y, length = 0.5 * (here.x0 + here.x1), 0.5 * (here.y0 + here.y1), here.length
        self.ctx.set_section(about(x, y, strike + turn, length))

    def _turn(self, degrees: float) -> None:
        if self.ctx.section is not None:
            self.ctx.set_section(turned(self.ctx.section, degrees))

    def _selected_holes(self) -> np.ndarray:
        """Places (n, 2) of the collars of the selected rows, in the order in which a line from the first end passes them."""
        selection = self.ctx.selection
        item = self.ctx.item(selection.item) if selection.item and len(selection.rows) > 1 else None
        if not isinstance(item, HoleSet):
            return np.empty((0, 2))
        table = table_of(item, selection.table)
        if table is None or max(selection.rows) >= len(table):
            return np.empty((0, 2))
        names = table["hole"].astype(str).iloc[list(selection.rows)].unique()
        collars = item.collars[item.collars["hole"].astype(str).isin(names)]
        xy = collars[["x", "y"]].to_numpy(float)
        xy = np.unique(xy[np.isfinite(xy).all(axis=1)], axis=0)
        if len(xy) < 2:
            return np.empty((0, 2))
        middle = xy.mean(axis=0)
        main = np.linalg.svd(xy - middle, full_matrices=False)[2][0]
        main = main if main[0] > 0 or (main[0] == 0 and main[1] > 0) else -main  # from the west
        return np.asarray(xy[np.argsort((xy - middle) @ main, kind="stable")])

    def _selected_line(self) -> np.ndarray:
        """Places (n, 2) of the selected line of a map, thinned where it has very many."""
        selection = self.ctx.selection
        item = self.ctx.item(selection.item) if selection.item and selection.rows else None
        if not isinstance(item, Features):
            return np.empty((0, 2))
        mine = [k for k in range(len(item.owner)) if item.owner[k] == selection.rows[0] and item.part_types[k] == LINE]
        xy = part_vertices(item, mine[0])[:, :2] if mine else np.empty((0, 2))
        return xy if len(xy) <= MOST_BENDS else xy[np.linspace(0, len(xy) - 1, MOST_BENDS).round().astype(int)]

    def _selected_sheet(self) -> np.ndarray:
        """Ends (2, 2) of the selected block model where it is an upright sheet, one column wide."""
        item = self.ctx.item(self.ctx.selected) if self.ctx.selected else None
        return (
            np.array(sheet_line(item) or (), dtype=float).reshape(-1, 2)
            if isinstance(item, BlockModel)
            else np.empty((0, 2))
        )

    def _fence(self, places: np.ndarray, beyond: float = 0.1) -> None:
        """A section through places, with a share more at both ends so that what stands there is seen."""
        runs = np.diff(places, axis=0)[[0, -1]]
        length = float(np.hypot(*np.diff(places, axis=0).T).sum())
        if length < 1.0:
            self.ctx.say("They lie at one place: there is no section through them.", "look")
            return
        runs = runs / np.maximum(np.hypot(*runs.T), 1e-9)[:, None] * min(beyond * length, 60.0)
        ends = np.array(places, dtype=float)
        ends[0], ends[-1] = ends[0] - runs[0], ends[-1] + runs[1]
        self.ctx.set_section(SectionPlane.along(ends))

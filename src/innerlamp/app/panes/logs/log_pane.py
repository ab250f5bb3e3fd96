"""The strip log: tracks of tables and logs beside the depths of one hole or several, with units tied from hole to hole."""

from __future__ import annotations

from functools import partial
from typing import Any, ClassVar

import numpy as np
import pandas as pd
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog, QMenu, QPushButton, QSizePolicy, QToolButton

from ....core.compute.drilling.cells import rock_runs
from ....core.compute.drilling.desurvey import azimuth_and_dip
from ....core.importing.corrections import tables_of
from ....core.items.core_pictures import CorePictures
from ....core.items.holes import HoleSet
from ....core.items.legend import without_unit
from ....core.items.points import PointSet
from ....core.items.tracks import Track, TrackKind, as_data, columns_of, from_data, kinds_for, proposed
from ....core.operations.data.correct import meant_rows
from ....core.project.records import Entry
from ...context.context import Context, Cursor, Selection
from ...painters.logs.rows import HereRows, LogSource, of_hole
from ...painters.logs.tracks import Rows
from ...theme.plain import Label
from ..base.boxes import choice_box, refill
from ..base.pane import ItemPane
from .core_window import CoreWindow
from .log_view import Hit, LogView, ShownHole
from .menus import track_menu

MOST_BESIDE = 12
_NEAR = 40.0  # metres from a hole within which the shared cursor is shown on its log


class LogPane(ItemPane):
    """Shows the holes of the selected set, or of the first lit one."""

    kind: ClassVar[str] = "log"
    title: ClassVar[str] = "Strip log"
    delay: ClassVar[int] = 45

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.which = choice_box("Hole", length=8)
        self.which.activated.connect(lambda _: self._chose())
        self.tools.addWidget(self.which)
        self.beside = self._button("Beside", "Further holes beside this one, the nearest first", self._beside_menu)
        self.arrange = self._button(
            "Tracks", "Add, change and take away tracks; keep them as templates", self._tracks_menu
        )
        self.axis = choice_box("Down the log: depth along the hole, or elevation", ["depth", "elevation"], length=5)
        self.axis.activated.connect(lambda _: self._axis_chosen())
        self.tools.addWidget(self.axis)
        self.moving = QPushButton("Boundaries")
        self.moving.setCheckable(True)
        self.moving.setToolTip("Drag boundaries of logged rock to another depth; each is a correction on record")
        self.tools.addWidget(self.moving)
        self.view = LogView(ctx.theme)
        self.moving.toggled.connect(self._edit_toggled)
        self.view.moved.connect(self._boundary_dragged)
        self.view.pointed.connect(self._pointed)
        self.view.clicked.connect(self._clicked)
        self.view.twice.connect(self._correct)
        self.body.addWidget(self.view, 1)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setTextFormat(Qt.TextFormat.PlainText)
        self.words.setContentsMargins(8, 2, 8, 3)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.body.addWidget(self.words)
        self.hint = Label("Select drillholes on the shelf to see what was logged along them.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        self.tracks: tuple[Track, ...] = ()
        self.templates: dict[str, tuple[Track, ...]] = {}
        self.others: list[str] = []
        self._shown: tuple[str, int] = ("", -1)
        self._item: HoleSet | None = None
        self._fit_next, self._show_last = True, False
        self.large: CoreWindow | None = None
        self._recall()
        self.redraw()

    def _button(self, words: str, tip: str, fill: Any) -> QToolButton:
        button = QToolButton()
        button.setText(words)
        button.setToolTip(tip)
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(button)
        menu.setToolTipsVisible(True)
        menu.aboutToShow.connect(lambda: fill(menu))
        button.setMenu(menu)
        self.tools.addWidget(button)
        return button

    # ---- what is shown

    def _recall(self) -> None:
        """What the project remembers of its logs."""
        store = self.ctx.store
        kept = store.workspace("log", {}) if store is not None else {}
        kept = kept if isinstance(kept, dict) else {}
        self.tracks = from_data(kept.get("tracks"))
        named = kept.get("templates")
        self.templates = {str(k): from_data(v) for k, v in named.items()} if isinstance(named, dict) else {}
        self.axis.setCurrentText("elevation" if kept.get("axis") == "elevation" else "depth")
        self.view.by_elevation = self.axis.currentText() == "elevation"

    def _remember(self) -> None:
        session = self.ctx.session
        if session is not None and session.store.writable:
            kept = {name: as_data(tracks) for name, tracks in self.templates.items()}
            session.remember(
                {"log": {"tracks": as_data(self.tracks), "templates": kept, "axis": self.axis.currentText()}}
            )

    def _entry(self) -> Entry | None:
        entry = self.ctx.entry(self.ctx.selected)
        if entry is None or entry.kind != "holes":
            mine = self.ctx.entry(self._shown[0])
            entry = mine or next((e for e in self.ctx.lit_entries() if e.kind == "holes"), None)
        return entry

    def draw(self) -> None:
        entry = self._entry()
        item = self.ctx.item(entry.id) if entry is not None else None
        there = entry is not None and isinstance(item, HoleSet)
        self.hint.setVisible(not there)
        self.view.setVisible(there)
        self.words.setVisible(there)
        self.view.theme = self.ctx.theme
        if entry is None or not isinstance(item, HoleSet):
            return
        names = item.collars["hole"].astype(str).tolist()
        fresh = entry.id != self._shown[0]
        refill(self.which, names, self.which.currentText())
        self.others = [n for n in self.others if n in names and n != self.which.currentText()]
        self._shown, self._item = (entry.id, entry.version), item
        if not self.tracks:
            self.tracks = proposed(item, bool(self._with_planes()), bool(self._with_pictures()))
        asked = any(t.kind == "planes" for t in self.tracks)
        planes, of_planes = (self._planes() if asked else None) or (None, None)
        shown = any(t.kind == "pictures" for t in self.tracks)
        core, pictures = (self._pictures() if shown else None) or (None, None)
        source = LogSource(
            item,
            of_planes,
            entry.id,
            planes.id if planes is not None else "",
            pictures,
            core.id if core is not None else "",
        )
        holes = [self._hole(source, n) for n in (self.which.currentText(), *self.others) if n]
        legends = [source.legends(t, self.ctx.legend) for t in self.tracks]
        self._choose(self.ctx.selection)
        titles = [self._title(item, t) for t in self.tracks]
        self.view.show_holes(holes, self.tracks, legends, titles, fit=fresh or self._fit_next)
        self._fit_next = False
        if self._show_last:
            self._show_last = False
            across = self.view.horizontalScrollBar()
            across.setValue(
                self.view.left_of(0) + across.value() + self.view.hole_width() - self.view.viewport().width()
            )

    def _with_planes(self) -> list[Entry]:
        """Readings along holes with an orientation: those of what is lit first, then those in sets."""
        mine = [e for e in self.ctx.entries() if e.kind == "points" and {"dip", "alpha"} <= set(e.attributes)]
        return sorted(mine, key=lambda e: (e.id not in self.ctx.lit, "set" not in e.attributes))

    def _planes(self) -> tuple[Entry, PointSet] | None:
        for entry in self._with_planes()[:1]:
            item = self.ctx.item(entry.id)
            if isinstance(item, PointSet) and {"hole", "depth_m"} <= set(item.table.columns):
                return entry, item
        return None

    def _with_pictures(self) -> list[Entry]:
        """Pictures of core, those that are lit first."""
        return sorted((e for e in self.ctx.entries() if e.kind == "core"), key=lambda e: e.id not in self.ctx.lit)

    def _pictures(self) -> tuple[Entry, CorePictures] | None:
        hole, found = self.which.currentText(), []
        for entry in self._with_pictures():
            item = self.ctx.item(entry.id)
            if isinstance(item, CorePictures):
                found.append((entry, item))
        mine = [pair for pair in found if (pair[1].table["hole"].astype(str) == hole).any()]
        return next(iter(mine or found), None)

    def _title(self, item: HoleSet, track: Track) -> str:
        """Names with their unit on a line of its own."""
        if not track.attributes:
            return "core" if track.kind == "pictures" else "dip and direction"
        unit = item.units.get(track.attributes[0], "")
        names = ", ".join(without_unit(n, item.units.get(n, "")).replace("_", " ") for n in track.attributes)
        return f"{names}\n{unit}" if unit else names

    def _hole(self, source: LogSource, name: str) -> ShownHole:
        item = source.holes
        collar = item.collars[item.collars["hole"].astype(str) == name].iloc[0]
        s = item.stations.iloc[of_hole(item.stations, name)]
        if not len(s):  # without a path a hole goes nowhere
            s = pd.DataFrame([{"depth_m": 0.0, **{c: collar[c] for c in "xyz"}, "tx": 0.0, "ty": 0.0, "tz": -1.0}])
        depths, places = s["depth_m"].to_numpy(float), s[["x", "y", "z"]].to_numpy(float)
        end = max(float(collar["depth_m"]), float(depths.max()))
        azimuth, dip = azimuth_and_dip(s[["tx", "ty", "tz"]].to_numpy(float)[0])
        facts = f"{collar['x']:.1f} E {collar['y']:.1f} N {collar['z']:.1f} m, {azimuth:03.0f}°/{-dip:.0f}°, {end:g} m"
        runs: list[tuple[str, float]] = []
        first = next((t for t in self.tracks if t.kind == "rock"), None)
        here = HereRows()
        rows = [source.rows(track, name, here) for track in self.tracks]
        if first is not None:
            mine = rows[self.tracks.index(first)]
            if mine is not None and first.attributes[0] in mine.values:
                texts = mine.values[first.attributes[0]].tolist()
                codes = np.array(["" if pd.isna(t) else str(t) for t in texts], dtype=object)
                _, top, _, unit = rock_runs(np.zeros(len(codes), np.int64), mine.start, mine.stop, codes)
                runs = list(zip(unit.tolist(), top.tolist(), strict=True))
        return ShownHole(name, facts, end, depths, places, rows, runs)

    # ---- tools

    def _chose(self) -> None:
        self._fit_next = True
        self.redraw()

    def _axis_chosen(self) -> None:
        self.view.by_elevation = self.axis.currentText() == "elevation"
        self._fit_next = True
        self._remember()
        self.redraw()

    def set_tracks(self, tracks: tuple[Track, ...]) -> None:
        """Show other tracks, and remember them with the project; one that was added is brought into view."""
        self._show_last = len(tracks) > len(self.tracks)
        self.tracks = tracks
        self._remember()
        self.redraw()

    def set_beside(self, holes: list[str]) -> None:
        """Show further holes beside the first one."""
        self.others = holes[:MOST_BESIDE]
        self.redraw()

    def _beside_menu(self, menu: QMenu) -> None:
        menu.clear()
        if self._item is None:
            return
        collars = self._item.collars
        names = collars["hole"].astype(str)
        here = int(np.flatnonzero((names == self.which.currentText()).to_numpy())[0])
        x, y = (collars[c].to_numpy(float) for c in "xy")
        away = np.hypot(x - x[here], y - y[here])
        for k in [k for k in np.argsort(away, kind="stable").tolist() if k != here][:24]:
            action = menu.addAction(f"{names.iloc[k]}  ({away[k]:.0f} m away)")
            action.setCheckable(True)
            action.setChecked(names.iloc[k] in self.others)
            action.triggered.connect(partial(self._toggle, str(names.iloc[k])))
        if self.others:
            menu.addSeparator()
            menu.addAction("None beside").triggered.connect(lambda: self.set_beside([]))

    def _toggle(self, hole: str, _: bool = False) -> None:
        there = hole in self.others
        self.set_beside([h for h in self.others if h != hole] if there else [*self.others, hole])

    def _tracks_menu(self, menu: QMenu) -> None:
        menu.clear()
        if self._item is None:
            return
        ways = {name: kinds_for(self._item, name) for name in columns_of(self._item)}
        more: list[TrackKind] = ["planes"] if self._with_planes() else []
        more += ["pictures"] if self._with_pictures() else []
        track_menu(menu, self.tracks, ways, more, self.set_tracks)
        menu.addSeparator()
        menu.addAction("Usual tracks").triggered.connect(self._usual)
        keep = menu.addMenu("Templates")
        for name, tracks in self.templates.items():
            keep.addAction(name).triggered.connect(partial(self._take_template, tracks))
        keep.addSeparator()
        keep.addAction("Keep these tracks as…").triggered.connect(self._ask_template)

    def _usual(self) -> None:
        if self._item is not None:
            self.set_tracks(proposed(self._item, bool(self._with_planes()), bool(self._with_pictures())))

    def _take_template(self, tracks: tuple[Track, ...], _: bool = False) -> None:
        self.set_tracks(tracks)

    def _ask_template(self) -> None:
        name, good = QInputDialog.getText(self, "Keep tracks", "Name of the template")
        if good and name.strip():
            self.keep_template(name.strip())

    def keep_template(self, name: str) -> None:
        """Keep the present tracks under a name."""
        self.templates[name] = self.tracks
        self._remember()
        self.ctx.say(f"Tracks kept as '{name}'.", "good")

    # ---- hands

    def _record(self, hit: Hit) -> tuple[Rows, int] | None:
        rows = self.view.holes[hit.hole].rows[hit.track] if hit.track >= 0 else None
        return None if rows is None or hit.row < 0 else (rows, hit.row)

    def _pointed(self, hit: Hit | None) -> None:
        if hit is None or self._item is None:
            self.words.setText("")
            return
        hole = self.view.holes[hit.hole]
        words = f"{hole.name}  {hit.depth:.2f} m"
        record = self._record(hit)
        if record is not None:
            rows, k = record
            a, b = float(rows.start[k]), float(rows.stop[k])
            where = f"{a:g} to {b:g} m" if b > a else f"{a:g} m"
            words = f"{hole.name}  {where}   " + "   ".join(self._said(n, v[k]) for n, v in rows.values.items())
        self.words.setText(words)
        self.view.mark = (hole.name, hit.depth)
        self.view.viewport().update()
        x, y, z = hole.place_at(hit.depth).tolist()
        self.ctx.point_at(x, y, z, self.kind)

    def _said(self, name: str, value: Any) -> str:
        unit = self._item.units.get(name, "") if self._item is not None else ""
        if isinstance(value, float | np.floating):
            shown = "no value" if np.isnan(value) else f"{value:.4g} {unit}".rstrip()
        else:
            shown = "" if pd.isna(value) else str(value)
        return f"{without_unit(name, unit)} {shown}"

    def _clicked(self, hit: Hit | None) -> None:
        record = self._record(hit) if hit is not None else None
        if record is not None:
            rows, k = record
            self.ctx.select_rows(Selection(rows.source[0], rows.source[1], (int(rows.rows[k]),)))

    def _correct(self, hit: Hit | None) -> None:
        """Open the form that corrects the record under the pointer; a picture of core is shown large."""
        record = self._record(hit) if hit is not None else None
        if record is not None and record[0].pictures is not None:
            self.large = CoreWindow(self, record[0].pictures, int(record[0].rows[record[1]]))
            self.large.show()
            return
        if record is None or hit is None or not record[0].source[1]:
            return
        rows, k = record
        of = {"item": rows.source[0], "holes": rows.source[0]}
        column = self.tracks[hit.track].attributes[0]
        item = self.ctx.item(rows.source[0])
        table = tables_of(item).get(rows.source[1]) if isinstance(item, HoleSet) else None
        if table is None:
            return
        values = {"table": rows.source[1], "meant": meant_rows(table, [int(rows.rows[k])]), "column": column}
        self.ctx.ask.emit("correct", of, values)

    def _edit_toggled(self, on: bool) -> None:
        writable = self.ctx.store is not None and self.ctx.store.writable
        self.view.editing = on and writable
        if on and not writable:
            self.moving.setChecked(False)
            self.ctx.say("The project is open to look at only: boundaries can't be moved.", "look")

    def _boundary_dragged(self, hit: Hit, depth: float, to_depth: float) -> None:
        hole = self.view.holes[hit.hole].name
        why, good = QInputDialog.getText(
            self, "Move a boundary", f"{hole}: {depth:g} m to {to_depth:g} m. Why?", text="seen in the core again"
        )
        if good and why.strip():
            self.move_boundary(hit, to_depth, why.strip())

    def move_boundary(self, hit: Hit, to_depth: float, why: str) -> None:
        """Give a boundary another depth, as corrections on record."""
        rows = self.view.holes[hit.hole].rows[hit.track]
        if rows is None or not rows.source[1]:
            return
        values = {
            "table": rows.source[1],
            "hole": self.view.holes[hit.hole].name,
            "depth": hit.depth,
            "to_depth": to_depth,
            "why": why,
        }
        self.ctx.guard(self.ctx.start, "move-boundary", values, {"holes": rows.source[0]})

    def show_cursor(self, cursor: Cursor) -> None:
        if cursor.source == self.kind or self._item is None or not np.isfinite([cursor.x, cursor.y, cursor.z]).all():
            return
        best: tuple[float, str, float] | None = None
        for hole in self.view.holes:
            d = np.linspace(0.0, hole.end, 200)
            away = np.linalg.norm(hole.place_at(d) - [cursor.x, cursor.y, cursor.z], axis=1)
            k = int(away.argmin())
            if best is None or away[k] < best[0]:
                best = (float(away[k]), hole.name, float(d[k]))
        mark = best[1:] if best is not None and best[0] <= _NEAR else None
        if mark != self.view.mark:
            self.view.mark = mark
            self.view.viewport().update()

    def _choose(self, selection: Selection) -> None:
        self.view.chosen = {(selection.item, selection.table): set(selection.rows)} if selection.rows else {}

    def show_selection(self, selection: Selection) -> None:
        self._choose(selection)
        self._go_to_selected()
        self.view.viewport().update()

    def _go_to_selected(self) -> None:
        for number, hole in enumerate(self.view.holes):
            for rows in hole.rows:
                wanted = self.view.chosen.get(rows.source) if rows is not None else None
                if rows is None or not wanted:
                    continue
                at = np.flatnonzero(np.isin(rows.rows, list(wanted)))
                if len(at):
                    self.view.show_depth(number, float(rows.start[at[0]]))
                    return

    def on_project(self) -> None:
        self._shown, self._item, self.others = ("", -1), None, []
        self.view.holes = []
        self._recall()
        self.redraw()

    def fit(self) -> None:
        self.view.fit()

    def go_to(self, x: float, y: float, z: float) -> None:
        self.show_cursor(Cursor(x, y, z, "elsewhere"))

"""The menu of how sections look: what stands beside holes, panels above, looks that are kept and shared."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QToolButton

from ....core.errors import LampError
from ....core.given_paths import outside_projects
from ....core.items.attributes import is_ground
from ....core.items.holes import HoleSet
from ....core.items.section_look import (
    HANDS,
    MOST_BESIDE,
    MOST_PANELS,
    Beside,
    SectionLook,
    as_data,
    from_data,
    look_of_text,
    look_text,
    ways_for,
)
from ....core.items.tracks import columns_of
from ...context.context import Context

_MOST_KEPT = 40


class LookMenu(QToolButton):
    """Arranges the look of sections; all section panes share it, and pages take it."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.setText("Look")
        self.setToolTip(
            "What stands beside the holes and above the section; looks are kept by name and shared as files"
        )
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        menu.aboutToShow.connect(self._offers)
        self.setMenu(menu)

    @property
    def look(self) -> SectionLook:
        """The look that is shown."""
        return self.ctx.section_look

    def kept(self) -> dict[str, SectionLook]:
        """The looks that the project remembers."""
        store = self.ctx.store
        data = store.workspace("section looks", {}) if store is not None else {}
        return {str(k)[:80]: from_data(v) for k, v in data.items()} if isinstance(data, dict) else {}

    def _offers(self) -> None:
        menu = self.menu()
        menu.clear()
        holes = [
            item
            for e in self.ctx.lit_entries()
            if e.kind == "holes" and isinstance(item := self.ctx.item(e.id), HoleSet) and item.tables
        ]
        for hand in HANDS:
            add = menu.addMenu(f"Add to the {hand} of holes")
            add.setEnabled(bool(holes) and len(self.look.beside) < MOST_BESIDE)
            for name in dict.fromkeys(n for item in holes for n in columns_of(item)):
                ways = next((w for item in holes if (w := ways_for(item, name))), ())
                if ways:
                    how = add.addMenu(name)
                    for way in ways:
                        wide = 30.0 if way in ("bars", "curve") else 8.0
                        one = Beside(way, name, hand, width=wide)
                        how.addAction(way).triggered.connect(partial(self._add, one))
        for k, one in enumerate(self.look.beside):
            self._of_column(menu.addMenu(f"{one.hand}: {one.attribute}, {one.way}"), k)
        menu.addSeparator()
        strip = menu.addAction("Plan of the corridor above")
        strip.setCheckable(True)
        strip.setChecked(self.look.strip)
        strip.triggered.connect(lambda on: self.take(replace(self.look, strip=bool(on))))
        depths = menu.addAction("Depths along holes")
        depths.setCheckable(True)
        depths.setChecked(self.look.depths)
        depths.triggered.connect(lambda on: self.take(replace(self.look, depths=bool(on))))
        panels = menu.addMenu("Profiles above")
        for entry in self.ctx.entries():
            if entry.kind == "grid" and not is_ground(entry.attributes) and not entry.dated:
                there = entry.id in self.look.panels or entry.name in self.look.panels
                action = panels.addAction(entry.name)
                action.setCheckable(True)
                action.setChecked(there)
                action.setEnabled(there or len(self.look.panels) < MOST_PANELS)
                action.triggered.connect(lambda on, i=entry.id, n=entry.name: self._panel(i, n, bool(on)))
        menu.addSeparator()
        kept = menu.addMenu("Kept looks")
        for name, look in self.kept().items():
            kept.addAction(name).triggered.connect(partial(self._took, look))
        kept.addSeparator()
        self._act(kept, "Keep this look as…", self._ask_name)
        self._act(menu, "Write the look to a file…", self._ask_write)
        self._act(menu, "Read a look from a file…", self._ask_read)
        self._act(menu, "Usual look", lambda: self.take(SectionLook()))

    def _of_column(self, menu: QMenu, k: int) -> None:
        beside = self.look.beside
        one = beside[k]

        def offer(words: str, made: Beside) -> None:
            changed = replace(self.look, beside=(*beside[:k], made, *beside[k + 1 :]))
            menu.addAction(words).triggered.connect(partial(self._took, changed))

        offer("Wider", replace(one, width=min(one.width * 1.5, 2_000.0)))
        offer("Narrower", replace(one, width=max(one.width / 1.5, 1.0)))
        offer("Farther from the hole", replace(one, offset=one.offset + 5.0))
        offer("Nearer to the hole", replace(one, offset=max(one.offset - 5.0, 0.0)))
        offer("To the other side", replace(one, hand="left" if one.hand == "right" else "right"))
        gone = replace(self.look, beside=(*beside[:k], *beside[k + 1 :]))
        menu.addSeparator()
        menu.addAction("Take away").triggered.connect(partial(self._took, gone))

    def _act(self, menu: QMenu, words: str, act: Callable[[], None]) -> None:
        menu.addAction(words).triggered.connect(lambda _=False: act())

    def _add(self, one: Beside, _: bool = False) -> None:
        self.take(self.look.with_beside(one))

    def _panel(self, item: str, name: str, on: bool) -> None:
        rest = tuple(p for p in self.look.panels if p not in (item, name))
        self.take(replace(self.look, panels=(*rest, name) if on else rest))

    def _took(self, look: SectionLook, _: bool = False) -> None:
        self.take(look)

    def take(self, look: SectionLook) -> None:
        """Show another look, and remember it with the project."""
        self.ctx.set_section_look(look)

    # ---- keeping and sharing

    def _ask_name(self) -> None:
        name, good = QInputDialog.getText(self, "Keep this look", "Name of the look")
        if good and name.strip():
            self.keep(name.strip())

    def keep(self, name: str) -> None:
        """Keep the look under a name, with the project."""
        session, kept = self.ctx.session, self.kept()
        if session is None or not session.store.writable or (len(kept) >= _MOST_KEPT and name not in kept):
            self.ctx.say("The look can't be kept.", "bad")
            return
        session.remember({"section looks": {k: as_data(v) for k, v in (kept | {name: self.look}).items()}})
        self.ctx.say(f"Look kept as '{name}'.", "good")

    def _ask_write(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write the look", "section.look.json", "Look (*.json)")
        if path:
            self.write(Path(path))

    def write(self, path: Path) -> None:
        """Write the look to a file."""
        try:
            outside_projects(path).write_text(look_text(self.look), encoding="utf-8")
            self.ctx.say(f"Written: {path}", "good")
        except OSError as error:
            self.ctx.say(f"The look can't be written ({error.strerror}).", "bad")
        except LampError as error:
            self.ctx.say(str(error), "bad")

    def _ask_read(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Read a look", "", "Look (*.json)")
        if path:
            self.read(Path(path))

    def read(self, path: Path) -> None:
        """Show the look of a file."""
        try:
            if path.stat().st_size > 1_000_000:
                self.ctx.say(f"{path.name} is too large for a look.", "bad")
                return
            self.take(look_of_text(path.read_text(encoding="utf-8"), path.name))
        except (OSError, UnicodeDecodeError) as error:
            self.ctx.say(f"{path.name} can't be read ({error}).", "bad")
        except LampError as error:
            self.ctx.say(str(error), "bad")

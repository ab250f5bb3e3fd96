"""Pages as they come out on paper: elements are moved, resized and given words; pages are exported."""

from __future__ import annotations

import base64
import dataclasses
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLabel, QLineEdit, QMenu, QPushButton, QWidget

from ....core.errors import InputError, LampError
from ....core.formats.out.page_templates import write_template
from ....core.importing.control_charts import judged_attributes
from ....core.importing.control_series import groups
from ....core.items.holes import HoleSet
from ....core.items.page import MOST_PICTURE, Element, Page
from ....core.items.section_look import as_data
from ....core.numbers import parse_number
from ...context.context import Context
from ...pages import editing
from ...pages.writing import ENDINGS, element_picture
from ...theme.plain import Label, plain_tip
from ..base.pane import ItemPane
from .page_sheet import Sheet


class PagePane(ItemPane):
    """The selected page, or the first one of the project."""

    kind: ClassVar[str] = "page"
    title: ClassVar[str] = "Page"
    delay: ClassVar[int] = 45

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.page: Page | None = None
        self.id = ""
        self.chosen = -1
        self.sheet_number = 0
        self._images: dict[str, QImage] = {}
        self._stale: dict[str, QImage] = {}
        self._waiting = QTimer(self)
        self._waiting.setInterval(0)
        self._waiting.timeout.connect(self._draw_one)
        self.which = QComboBox()
        self.which.setObjectName("whichPage")
        self.which.setMinimumContentsLength(8)
        self.which.setToolTip("The page that is shown")
        self.which.activated.connect(lambda _: self.ctx.select_item(str(self.which.currentData())))
        self.new = QPushButton("New page")
        self.new.setToolTip("Make a page of what is lit")
        self.new.clicked.connect(self.begin)
        self.more = QPushButton("Add")
        self.more.setToolTip("Add an element to the page")
        menu = QMenu(self)
        for kind in editing.SIZES:
            menu.addAction(kind, lambda kind=kind: self.add(kind))
        self.more.setMenu(menu)
        self.save = QPushButton("Export…")
        self.save.setToolTip("Write the page as PDF, SVG, PNG or GeoTIFF")
        self.save.clicked.connect(self._export)
        self.keep = QPushButton("Template…")
        self.keep.setToolTip("Keep the arrangement as a file for other pages and projects")
        self.keep.clicked.connect(self._template)
        self.turning = QComboBox()
        self.turning.setObjectName("whichSheet")
        self.turning.setToolTip("The sheet of the page that is shown (Page Up, Page Down)")
        self.turning.activated.connect(lambda k: self.turn(k - self.sheet_number))
        for widget in (self.which, self.turning, self.new, self.more, self.save, self.keep):
            self.tools.addWidget(widget)
        self.body.addWidget(self._fields())
        self.sheet = Sheet(self, self)
        self.body.addWidget(self.sheet, 1)
        self.redraw()

    def _fields(self) -> QWidget:
        self.bar = QWidget()
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(6, 2, 6, 4)
        row.setSpacing(4)
        self.about = Label()
        self.about.setObjectName("faint")
        row.addWidget(self.about)
        self.edits: dict[str, QLineEdit] = {}
        for name, words, wide in (
            ("x", "x mm", 48),
            ("y", "y mm", 48),
            ("w", "w mm", 48),
            ("h", "h mm", 48),
            ("scale", "1 :", 66),
            ("text", "text", 0),
        ):
            label = Label(words)
            edit = QLineEdit()
            edit.setObjectName(f"page_{name}")
            edit.setToolTip(
                plain_tip(
                    {"scale": "Denominator of the scale", "text": "Words; a new line is written as \\n"}.get(
                        name, f"{words[0]} in millimetres"
                    )
                )
            )
            if wide:
                edit.setFixedWidth(wide)
            edit.editingFinished.connect(lambda name=name: self._typed(name))
            row.addWidget(label)
            row.addWidget(edit, 0 if wide else 1)
            self.edits[name] = edit
            label.setBuddy(edit)
        self.lit = QPushButton("Take what is lit")
        self.lit.setToolTip("This map or section shows what is lit now, in its present colours")
        self.lit.clicked.connect(self.take_lit)
        row.addWidget(self.lit)
        row.addStretch(0)
        return self.bar

    # ---- drawing

    def draw(self) -> None:
        pages = [e for e in self.ctx.entries() if e.kind == "page"]
        ids = [e.id for e in pages]
        wanted = self.ctx.selected if self.ctx.selected in ids else self.id if self.id in ids else ids[0] if ids else ""
        self.which.clear()
        for each in pages:
            self.which.addItem(each.name, each.id)
        self.which.setCurrentIndex(self.which.findData(wanted))
        item = self.ctx.item(wanted) if wanted else None
        if wanted != self.id:
            self.page, self.chosen, self.sheet_number = None, -1, 0
        self.id = wanted
        if isinstance(item, Page):
            self.page = item
        elif not wanted:
            self.page = None
        self._show_sheets()
        self.choose(self.chosen)
        for button in (self.more, self.save, self.keep):
            button.setEnabled(self.page is not None)
        self._waiting.start()
        self.sheet.update()

    def _show_sheets(self) -> None:
        count = self.page.sheets if self.page is not None else 1
        self.sheet_number = min(self.sheet_number, count - 1)
        self.turning.clear()
        self.turning.addItems([f"{k + 1} of {count}" for k in range(count)])
        self.turning.setCurrentIndex(self.sheet_number)
        self.turning.setVisible(count > 1)

    def turn(self, by: int) -> None:
        """Show another sheet."""
        count = self.page.sheets if self.page is not None else 1
        wanted = min(max(self.sheet_number + by, 0), count - 1)
        if wanted != self.sheet_number:
            self.sheet_number = wanted
            self.choose(-1)
            self._show_sheets()
            self._waiting.start()
            self.sheet.update()

    def forget(self, keep: bool = False) -> None:
        """Draw all elements anew; with `keep` the present pictures stand there meanwhile."""
        self._stale = self._images if keep else {}
        self._images = {}
        self._waiting.start()
        self.sheet.update()

    def on_items(self, notice: Any) -> None:
        if notice.added or notice.removed or notice.replaced or notice.renamed:
            touched = set(notice.replaced) | set(notice.renamed) | set(notice.removed)
            if touched - {self.id}:
                self.forget(keep=True)
            self.redraw()

    def on_legend(self, attribute: str) -> None:
        self.forget(keep=True)

    def show_selection(self, selection: Any) -> None:
        pass  # rows are not marked on paper

    def _key(self, number: int) -> str:
        assert self.page is not None
        layout = self.page.layout
        element = layout[number]
        own = element.model_dump_json(exclude={"x", "y"}, exclude_defaults=True)
        told = {"legend": ("map", "section", "log"), "map": ("section",)}.get(element.kind, ("map",))
        frames = [e for e in layout if e.sheet == element.sheet and e.kind in told]
        target = (
            "|".join(m.model_dump_json(exclude={"x", "y"}) for m in frames)
            if element.kind in ("legend", "scale bar", "north", "inset", "map")
            else ""
        )
        return f"{own}|{target}|{self.page.name if element.kind == 'title' else ''}"

    def image_of(self, number: int) -> QImage | None:
        """The picture of an element, or an older one while it is drawn anew."""
        key = self._key(number)
        return self._images.get(key) or self._stale.get(key)

    @property
    def settled(self) -> bool:
        return super().settled and not self._waiting.isActive()

    def _draw_one(self) -> None:
        """Draw one element that has no picture yet; the window lives between two of them."""
        if self.closed or self.page is None or not self.isVisible():
            self._waiting.stop()
            return
        for number in range(len(self.page.elements)):
            key = self._key(number)
            if key in self._images or self.page.layout[number].sheet != self.sheet_number:
                continue
            dots = self.sheet.scale() * 25.4 * self.devicePixelRatioF()
            try:
                pixels = element_picture(self.ctx, self.page, number, min(dots, 300.0))
            except LampError as error:
                self.ctx.say(f"{self.page.layout[number].kind}: {error}", "bad")
                pixels = np.zeros((1, 1, 4), dtype=np.uint8)
            rows, columns = pixels.shape[:2]
            image = QImage(pixels.data, columns, rows, 4 * columns, QImage.Format.Format_RGBA8888).copy()
            self._images[key] = image
            self.sheet.update()
            return
        self._stale = {}
        self._waiting.stop()

    def showEvent(self, event: Any) -> None:  # noqa: N802
        self._waiting.start()
        super().showEvent(event)

    # ---- elements

    def chosen_element(self) -> Element | None:
        """The element that is selected."""
        if self.page is None or not 0 <= self.chosen < len(self.page.elements):
            return None
        return self.page.layout[self.chosen]

    def choose(self, number: int) -> None:
        """Select an element and show its measures."""
        self.chosen = number
        element = self.chosen_element()
        self.bar.setVisible(self.page is not None)
        self.about.setText(element.kind if element is not None else "click an element")
        shown = {
            "x": True,
            "y": True,
            "w": True,
            "h": True,
            "scale": element is not None and element.kind in ("map", "section", "log"),
            "text": element is not None and element.kind in ("title", "notes", "legend", "log", "chart"),
        }
        for name, edit in self.edits.items():
            on = element is not None and shown[name]
            edit.setVisible(on)
            for label in self.bar.findChildren(QLabel):
                if label.buddy() is edit:
                    label.setVisible(on)
            if element is not None and on and not edit.hasFocus():
                value = getattr(element, name)
                edit.setText(value.replace("\n", "\\n") if name == "text" else f"{value:g}")
        self.lit.setVisible(element is not None and element.kind in ("map", "section", "log", "chart"))
        self.sheet.update()

    def _typed(self, name: str) -> None:
        element = self.chosen_element()
        if element is None or self.page is None:
            return
        text = self.edits[name].text()
        value: Any = text.replace("\\n", "\n")
        if name != "text":
            try:
                value = parse_number(text)
            except InputError as error:
                self.ctx.say(str(error), "bad")
                self.edits[name].setText(f"{getattr(element, name):g}")
                return
        if value != getattr(element, name) and not (name != "text" and abs(value - getattr(element, name)) < 1e-9):
            self.arrange(editing.changed(self.page, self.chosen, **{name: value}))

    def drag(self, way: str, dx: float, dy: float, done: bool) -> None:
        """Move, resize or pan the selected element by millimetres; on the last call for good."""
        stored = self.ctx.item(self.id)
        if not isinstance(stored, Page) or self.chosen_element() is None:
            return
        if way == "move":
            elements = editing.moved(stored, self.chosen, dx, dy)
        elif way == "pan":
            elements = editing.panned(stored, self.chosen, dx, dy)
        else:
            elements = editing.resized(stored, self.chosen, way, dx, dy)
        if done:
            self.arrange(elements)
        elif way != "pan":
            self._preview(elements)

    def _preview(self, elements: editing.Elements) -> None:
        assert self.page is not None
        before = {self._key(k): self.image_of(k) for k in range(len(self.page.elements))}
        old = self.image_of(self.chosen)
        self.page = dataclasses.replace(self.page, elements=elements)
        self._stale |= {k: v for k, v in before.items() if v is not None}
        if old is not None:  # while it is resized its old picture is stretched
            self._stale[self._key(self.chosen)] = old
        self.choose(self.chosen)

    def arrange(self, elements: editing.Elements) -> bool:
        """Give the page another arrangement; it can be undone."""
        if self.page is None:
            return False
        self._preview(elements)
        try:
            self.ctx.start("arrange-page", {"layout": list(elements)}, {"page": self.id})
        except LampError as error:
            self.ctx.say(str(error), "bad")
            self.redraw()
            return False
        return True

    def begin(self) -> None:
        """Open the form of a new page for what is lit."""
        lit = [e for e in self.ctx.lit_entries() if e.kind != "page"]
        if not lit:
            self.ctx.say("Light what the page is to show first.", "look")
            return
        around = next((e for e in lit if e.kind == "features"), lit[0])
        self.ctx.ask.emit(
            "make-page", {"around": around.id}, {"lit": [e.name for e in lit], "coordinates": self.ctx.shown_grid}
        )

    def add(self, kind: Any) -> None:
        """Add an element."""
        if self.page is None:
            return
        values: dict[str, Any] = {}
        layout = self.page.layout
        first = next((e for e in layout if e.kind == "map"), None)
        if kind == "section":
            plane = self.ctx.section
            if plane is None:
                self.ctx.say("Draw a section on the map first.", "look")
                return
            values = {
                "line": tuple(plane.places.ravel().tolist()),
                "corridor": self.ctx.corridor,
                "exaggeration": self.ctx.section_exaggeration,
                "side": self.ctx.corridor_side,
                **as_data(self.ctx.section_look),
            }
        elif kind == "log":
            holes = next((e for e in self.ctx.lit_entries() if e.kind == "holes"), None)
            item = self.ctx.item(holes.id) if holes is not None else None
            if holes is None or not isinstance(item, HoleSet):
                self.ctx.say("Light drillholes first.", "look")
                return
            rows = (
                self.ctx.selection.rows
                if self.ctx.selection.item == holes.id and self.ctx.selection.table in ("", "collar")
                else ()
            )
            values = {"lit": [holes.id], "text": str(item.collars["hole"].iloc[rows[0] if rows else 0])}
        elif kind == "chart":
            found = next(
                (
                    (e.id, item)
                    for e in self.ctx.lit_entries()
                    if e.kind == "holes" and isinstance(item := self.ctx.item(e.id), HoleSet) and len(item.controls)
                ),
                None,
            )
            if found is None or not (names := judged_attributes(found[1])) or not (of := groups(found[1])):
                self.ctx.say("Light drillholes that have control samples first.", "look")
                return
            values = {"lit": [found[0]], "text": of[0], "fields": {"attribute": names[0]}}
        elif kind == "picture":
            path, _ = QFileDialog.getOpenFileName(self, "Picture", "", "Pictures (*.png *.jpg *.jpeg)")
            if not path:
                return
            data = (
                base64.b64encode(Path(path).read_bytes()).decode()
                if Path(path).stat().st_size < MOST_PICTURE * 0.74
                else ""
            )
            if not data or QImage(path).isNull():
                self.ctx.say(f"{Path(path).name} is no picture of less than {MOST_PICTURE * 0.74 / 1e6:.0f} MB.", "bad")
                return
            values = {"data": data}
        if self.arrange(editing.added(self.page, kind, first, self.sheet_number, **values)):
            self.choose(len(self.page.elements) - 1)

    def remove(self) -> None:
        """Take the selected element off the page."""
        if self.page is not None and self.chosen_element() is not None:
            number, self.chosen = self.chosen, -1
            self.arrange(editing.without(self.page, number))

    def take_lit(self) -> None:
        """The selected map or section shows what is lit now."""
        if self.page is None or self.chosen_element() is None:
            return
        lit = [e for e in self.ctx.lit_entries() if e.kind != "page"]
        colours = {e.id: self.ctx.attribute_of(e) for e in lit if self.ctx.attribute_of(e)}
        self.arrange(editing.changed(self.page, self.chosen, lit=[e.id for e in lit], colour_by=colours))

    # ---- files

    def _export(self) -> None:
        name = self.page.name if self.page else "page"
        kinds = "PDF (*.pdf);;SVG (*.svg);;PNG, 300 dots per inch (*.png);;GeoTIFF, 300 dots per inch (*.tif)"
        path, _ = QFileDialog.getSaveFileName(self, f"Export {name}", f"{name}.pdf", kinds)
        if path:
            self.export_to(Path(path))

    def export_to(self, path: Path) -> None:
        """Write the page to a file and say so."""
        if self.page is None:
            return
        target = path if path.suffix.lower() in ENDINGS else path.with_name(path.name + ".pdf")
        if self.ctx.session is not None:
            self.ctx.guard(self.ctx.session.desk.export, [self.id], target)

    def _template(self) -> None:
        name = self.page.name if self.page else "page"
        path, _ = QFileDialog.getSaveFileName(
            self, "Keep the arrangement", f"{name}.page.json", "Page template (*.page.json)"
        )
        if path and self.page is not None:
            try:
                write_template(self.page, Path(path))
                self.ctx.say(f"Written: {path}", "good")
            except OSError as error:
                self.ctx.say(f"The template can't be written ({error.strerror}).", "bad")

    def close_pane(self) -> None:
        self._waiting.stop()
        super().close_pane()

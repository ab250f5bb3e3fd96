"""The one form by which all files come in: dropped, told by their content, corrected, brought in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import cast, get_args

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.declaring.operation import Inputs
from ...core.errors import LampError
from ...core.formats.tables import saved_mappings
from ...core.importing import intake, offers
from ...core.importing.choices import AboveRule, DetectionRule, Dips, NegativeRule
from ...core.importing.detection import CellRules
from ...core.importing.offers import HOLE_KINDS, KINDS, Offer
from ...core.items.attributes import is_ground
from ...core.numbers import number_or_none
from ...core.operations.data.add_holes import AddHoles
from ...core.running.execute import find_operation
from ..base import background, settings
from ..context.context import Context
from ..sequences.intake_queue import IntakeQueue
from ..theme.plain import Label, plain_tip
from .looks import STOPPED, Looks
from .offer_preview import OfferPreview
from .previews import BatchTable

FILE, IS, NOTE = 0, 1, 2


class IntakeForm(QWidget):
    """Files as a list with what each is, the chosen one below, and what holds for all of them."""

    closed = Signal()

    def __init__(self, ctx: Context, queue: IntakeQueue) -> None:
        super().__init__()
        self.ctx, self.queue = ctx, queue
        self.offers: list[Offer] = []
        self.open = intake.Questions()
        self.looks = Looks()
        self._picks: dict[str, list[list[float]]] = {}
        self.setAcceptDrops(True)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 8, 8)
        box.setSpacing(4)
        back = QPushButton("‹ Steps")
        back.setObjectName("link")
        back.setToolTip("Back to the steps (Esc)")
        back.clicked.connect(self.closed.emit)
        box.addWidget(back)
        heading = Label("Bring in files")
        heading.setObjectName("heading")
        box.addWidget(heading)
        row = QHBoxLayout()
        about = Label("Drop files or folders here. Each is told by what stands in it.")
        about.setObjectName("faint")
        about.setWordWrap(True)
        row.addWidget(about, 1)
        self.files_button = QPushButton("Files…")
        self.folder_button = QPushButton("Folder…")
        self.files_button.clicked.connect(self._choose_files)
        self.folder_button.clicked.connect(self._choose_folder)
        row.addWidget(self.files_button)
        row.addWidget(self.folder_button)
        box.addLayout(row)
        self.list = QTableWidget(0, 3)
        self.list.setHorizontalHeaderLabels(["File", "is", ""])
        self.list.verticalHeader().hide()
        self.list.verticalHeader().setDefaultSectionSize(24)
        self.list.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.list.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.list.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        header = self.list.horizontalHeader()
        header.setSectionResizeMode(FILE, QHeaderView.ResizeMode.Stretch)
        header.resizeSection(IS, 168)
        header.resizeSection(NOTE, 34)
        self.list.setMinimumHeight(170)
        self.list.setAccessibleName("Files")
        self.list.itemSelectionChanged.connect(self._show_chosen)
        box.addWidget(self.list, 2)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 4, 6, 4)
        column.setSpacing(6)
        self.preview = OfferPreview(ctx)
        self.preview.corrected.connect(self._corrected)
        self.preview.saved.connect(self._saved)
        self.preview.asks.connect(self._asked)
        column.addWidget(self.preview)
        column.addLayout(self._for_all())
        self.batch = BatchTable()
        self.batch.hide()
        column.addWidget(self.batch)
        column.addStretch(1)
        area.setWidget(inner)
        box.addWidget(area, 3)
        self.problem = Label()
        self.problem.setWordWrap(True)
        box.addWidget(self.problem)
        self.stop_looking = QPushButton("Stop looking")
        self.stop_looking.setObjectName("link")
        self.stop_looking.setToolTip("Go on with what has been looked at; files that were not stay in the list as such")
        self.stop_looking.clicked.connect(self.looks.stop)
        self.stop_looking.hide()
        box.addWidget(self.stop_looking)
        self.checks_button = QPushButton("Show their checks")
        self.checks_button.setObjectName("link")
        self.checks_button.setToolTip("What was mended, left out or should be looked at, in the Checks pane")
        self.checks_button.clicked.connect(self._show_checks)
        self.checks_button.hide()
        box.addWidget(self.checks_button)
        self.run_button = QPushButton("Bring in")
        self.run_button.setObjectName("run")
        self.run_button.setToolTip("Bring all files in, in the background (Ctrl+Return)")
        self.run_button.clicked.connect(self.run)
        self.run_button.setEnabled(False)
        box.addWidget(self.run_button)
        self._dated = background.answers_for(self, self._dates_came)
        self._off = [
            queue.changed.connect(self._progress),
            ctx.loaded.connect(lambda _: self._compare()),
            self.looks.came.connect(self._came),
            self.looks.moved.connect(self._progress),
        ]
        self._say("")

    def _for_all(self) -> QFormLayout:
        rows = QFormLayout()
        rows.setVerticalSpacing(4)
        rows.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.ExpandingFieldsGrow)
        self.holes_to = QComboBox()
        self.holes_to.setObjectName("holes_to")
        self.holes_to.addItem("a new set, or one for each collar table", "")
        self.holes_to.addItem("one new set, further collar tables as batches", "@")
        for entry in self.ctx.entries():
            if entry.kind == "holes" and not entry.dated:
                self.holes_to.addItem(f"add to {entry.name}", entry.id)
        self.holes_to.activated.connect(lambda _: self._compare())
        self.below = QComboBox()
        self.below.setObjectName("below_detection")
        self.below.addItems(list(get_args(DetectionRule)))
        self.below.setToolTip("What <0.5, -0.5 and ND become; what the file said stays in the findings")
        self.below.activated.connect(lambda _: self._rule())
        self.above = QComboBox()
        self.above.setObjectName("above_limit")
        self.above.addItems(list(get_args(AboveRule)))
        self.above.setToolTip("What >10000 becomes: an over-limit column of the element counts where there is one")
        self.above.activated.connect(lambda _: self._rule())
        self.factor = QLineEdit("1.2")
        self.factor.setObjectName("above_factor")
        self.factor.setToolTip("What the limit is multiplied by")
        self.factor.editingFinished.connect(self._rule)
        self.methods = QLineEdit()
        self.methods.setObjectName("methods")
        self.methods.setToolTip(
            "Where several methods give an element: the one that counts first, parted by semicolons, such as FA; ICP. screen, repeat and plain (no method named) are known in seven languages"
        )
        self.dips = QComboBox()
        self.dips.setObjectName("dips")
        self.dips_words = Label()
        self.negatives = QComboBox()
        self.negatives.setObjectName("negatives")
        self.negatives_words = Label()
        for combo, words, kinds in (
            (self.dips, self.dips_words, get_args(Dips)),
            (self.negatives, self.negatives_words, get_args(NegativeRule)),
        ):
            combo.addItem("choose", "auto")
            for kind in kinds[1:]:
                combo.addItem(kind, kind)
            combo.activated.connect(lambda _: self._rule())
            words.setObjectName("bad")
            words.setWordWrap(True)
        self.order = QComboBox()
        self.order.setObjectName("day_order")
        self.order.addItem("choose", "auto")
        self.order.addItem("day first", "day first")
        self.order.addItem("month first", "month first")
        self.order.activated.connect(lambda _: self._say(""))
        self.order_words = Label()
        self.order_words.setObjectName("bad")
        self.order_words.setWordWrap(True)
        self.holes_words = Label("Holes go to")
        rows.addRow(self.holes_words, self.holes_to)
        rows.addRow("Below detection is", self.below)
        rows.addRow("Above the limit is", self.above)
        rows.addRow("Limit times", self.factor)
        rows.addRow("Best method first", self.methods)
        rows.addRow(self.negatives_words, self.negatives)
        rows.addRow(self.dips_words, self.dips)
        rows.addRow(self.order_words, self.order)
        self.system = QLineEdit()
        self.system.setObjectName("coordinates")
        self.system.setPlaceholderText(self.ctx.store.crs if self.ctx.store else "")
        self.system.setToolTip(
            "Code of the coordinate system of the tables where it is not the project's, such as EPSG:4326 for degrees. Columns called longitude and latitude are known as degrees; grids and maps name their own."
        )
        rows.addRow("Coordinates are in", self.system)
        for widget in (self.holes_to, self.below, self.above, self.negatives, self.dips, self.order):
            widget.setMinimumContentsLength(10)
        self.rows = rows
        self._show_rows()
        return rows

    # ---- files

    def _choose_files(self) -> None:
        here = settings.load()
        paths, _ = QFileDialog.getOpenFileNames(self, "Files to bring in", here.last_folder)
        self._take_from_dialog(paths)

    def _choose_folder(self) -> None:
        here = settings.load()
        path = QFileDialog.getExistingDirectory(self, "Folder to bring in", here.last_folder)
        self._take_from_dialog([path] if path else [])

    def _take_from_dialog(self, paths: Sequence[str]) -> None:
        if paths:
            first = Path(paths[0])
            settings.save(replace(settings.load(), last_folder=str(first if first.is_dir() else first.parent)))
            self.take(paths)

    def take(self, paths: Sequence[Path | str]) -> None:
        """Look at files and folders in the background; their offers come into the list one by one."""
        try:
            files = offers.found_files(paths)
        except LampError as error:
            self._say(str(error), bad=True)
            return
        # What was stopped is looked at when it is added again.
        self.offers = [o for o in self.offers if o.why != STOPPED or Path(o.ref) not in files]
        known = {o.ref.split("#")[0] for o in self.offers}
        self.looks.take([p for p in files if str(p) not in known], saved_mappings.load())
        if not files:
            self._say("There is no file in that folder.", bad=True)
        self._progress()

    @property
    def looking(self) -> bool:
        """Whether files are still being looked at."""
        return self.looks.left > 0

    def _came(self, path: str, made: list[Offer]) -> None:
        self.offers += made
        if not self.looking:
            order = {k: n for n, k in enumerate(KINDS)}
            self.offers.sort(key=lambda o: (o.kind == "", str(Path(o.ref.split("#")[0]).parent), order[o.kind], o.ref))
            self._fill()
            known = [offer for offer in self.offers if offer.kind]
            background.start(self._dated, "dates", partial(intake.questions, known), "")
        self._progress()

    def _dates_came(self, key: str, result: object) -> None:
        if isinstance(result, intake.Questions):
            self.open = result
            self._show_rows()

    def _fill(self) -> None:
        self.list.blockSignals(True)
        at = self.list.currentRow()
        self.list.setRowCount(len(self.offers))
        for row, offer in enumerate(self.offers):
            alike = sum(o.label == offer.label for o in self.offers) > 1
            folder = Path(offer.ref.split("#")[0]).parent.name
            cell = QTableWidgetItem(f"{folder}/{offer.label}" if alike else offer.label)
            cell.setToolTip(plain_tip(f"{offer.ref}\n{offer.why}"))
            self.list.setItem(row, FILE, cell)
            combo = QComboBox()
            combo.setObjectName(f"kind.{row}")
            combo.setAccessibleName(f"What {offer.label} is")
            for kind in offer.fits:
                combo.addItem(KINDS[kind][0], kind)
            combo.setCurrentIndex(max(combo.findData(offer.kind), 0))
            combo.activated.connect(lambda _, r=row, c=combo: self._kind_chosen(r, str(c.currentData())))
            self.list.setCellWidget(row, IS, combo)
            self.list.setItem(row, NOTE, QTableWidgetItem())
            self._mark(row)
        self.list.blockSignals(False)
        if self.offers and at < 0:
            self.list.selectRow(0)
        self._show_rows()
        self._compare()

    def _count(self) -> None:
        """Say on the button how many files come in; without any it can't be pressed."""
        wanted = len([o for o in self._wanted() if o.kind != "base"])
        self.run_button.setEnabled(wanted > 0)
        self.run_button.setText("Bring in" if not wanted else f"Bring in {wanted} file{'s' if wanted > 1 else ''}")

    def _mark(self, row: int) -> None:
        offer = self.offers[row]
        cell = self.list.item(row, NOTE)
        assert cell is not None
        result = self.queue.results.get(offer.ref, "")
        missing = offers.lacking(offer)
        if result:
            sign, tip = result[:1] if result[:1] in "✓✗" else "…", result
        elif missing:
            sign, tip = "?", "no column for " + ", ".join(missing)
        elif offer.kind == "picture" and offer.needs_points and len(self._picked().get(offer.ref, ())) < 3:
            sign, tip = "?", "pick three points on it, or leave it out"
        elif offer.kind == "base":
            sign, tip = "–", "used by 'Diurnal correction' once the lines are in"
        elif not offer.kind:
            sign, tip = "–", offer.why
        else:
            sign, tip = "", offer.why
        cell.setText(sign)
        cell.setToolTip(plain_tip(tip))

    def _kind_chosen(self, row: int, kind: str) -> None:
        self.offers[row] = offers.as_kind(self.offers[row], kind)
        self._mark(row)
        self._count()
        self.list.selectRow(row)
        self._show_chosen()
        self._show_rows()
        self._compare()

    def _show_chosen(self) -> None:
        row = self.list.currentRow()
        self.preview.show_offer(self.offers[row] if 0 <= row < len(self.offers) else None)

    def _corrected(self, offer: object) -> None:
        row = self.list.currentRow()
        assert isinstance(offer, Offer)
        self.offers[row] = offer
        self._mark(row)
        self.preview.update_offer(offer)
        self._say("")
        self._compare()

    def _saved(self) -> None:
        # Other files of the same shape take the mapping at once.
        saved = saved_mappings.load()
        kept = self.offers[self.list.currentRow()]
        for row, offer in enumerate(self.offers):
            if (
                row != self.list.currentRow()
                and offer.layout is not None
                and kept.layout is not None
                and saved_mappings.shape_of(offer.layout.columns) == saved[0].shape
            ):
                self.offers[row] = replace(
                    offer,
                    kind=kept.kind,
                    roles=dict(kept.roles),
                    mapping=saved[0].name,
                    why=f"same columns as the saved mapping '{saved[0].name}'",
                )
        self._fill()

    # ---- what holds for all

    def _asked(self, file: str, questions: object) -> None:
        if isinstance(questions, intake.Questions):
            self.open = self.open.updated(file, questions)
        self._show_rows()

    def _questions(self) -> intake.Questions:
        """What the files that come in leave open, together."""
        return self.open.of({o.ref for o in self.offers if o.kind})

    def _unanswered(self) -> str:
        """What must be chosen before files come in; '' for nothing."""
        asked = self._questions()
        dates = [d for of_file in asked.dates.values() for d in of_file]
        if dates and self.order.currentData() == "auto":
            return f"dates like {dates[0]} could be day or month first: choose which"
        if asked.dips and self.dips.currentData() == "auto":
            return f"{next(iter(asked.dips.values()))}: choose how dips are measured"
        if asked.negatives and self.negatives.currentData() == "auto":
            return f"{next(iter(asked.negatives.values()))} may be below detection or no value: choose which"
        return ""

    def _show_rows(self) -> None:
        asked = self._questions()
        dates = [d for of_file in asked.dates.values() for d in of_file]
        self.order_words.setText(f"Dates like {dates[0]} are" if dates else "Dates are")
        self.dips_words.setText("Dips are")
        self.dips_words.setToolTip(next(iter(asked.dips.values()), ""))
        self.negatives_words.setText(f"{next(iter(asked.negatives.values()), '')} says")
        self.rows.setRowVisible(self.order, bool(dates))
        self.rows.setRowVisible(self.dips, bool(asked.dips))
        self.rows.setRowVisible(self.negatives, bool(asked.negatives))
        self.rows.setRowVisible(self.factor, self.above.currentText() == "limit times factor")
        self.rows.setRowVisible(self.methods, bool(asked.methods))
        self.methods.setPlaceholderText("; ".join(next(iter(asked.methods.values()), [])))
        self.rows.setRowVisible(self.holes_to, any(o.kind in HOLE_KINDS for o in self.offers))

    def _rule(self) -> None:
        self._show_rows()
        self.preview.rules = self._cells()
        self._say("")
        self._show_chosen()

    def _cells(self) -> CellRules:
        return CellRules(
            below=cast(DetectionRule, self.below.currentText()),
            above=cast(AboveRule, self.above.currentText()),
            above_factor=number_or_none(self.factor.text()) or 1.2,
            methods=tuple(m.strip() for m in self.methods.text().split(";") if m.strip()),
            negatives=cast(NegativeRule, self.negatives.currentData()),
        )

    def _picked(self) -> dict[str, list[list[float]]]:
        offer = self.preview.offer
        if offer is not None and offer.kind == "picture":
            self._picks[offer.ref] = self.preview.picks.whole()
        return dict(self._picks)

    def choices(self) -> intake.Choices:
        """What is chosen for all files."""
        ground = next(
            (e.id for e in self.ctx.entries() if e.kind == "grid" and is_ground(e.attributes) and not e.dated), ""
        )
        target = str(self.holes_to.currentData())
        return intake.Choices(
            cells=self._cells(),
            dips=str(self.dips.currentData()),
            day_order=str(self.order.currentData()),  # type: ignore[arg-type]
            coordinates=self.system.text().strip(),
            add_to="" if target == "@" else target,
            batches=target == "@",
            ground=ground,
            holes=next((e.id for e in self.ctx.entries() if e.kind == "holes" and not e.dated), ""),
            picks=self._picked(),
        )

    def _wanted(self) -> list[Offer]:
        return [o for o in self.offers if o.kind and not self.queue.results.get(o.ref, "").startswith("✓")]

    def _compare(self) -> None:
        """Show what a batch brings before it is accepted."""
        target = str(self.holes_to.currentData())
        holes = self.ctx.item(target) if target not in ("", "@") else None
        store = self.ctx.store
        self.batch.setVisible(holes is not None)
        if holes is None or store is None:
            return
        try:
            run = next((r for r in intake.plan(self._wanted(), self.choices()) if r.operation == "add-holes"), None)
            if run is None:
                self.batch.setVisible(False)
                return
            params = find_operation("add-holes").check(run.params)
        except LampError as error:
            self.batch.counts.setText(str(error))
            return
        assert isinstance(params, AddHoles)
        self.batch.compare(Inputs({"holes": holes}, store.crs), params)

    # ---- running

    def run(self) -> None:
        """Bring the files in; what is still open is said in the form."""
        wanted = self._wanted()
        try:
            if self.looking:
                raise LampError("files are still being looked at")
            if not any(o.kind != "base" for o in wanted):
                raise LampError("there is no file to bring in")
            if self._unanswered():
                raise LampError(self._unanswered())
            picks = self._picked()
            for offer in wanted:
                if offer.kind == "picture" and offer.needs_points and len(picks.get(offer.ref, ())) < 3:
                    raise LampError(f"{offer.label} names no place: pick three points on it, or leave it out")
            runs = intake.plan(wanted, self.choices())
        except LampError as error:
            self._say(str(error), bad=True)
            return
        self._say("")
        self.queue.start(runs)

    def _progress(self) -> None:
        for row in range(min(self.list.rowCount(), len(self.offers))):
            self._mark(row)
        self._count()
        self.checks_button.setVisible(bool(self.queue.items) and not self.queue.busy)
        self.stop_looking.setVisible(self.looking)
        if self.looking:
            self._say(self.looks.words())
        elif self.queue.busy:
            self._say(f"Coming in, {len(self.queue.waiting)} waiting …")
        elif self.queue.results and not self.problem.text().startswith("✗"):
            bad = [r for r in self.queue.results.values() if r.startswith("✗")]
            self._say(bad[0] if bad else f"{len(self.queue.items)} items brought in.", bad=bool(bad))
        elif self.problem.text().startswith("Looking"):
            self._say("")

    def _show_checks(self) -> None:
        found = [e for i in self.queue.items if (e := self.ctx.entry(i)) and "Findings" in e.facts]
        if found:
            self.ctx.select_item(max(found, key=lambda e: int(e.facts["Findings"].replace(",", ""))).id)
        self.ctx.wish.emit("checks", "Findings by kind")

    def _say(self, words: str, bad: bool = False) -> None:
        self.problem.setText(words)
        self.problem.setObjectName("bad" if bad else "faint")
        self.problem.style().unpolish(self.problem)
        self.problem.style().polish(self.problem)
        self.problem.setVisible(bool(words))

    # ---- dropping, keys, leaving

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.take([u.toLocalFile() for u in event.mimeData().urls() if u.isLocalFile()])
        event.acceptProposedAction()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.run()
        else:
            super().keyPressEvent(event)

    def focus_first(self) -> None:
        """Put the keyboard where files are chosen."""
        self.files_button.setFocus()

    def let_go(self) -> None:
        """Stop listening; the form may be deleted afterwards."""
        self.looks.close()
        for off in self._off:
            off()

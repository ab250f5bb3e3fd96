"""A button in the form of section pages that takes what the section pane shows now."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QVBoxLayout

from .form_state import FormState
from .previews import Preview


class TakeSection(Preview):
    """Fills line, corridor, scale of heights, what is lit and the look from the section that is seen."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.button = QPushButton("As the section pane shows it")
        self.button.setObjectName("takeSection")
        self.button.setToolTip("Take its line, corridor, vertical exaggeration, items, colours and look")
        self.button.clicked.connect(self.take)
        box.addWidget(self.button)

    def update_preview(self) -> None:
        self.button.setEnabled(self.form.ctx.section is not None)

    def take(self) -> None:
        """Fill the form."""
        ctx, plane = self.form.ctx, self.form.ctx.section
        if plane is None:
            return
        look = ctx.section_look
        lit = [e for e in ctx.lit_entries() if e.kind not in ("page", "walk")]
        names = {e.id: e.name for e in ctx.entries()}
        values = {
            "line": "; ".join(f"{x:.10g} {y:.10g}" for x, y in plane.places.tolist()),
            "number": 1,
            "corridor": ctx.corridor,
            "side": ctx.corridor_side,
            "exaggeration": ctx.section_exaggeration,
            "lit": tuple(e.name for e in lit),
            "colours": tuple(f"{e.name} = {ctx.attribute_of(e)}" for e in lit if ctx.attribute_of(e)),
            "beside": tuple(f"{b.attribute} {b.way} {b.hand} {b.offset:g} {b.width:g}" for b in look.beside),
            "panels": tuple(names.get(p, p) for p in look.panels),
            "strip": look.strip,
            "depths": look.depths,
        }
        for name, value in values.items():
            self.form.fields[name].set_value(value)

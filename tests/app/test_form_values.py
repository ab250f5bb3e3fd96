"""Contract: what stands in an untouched form is what was declared, for every operation, and numbers keep their digits."""

from __future__ import annotations

from pydantic import TypeAdapter, ValidationError
from PySide6.QtWidgets import QLineEdit

from innerlamp.app.forms.field_base import as_text
from innerlamp.app.forms.fields import TextField, widget_for
from innerlamp.app.mainwindow.window import Window
from innerlamp.core.running.table import OPERATIONS


def test_an_untouched_form_stands_for_the_declared_values(window: Window) -> None:
    wrong = []
    for operation in OPERATIONS.values():
        form = window.steps.open_form(operation.name)
        for name, info in operation.fields().items():
            if info.required:
                continue
            check: TypeAdapter[object] = TypeAdapter(operation.params.model_fields[name].rebuild_annotation())
            try:
                good = check.validate_python(form.fields[name].value()) == check.validate_python(info.default)
            except ValidationError:
                good = False
            wrong += [] if good else [(operation.name, name, form.fields[name].value())]
    assert wrong == []


def test_numbers_keep_their_digits_and_what_may_lack_can_be_left_empty(window: Window) -> None:
    operation = OPERATIONS["section-pages"]
    field = widget_for(operation.fields()["lowest"])
    assert isinstance(field, TextField)
    assert isinstance(field.edit, QLineEdit)
    assert field.value() is None
    field.set_value(5602345.678)
    assert float(field.value()) == 5602345.678
    field.set_value(None)
    assert field.edit.text() == "" and field.value() is None
    assert as_text([(503412.25, 5602345.5), (1.0, 2.0)]) == "503412.25 5602345.5; 1 2"

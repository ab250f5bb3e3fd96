"""The help: every operation has a page that says all of it, and the guide in docs is the one that ships."""

from __future__ import annotations

from pathlib import Path

import pytest

from innerlamp.app.mainwindow.finder import ALSO
from innerlamp.core.running.help_pages import GUIDE, found, operation_page, pages, whole_guide
from innerlamp.core.running.methods import METHODS
from innerlamp.core.running.table import OPERATIONS

DOCS = Path(__file__).parents[2] / "docs" / "guide"


@pytest.mark.parametrize("name", list(OPERATIONS))
def test_every_operation_has_a_page_with_all_of_its_parameters(name: str) -> None:
    op = OPERATIONS[name]
    page = operation_page(op)
    assert page.text.startswith(f"# {op.title}")
    for field, info in op.fields().items():
        assert f"`{field}`" in page.text
        assert info.label in page.text
    for slot in op.inputs:
        assert slot.label in page.text
    assert f"apply PROJECT {name}" in page.text


def test_methods_name_operations_that_are_there() -> None:
    assert set(METHODS) <= set(OPERATIONS)


def test_the_guide_in_docs_is_the_one_that_ships() -> None:
    made = whole_guide()
    assert {p.name for p in DOCS.glob("*.md")} == set(made)
    for name, text in made.items():
        assert (DOCS / name).read_text(encoding="utf-8") == text, f"run 'make guide': {name}"
    for picture in (GUIDE / "pictures").glob("*.png"):
        assert (DOCS / "pictures" / picture.name).read_bytes() == picture.read_bytes(), (
            f"run 'make guide': {picture.name}"
        )


@pytest.mark.parametrize(
    ("words", "first"), [("variogram", "grid-kriging"), ("dem", "import-grid"), ("what the marks", "marks")]
)
def test_pages_are_found_by_words_people_use(words: str, first: str) -> None:
    assert found(pages(), words, ALSO)[0].key == first
    assert found(pages(), "no such words at all", ALSO) == []

"""In which order files of tests are handed to processes: what takes long first, so that none is left over at the end.

The first file makes the demo project, which most of the window's tests wait for; those beside it need none.
"""

from __future__ import annotations

from collections.abc import Iterable

import pytest

FIRST = ("app.test_inverting", "core.test_known_ground", "core.test_potential_operations", "core.test_hostile_corpus")
# In falling order of what they took when it was measured last.
LONG = (
    "app.test_tutorial",
    "app.test_session",
    "app.test_bringing_in",
    "app.test_window",
    "choices.test_every_choice",
    "app.test_arranging",
    "app.test_sitting",
    "app.test_controls",
    "app.test_finding",
    "app.test_logging",
    "app.test_looking",
    "app.test_every_form",
    "app.test_area_and_runs",
    "app.test_unit_edits",
    "app.test_walking",
    "app.test_ground",
    "app.test_unit_models",
    "app.test_drawing",
    "core.test_jobs",
    "app.test_forms",
    "app.test_sections",
    "contract.test_families",
    "app.test_looks",
    "app.test_pages",
    "app.test_maps",
    "app.test_scaling",
    "app.test_in_space",
)
_RANK = {f"tests.{name}": k for k, name in enumerate((*FIRST, *LONG))}


def ordered(items: Iterable[pytest.Item]) -> list[pytest.Item]:
    """Tests by file in that order, those of the window before others that it does not name; within a file as they stand."""

    def rank(item: pytest.Item) -> tuple[int, bool]:
        name = item.nodeid.partition("::")[0].removesuffix(".py").replace("/", ".")
        return _RANK.get(name, len(_RANK)), not name.startswith("tests.app.")

    return sorted(items, key=rank)

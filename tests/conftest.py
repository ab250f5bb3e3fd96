"""What all tests share: reference values, small data, a project made from the demo's files."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from innerlamp.core.project.store import Store

CRS = "EPSG:32629"


@pytest.fixture(scope="session")
def reference() -> dict[str, Any]:
    """Check values with their sources; see `_meta` in the file for how each was obtained."""
    data: dict[str, Any] = json.loads(
        (Path(__file__).parent / "data" / "reference-values.json").read_text(encoding="utf-8")
    )
    return data


@pytest.fixture(autouse=True)
def _own_home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test reads or writes the settings of the person who runs it."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.setenv(name, str(home / name.lower()))


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    """An empty project, open for writing."""
    with Store.create(tmp_path / "test.lamp", CRS) as opened:
        yield opened


@pytest.fixture(scope="session")
def demo_path(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo project, built once from the shipped files; tests that change it take a copy."""
    from innerlamp.demo.build import build

    return build(tmp_path_factory.mktemp("demo") / "Emberlow.lamp")

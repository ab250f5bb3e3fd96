"""What all tests share: a display, reference values, small data, a project made from the demo's files."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import shutil
import time
from collections.abc import Iterator
from importlib.metadata import version
from pathlib import Path
from typing import Any

import pytest

import innerlamp
from innerlamp.core.project.store import Store

from . import display, order

CRS = "EPSG:32629"
SOURCES = Path(innerlamp.__file__).parent


def pytest_configure(config: pytest.Config) -> None:
    display.start(config)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if hasattr(config, "workerinput"):
        items[:] = order.ordered(items)


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Name what failed in a file, for trying it once more alone (see scripts/test.sh)."""
    file = os.environ.get("INNERLAMP_FAILED")
    if file:
        reports = [r for kind in ("failed", "error") for r in terminalreporter.stats.get(kind, [])]
        Path(file).write_text(
            "".join(f"{name}\n" for name in dict.fromkeys(r.nodeid for r in reports)), encoding="utf-8"
        )


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


def made_of() -> str:
    """The digest of what the demo project is made of: its files, the operations that make it, the libraries that compute it."""
    told = hashlib.blake2b(digest_size=12)
    for name in ("numpy", "scipy", "numba", "pandas", "pyarrow", "shapely"):
        told.update(f"{name} {version(name)}".encode())
    for path in sorted([*(SOURCES / "core").rglob("*.py"), *(p for p in (SOURCES / "demo").rglob("*") if p.is_file())]):
        if "__pycache__" not in path.parts:
            told.update(str(path.relative_to(SOURCES)).encode())
            told.update(path.read_bytes())
    return told.hexdigest()


@pytest.fixture(scope="session")
def demo_path(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo project, made from the shipped files once for all processes and kept until its sources change.

    Each process has a copy of its own; tests that change it take another.
    """
    from innerlamp.demo.build import build

    base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "inner-lamp" / "tests"
    base.mkdir(parents=True, exist_ok=True)
    kept = base / made_of() / "Emberlow.lamp"
    with (base / "lock").open("w") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        if not (kept / "catalogue.sqlite").is_file():
            for (
                old
            ) in base.iterdir():  # another state of the sources may be tested beside this one: only what is old goes
                if old.is_dir() and time.time() - old.stat().st_mtime > 86_400:
                    shutil.rmtree(old, ignore_errors=True)
            build(kept)
        return Path(shutil.copytree(kept, tmp_path_factory.mktemp("demo") / "Emberlow.lamp"))

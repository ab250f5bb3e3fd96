"""Errands: what a worker does beside making items. Writing items to files is the one there is."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..errors import InputError
from ..formats.table import export, export_together
from ..geometry.mesh import DrapedMesh
from ..items.fields import BlockModel
from ..items.page import Page
from ..items.walk import Walk
from ..progress import SILENT, Progress
from ..project import payload
from ..project.store import Store

_WHOLE = (".vti", ".vtr", ".omf")  # formats that have whole cells only


@dataclass(frozen=True)
class Export:
    """Items to be written to a file, or several to one; plain data that can be sent to a process."""

    label: str
    project: str
    items: tuple[str, ...]
    manifests: tuple[payload.Manifest, ...]
    path: str
    dots_per_inch: float = 300.0
    staging: str = ""
    operation: str = "export"
    guard: bool = False


@dataclass(frozen=True)
class SceneExport:
    """A 3D view to be written: as a picture, a film once around it, or an HTML scene; plain data for a process.

    Attributes
    ----------
    stop
        The view, as `core.items.walk.Stop` has it.
    size
        Pixels across and up, of pictures and films.
    frames, seconds
        Of a film.
    """

    label: str
    project: str
    stop: dict[str, Any]
    path: str
    size: tuple[int, int] = (1920, 1200)
    ratio: float = 1.0
    frames: int = 72
    seconds: float = 8.0
    staging: str = ""
    operation: str = "export"


@dataclass(frozen=True)
class Exporter:
    """What draws pages, walk-throughs and 3D views off the screen; functions of a module, so that it can be sent to a process.

    Attributes
    ----------
    page
        Gets project, page, path and dots per inch; returns what it could not show.
    walk
        Gets project, walk-through and path.
    scene
        Gets project, errand and progress.
    """

    page: Callable[[Store, Page, Path, float], list[str]]
    walk: Callable[[Store, Walk, Path], None]
    scene: Callable[[Store, SceneExport, Progress], None]


def prepare_scene(store: Store, stop: dict[str, Any], path: Path, **how: Any) -> SceneExport:
    """Return the errand that writes a 3D view."""
    return SceneExport(f"Write {path.name}", str(store.path), stop, str(path), **how)


def prepare_export(store: Store, items: list[str], path: Path, guard: bool = False) -> Export:
    """Return the errand that writes items as they are now, with `guard` as in `formats.table.export`."""
    entries = [store.entry(i) for i in items]
    what = entries[0].name if len(entries) == 1 else f"{len(entries)} items"
    manifests = tuple(store.manifest(e.version) for e in entries)
    return Export(f"Export {what}", str(store.path), tuple(items), manifests, str(path), guard=guard)


def carry_out(
    errand: Export | SceneExport, progress: Progress = SILENT, exporter: Exporter | None = None
) -> tuple[str, ...]:
    """Write the files; returns their paths, or after them what a page could not show.

    Parameters
    ----------
    exporter
        What draws, where something is to be drawn.

    Raises
    ------
    LampError
        When it can't be written; nothing is left half-written then.
    """
    if isinstance(errand, SceneExport):
        return _scene(errand, progress, _given(exporter, errand))
    payloads = Path(errand.project) / "payloads"
    items = []
    for number, manifest in enumerate(errand.manifests):
        progress(0.5 * number / len(errand.manifests), "Reading")
        items.append(payload.read_item(payloads, manifest))
    progress(0.5, "Writing")
    path = Path(errand.path)
    if len(items) == 1 and isinstance(items[0], Page) and path.suffix.lower() != ".json":
        return _page(errand, items[0], path, _given(exporter, errand))
    if len(items) == 1 and isinstance(items[0], Walk) and path.suffix.lower() != ".json":
        return _walk(errand, items[0], path, _given(exporter, errand))
    files = export(items[0], path, errand.guard) if len(items) == 1 else export_together(items, path)
    cut = [i for i in items if isinstance(i, BlockModel) and isinstance(i.mesh, DrapedMesh)]
    left = ["without the cut tops of its columns: cells there are whole"] if cut and path.suffix in _WHOLE else []
    return (*(str(file) for file in files), *left)


def _given(exporter: Exporter | None, errand: Export | SceneExport) -> Exporter:
    if exporter is None:
        raise InputError(
            "nothing here can draw", where=errand.label, fix="Write it from the window or by the command line"
        )
    return exporter


def _scene(errand: SceneExport, progress: Progress, exporter: Exporter) -> tuple[str, ...]:
    with _off_screen(errand) as store:
        exporter.scene(store, errand, progress)
    return (errand.path,)


def _walk(errand: Export, walk: Walk, path: Path, exporter: Exporter) -> tuple[str, ...]:
    with _off_screen(errand) as store:
        exporter.walk(store, walk, path)
    return (str(path),)


def _page(errand: Export, page: Page, path: Path, exporter: Exporter) -> tuple[str, ...]:
    with _off_screen(errand) as store:
        problems = exporter.page(store, page, path, errand.dots_per_inch)
    return (str(path), *(f"without {problem}" for problem in problems))


@contextmanager
def _off_screen(errand: Export | SceneExport) -> Iterator[Store]:
    """The project to look at; what draws in a worker draws off the screen."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with Store.open(errand.project, write=False) as store:
        yield store

"""The table of painters: for each kind of view and of item, who draws it and what the picture depends on.

A new item kind is one line for each view here. All painters have one signature: context, view, entry, item;
they return graphics (map, section) or props (3D), which the pane owns.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from .map import map_painters
from .section import features as section_features
from .section import section_painters
from .space import models as scene_models
from .space import scene_painters

Use = Literal["ground", "corridor", "exaggeration", "draped", "picture"]


@dataclass(frozen=True)
class Painter:
    """Draws one kind of item in one kind of view.

    `uses` names what its picture depends on beside the item, its style and legend, and the theme.
    """

    paint: Callable[..., list[Any]]
    uses: frozenset[Use] = frozenset()


def _nothing(*_: object) -> list[Any]:
    """Pages and walk-throughs have no place on the ground; pictures of core stand in logs."""
    return []


def _by(paint: Callable[..., list[Any]], *uses: Use) -> Painter:
    return Painter(paint, frozenset(uses))


PAINTERS: dict[tuple[str, str], Painter] = {
    ("map", "grid"): _by(map_painters.paint_grid),
    ("map", "points"): _by(map_painters.paint_points),
    ("map", "lines"): _by(map_painters.paint_lines),
    ("map", "holes"): _by(map_painters.paint_holes),
    ("map", "surface"): _by(map_painters.paint_surface),
    ("map", "blocks"): _by(map_painters.paint_blocks),
    ("map", "targets"): _by(map_painters.paint_targets),
    ("map", "features"): _by(map_painters.paint_features),
    ("map", "electrodes"): _by(map_painters.paint_electrodes),
    ("map", "picture"): _by(map_painters.paint_picture),
    ("map", "core"): _by(_nothing),
    ("map", "page"): _by(_nothing),
    ("map", "walk"): _by(_nothing),
    ("section", "grid"): _by(section_painters.paint_grid, "ground"),
    ("section", "points"): _by(section_painters.paint_points, "ground", "corridor"),
    ("section", "lines"): _by(section_painters.paint_lines, "corridor"),
    ("section", "holes"): _by(section_painters.paint_holes, "corridor", "exaggeration"),
    ("section", "surface"): _by(section_painters.paint_surface),
    ("section", "blocks"): _by(section_painters.paint_blocks),
    ("section", "targets"): _by(section_painters.paint_targets, "corridor"),
    ("section", "features"): _by(section_features.paint_features, "ground", "corridor"),
    ("section", "electrodes"): _by(section_painters.paint_electrodes, "corridor"),
    ("section", "picture"): _by(section_features.paint_picture, "ground"),
    ("section", "core"): _by(_nothing),
    ("section", "page"): _by(_nothing),
    ("section", "walk"): _by(_nothing),
    ("scene", "grid"): _by(scene_painters.paint_grid, "ground", "draped"),
    ("scene", "points"): _by(scene_painters.paint_points, "ground"),
    ("scene", "lines"): _by(scene_painters.paint_lines, "ground"),
    ("scene", "holes"): _by(scene_painters.paint_holes),
    ("scene", "surface"): _by(scene_models.paint_surface, "picture"),
    ("scene", "blocks"): _by(scene_models.paint_blocks),
    ("scene", "targets"): _by(scene_painters.paint_targets),
    ("scene", "features"): _by(scene_painters.paint_features, "ground"),
    ("scene", "electrodes"): _by(scene_painters.paint_electrodes, "ground"),
    ("scene", "picture"): _by(scene_painters.paint_picture, "ground"),
    ("scene", "core"): _by(_nothing),
    ("scene", "page"): _by(_nothing),
    ("scene", "walk"): _by(_nothing),
}

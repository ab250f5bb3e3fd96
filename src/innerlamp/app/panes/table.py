"""The table of pane kinds. A new one is a class in a module of its own and one line here."""

from __future__ import annotations

from collections.abc import Callable

from ..context import Context
from .base import Pane
from .chart_pane import ChartPane
from .checks_pane import ChecksPane
from .log_pane import LogPane
from .map_pane import MapPane
from .page_pane import PagePane
from .profile_pane import ProfilePane
from .section_pane import SectionPane
from .stereo_pane import StereoPane
from .table_pane import TablePane


def _scene(ctx: Context) -> Pane:
    from .scene_pane import ScenePane  # VTK is loaded only when a 3D pane is there

    return ScenePane(ctx)


def _walk(ctx: Context) -> Pane:
    from .walk_pane import WalkPane  # as above

    return WalkPane(ctx)


PANES: dict[str, tuple[str, Callable[[Context], Pane]]] = {
    "map": (MapPane.title, MapPane),
    "scene": ("3D", _scene),
    "section": (SectionPane.title, SectionPane),
    "log": (LogPane.title, LogPane),
    "table": (TablePane.title, TablePane),
    "chart": (ChartPane.title, ChartPane),
    "stereonet": (StereoPane.title, StereoPane),
    "checks": (ChecksPane.title, ChecksPane),
    "profile": (ProfilePane.title, ProfilePane),
    "page": (PagePane.title, PagePane),
    "walk": ("Walk-through", _walk),
}

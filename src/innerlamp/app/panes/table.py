"""The table of pane kinds. A new one is a class in a module of its own and one line here."""

from __future__ import annotations

from collections.abc import Callable

from ..context.context import Context
from .base.pane import Pane
from .charts.chart_pane import ChartPane
from .charts.profile_pane import ProfilePane
from .charts.stereo_pane import StereoPane
from .logs.log_pane import LogPane
from .map.map_pane import MapPane
from .section.section_pane import SectionPane
from .sheets.page_pane import PagePane
from .tables.checks_pane import ChecksPane
from .tables.table_pane import TablePane


def _scene(ctx: Context) -> Pane:
    from .space.scene_pane import ScenePane  # VTK is loaded only when a 3D pane is there

    return ScenePane(ctx)


def _walk(ctx: Context) -> Pane:
    from .sheets.walk_pane import WalkPane  # as above

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

"""What is looked at in a session: cursor, selection, section, scales. Kept with the project, not undone."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...core.compute.geometry.planes import SIDES, SectionPlane, Side
from ...core.items.section_look import SectionLook, as_data, from_data
from ...core.project.store import Store


@dataclass(frozen=True)
class Cursor:
    """The shared cursor: a place in metres (z NaN where unknown) and the pane that moved it."""

    x: float
    y: float
    z: float
    source: str = ""


@dataclass(frozen=True)
class Selection:
    """Selected rows of one table of one version of an item."""

    item: str = ""
    table: str = ""
    rows: tuple[int, ...] = ()
    version: int = 0


@dataclass
class ViewState:
    """Where people are in a project. The owner tells others when it changes something here."""

    cursor: Cursor = field(default_factory=lambda: Cursor(np.nan, np.nan, np.nan))
    selection: Selection = field(default_factory=Selection)
    selected: str = ""
    section: SectionPlane | None = None
    corridor: float = 50.0
    side: Side = "both sides"
    look: SectionLook = field(default_factory=SectionLook)
    exaggeration: float = 0.0  # 0: as the content proposes
    proposed_exaggeration: float = 1.0

    @classmethod
    def of(cls, store: Store) -> ViewState:
        """The view that was saved with a project; what does not fit any more is left out."""
        line = store.workspace("section")
        selected = str(store.workspace("selected", ""))
        return cls(
            selected=selected if any(e.id == selected for e in store.entries()) else "",
            section=_section(line),
            corridor=_between(store.workspace("corridor", 50.0), 0.1, 1e6, 50.0),
            side=next((s for s in SIDES if s == store.workspace("side")), "both sides"),
            look=from_data(store.workspace("section look", {})),
            exaggeration=_between(store.workspace("exaggeration", 0.0), 0.0, 1e4, 0.0),
        )

    def save(self, store: Store) -> None:
        """Remember the view with the project."""
        s = self.section
        store.set_workspace(
            {
                "section": s.places.ravel().tolist() if s else None,
                "corridor": self.corridor,
                "side": self.side,
                "section look": as_data(self.look),
                "exaggeration": self.exaggeration,
                "selected": self.selected,
            }
        )


def _between(value: float, low: float, high: float, usual: float) -> float:
    return value if low <= value <= high else usual


def _section(places: object) -> SectionPlane | None:
    """The section of a project's memory; what is none is passed over."""
    try:
        told = np.asarray(places, dtype=float) if places else None
        return SectionPlane.along(told) if told is not None and np.isfinite(told).all() else None
    except (ValueError, TypeError, OverflowError):
        return None

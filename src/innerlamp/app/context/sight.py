"""What painters may see of a project: its items, how they are coloured, the theme; nothing that changes anything."""

from __future__ import annotations

import numpy as np

from ...core.compute.geometry.sampling import bilinear
from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.fields import Grid
from ...core.items.legend import Legend
from ...core.items.style import Style
from ...core.project.records import Entry
from ...core.project.store import Store
from ..session.legends import LegendBook
from ..session.session import Session
from ..theme.theme import PAPER, Theme


class Sight:
    """The open session as it is drawn."""

    def __init__(self, session: Session | None = None, theme: Theme = PAPER) -> None:
        self.session = session
        self.theme = theme

    @property
    def store(self) -> Store | None:
        return self.session.store if self.session else None

    def entries(self) -> list[Entry]:
        return self.session.entries() if self.session else []

    def entry(self, item: str) -> Entry | None:
        found = next((e for e in self.entries() if e.id == item), None)
        if found is None and self.session is not None and item in self.session.guests:
            return self.session.guests[item][0]
        return found

    def item(self, item: str) -> Item | None:
        """Return an item if it is at hand; otherwise start reading it and return None.

        `loaded` is told when it has come.
        """
        entry = self.entry(item)
        if self.session is None:
            return None
        guest = self.session.guests.get(item)
        if guest is not None:
            return guest[1]
        return self.session.reader.item(entry) if entry else None

    @property
    def reading(self) -> bool:
        """Whether items are still being read."""
        return self.session is not None and self.session.reader.reading

    @property
    def problems(self) -> dict[str, str]:
        """Items that can't be read, and why."""
        return self.session.reader.problems if self.session else {}

    @property
    def lit(self) -> list[str]:
        """Ids of what is lit, what was lit last at the end."""
        return [e.id for e in self.lit_entries()]

    def lit_entries(self) -> list[Entry]:
        guests = [entry for entry, _ in self.session.guests.values()] if self.session else []
        return [*sorted((e for e in self.entries() if e.lit), key=lambda e: e.lit), *guests]

    def ground(self) -> Grid | None:
        """The ground surface, lit or not, if it is at hand."""
        for entry in self.entries():
            if entry.kind == "grid" and is_ground(entry.attributes):
                item = self.item(entry.id)
                return item if isinstance(item, Grid) else None
        return None

    def ground_at(self, x: float, y: float) -> float:
        """Elevation of the ground at a place, NaN where unknown."""
        dem = self.ground()
        if dem is None:
            return float("nan")
        return float(bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, np.array([x]), np.array([y]))[0])

    def attribute_of(self, entry: Entry) -> str:
        """The attribute that an item is coloured by."""
        return LegendBook.attribute_of(entry)

    def style(self, item: str) -> Style:
        """What the user chose for how an item is drawn."""
        entry = self.entry(item)
        return entry.style if entry else Style()

    def legend(self, attribute: str, item: Item) -> Legend:
        """Legend of an attribute: the user's, or one proposed from the values of an item."""
        book = self.session.legends if self.session else LegendBook(None)
        return book.legend(attribute, item)

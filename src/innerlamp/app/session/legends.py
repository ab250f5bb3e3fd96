"""How attributes are coloured in a session: what the user set, else what the values propose."""

from __future__ import annotations

import numpy as np

from ...core.items.attributes import Attribute, in_role, orientation
from ...core.items.base import Item
from ...core.items.fields import BlockModel, Grid
from ...core.items.holes import HoleSet, readings_with, table_with
from ...core.items.legend import Legend, propose
from ...core.project.records import Entry
from ...core.project.store import Store

_ENOUGH = 1_000_000  # values from which a legend is proposed; of more an even part is taken


class LegendBook:
    """Legends by attribute, shared by all panes."""

    def __init__(self, store: Store | None) -> None:
        self.store = store
        self._proposed: dict[str, Legend] = {}

    def legend(self, attribute: str, item: Item) -> Legend:
        """Legend of an attribute: the user's, or one proposed from the values of an item."""
        if self.store is not None and (stored := self.store.legend(attribute)) is not None:
            return stored
        if attribute not in self._proposed:
            known = item.attributes.get(attribute, Attribute())
            self._proposed[attribute] = propose(attribute, known, values_of(item, attribute))
        return self._proposed[attribute]

    def forget(self) -> None:
        """Propose anew: items have changed."""
        self._proposed.clear()

    @staticmethod
    def attribute_of(entry: Entry) -> str:
        """The attribute that an item is coloured by; '-' for none, by the user's wish."""
        chosen = entry.style.colour_by
        if chosen in entry.attributes or chosen == "-":
            return chosen
        for step in reversed(entry.chain):
            wanted = str(step.params.get("attribute", ""))
            if wanted in entry.attributes:
                return wanted
        if orientation(
            entry.attributes
        ):  # signs of the map are black unless asked otherwise, sets and core are told apart
            told = ("set", "is") if "alpha" not in entry.attributes else ("set", "type")
            return next((a for a in told if a in entry.attributes), "-")
        if level := in_role(entry.attributes, "level"):  # contours go by their level
            return level
        plain = ("number", "length", "elevation", "code", "count", "direction", "angle")
        measured = [a for a, known in entry.attributes.items() if known.quantity not in plain and not known.role]
        return (measured or list(entry.attributes) or [""])[0]


def values_of(item: Item, attribute: str) -> np.ndarray:
    """Return the values of an attribute of an item, an even part of them where they are very many."""
    if isinstance(item, HoleSet):
        hit = table_with(item, attribute) or readings_with(item, attribute)
        return hit[1][attribute].to_numpy() if hit else np.empty(0)
    if isinstance(item, Grid):
        return _part(item.values)
    if isinstance(item, BlockModel):
        return _part(item.properties[attribute])
    table = getattr(item, "table", None)
    if table is not None and attribute in table.columns:
        return np.asarray(table[attribute].to_numpy())
    level = getattr(item, "level", None)
    return np.array([level], dtype=float) if level is not None else np.empty(0)


def _part(values: np.ndarray) -> np.ndarray:
    """Every n-th value along each axis, so that a mapped array is read in few places."""
    step = int(np.ceil((values.size / _ENOUGH) ** (1.0 / max(values.ndim, 1))))
    return np.asarray(values[tuple(slice(None, None, max(step, 1)) for _ in range(values.ndim))]).ravel()

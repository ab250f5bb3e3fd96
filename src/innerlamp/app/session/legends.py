"""How attributes are coloured in a session: what the user set, else what the values propose."""

from __future__ import annotations

import numpy as np

from ...core.importing.detection import GRADES
from ...core.items.attributes import Attribute, in_role, orientation
from ...core.items.base import Item
from ...core.items.features import Features
from ...core.items.fields import BlockModel, Grid
from ...core.items.holes import HoleSet, readings_with, table_with
from ...core.items.legend import Legend, propose
from ...core.project.records import Entry
from ...core.project.store import Store

_ENOUGH = 1_000_000  # values from which a legend is proposed; of more an even part is taken

_RANK = {kind: k for k, kind in enumerate(("holes", "points", "lines", "electrodes", "grid", "blocks", "features"))}


class LegendBook:
    """Legends by attribute, shared by all panes."""

    def __init__(self, store: Store | None) -> None:
        self.store = store
        self._proposed: dict[str, Legend] = {}
        self._asked: dict[str, set[tuple[str, str]]] = {}  # whose classes a proposed legend has
        self._meanwhile: dict[
            tuple[str, str, str], Legend
        ] = {}  # by attribute, kind and name of the item that was asked of

    def legend(self, attribute: str, item: Item) -> Legend:
        """Legend of an attribute: the user's, or one proposed from values.

        All items share it, so the same item must propose it whichever is drawn first: holes before samples before
        models. Until that one is at hand the item that is asked of proposes one for itself.
        """
        if self.store is not None and (stored := self.store.legend(attribute)) is not None:
            return stored
        if attribute in self._proposed:
            return self._with_all(attribute, item)
        best = self._best(attribute)
        if best is None:
            return _proposal(attribute, item) if self.store is None else self._for_now(attribute, item)
        if self.store is not None and self.store.loaded(best.version):
            made = _proposal(attribute, self.store.load(best.id, best.version))
            self._proposed[attribute] = made
            return self._with_all(attribute, item)
        return self._for_now(attribute, item)

    def _with_all(self, attribute: str, item: Item) -> Legend:
        """The proposed legend, with classes that only this item has: a map and a model may name different units."""
        known = self._proposed[attribute]
        if known.classes and (item.kind, item.name) not in self._asked.setdefault(attribute, set()):
            self._asked[attribute].add((item.kind, item.name))
            own = _proposal(attribute, item)
            known = self._proposed[attribute] = known.with_classes(own)
        return known

    def _best(self, attribute: str) -> Entry | None:
        """The item whose values propose the legend of an attribute."""
        entries = [e for e in self.store.entries() if attribute in e.attributes and not e.dated] if self.store else []
        return min(entries, key=lambda e: _RANK.get(e.kind, len(_RANK)), default=None)

    def _for_now(self, attribute: str, item: Item) -> Legend:
        key = (attribute, item.kind, item.name)
        if key not in self._meanwhile:
            self._meanwhile[key] = _proposal(attribute, item)
        return self._meanwhile[key]

    def forget(self) -> None:
        """Propose anew: items have changed."""
        self._proposed.clear()
        self._asked.clear()
        self._meanwhile.clear()

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
        if entry.kind == "blocks" and "entropy" in entry.attributes:
            return "entropy"  # where a model is a guess is what such a model is looked at for
        units = [a for a, known in entry.attributes.items() if known.is_code] if entry.kind == "blocks" else []
        if units and not any(known.unit in GRADES for known in entry.attributes.values()):
            return units[0]  # a model of units is seen by them, not by how far inside of one its cells lie
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


def _proposal(attribute: str, item: Item) -> Legend:
    known, lines = item.attributes.get(attribute, Attribute()), isinstance(item, Features)
    return propose(attribute, known, values_of(item, attribute), lines)


def values_of(item: Item, attribute: str) -> np.ndarray:
    """Return the values of an attribute of an item, an even part of them where they are very many."""
    if isinstance(item, HoleSet):
        hit = table_with(item, attribute) or readings_with(item, attribute)
        return hit[1][attribute].to_numpy() if hit else np.empty(0)
    if isinstance(item, Grid):
        return _part(item.values)
    if isinstance(item, BlockModel):
        values = _part(item.properties[attribute])
        return item.named(attribute, values) if attribute in item.names else values
    table = getattr(item, "table", None)
    if table is not None and attribute in table.columns:
        return np.asarray(table[attribute].to_numpy())
    level = getattr(item, "level", None)
    return np.array([level], dtype=float) if level is not None else np.empty(0)


def _part(values: np.ndarray) -> np.ndarray:
    """Every n-th value along each axis, so that a mapped array is read in few places."""
    step = int(np.ceil((values.size / _ENOUGH) ** (1.0 / max(values.ndim, 1))))
    return np.asarray(values[tuple(slice(None, None, max(step, 1)) for _ in range(values.ndim))]).ravel()

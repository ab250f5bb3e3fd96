"""What is drawn in a pane: kept while nothing changed that its picture depends on, and disposed of after."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.style import Style
from ...core.project.records import Entry
from ..context.sight import Sight
from .kit.views import SceneView, SectionView, View
from .space.models import picture_entry
from .table import PAINTERS, Painter


class Layers:
    """The graphics of all items in one pane.

    Parameters
    ----------
    add, remove
        Put one graphic into the pane, take it out.
    fade
        Give a graphic an opacity, 0 to 1, of its own full one.
    """

    def __init__(
        self, add: Callable[[Any], None], remove: Callable[[Any], None], fade: Callable[[Any, float], None]
    ) -> None:
        self._add, self._remove, self._fade = add, remove, fade
        self._drawn: dict[str, tuple[object, float, list[Any]]] = {}
        self.painted = 0  # how often a painter was called

    def update(self, ctx: Sight, view: View, entries: Iterable[Entry], wait: bool = False) -> None:
        """Draw entries as a view sees them: those that changed, and no others.

        With `wait` items that lie on the ground are left until the ground has been read.
        """
        entries = list(entries)
        wanted = {e.id for e in entries}
        for gone in [i for i in self._drawn if i not in wanted]:
            self.take_off(gone)
        for entry in entries:
            item = ctx.item(entry.id)
            painter = PAINTERS[view.kind, entry.kind]
            if item is None or (wait and "ground" in painter.uses and _ground_comes(ctx)):
                continue
            key = look_key(ctx, view, painter, entry, item)
            old = self._drawn.get(entry.id)
            if old is None or old[0] != key:
                graphics = painter.paint(ctx, view, entry, item)
                self.painted += 1
                for each, before in zip(graphics, old[2] if old is not None else (), strict=False):
                    if hasattr(each, "follow"):
                        each.follow(before)
                self.take_off(entry.id)
                for each in graphics:
                    self._add(each)
                old = self._drawn[entry.id] = (key, 1.0, graphics)
            if old[1] != entry.style.opacity:
                for each in old[2]:
                    self._fade(each, entry.style.opacity)
                self._drawn[entry.id] = (old[0], entry.style.opacity, old[2])

    def take_off(self, item: str) -> None:
        """Take an item out of the pane."""
        for each in self._drawn.pop(item, (None, 1.0, []))[2]:
            self._remove(each)

    def clear(self) -> None:
        """Take everything out."""
        for item in list(self._drawn):
            self.take_off(item)

    def __bool__(self) -> bool:
        return bool(self._drawn)

    def items(self) -> list[str]:
        """Ids of the items that have something in the pane."""
        return [i for i, (_, _, graphics) in self._drawn.items() if graphics]

    def graphics(self, item: str | None = None) -> list[Any]:
        """The graphics of one item, or of all."""
        return [g for i, (_, _, graphics) in self._drawn.items() if item in (None, i) for g in graphics]


def look_key(ctx: Sight, view: View, painter: Painter, entry: Entry, item: Item) -> object:
    """All that the picture of an item depends on; when it is equal the picture is."""
    attribute = ctx.attribute_of(entry)
    legend = ctx.legend(attribute, item) if attribute in entry.attributes else None
    style = Style(**{**vars(entry.style), "opacity": 1.0})
    key: list[object] = [entry.version, entry.name, attribute, legend, style, ctx.theme.name]
    if "ground" in painter.uses:
        key.append(next((e.version for e in ctx.entries() if _is_ground(e) and ctx.item(e.id) is not None), 0))
    if isinstance(view, SectionView):
        key += [view.plane, (view.corridor, view.side) if "corridor" in painter.uses else 0.0]
        key.append(
            (view.exaggeration, view.beside, view.depths, view.moving) if "exaggeration" in painter.uses else 0.0
        )
    if isinstance(view, SceneView):
        key += [view.place, view.draped if "draped" in painter.uses else None]
        if "picture" in painter.uses and style.form == "with a picture":
            carried = picture_entry(ctx)
            key.append((carried.version, ctx.item(carried.id) is None) if carried is not None else None)
    return tuple(key)


def _is_ground(entry: Entry) -> bool:
    return entry.kind == "grid" and is_ground(entry.attributes)


def _ground_comes(ctx: Sight) -> bool:
    """Whether there is a ground that is still being read."""
    return ctx.ground() is None and any(_is_ground(e) and e.id not in ctx.problems for e in ctx.entries())

"""The window's context as a view of its own sees it: what that view has lit, in its own colours."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from ...core.items.base import Item
from ...core.project.records import Entry
from ..theme.theme import PAPER, Theme
from .context import Context
from .sight import Sight


class SeenContext(Sight):
    """Sees what the context sees, but for what is lit, how it is coloured, and the theme.

    Items are read at once: such a view is drawn whole or not at all.
    """

    def __init__(
        self, ctx: Context, lit: Iterable[str], colour_by: Mapping[str, str] | None = None, theme: Theme = PAPER
    ) -> None:
        super().__init__(ctx.session, theme)
        self.show(lit, colour_by or {})

    def show(self, lit: Iterable[str], colour_by: Mapping[str, str]) -> None:
        """Light other items, named by id or name; those that are not there are passed over."""
        every = self.entries()
        by_key = {e.name: e for e in reversed(every)} | {e.id: e for e in every}
        self._lit = [by_key[k] for k in lit if k in by_key]
        self._colour_by = {by_key[k].id: v for k, v in colour_by.items() if k in by_key}

    def lit_entries(self) -> list[Entry]:
        return self._lit

    def attribute_of(self, entry: Entry) -> str:
        return self._colour_by.get(entry.id) or super().attribute_of(entry)

    def item(self, item: str) -> Item | None:
        store = self.store
        return store.load(item) if store is not None else None

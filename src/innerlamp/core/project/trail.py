"""What hangs from what: freshness of items, and the order in which stale ones are made again."""

from __future__ import annotations

from .records import Entry, Freshness
from .store import Store


def made_from(store: Store, item: str) -> list[str]:
    """Ids of the items that an item was made from, those that still exist."""
    recipe = store.entry(item).recipe
    present = {e.id for e in store.entries()}
    if recipe is None:
        return []
    return [i for pairs in recipe.inputs.values() for i, _ in pairs if i in present]


def used_by(store: Store, item: str) -> list[str]:
    """Ids of the items that were made from an item."""
    return [e.id for e in store.entries() if not e.dated and item in made_from(store, e.id)]


def freshness(store: Store) -> dict[str, Freshness]:
    """State of every item.

    ``source`` was imported; ``fresh`` is made from what its inputs are now; ``stale`` is not;
    ``behind`` is stale and held (or a dated copy of something that moved on is simply ``source``).
    """
    entries = {e.id: e for e in store.entries()}
    done: dict[str, Freshness] = {}

    def look(entry: Entry) -> Freshness:
        if entry.id in done:
            return done[entry.id]
        recipe = entry.recipe
        if recipe is None or entry.dated or not any(recipe.inputs.values()):
            done[entry.id] = "source"
            return "source"
        done[entry.id] = "fresh"  # guards against a loop in a damaged catalogue
        moved = False
        for pairs in recipe.inputs.values():
            for item, version in pairs:
                source = entries.get(item)
                if source is not None:
                    moved |= source.version != version or look(source) in ("stale", "behind")
        done[entry.id] = ("behind" if entry.held else "stale") if moved else "fresh"
        return done[entry.id]

    for each in entries.values():
        look(each)
    return done


def next_to_refresh(store: Store) -> list[list[str]]:
    """Groups of stale items that can be made again now, because nothing they need is stale.

    Items made by one run are one group. Held inputs do not block: what hangs from them is made
    from the held version only if that version is new to it.
    """
    state = freshness(store)
    entries = {e.id: e for e in store.entries()}
    groups: dict[str, list[str]] = {}
    for item, how in state.items():
        recipe = entries[item].recipe
        if how != "stale" or recipe is None:
            continue
        if any(state.get(i) == "stale" for i in made_from(store, item)):
            continue
        if not _inputs_moved(store, item):
            continue
        groups.setdefault(recipe.group, []).append(item)
    return list(groups.values())


def _inputs_moved(store: Store, item: str) -> bool:
    recipe = store.entry(item).recipe
    assert recipe is not None
    present = {e.id: e.version for e in store.entries()}
    return any(i in present and present[i] != v for pairs in recipe.inputs.values() for i, v in pairs)


def missing_inputs(store: Store, item: str) -> list[str]:
    """Ids of inputs of an item that are no longer on the shelf."""
    recipe = store.entry(item).recipe
    present = {e.id for e in store.entries()}
    return [] if recipe is None else [i for pairs in recipe.inputs.values() for i, _ in pairs if i not in present]

"""What hangs from what in a project, and the order in which stale items are made again."""

from __future__ import annotations

from .freshness import judge, ready
from .records import Freshness
from .store import Store


def made_from(store: Store, item: str) -> list[str]:
    """Ids of the items that an item was made from, those that still exist."""
    present = {e.id for e in store.entries()}
    found = [i for step in store.entry(item).chain for i, _ in step.pairs]
    return [i for i in dict.fromkeys(found) if i in present and i != item]


def used_by(store: Store, item: str) -> list[str]:
    """Ids of the items that were made from an item."""
    return [e.id for e in store.entries() if not e.dated and e.id != item and item in {i for i, _ in e.needs}]


def touched_by(store: Store, item: str) -> list[str]:
    """Ids of all that was made from an item, directly or by way of others."""
    users: dict[str, list[str]] = {}
    for entry in store.entries():
        for above in {i for i, _ in entry.needs} - {entry.id} if not entry.dated else ():
            users.setdefault(above, []).append(entry.id)
    found: dict[str, None] = {}
    ahead = [item]
    while ahead:
        more = [i for i in users.get(ahead.pop(), []) if i not in found]
        found |= dict.fromkeys(more)
        ahead += more
    return list(found)


def freshness(store: Store) -> dict[str, Freshness]:
    """State of every item; see `freshness.judge`."""
    return judge(store.entries(), store.same)


def next_to_refresh(store: Store) -> list[list[str]]:
    """Groups of stale items that can be made again now, because nothing they need is stale.

    Items made by one run are one group. A held item does not block: what hangs from it is made from
    the held version.
    """
    groups: dict[str, list[str]] = {}
    for entry in ready(store.entries(), store.same):
        groups.setdefault(entry.chain[0].group or entry.id, []).append(entry.id)
    return list(groups.values())

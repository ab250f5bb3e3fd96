"""Judging entries: which are fresh, which can be made again, and which versions that were made before fit again.

An item is made from what the steps of its chain took in: its run and its edits. The version that an
edit changed is the item's own past and is never asked.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Mapping, Sequence

from .records import Entry, Freshness

# Whether what is used of an item (these attributes, None for all) is the same in two versions of it.
Same = Callable[[int, int, Sequence[str] | None], bool]


def judge(all_entries: Iterable[Entry], same: Same | None = None) -> dict[str, Freshness]:
    """State of every item. An input that changed only in what no step read of it (by `same`) has not moved.

    ``source`` was made from nothing in the project (imported, drawn; so are dated copies); ``fresh``
    is made from what its inputs are now; ``stale`` is not, and will be made again; ``behind`` is not
    because it, or something that it is made from, is held.
    """
    entries = {e.id: e for e in all_entries}
    return _judge(entries, _circles(entries), same)


def _moved(entry: Entry, item: str, version: int, now: int, same: Same | None) -> bool:
    """Whether a step of an entry read something of an input that is another in its present version."""
    if version == now:
        return False
    if same is None:
        return True
    for step in entry.chain:
        for slot, pairs in step.inputs.items():
            if (item, version) in pairs and not (slot in step.reads and same(version, now, step.reads[slot])):
                return True
    return False


def _judge(
    entries: Mapping[str, Entry], circles: set[tuple[str, str]], same: Same | None = None
) -> dict[str, Freshness]:
    done: dict[str, Freshness] = {}

    def look(entry: Entry) -> Freshness:
        if entry.id in done:
            return done[entry.id]
        if entry.dated or not entry.needs:
            done[entry.id] = "source"
            return "source"
        done[entry.id] = "fresh"  # guards against a loop in a damaged catalogue
        moved, waits, behind = False, False, False
        for item, version in entry.needs:
            source = entries.get(item)
            if source is None or source is entry or (entry.id, item) in circles:
                continue
            above = look(source)
            moved = moved or _moved(entry, item, version, source.version, same)
            waits |= above == "stale"
            behind |= above == "behind"
        if moved or waits:
            done[entry.id] = "behind" if entry.held else "stale"
        elif behind:
            done[entry.id] = "behind"
        return done[entry.id]

    for each in entries.values():
        look(each)
    return done


def made_of(entries: Mapping[str, Entry], item: str, other: str) -> bool:
    """Whether an item was made from another one, directly or by way of others."""
    ahead, seen = [item], {item}
    while ahead:
        entry = entries.get(ahead.pop())
        if entry is None or entry.dated:
            continue
        for above in {i for i, _ in entry.needs} - seen:
            if above == other:
                return True
            seen.add(above)
            ahead.append(above)
    return False


def _circles(entries: Mapping[str, Entry]) -> set[tuple[str, str]]:
    """Pairs (item, input of an edit of it) where the input was made from the item itself.

    Such an edit counts as made from that input as it was: following it would never end.
    """
    return {
        (entry.id, item)
        for entry in entries.values()
        if entry.needs
        for step in entry.edits
        for item, _ in step.pairs
        if made_of(entries, item, entry.id)
    }


def ready(all_entries: Iterable[Entry], same: Same | None = None) -> list[Entry]:
    """Stale entries that can be made again now, because nothing that they are made from is stale itself."""
    entries = {e.id: e for e in all_entries}
    circles = _circles(entries)
    state = _judge(entries, circles, same)
    return [
        e
        for e in entries.values()
        if state[e.id] == "stale" and not any(state.get(i) == "stale" for i, _ in e.needs if (e.id, i) not in circles)
    ]


def wanted_keys(entry: Entry, present: Mapping[str, int]) -> list[str]:
    """Name of what each step of an entry would make from the present versions of its inputs."""
    keys: list[str] = []
    for step in entry.chain:
        keys.append(step.on(dict(present)).key(keys[-1] if keys else ""))
    return keys


def found_again(
    all_entries: Iterable[Entry], find: Callable[[str, str], int], same: Same | None = None
) -> dict[str, int]:
    """Versions that were made before and are just what stale items need now, by item.

    `find` gets an item and the name of what it should be and returns a version, 0 for none. Nothing
    is computed: this is what lets undo and redo answer at once.
    """
    entries = {e.id: e for e in all_entries}
    out: dict[str, int] = {}
    tried: set[str] = set()
    while True:
        todo = [e for e in ready(entries.values(), same) if e.id not in tried]
        if not todo:
            return out
        present = {e.id: e.version for e in entries.values()}
        for entry in todo:
            tried.add(entry.id)
            keys = wanted_keys(entry, present)
            version = find(entry.id, keys[-1]) if keys else 0
            if version and version != entry.version:
                needs = frozenset((i, present.get(i, v)) for i, v in entry.needs)
                entries[entry.id] = dataclasses.replace(entry, version=version, needs=needs)
                out[entry.id] = version

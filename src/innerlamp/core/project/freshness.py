"""Judging entries: which are fresh, which can be made again, and which versions that were made before fit again.

An item is made from what the steps of its chain took in: its run and its edits. The version that an
edit changed is the item's own past and is never asked.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Mapping, Sequence

from .records import Entry, Freshness, Recipe

# Whether what is used of an item (these attributes, None for all) is the same in two versions of it.
Same = Callable[[int, int, Sequence[str] | None], bool]


def judge(all_entries: Iterable[Entry], same: Same | None = None) -> dict[str, Freshness]:
    """State of every item. An input that changed only in what no step read of it (by `same`) has not moved.

    ``source`` was made from nothing in the project (imported, drawn; so are dated copies); ``fresh``
    is made from what its inputs are now; ``stale`` is not, and will be made again; ``behind`` is not
    because it, or something that it is made from, is held.
    """
    entries = {e.id: e for e in all_entries}
    circles = _circles(entries)
    done: dict[str, Freshness] = {}
    for entry in _inputs_first(entries, circles):
        done[entry.id] = _look(entry, entries, circles, done, same)
    return {item: done[item] for item in entries}


def _look(
    entry: Entry,
    entries: Mapping[str, Entry],
    circles: set[tuple[str, str]],
    done: Mapping[str, Freshness],
    same: Same | None,
) -> Freshness:
    """State of one item, when those of its inputs are known."""
    if entry.dated or not entry.needs:
        return "source"
    moved, waits, behind = False, False, False
    readers: _Readers | None = None
    for item, version in entry.needs:
        source = entries.get(item)
        if source is None or source is entry or (entry.id, item) in circles:
            continue
        if not moved and version != source.version:
            readers = readers or _readers(entry)
            moved = _moved(readers.get((item, version), []), version, source.version, same)
        above = done.get(item, "fresh")  # a loop in a damaged catalogue ends here
        waits |= above == "stale"
        behind |= above == "behind"
    if moved or waits:
        return "behind" if entry.held else "stale"
    return "behind" if behind else "fresh"


# Steps and slots that read a version of an item.
_Readers = dict[tuple[str, int], list[tuple[Recipe, str]]]


def _readers(entry: Entry) -> _Readers:
    found: _Readers = {}
    for step in entry.chain:
        for slot, pairs in step.inputs.items():
            for pair in pairs:
                found.setdefault(pair, []).append((step, slot))
    return found


def _moved(readers: Sequence[tuple[Recipe, str]], version: int, now: int, same: Same | None) -> bool:
    """Whether a step read something of an input that is another in its present version."""
    if same is None:
        return True
    return any(not (slot in step.reads and same(version, now, step.reads[slot])) for step, slot in readers)


def _inputs_first(entries: Mapping[str, Entry], circles: set[tuple[str, str]]) -> list[Entry]:
    """Entries in an order in which each comes after those that it is made from, however deep they hang."""
    out: list[Entry] = []
    seen: set[str] = set()
    for first in entries:
        ahead = [(first, False)]
        while ahead:
            item, below_done = ahead.pop()
            if below_done:
                out.append(entries[item])
            elif item not in seen:
                seen.add(item)
                ahead.append((item, True))
                ahead += [(i, False) for i in _above(entries[item]) if i in entries and (item, i) not in circles]
    return out


def _above(entry: Entry) -> set[str]:
    return set() if entry.dated else {i for i, _ in entry.needs}


def made_of(entries: Mapping[str, Entry], item: str, other: str) -> bool:
    """Whether an item was made from another one, directly or by way of others."""
    ahead, seen = [item], {item}
    while ahead:
        entry = entries.get(ahead.pop())
        for above in _above(entry) - seen if entry is not None else ():
            if above == other:
                return True
            seen.add(above)
            ahead.append(above)
    return False


def _circles(entries: Mapping[str, Entry]) -> set[tuple[str, str]]:
    """Pairs (item, input of an edit of it) where the input was made from the item itself.

    Such an edit counts as made from that input as it was: following it would never end.
    """
    edited = {
        e.id: inputs for e in entries.values() if e.needs and (inputs := {i for s in e.edits for i, _ in s.pairs})
    }
    if not edited:
        return set()
    # An input that was made from the item, and that the item is made from: both are in one knot of the graph.
    knots = _knots({item: [i for i in _above(entry) if i in entries] for item, entry in entries.items()})
    return {
        (item, i)
        for item, inputs in edited.items()
        for i in inputs
        if i in entries and i != item and knots[i] == knots[item]
    }


def _knots(arrows: Mapping[str, Sequence[str]]) -> dict[str, int]:
    """Number of the strongly connected part of a graph that each item is in (Tarjan 1972, SIAM J. Comput. 1, 146-160)."""
    order: dict[str, int] = {}
    low: dict[str, int] = {}
    knot: dict[str, int] = {}
    path: list[str] = []
    for first in arrows:
        ahead = [] if first in order else [(first, iter(arrows[first]))]
        while ahead:
            item, rest = ahead[-1]
            if item not in order:
                order[item] = low[item] = len(order)
                path.append(item)
            for other in rest:
                if other not in order:
                    ahead.append((other, iter(arrows[other])))
                    break
                if other not in knot:
                    low[item] = min(low[item], order[other])
            else:
                ahead.pop()
                if ahead:
                    above = ahead[-1][0]
                    low[above] = min(low[above], low[item])
                if low[item] == order[item]:
                    while True:
                        member = path.pop()
                        knot[member] = order[item]
                        if member == item:
                            break
    return knot


def ready(all_entries: Iterable[Entry], same: Same | None = None) -> list[Entry]:
    """Stale entries that can be made again now, because nothing that they are made from is stale itself."""
    entries = {e.id: e for e in all_entries}
    circles = _circles(entries)
    state = judge(entries.values(), same)
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
    circles = _circles(entries)
    state: dict[str, Freshness] = {}
    present = {e.id: e.version for e in entries.values()}
    out: dict[str, int] = {}
    for entry in _inputs_first(entries, circles):
        state[entry.id] = _look(entry, entries, circles, state, same)
        waits = any(state.get(i) == "stale" for i, _ in entry.needs if (entry.id, i) not in circles)
        if state[entry.id] != "stale" or waits:
            continue
        keys = wanted_keys(entry, present)
        version = find(entry.id, keys[-1]) if keys else 0
        if version and version != entry.version:
            needs = frozenset((i, present.get(i, v)) for i, v in entry.needs)
            found = dataclasses.replace(entry, version=version, needs=needs)
            entries[entry.id], present[entry.id], out[entry.id] = found, version, version
            state[entry.id] = _look(found, entries, circles, state, same)
    return out

"""What the catalogue says about items: heads, origins, and batched notices of change."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from dataclasses import dataclass, field
from typing import Any, Literal

from ..items.attributes import Attribute
from ..items.base import Bounds
from ..items.style import Style

Freshness = Literal["fresh", "stale", "behind", "source"]
Pairs = tuple[tuple[str, int], ...]


@dataclass(frozen=True)
class Recipe:
    """One step of how an item was made: a run, or an edit of what was there before.

    Attributes
    ----------
    operation, params
        Name and parameter values of the operation.
    inputs
        For each input slot the (item id, version) pairs that were used. The version that an edit
        changed is not among them: it is the item's own past.
    sources
        Digest of each outside file that was read.
    output
        Output slot of the operation that the item is.
    group
        Common to all items that one run made.
    base
        Input slot that took the earlier version; '' for a run, which has none.
    problem
        Why an edit could not be made again on a new base; '' when it holds.
    version
        Version of the operation's declaration.
    reads
        Attributes that were read of the input of a slot, where a step needs no others; all count where it is not named.
    """

    operation: str
    params: dict[str, Any] = field(default_factory=dict)
    inputs: dict[str, Pairs] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    output: str = ""
    group: str = ""
    base: str = ""
    problem: str = ""
    version: int = 1
    reads: dict[str, list[str]] = field(default_factory=dict)

    @property
    def is_edit(self) -> bool:
        return bool(self.base)

    @property
    def pairs(self) -> Pairs:
        """All (item, version) pairs that it was made from."""
        return tuple(pair for pairs in self.inputs.values() for pair in pairs)

    def on(self, present: dict[str, int]) -> Recipe:
        """Return the same step on the versions that its inputs have now; what is gone keeps its version."""
        inputs = {slot: tuple((i, present.get(i, v)) for i, v in pairs) for slot, pairs in self.inputs.items()}
        return self if inputs == self.inputs else dataclasses.replace(self, inputs=inputs)

    def key(self, parent: str) -> str:
        """Return a name for what this step makes on top of a parent ('' for none): the same step, the same name."""
        told = [self.operation, self.version, self.params, self.inputs, self.sources, self.output, self.base, parent]
        text = json.dumps(told, sort_keys=True, separators=(",", ":"))
        return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()

    def to_json(self) -> dict[str, Any]:
        data = {f.name: getattr(self, f.name) for f in dataclasses.fields(self)}
        data["inputs"] = {k: [list(pair) for pair in v] for k, v in self.inputs.items()}
        return data

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Recipe:
        inputs = {k: tuple((str(i), int(v)) for i, v in pairs) for k, pairs in data["inputs"].items()}
        known = {f.name for f in dataclasses.fields(cls)}
        return cls(**{k: v for k, v in data.items() if k in known} | {"inputs": inputs})


@dataclass(frozen=True)
class Line:
    """Steps that lead to a version: on top of those of the version `start` (0: from nothing)."""

    steps: tuple[Recipe, ...]
    start: int = 0


@dataclass(frozen=True)
class Entry:
    """The present state of an item: which version it points to, and what the user set on it.

    ``dated`` is the ISO time of a dated copy, which is never made again; '' for living items.
    ``chain`` is how the version came to be: an import or a run first, then the edits in order;
    ``needs`` are all (item, version) pairs that any of these steps was made from. ``place`` orders the
    shelf; ``lit`` is 0 when it is dim, else a number that grows: what was lit later lies on top.
    """

    id: str
    kind: str
    name: str
    version: int
    held: bool = False
    dated: str = ""
    chain: tuple[Recipe, ...] = ()
    needs: frozenset[tuple[str, int]] = frozenset()
    facts: dict[str, str] = field(default_factory=dict)
    bounds: Bounds = (0.0,) * 6
    attributes: dict[str, Attribute] = field(default_factory=dict)
    crs: str = ""
    made_at: str = ""
    place: float = 0.0
    lit: int = 0
    style: Style = field(default_factory=Style)

    @property
    def recipe(self) -> Recipe | None:
        """The run or import that the item began with."""
        return self.chain[0] if self.chain else None

    @property
    def edits(self) -> tuple[Recipe, ...]:
        """The edits since."""
        return tuple(step for step in self.chain if step.is_edit)


@dataclass(frozen=True)
class Notice:
    """One batch of changes, told after it is safely stored."""

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    replaced: tuple[str, ...] = ()
    renamed: tuple[str, ...] = ()
    lit: tuple[str, ...] = ()
    styled: tuple[str, ...] = ()
    legends: tuple[str, ...] = ()
    label: str = ""


@dataclass(frozen=True)
class Result:
    """An item to be stored: the manifest of its staged parts and what the catalogue says of it."""

    name: str
    manifest: dict[str, Any]
    facts: dict[str, str]
    bounds: Bounds
    attributes: dict[str, Attribute]
    crs: str

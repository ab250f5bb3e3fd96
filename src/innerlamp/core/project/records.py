"""What the catalogue says about items: heads, recipes, and batched notices of change."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from ..items.base import Bounds

Freshness = Literal["fresh", "stale", "behind", "source"]


@dataclass(frozen=True)
class Recipe:
    """How an item was made.

    Attributes
    ----------
    operation, params
        Name and parameter values of the operation.
    inputs
        For each input slot the (item id, version) pairs that were used.
    sources
        Digest of each outside file that was read.
    output
        Output slot of the operation that the item is.
    group
        Common to all items that one run made.
    """

    operation: str
    params: dict[str, Any] = field(default_factory=dict)
    inputs: dict[str, tuple[tuple[str, int], ...]] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    output: str = ""
    group: str = ""

    def to_json(self) -> dict[str, Any]:
        return {
            "operation": self.operation, "params": self.params,
            "inputs": {k: [list(pair) for pair in v] for k, v in self.inputs.items()},
            "sources": self.sources, "output": self.output, "group": self.group,
        }  # fmt: skip

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Recipe:
        inputs = {k: tuple((str(i), int(v)) for i, v in pairs) for k, pairs in data["inputs"].items()}
        return cls(data["operation"], data["params"], inputs, data.get("sources", {}), data["output"], data["group"])


@dataclass(frozen=True)
class Entry:
    """The present state of an item: which version it points to, and what the user set on it.

    ``dated`` is the ISO time of a dated copy, which is never made again; '' for living items.
    """

    id: str
    kind: str
    name: str
    version: int
    held: bool = False
    dated: str = ""
    recipe: Recipe | None = None
    facts: dict[str, str] = field(default_factory=dict)
    bounds: Bounds = (0.0,) * 6
    attributes: dict[str, str] = field(default_factory=dict)
    crs: str = ""
    made_at: str = ""


@dataclass(frozen=True)
class Notice:
    """One batch of changes, told after it is safely stored."""

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    replaced: tuple[str, ...] = ()
    renamed: tuple[str, ...] = ()
    legends: tuple[str, ...] = ()
    label: str = ""


@dataclass(frozen=True)
class Result:
    """An item to be stored: either the item itself or the manifest of its staged parts."""

    name: str
    manifest: dict[str, Any]
    facts: dict[str, str]
    bounds: Bounds
    attributes: dict[str, str]
    crs: str

"""Local grids that a project knows by name: those that its items came in by."""

from __future__ import annotations

from ..local_grid import is_local, name_of
from .store import Store


def named_grids(store: Store) -> dict[str, str]:
    """Return the known points of each named local grid, name and all, the latest of a name."""
    out: dict[str, tuple[str, str]] = {}
    for entry in store.entries():
        for step in entry.chain:
            text = step.params.get("coordinates", "")
            if isinstance(text, str) and (name := name_of(text)):
                out[name.lower()] = (name, text)
    return dict(sorted(out.values()))


def resolved(store: Store, text: str) -> str:
    """Return the known points of a local grid that a text names, any other text as it is."""
    wanted = text.strip().lower()
    if not wanted or is_local(text):
        return text
    return next((points for name, points in named_grids(store).items() if name.lower() == wanted), text)

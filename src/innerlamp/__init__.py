"""Inner Lamp: drillholes, geochemistry and geophysics in one place, to rank drill targets."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .api import Project as Project


def __getattr__(name: str) -> Any:
    # Kept lazy so that `innerlamp.core` can be used without loading the store.
    if name == "Project":
        from .api import Project

        return Project
    raise AttributeError(name)

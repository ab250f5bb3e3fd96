"""Walk-throughs as plain data: their views as JSON, for other projects and programs."""

from __future__ import annotations

import json
from pathlib import Path

from ...items.walk import Walk


def write_views(walk: Walk, path: Path) -> None:
    """Write the views of a walk-through as a list, as `make-walk` takes it."""
    path.write_text(json.dumps(list(walk.stops), indent=1) + "\n", encoding="utf-8")

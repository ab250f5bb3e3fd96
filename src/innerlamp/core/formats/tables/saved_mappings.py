"""Mappings of columns that the user saved under a name, offered again for files with the same columns."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from ...errors import InputError
from .columns import plain


@dataclass(frozen=True)
class SavedMapping:
    """What a table of a shape is, and the column of each role. `shape` is that of `shape_of`."""

    name: str
    kind: str
    shape: str
    roles: dict[str, str]


def shape_of(headings: Sequence[str]) -> str:
    """Return the shape of a table: its headings without case, signs and units, whatever their order."""
    return "|".join(sorted(plain(h) for h in headings))


def default_file() -> Path:
    """Where the user's mappings are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "inner-lamp" / "mappings.json"


def load(path: Path | None = None) -> list[SavedMapping]:
    """Return the saved mappings; a missing or broken file holds none."""
    try:
        data = json.loads((path or default_file()).read_text(encoding="utf-8"))
        out = []
        for each in data:
            roles = {str(k): str(v) for k, v in each["roles"].items()}
            out.append(SavedMapping(str(each["name"]), str(each["kind"]), str(each["shape"]), roles))
        return out
    except (OSError, ValueError, TypeError, KeyError, AttributeError):
        return []


def keep(mapping: SavedMapping, path: Path | None = None) -> list[SavedMapping]:
    """Save a mapping; one of the same name, or for the same shape, is replaced. Returns all.

    Raises
    ------
    InputError
        When the name is empty or the file can't be written.
    """
    if not mapping.name.strip():
        raise InputError("a mapping needs a name")
    path = path or default_file()
    rest = [m for m in load(path) if m.name != mapping.name and m.shape != mapping.shape]
    every = [mapping, *rest]
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = path.with_suffix(f".{os.getpid()}")
        temporary.write_text(json.dumps([asdict(m) for m in every], indent=1), encoding="utf-8")
        temporary.replace(path)
    except OSError as error:
        raise InputError(f"the mapping can't be saved ({error.strerror})", where=str(path)) from error
    return every

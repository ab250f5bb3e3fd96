"""What is remembered between starts, outside any project: theme, last project, folders."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class Settings:
    """Settings of the user.

    Attributes
    ----------
    theme
        paper or night; '' follows the desktop.
    window
        Left, top, width and height of the window when it was closed last; empty for none.
    right
        Heights of shelf and card; empty for none.
    last_project
        Folder of the project that was open last; '' for none.
    last_folder
        Folder in which files were last looked for.
    recent_systems
        Codes of the coordinate systems of the last new projects, the latest first.
    trusted
        Folders of projects whose items may read files unasked: those that were made here, or that the user said so of.
    arrangements
        Arrangements of panes kept under names, each as JSON.
    history_changes, history_gigabytes
        How many changes, and how much that only they can bring back, undo reaches.
    """

    theme: str = ""
    window: tuple[str, ...] = ()
    right: tuple[str, ...] = ()
    last_project: str = ""
    last_folder: str = ""
    recent_systems: tuple[str, ...] = ()
    trusted: tuple[str, ...] = ()
    arrangements: tuple[str, ...] = ()
    history_changes: int = 500
    history_gigabytes: float = 8.0
    version: int = 1


def settings_file() -> Path:
    """Where settings are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "inner-lamp" / "settings.json"


def load() -> Settings:
    """Read the settings; a missing or broken file gives the defaults."""
    try:
        data = json.loads(settings_file().read_text(encoding="utf-8"))
        plain = Settings()
        values = {f.name: _like(getattr(plain, f.name), data.get(f.name)) for f in dataclasses.fields(Settings)}
        return dataclasses.replace(plain, **values)
    except (OSError, ValueError, TypeError, AttributeError):
        return Settings()


def trust(folder: Path, trusted: bool = True) -> None:
    """Remember that a project is this user's own, or no longer; the latest twenty are known."""
    chosen, name = load(), str(folder.resolve())
    others = tuple(t for t in chosen.trusted if t != name)
    save(dataclasses.replace(chosen, trusted=((name, *others) if trusted else others)[:20]))


def trusts(folder: Path) -> bool:
    """Return whether a project was made here, or the user trusts it."""
    return str(folder.resolve()) in load().trusted


def _like(plain: Any, value: Any) -> Any:
    """A value that was read where it is of the right kind and in bounds, else the default."""
    if isinstance(plain, tuple):
        return tuple(v for v in value if isinstance(v, str))[:20] if isinstance(value, list) else plain
    if isinstance(plain, str):
        return value if isinstance(value, str) else plain
    good = isinstance(value, int | float) and not isinstance(value, bool) and 1 <= value <= 1e6
    return type(plain)(value) if good else plain


def save(settings: Settings) -> None:
    """Write the settings; losing them is not worth an error."""
    with contextlib.suppress(OSError):
        path = settings_file()
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = path.with_suffix(f".{os.getpid()}")
        temporary.write_text(json.dumps(dataclasses.asdict(settings)), encoding="utf-8")
        temporary.replace(path)


def logs_folder() -> Path:
    """Where logs are kept."""
    base = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    return Path(base) / "inner-lamp" / "logs"

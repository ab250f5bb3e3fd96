"""What is remembered between starts, outside any project: theme, last project, folders."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Settings:
    """Settings of the user.

    Attributes
    ----------
    theme
        paper or night.
    last_project
        Folder of the project that was open last; '' for none.
    last_folder
        Folder in which files were last looked for.
    """

    theme: str = "paper"
    last_project: str = ""
    last_folder: str = ""
    version: int = 1


def settings_file() -> Path:
    """Where settings are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "inner-lamp" / "settings.json"


def load() -> Settings:
    """Read the settings; a missing or broken file gives the defaults."""
    try:
        data = json.loads(settings_file().read_text(encoding="utf-8"))
        known = {f.name: f.type for f in dataclasses.fields(Settings)}
        values = {k: v for k, v in data.items() if k in known and isinstance(v, str)}
        return Settings(**values)  # type: ignore[arg-type]
    except (OSError, ValueError, TypeError, AttributeError):
        return Settings()


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

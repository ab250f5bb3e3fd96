"""A menu entry, icon and file association in the user's own folders, by the standards of freedesktop.org.

Desktop Entry, Icon Theme 0.13, Shared MIME-info 0.21 and AppStream 1.0. Nothing outside of the user's data folder
is touched, and what was put there is taken out again.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
from pathlib import Path

from . import __version__
from .core.errors import InputError

ID = "org.innerlamp.InnerLamp"
_ENTRY = """[Desktop Entry]
Type=Application
Version=1.0
Name=Inner Lamp
GenericName=Exploration geology
Comment=Drillholes, geochemistry and geophysics in one place, to rank drill targets
Exec={command} open %F
Icon={id}
Terminal=false
Categories=Science;Geology;
Keywords=geology;drillholes;geochemistry;geophysics;exploration;
MimeType=application/x-open-mining-format;application/x-las-log;
StartupNotify=true
StartupWMClass=inner-lamp
"""
_MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="application/x-open-mining-format">
    <comment>Open Mining Format file</comment>
    <glob pattern="*.omf"/>
  </mime-type>
  <mime-type type="application/x-las-log">
    <comment>Well log (LAS)</comment>
    <glob pattern="*.las"/>
  </mime-type>
</mime-info>
"""
_ICON = """<svg xmlns="http://www.w3.org/2000/svg" width="128" height="128" viewBox="0 0 128 128">
  <rect width="128" height="128" rx="26" fill="#2b2a33"/>
  <path d="M10 92 C36 74 52 104 76 88 S112 82 118 86 L118 102 A26 26 0 0 1 92 128 H36 A26 26 0 0 1 10 102 Z" fill="#6f6a5a"/>
  <path d="M10 106 C40 92 60 118 84 104 S112 98 118 102 A26 26 0 0 1 92 128 H36 A26 26 0 0 1 10 106 Z" fill="#4a4739"/>
  <circle cx="64" cy="52" r="30" fill="#e07b00" opacity="0.28"/>
  <circle cx="64" cy="52" r="17" fill="#f2a33c"/>
  <path d="M64 69 L64 112" stroke="#f6e3c3" stroke-width="4" stroke-linecap="round"/>
</svg>
"""
_META = """<?xml version="1.0" encoding="UTF-8"?>
<component type="desktop-application">
  <id>{id}</id>
  <metadata_license>FSFAP</metadata_license>
  <project_license>Apache-2.0</project_license>
  <name>Inner Lamp</name>
  <summary>From drillholes, samples and surveys to the next holes</summary>
  <developer id="org.innerlamp"><name>The developers of Inner Lamp</name></developer>
  <description>
    <p>Combines drillhole assays, geochemical samples and gravity, magnetic and resistivity surveys, grids and inverts the geophysics, and builds 3-D models to rank drill targets.</p>
  </description>
  <launchable type="desktop-id">{id}.desktop</launchable>
  <content_rating type="oars-1.1"/>
  <url type="homepage">https://innerlamp.example.org/</url>
  <releases><release version="{version}" date="2026-11-26"/></releases>
</component>
"""


def data_home() -> Path:
    """Where a user's own entries belong."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def files(home: Path, command: str) -> dict[Path, str]:
    """Return what is written for a user, by path."""
    return {
        home / "applications" / f"{ID}.desktop": _ENTRY.format(command=command, id=ID),
        home / "icons" / "hicolor" / "scalable" / "apps" / f"{ID}.svg": _ICON,
        home / "mime" / "packages" / f"{ID}.xml": _MIME,
        home / "metainfo" / f"{ID}.metainfo.xml": _META.format(id=ID, version=__version__),
    }


def command() -> str:
    """Return the command that starts this program, quoted as a desktop entry wants it."""
    script = Path(sys.argv[0])
    found = shutil.which("inner-lamp") if script.name != "inner-lamp" else str(script.resolve())
    words = [found] if found and Path(found).is_file() else [sys.executable, "-m", "innerlamp"]
    return " ".join(quoted(word) for word in words)


def quoted(word: str) -> str:
    """Return a word of a command as `Exec` of a desktop entry wants it.

    Desktop Entry Specification 1.5, "The Exec key": what a shell would take for its own stands behind a backslash in
    quotes, a percent sign is written twice, and each backslash again twice, as in every value of such a file.
    """
    word = word.replace("%", "%%")
    if word and all((c.isascii() and c.isalnum()) or c in "/._-%" for c in word):
        return word
    inside = "".join("\\" + c if c in '"`$\\' else c for c in word)
    return '"' + inside.replace("\\", "\\\\").replace("\n", "\\n").replace("\t", "\\t").replace("\r", "\\r") + '"'


def install(home: Path | None = None) -> list[Path]:
    """Write the entries; returns the files.

    Raises
    ------
    InputError
        When a folder can't be written.
    """
    home = home or data_home()
    written = files(home, command())
    try:
        for path, text in written.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(f"can't write the menu entry ({error.strerror})", where=str(home)) from error
    _tell(home)
    return list(written)


def remove(home: Path | None = None) -> list[Path]:
    """Take the entries out again; returns the files that were there."""
    home = home or data_home()
    there = [path for path in files(home, "") if path.is_file()]
    for path in there:
        path.unlink()
    if there:
        _tell(home)
    return there


def _tell(home: Path) -> None:
    """Let the desktop know; where its tools are not installed it looks by itself at the next start."""
    for words in (
        ["update-desktop-database", "-q", str(home / "applications")],
        ["update-mime-database", str(home / "mime")],
    ):
        if shutil.which(words[0]):
            with contextlib.suppress(OSError, subprocess.SubprocessError):
                subprocess.run(words, capture_output=True, timeout=30, check=False)

"""What the command line writes: control characters of data are shown, not obeyed; a fault of the program is one sentence."""

from __future__ import annotations

import contextlib
import os
import sys
import traceback
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any, TextIO

from .core.shown import visible


class _Plain:
    """A stream that passes texts on with their control characters escaped; our own line breaks stay."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        lead = "\r" if text.startswith("\r") else ""  # progress is written over the line before
        return self._stream.write(lead + visible(text[len(lead) :], keep="\n\t"))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


@contextlib.contextmanager
def shown_plainly() -> Iterator[None]:
    """Let nothing that is printed move the cursor, change the terminal or hide other words."""
    out, err = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = _Plain(out), _Plain(err)
    try:
        yield
    finally:
        sys.stdout, sys.stderr = out, err


def told_of_fault(error: Exception) -> str:
    """Write what went wrong into a file of the user's own, and return the sentence that says so."""
    base = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    file = Path(base) / "inner-lamp" / "logs" / f"fault-{datetime.now():%Y%m%d-%H%M%S}-{os.getpid()}.log"
    said = f"a fault of the program stopped this ({type(error).__name__})"
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text("".join(traceback.format_exception(error)), encoding="utf-8")
    except OSError:
        return f"{said}; nothing was changed by it."
    return f"{said}; send {file} to who looks after it."

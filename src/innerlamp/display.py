"""A display to draw on: the user's, or a virtual one where there is none."""

from __future__ import annotations

import ctypes
import os
import shutil
import signal
import subprocess
import sys

from .core.errors import LampError


def ensure_display(size: str = "1280x800x24") -> None:
    """Start a virtual display when there is none, and say so.

    Raises
    ------
    LampError
        When there is neither a display nor Xvfb.
    """
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        return
    server = shutil.which("Xvfb")
    if server is None:
        raise LampError("there is no display", fix="Run it on a desktop, or install Xvfb ('make setup' does)")
    read, write = os.pipe()
    subprocess.Popen(
        [server, "-displayfd", str(write), "-screen", "0", size, "-nolisten", "tcp", "+extension", "GLX"],
        pass_fds=(write,),
        preexec_fn=_end_with_parent,  # noqa: PLW1509 - no threads run yet
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    number = b""
    while not number.endswith(b"\n"):
        chunk = os.read(read, 16)
        if not chunk:
            raise LampError("the virtual display could not be started", fix="Try 'Xvfb :99' by hand to see why")
        number += chunk
    os.close(read)
    os.environ["DISPLAY"] = f":{number.decode().strip()}"
    os.environ.setdefault("QT_QPA_PLATFORM", "xcb")
    print(f"There is no display: drawing on a virtual one ({os.environ['DISPLAY']}).", file=sys.stderr)


def _end_with_parent() -> None:
    # The server outlives every connection to it, so nobody is cut off at the end (Linux prctl, PR_SET_PDEATHSIG).
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)

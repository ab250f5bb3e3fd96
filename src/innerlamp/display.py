"""A display to draw on: the user's, or a virtual one where there is none."""

from __future__ import annotations

import atexit
import ctypes
import os
import secrets
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
from pathlib import Path

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
        [server, "-displayfd", str(write), "-screen", "0", size, *closed()],
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


def closed() -> list[str]:
    """Return the words that let nobody but this person's processes into a virtual display that is started with them.

    The key lies in a file that only this person reads, which the environment names from now on (Xauthority, as Xau(3)
    of X.Org tells it: any host and any display, so that it holds before the number of the display is known).
    """
    name, key = b"MIT-MAGIC-COOKIE-1", secrets.token_bytes(16)
    wild = struct.pack(">HHH", 0xFFFF, 0, 0)  # family, address, number of the display
    entry = wild + struct.pack(">H", len(name)) + name + struct.pack(">H", len(key)) + key
    handle, file = tempfile.mkstemp(prefix="inner-lamp-display-")  # made for its owner alone
    with os.fdopen(handle, "wb") as out:
        out.write(entry)
    atexit.register(_drop, file, os.getpid())
    os.environ["XAUTHORITY"] = file
    return ["-nolisten", "tcp", "-auth", file, "+extension", "GLX"]


def _drop(file: str, made_by: int) -> None:
    if os.getpid() == made_by:  # not a fork of the process
        Path(file).unlink(missing_ok=True)


def _end_with_parent() -> None:
    # The server outlives every connection to it, so nobody is cut off at the end (Linux prctl, PR_SET_PDEATHSIG).
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)

"""A virtual display for each process that runs tests: pytest starts one where there is none; it ends with its process."""

from __future__ import annotations

import ctypes
import os
import shutil
import signal
import subprocess

import pytest

_ON_PARENTS_DEATH = 1  # of prctl(2)


def _end_with_parent() -> None:
    ctypes.CDLL(None).prctl(_ON_PARENTS_DEATH, signal.SIGTERM)


def serve() -> None:
    """Start an X server without a screen, of the size that the program is made for, and name it in the environment.

    Qt holds on to it until the very end of the process, so it is the kernel that ends it then.
    """
    read, write = os.pipe()
    subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp", "+extension", "GLX"],
        pass_fds=(write,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, preexec_fn=_end_with_parent,
    )  # fmt: skip
    os.close(write)
    with os.fdopen(read) as told:
        number = told.readline().strip()
    if not number:
        raise pytest.UsageError("no virtual display could be started")
    os.environ |= {"DISPLAY": f":{number}", "QT_QPA_PLATFORM": "xcb", "LIBGL_ALWAYS_SOFTWARE": "1"}
    os.environ.pop("WAYLAND_DISPLAY", None)


def start(config: pytest.Config) -> None:
    """Start a display for this process, where it runs tests itself, none is there, and the server can be had."""
    controls = getattr(config.option, "numprocesses", None) and not hasattr(config, "workerinput")
    wanted = not os.environ.get("DISPLAY") and os.environ.get("QT_QPA_PLATFORM") != "offscreen"
    if wanted and not controls and shutil.which("Xvfb"):
        serve()

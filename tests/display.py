"""A virtual display for each process that runs tests: pytest starts one where there is none; it ends with its process."""

from __future__ import annotations

import os
import shutil

import pytest

from innerlamp.display import closed


def serve() -> None:
    """Start an X server without a screen, of the size that the program is made for, and name it in the environment.

    Qt holds on to it until the very end of the process, so it is the kernel that ends it then.
    """
    read, write = os.pipe()
    os.set_inheritable(write, True)
    words = ["setpriv", "--pdeathsig", "TERM", "Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24"]
    guarded = closed()
    nowhere = [(os.POSIX_SPAWN_OPEN, fd, os.devnull, os.O_WRONLY, 0) for fd in (1, 2)]
    os.posix_spawnp(words[0], [*words, *guarded], os.environ, file_actions=nowhere)
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

"""What this machine offers: display, OpenGL, versions, cores and memory, and what to do about what is missing."""

from __future__ import annotations

import importlib.metadata
import os
import platform
import shutil
import subprocess
import sys

import psutil

_PACKAGES = (
    "PySide6-Essentials",
    "pyqtgraph",
    "vtk",
    "numpy",
    "scipy",
    "numba",
    "pandas",
    "pyarrow",
    "pyproj",
    "rasterio",
)


def examine() -> tuple[list[tuple[str, str]], list[str]]:
    """Return facts (label, text) and advice on what is missing."""
    facts: list[tuple[str, str]] = [("Python", platform.python_version()), ("System", platform.platform())]
    advice: list[str] = []
    for name in _PACKAGES:
        try:
            facts.append((name, importlib.metadata.version(name)))
        except importlib.metadata.PackageNotFoundError:
            facts.append((name, "missing"))
            advice.append(f"{name} is missing: run 'make setup'.")
    memory = psutil.virtual_memory()
    facts.append(("Cores", str(os.cpu_count())))
    facts.append(("Memory", f"{memory.total / 2**30:.1f} GiB, {memory.available / 2**30:.1f} GiB free"))
    if memory.available < 2 * 2**30:
        advice.append("Less than 2 GiB of memory is free: large inversions may be refused.")
    display = os.environ.get("WAYLAND_DISPLAY") or os.environ.get("DISPLAY") or ""
    facts.append(("Display", display or "none"))
    if not display:
        have = shutil.which("Xvfb")
        facts.append(("Virtual display", have or "Xvfb is not installed"))
        advice.append(
            "There is no display: 'inner-lamp demo' starts a virtual one."
            if have
            else "There is no display and no Xvfb: 'apt-get install xvfb', or 'make setup'."
        )
    facts.append(("OpenGL", _renderer(display, advice)))
    return facts, advice


def _renderer(display: str, advice: list[str]) -> str:
    if not display:
        return "not tried without a display"
    try:
        out = subprocess.run(
            [sys.executable, "-P", "-m", "innerlamp.app.start.gl_probe"],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
    except subprocess.TimeoutExpired:
        out = None
    if out is None or out.returncode != 0:
        advice.append(
            "OpenGL can't be used, so the 3D pane will not work: 'apt-get install libgl1 libgl1-mesa-dri libegl1'."
        )
        return "not usable"
    text = out.stdout.strip()
    if "llvmpipe" in text or "softpipe" in text:
        advice.append("OpenGL is drawn by the processor: the 3D pane works, but keep it small.")
    return text

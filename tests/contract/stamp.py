"""Whether the demo's generator or its files changed since they were last compared; a stale stamp only costs the time of comparing.

``python -m tests.contract.stamp`` writes it, after `test_demo_files_are_those_of_the_generator` has passed without it.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np

from innerlamp.demo.build import FILES

_STAMP = Path(__file__).with_name("demo_stamp.txt")


def present() -> str:
    """The digest of the generator's sources, of the files that it wrote, and of the library whose random numbers it draws."""
    told = hashlib.blake2b(np.__version__.encode(), digest_size=20)
    demo = FILES.parent
    sources = [
        demo / "generate.py",
        demo / "papers.py",
        *(demo / "making").rglob("*.py"),
        *(demo / "truth").rglob("*.py"),
    ]
    core = demo.parent / "core"
    sources += [core / "crs.py", core / "geometry" / "mesh.py", core / "compute" / "potential" / "mainfield.py"]
    for path in sorted([*sources, *(p for p in FILES.rglob("*") if p.is_file())]):
        told.update(str(path.relative_to(demo.parent)).encode())
        told.update(path.read_bytes())
    return told.hexdigest()


def stamped() -> str:
    """The digest of when they were compared."""
    return _STAMP.read_text(encoding="ascii").strip() if _STAMP.is_file() else ""


if __name__ == "__main__":
    _STAMP.write_text(present() + "\n", encoding="ascii")

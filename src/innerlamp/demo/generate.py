"""Writes the files of the prospect Emberlow from its truth.

``python -m innerlamp.demo.generate [FOLDER]`` writes them all; ``--facts`` prints what the truth holds.
The seed is fixed, so every run gives the same files. What is hidden, what fools and the clerical errors
stand in ``planted.json``, which only tests read.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from . import papers
from .making import boxes, core, drilling, electrical, mapping, potential, surface
from .making.noting import Planted
from .truth import facts, ore

FOLDERS = (
    "drilling",
    "drilling_second_phase",
    "core",
    "core/logs",
    "geochemistry",
    "terrain",
    "geophysics",
    "geology",
)


def write_all(folder: Path) -> None:
    """Write every file of the prospect under `folder`."""
    for name in FOLDERS:
        (folder / name).mkdir(parents=True, exist_ok=True)
    planted = Planted()
    surface.terrain(folder / "terrain")
    surface.land_use(folder / "terrain")
    surface.bedrock_holes(folder / "terrain", planted)
    surface.soils(folder / "geochemistry", planted)
    surface.rock_chips(folder / "geochemistry", planted)
    holes = drilling.drilled()
    drilling.write(folder, holes, planted)
    first = [h for h in holes if h.phase == 1]
    core.alteration(folder / "core", first)
    core.recovery(folder / "core", first, planted)
    core.susceptibility(folder / "core", first)
    core.structures(folder / "core", first)
    boxes.write(folder / "core" / "boxes", first)
    core.wireline(folder / "core" / "logs", first)
    potential.magnetics(folder / "geophysics", planted)
    potential.gravity(folder / "geophysics", planted)
    electrical.resistivity(folder / "geophysics", planted)
    mapping.geological_map(folder / "geology")
    mapping.readings(folder / "geology", planted)
    mapping.workings(folder / "geology")
    papers.controls(folder / "drilling", planted)
    papers.scanned_map(folder / "geology")
    known = {"errors": planted.errors, "places": ore.known_facts()}
    (folder / "planted.json").write_text(json.dumps(known, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    if "--facts" in sys.argv:
        print("\n".join(facts.lines()))
    else:
        write_all(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "files")

"""Builds the demo project from the shipped files with the operations that a user runs."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..core.errors import InputError
from ..core.given_paths import outside_projects
from ..core.progress import SILENT, Progress
from ..core.project.store import Store
from ..core.running import execute
from . import geology, papers, truth

FILES = Path(__file__).parent / "files"
LIT = ("ground", "geology", "holes", "shell", "targets")  # what is lit at first, by our short names
VERSION = 7  # of the prospect; a demo of another one is made anew by `ensure`
_FENCE = ((2_005.0, 2_745.0), (2_183.0, 2_440.0), (2_465.0, 2_456.0), (2_420.0, 2_700.0))
Step = tuple[str, dict[str, Any], dict[str, str], dict[str, str]]


def _fence() -> str:
    """A fence in local coordinates of the prospect: across the veins, then along them to the skarn."""
    return "; ".join(f"{truth.ORIGIN[0] + x:.0f} {truth.ORIGIN[1] + y:.0f}" for x, y in _FENCE)


def _walk() -> list[dict[str, Any]]:
    """How a team would present the prospect: ground, soils, holes, tin, the vein and its open ends, targets."""
    shell = {"around": "Sn shell 800 ppm"}
    vein = ["Main vein, long section", "Main vein, contours", "Main vein, piercings", "Main vein, open directions"]
    return [
        {
            "name": "The ground",
            "caption": "Emberlow from the south-east: a syncline of slate and marble, three dykes, till over most of it.",
            "lit": ["Ground", "Geological map"],
            "looking": [135, 28],
        },
        {
            "name": "Tin in soils",
            "caption": "3,200 samples of the fine fraction; the train of tin points back to the veins.",
            "lit": ["Ground", "Soil Sn"],
            "looking": [160, 45],
        },
        {
            "name": "The holes",
            "caption": "Forty holes, coloured by rock: greisen in slate, skarn where marble meets the granite.",
            "lit": ["Emberlow holes"],
            "colour_by": {"Emberlow holes": "Rock"},
            "looking": [150, 12],
            **shell,
        },
        {
            "name": "Tin in the holes",
            "caption": "The shell of 800 ppm around the samples of the veins.",
            "lit": ["Emberlow holes", "Sn shell 800 ppm"],
            "colour_by": {"Emberlow holes": "Sn_ppm"},
            "looking": [200, 15],
            **shell,
        },
        {
            "name": "The main vein",
            "caption": "Grade times thickness over the plane of the richest vein; crosses tell where it is open.",
            "lit": vein,
            "looking": [152, 8],
            "around": "Main vein, long section",
        },
        {
            "name": "Targets",
            "caption": "Where to drill next, the best first.",
            "lit": ["Ground", "Sn shell 800 ppm", "Targets"],
            "looking": [135, 35],
        },
    ]


# Operation, parameters, inputs by our short name, short name of each output.
STEPS: tuple[Step, ...] = (
    ("import-grid", {"file": "terrain/dem_20m.asc", "name": "Ground"}, {}, {"grid": "ground"}),
    (
        "import-holes",
        {
            "collar": "drilling/collars.csv",
            "survey": "drilling/downhole_surveys.csv",
            "assay": "drilling/assays.csv",
            "lithology": "drilling/geology_log.csv",
            "controls": "drilling/control_samples.csv",
            "more": [
                "core/core_recovery.csv",
                "core/density.csv",
                "core/alteration.csv",
                "core/magnetic_susceptibility.csv",
                "core/oriented_core.csv",
            ],
            "name": "Emberlow holes",
        },
        {},
        {"holes": "holes"},
    ),
    ("import-points", {"file": "geochemistry/soils_emberlow.csv", "name": "Soils"}, {}, {"points": "soils"}),
    ("import-points", {"file": "geochemistry/rock_chips.csv", "name": "Rock chips"}, {}, {"points": "chips"}),
    (
        "import-lines",
        {"file": "geophysics/airborne_magnetics.csv", "name": "Airborne magnetics"},
        {},
        {"lines": "magnetics"},
    ),
    (
        "import-points",
        {"file": "geophysics/gravity_stations.csv", "name": "Gravity stations", "content": "stations"},
        {},
        {"points": "gravity"},
    ),
    (
        "import-points",
        {"file": "geology/old_workings.csv", "name": "Old workings", "content": "workings"},
        {},
        {"points": "workings"},
    ),
    (
        "import-points",
        {"file": "geology/structural_readings.csv", "name": "Structural readings", "content": "structures"},
        {},
        {"points": "structures"},
    ),
    (
        "import-resistivity",
        {
            "readings": [f"geophysics/resistivity_line_{k}.csv" for k in (1, 2, 3, 4, 5, 6)],
            "electrodes": [f"geophysics/resistivity_line_{k}_electrodes.csv" for k in (1, 2, 3, 4, 5, 6)],
        },
        {},
        {"survey": "resistivity"},
    ),
    (
        "import-picture",
        {"file": "geology/scanned_map.png", "name": "Old geological map", "points": papers.picked_points()},
        {},
        {"picture": "picture"},
    ),
    (
        "import-features",
        {"file": "geology/geological_map.geojson", "name": "Geological map"},
        {},
        {"features": "geology"},
    ),
    ("import-features", {"file": "terrain/land_use.geojson", "name": "Land use"}, {}, {"features": "land use"}),
    (
        "grid-minimum-curvature",
        {"attribute": "Sn ppm", "transform": "log10", "name": "Soil Sn"},
        {"samples": "soils"},
        {"grid": "soil grid"},
    ),
    (
        "grid-minimum-curvature",
        {"attribute": "TMI_ANOM_nT", "tension": 0.25, "name": "Magnetics"},
        {"samples": "magnetics"},
        {"grid": "tmi"},
    ),
    ("composite", {"attribute": "Sn_ppm", "length": 6.0}, {"holes": "holes"}, {"composites": "composites"}),
    (
        "intercepts",
        {
            "attribute": "Sn_ppm",
            "cutoff": 1000.0,
            "shortest": 4.0,
            "waste_in_row": 4.0,
            "including": ["3000"],
            "also": ["Cu_pct"],
            "dip": truth.VEIN_DIP,
            "dip_direction": truth.VEIN_STRIKE + 90.0,
            "report_in": "%",
            "name": "Sn intercepts",
        },
        {"holes": "holes"},
        {"intercepts": "intercepts"},
    ),
    ("orient-core", {}, {"holes": "holes"}, {"structures": "oriented"}),
    (
        "structural-sets",
        {"name": "Oriented core by set"},
        {"readings": "oriented"},
        {"sets": "sets", "means": "set means"},
    ),
    (
        "grade-shell",
        {
            "attribute": "Sn_ppm",
            "cutoff": 800.0,
            "azimuth": truth.VEIN_STRIKE,
            "dip": truth.VEIN_DIP,
            "ratio": 3.0,
            "further": ["2500"],
            "name": "Sn shell",
        },
        {"composites": "composites", "ground": "ground"},
        {"shell": "shell", "second": "inner shell"},
    ),
    (
        "invert-magnetics",
        {"attribute": "TMI_ANOM_nT", "cell": 100.0, "cell_z": 50.0, "spacing": 150.0, "depth": 700.0},
        {"lines": "magnetics", "ground": "ground"},
        {"model": "model", "fit": "fit"},
    ),
    (
        "rank-targets",
        {},
        {"soil": "soil grid", "model": "model", "shell": "shell", "holes": "holes", "ground": "ground"},
        {"targets": "targets", "score": "score"},
    ),
    (
        "filter-grid",
        {"filter": "reduction to the pole", "date": "2024-05-16", "name": "Magnetics at the pole"},
        {"grid": "tmi"},
        {"filtered": "pole"},
    ),
    (
        "contours",
        # From above the background, which a soil survey's noise fills with specks.
        {
            "levels": "given",
            "given": "15; 30; 60; 120; 240",
            "major": 2,
            "shortest": 250.0,
            "name": "Contours of soil Sn",
        },
        {"grid": "soil grid"},
        {"contours": "contours"},
    ),
    (
        "make-page",
        {
            "heading": "Emberlow prospect",
            "second": "Geology, tin in soils and magnetics",
            "date": "2024-11-04",
            "author": "Inner Lamp demo",
            "beside": ["Magnetics at the pole", "Emberlow holes"],
            "lit": ["Geological map", "Contours of soil Sn", "Structural readings", "Emberlow holes"],
            "notes": "Magnetics: airborne, reduced to the pole. Contours: tin in the fine fraction of 3,200 soil samples at 15, 30, 60, 120 and 240 ppm, from gridded logarithms. Everything on this sheet is invented.",
            "name": "Emberlow A3",
        },
        {"around": "geology"},
        {"page": "page"},
    ),
    (
        "long-section",
        {
            "attribute": "Sn_pct",
            "dip": truth.VEIN_DIP,
            "dip_direction": truth.VEIN_STRIKE + 90.0,
            "name": "Main vein",
        },
        {"holes": "intercepts", "drilled": "holes", "ground": "ground"},
        {"piercings": "piercings", "field": "long field", "contours": "long contours", "open": "open ends"},
    ),
    (
        "section-pages",
        {
            "corridor": 60.0,
            "highest": 430.0,
            "lit": [
                "Ground",
                "Main vein, long section",
                "Main vein, contours",
                "Main vein, open directions",
                "Main vein, piercings",
            ],
            "plan": ["Geological map", "Emberlow holes"],
            "heading": "Long section of the main vein",
            "author": "Inner Lamp demo",
            "date": "2024-11-04",
            "notes": "Grade x true thickness of tin intercepts in the plane of the richest vein, contoured within 1.3 spacings of a piercing. Crosses: where no hole has tested the ground beyond a good one.",
        },
        {"around": "long field"},
        {"page": "long page"},
    ),
    (
        "section-pages",
        {
            "line": _fence(),
            "corridor": 45.0,
            "highest": 460.0,
            "lowest": 0.0,
            "lit": ["Ground", "Sn shell 800 ppm", "Emberlow holes"],
            "plan": ["Geological map", "Emberlow holes"],
            "colours": ["Emberlow holes = Rock"],
            "beside": ["Sn_ppm bars right 4 30"],
            "panels": ["Magnetics at the pole"],
            "strip": True,
            "heading": "Fence from the veins to the skarn",
            "author": "Inner Lamp demo",
            "date": "2024-11-04",
        },
        {"around": "holes"},
        {"page": "fence page"},
    ),
    (
        "section-pages",
        {
            "azimuth": truth.VEIN_STRIKE + 90.0,
            "number": 6,
            "spacing": 85.0,
            "corridor": 42.0,
            "lowest": 40.0,
            "highest": 430.0,
            "lit": ["Ground", "Sn shell 800 ppm", "Emberlow holes"],
            "plan": ["Geological map", "Emberlow holes"],
            "colours": ["Emberlow holes = Rock"],
            "heading": "Sections across the veins",
            "author": "Inner Lamp demo",
            "date": "2024-11-04",
        },
        {"around": "shell"},
        {"page": "series page"},
    ),
    (
        "import-core-pictures",
        {
            "files": [
                f"core/boxes/EMB014_{k:.1f}-{k + 4.5:.1f}.jpg" for k in (141.0, 145.5, 150.0, 154.5, 159.0, 163.5)
            ],
            "rows": 3,
            "name": "Core of EMB014",
        },
        {"holes": "holes"},
        {"pictures": "core pictures"},
    ),
    (
        "log-pages",
        {
            "of": ["EMB014"],
            "scale": 500.0,
            "tracks": [
                "Rock",
                "Sn_ppm",
                "Cu_pct",
                "curve: Sn_ppm, W_ppm",
                "As_ppm",
                "Alteration",
                "Recovery (%)",
                "filled curve: RQD (%)",
                "Density (g/cm3)",
                "filled curve: Susceptibility (10^-3 SI)",
                "planes",
                "notes: Remark",
                "pictures",
            ],
            "author": "Inner Lamp demo",
            "date": "2024-11-04",
        },
        {"holes": "holes", "planes": "sets", "pictures": "core pictures"},
        {"page": "log page"},
    ),
    ("make-walk", {"name": "Emberlow in six views", "stops": _walk()}, {}, {"walk": "walk"}),
    *geology.STEPS,
)


def default_place() -> Path:
    """Where the demo project is kept between starts."""
    base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(base) / "inner-lamp" / "Emberlow.lamp"


def raw_files(folder: Path) -> Path:
    """Copy the raw files of the prospect to a new folder ``Emberlow raw files`` in `folder`; returns it.

    Raises
    ------
    InputError
        When the folder is there already, or can't be written.
    """
    target = outside_projects(folder / "Emberlow raw files")
    if target.exists():
        raise InputError(
            "the folder is there already", where=str(target), fix="Choose another place, or remove it first"
        )
    try:
        # What is planted stays out: it is the answer.
        shutil.copytree(FILES, target, ignore=shutil.ignore_patterns("planted.json"))
    except OSError as error:
        shutil.rmtree(target, ignore_errors=True)
        # Of several files that could not be copied the first says why.
        told = error.strerror or (error.args[0][0][2] if error.args and isinstance(error.args[0], list) else error)
        raise InputError(f"the files can't be written ({told})", where=str(target)) from error
    return target


def file_params(params: Mapping[str, Any]) -> dict[str, Any]:
    """Return parameters with paths of shipped files made absolute."""

    def whole(value: Any) -> Any:
        if isinstance(value, list):
            return [whole(v) for v in value]
        return str(FILES / value) if isinstance(value, str) and "/" in value and (FILES / value).is_file() else value

    return {name: whole(value) for name, value in params.items()}


def chosen_of(inputs: Mapping[str, str], ids: Mapping[str, str]) -> dict[str, str | list[str]]:
    """Return the items of a step by slot; short names of several stand with a + between them."""
    return {
        slot: ids[names] if "+" not in names else [ids[name] for name in names.split("+")]
        for slot, names in inputs.items()
    }


def build(path: Path, progress: Progress = SILENT) -> Path:
    """Make the demo project at `path`, replacing what a broken earlier run left; returns the path."""
    unfinished = path.with_name(f".{path.name}.{os.getpid()}.lamp")
    shutil.rmtree(unfinished, ignore_errors=True)
    with Store.create(unfinished, truth.CRS) as store:
        ids: dict[str, str] = {}
        for number, (operation, params, inputs, outputs) in enumerate(STEPS):
            part = progress.part(number / len(STEPS), (number + 1) / len(STEPS))
            part(0.0, execute.find_operation(operation).title)
            made = execute.run(store, operation, file_params(params), chosen_of(inputs, ids), part)
            ids |= {name: made[slot] for slot, name in outputs.items()}
        store.set_workspace(
            {
                "demo": ids,
                "section": section_line(),
                "selected": ids["holes"],
                "demo version": VERSION,
            }
        )
        store.light({ids[k]: True for k in LIT})
        store.clean_up(forget=True)
    shutil.rmtree(path, ignore_errors=True)
    path.parent.mkdir(parents=True, exist_ok=True)
    unfinished.rename(path)
    return path


def section_line() -> list[float]:
    """The section that the demo opens with: across the veins, through the crest."""
    x, y = truth.ORIGIN[0] + truth.APEX[0], truth.ORIGIN[1] + truth.APEX[1]
    return [x - 450.0, y + 240.0, x + 620.0, y - 330.0]


def ensure(progress: Progress = SILENT) -> Path:
    """Return the demo project, built first if it is not there yet, was not completed or is of another version."""
    path = default_place()
    if (path / "catalogue.sqlite").is_file():
        with Store.open(path, write=False) as store:
            if store.workspace("demo complete") is not False and store.workspace("demo version") == VERSION:
                return path
    return build(path, progress)

"""The steps of each work area under short headings, in the order in which people work through them."""

from __future__ import annotations

from ..declaring.operation import Area

GROUPS: dict[Area, dict[str, tuple[str, ...]]] = {
    "Data": {
        "Drilling": ("import-holes", "add-holes", "merge-holes", "import-core-pictures"),
        "Samples and surveys": ("import-points", "import-lines", "import-resistivity"),
        "Maps and ground": ("import-grid", "import-features", "import-picture"),
        "Models": ("import-surface", "import-blocks", "import-element"),
        "Corrections": ("correct", "move-boundary", "exclude-spikes", "lift-corrections", "judge-assays"),
        "Columns": ("compute-column", "values-by-code", "describe-attribute"),
    },
    "Maps": {
        "Gridding": ("grid-minimum-curvature", "grid-kriging", "grid-neighbours", "cross-validate"),
        "Grids": (
            "resample-grid",
            "clip-grid",
            "mosaic",
            "fill-grid",
            "smooth-grid",
            "calculate-grid",
            "contours",
            "zonal-statistics",
            "compare-grids",
        ),
        "Geochemistry": ("level-by-unit", "principal-components", "anomalies"),
        "Drawing": ("draw-feature", "edit-corner", "edit-features", "split-features", "join-features", "merge-by-unit"),
        "Pages": ("make-page", "arrange-page", "make-walk", "arrange-walk"),
    },
    "Drilling": {
        "Logs and grades": ("group-codes", "composite", "intercepts", "contact-profile", "grades-by-class"),
        "Structures in core": ("orient-core", "structural-sets", "predict-piercings"),
        "Continuity": ("grade-trend", "long-section", "sample-distance"),
        "Sections": ("section-pages", "log-pages", "control-pages", "draw-in-space", "move-in-space"),
        "Holes written out": ("holes-as-lines", "holes-as-points"),
    },
    "Geophysics": {
        "Magnetics and gravity": (
            "diurnal-correction",
            "regional-residual",
            "filter-grid",
            "lineaments",
            "source-depth",
        ),
        "Models": (
            "regional-of-survey",
            "invert-magnetics",
            "invert-gravity",
            "invert-together",
            "compare-models",
            "coincidence",
            "response-of-units",
            "gravity-of-model",
        ),
    },
    "Geology": {
        "Models": ("build-units", "unit-surface", "score-model", "leave-holes-out", "unit-uncertainty"),
        "Structures": ("grid-readings", "throws-on-section"),
        "Grades": ("grade-shell", "estimate-blocks", "swaths"),
        "Blocks": ("compute-blocks", "take-into-blocks", "filter-blocks", "cut-blocks", "report-blocks"),
    },
    "Targets": {"Ranking": ("rank-targets",)},
}


def group_of(operation: str) -> tuple[Area, str]:
    """Return the area and heading of an operation, '' for one that stands under none."""
    return next(
        ((a, g) for a, groups in GROUPS.items() for g, names in groups.items() if operation in names), ("Data", "")
    )

"""The table of operations. A new one is a declaration in a module of its own and one line here."""

from __future__ import annotations

from ..declaring.operation import Operation
from ..errors import InputError
from ..operations.data import (
    add_holes,
    boundaries,
    by_code,
    computed,
    correct,
    describe,
    grouping,
    import_blocks,
    import_core_pictures,
    import_element,
    import_holes,
    import_lines,
    import_picture,
    import_places,
    import_resistivity,
    import_shapes,
    judge_assays,
    merge_holes,
)
from ..operations.drilling import (
    along,
    compositing,
    contact_profile,
    continuity,
    grades_by_class,
    intercepts,
    interpretation,
    long_section,
    nearest_sample,
    oriented,
)
from ..operations.geology.grades import block_columns, block_parts, block_reports, estimate_blocks, grade_shell
from ..operations.geology.units import (
    build_model,
    leave_out,
    planes_gridded,
    scorecard,
    section_throws,
    uncertainty,
    unit_surface,
)
from ..operations.geophysics import (
    coincidence,
    diurnal,
    forward,
    inversion,
    models_compared,
    regional,
    together,
    units_forward,
)
from ..operations.grids import analysis, contours, filtering, interpolation, minimum_curvature, resampling
from ..operations.mapping import control_pages, drawing, geochemistry, log_pages, pages, section_pages, walks
from ..operations.targets import ranking

OPERATIONS: dict[str, Operation] = {
    each.name: each
    for each in (
        import_holes.OPERATION,
        add_holes.OPERATION,
        import_places.POINTS,
        import_places.GRID,
        import_lines.OPERATION,
        import_resistivity.OPERATION,
        import_shapes.FEATURES,
        import_picture.OPERATION,
        import_core_pictures.OPERATION,
        import_shapes.SURFACE,
        import_blocks.OPERATION,
        import_element.OPERATION,
        merge_holes.OPERATION,
        judge_assays.OPERATION,
        correct.CORRECT,
        boundaries.OPERATION,
        correct.LIFT,
        correct.SPIKES,
        computed.OPERATION,
        by_code.OPERATION,
        describe.OPERATION,
        grouping.OPERATION,
        minimum_curvature.OPERATION,
        interpolation.KRIGING,
        interpolation.NEAR,
        interpolation.VALIDATE,
        contours.OPERATION,
        filtering.CALCULATE,
        resampling.RESAMPLE,
        resampling.CLIP,
        resampling.MOSAIC,
        resampling.FILL,
        resampling.SMOOTH,
        resampling.FIGURES,
        analysis.AGREEMENT,
        drawing.DRAW,
        drawing.CORNER,
        drawing.EDIT,
        drawing.SPLIT,
        drawing.JOIN,
        drawing.MERGE,
        pages.MAKE,
        pages.ARRANGE,
        walks.MAKE,
        walks.ARRANGE,
        geochemistry.ANOMALIES,
        geochemistry.LEVEL,
        geochemistry.COMPONENTS,
        filtering.FILTER,
        filtering.REGIONAL,
        analysis.LINEAMENTS,
        analysis.DEPTH,
        compositing.OPERATION,
        intercepts.OPERATION,
        oriented.ORIENT,
        oriented.SETS,
        oriented.PIERCE,
        contact_profile.OPERATION,
        grades_by_class.OPERATION,
        continuity.OPERATION,
        long_section.OPERATION,
        nearest_sample.OPERATION,
        section_pages.OPERATION,
        log_pages.OPERATION,
        control_pages.OPERATION,
        interpretation.DRAW,
        interpretation.MOVE,
        along.LINES,
        along.POINTS,
        diurnal.OPERATION,
        regional.OPERATION,
        inversion.INVERT,
        inversion.INVERT_GRAVITY,
        together.TOGETHER,
        coincidence.COINCIDENCE,
        models_compared.COMPARE,
        forward.GRAVITY,
        units_forward.UNITS_FORWARD,
        build_model.OPERATION,
        uncertainty.OPERATION,
        leave_out.OPERATION,
        planes_gridded.OPERATION,
        section_throws.OPERATION,
        block_columns.COMPUTE,
        block_columns.TAKE,
        block_columns.FILTER,
        block_parts.OPERATION,
        block_reports.REPORT,
        block_reports.SWATHS,
        unit_surface.OPERATION,
        scorecard.OPERATION,
        estimate_blocks.OPERATION,
        grade_shell.OPERATION,
        ranking.OPERATION,
    )
}
_EARLIER = {alias: op.name for op in OPERATIONS.values() for alias in op.aliases}


def find_operation(name: str) -> Operation:
    """Return the operation of a name, an earlier name of it included.

    Raises
    ------
    InputError
        When there is none; the text lists what is near.
    """
    name = _EARLIER.get(name, name)
    if name in OPERATIONS:
        return OPERATIONS[name]
    near = [n for n in OPERATIONS if name.lower() in n or n.split(".")[-1] in name.lower()] or list(OPERATIONS)
    raise InputError(f"there is no operation '{name}'", fix="There are: " + ", ".join(near))

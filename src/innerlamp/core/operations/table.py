"""The table of operations. A new one is a declaration in a module of its own and one line here."""

from __future__ import annotations

from . import (
    add_holes,
    compositing,
    computed,
    contouring,
    correct,
    diurnal,
    geochemistry,
    grid_work,
    gridding,
    grouping,
    import_element,
    import_holes,
    import_lines,
    import_picture,
    import_places,
    import_resistivity,
    import_shapes,
    interpolating,
    magnetics,
    merge_holes,
    shell,
    targets,
)
from .declare import Operation

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
        import_shapes.SURFACE,
        import_shapes.BLOCKS,
        import_element.OPERATION,
        merge_holes.OPERATION,
        correct.CORRECT,
        correct.LIFT,
        correct.SPIKES,
        computed.OPERATION,
        grouping.OPERATION,
        gridding.OPERATION,
        interpolating.KRIGING,
        interpolating.NEAR,
        interpolating.VALIDATE,
        contouring.OPERATION,
        grid_work.CALCULATE,
        geochemistry.ANOMALIES,
        geochemistry.LEVEL,
        geochemistry.COMPONENTS,
        grid_work.FILTER,
        grid_work.REGIONAL,
        compositing.OPERATION,
        diurnal.OPERATION,
        magnetics.INVERT,
        magnetics.GRAVITY,
        shell.OPERATION,
        targets.OPERATION,
    )
}

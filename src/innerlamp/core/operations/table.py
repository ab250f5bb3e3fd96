"""The table of operations. A new one is a declaration in a module of its own and one line here."""

from __future__ import annotations

from . import (
    add_holes,
    compositing,
    computed,
    diurnal,
    gridding,
    import_holes,
    import_places,
    import_shapes,
    magnetics,
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
        import_places.LINES,
        import_shapes.FEATURES,
        import_shapes.SURFACE,
        import_shapes.BLOCKS,
        computed.OPERATION,
        gridding.OPERATION,
        compositing.OPERATION,
        diurnal.OPERATION,
        magnetics.INVERT,
        magnetics.GRAVITY,
        shell.OPERATION,
        targets.OPERATION,
    )
}

"""Runs all benchmarks, or those whose names hold a given word, and prints one table beside the last results."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator

from . import bodies, cuts, drilling, emberlow, emberlow_units, geology, intake, interface, kernels, potential, tables
from .table import Row, against, keep, kept, show, yardstick

ALL: tuple[Callable[[], Iterator[Row]], ...] = (
    tables.import_a_million_intervals,
    tables.open_that_project,
    tables.add_ten_holes_and_refresh_composites,
    tables.import_the_same_from_a_spreadsheet,
    tables.import_two_million_readings,
    tables.sort_and_filter_a_million_rows,
    tables.scroll_a_million_rows,
    intake.look_at_a_gigabyte,
    intake.look_at_the_prospect,
    cuts.section_through_cells,
    drilling.a_million_intervals,
    drilling.a_strip_log_of_32_tracks,
    drilling.a_campaign_in_the_window,
    kernels.magnetic_kernel_rate,
    kernels.inversion,
    potential.lattice_beside_the_matrix,
    potential.inversions_at_working_scale,
    emberlow.emberlow_against_its_truth,
    kernels.gridding,
    kernels.comparing_methods,
    kernels.large_gridding,
    kernels.maps,
    kernels.radial_field,
    geology.fields_of_many_values,
    geology.kriging_into_blocks,
    bodies.true_contacts,
    emberlow_units.emberlow_geology,
    interface.start_of_the_window,
    interface.first_start_of_the_demo,
    interface.event_loop_under_load,
    interface.pan_and_zoom,
    interface.turning_the_scene,
    interface.edits_and_undo,
)


def main() -> None:
    """Run what is asked for; ``--keep`` makes the results those that later runs are held against."""
    words = [w.lower() for w in sys.argv[1:] if not w.startswith("--")]
    print(f"{os.cpu_count()} cores, load {os.getloadavg()[0]:.1f} before the start, yardstick {yardstick():.2f} s\n")
    before, rows = kept(), []
    for run in ALL:
        if not words or any(w in run.__name__ for w in words):
            for row in run():
                show(row, before)
                rows.append(row)
    behind = [row.what for row in rows if against(row, before).startswith("BEHIND")]
    print(
        "\n"
        + (f"Behind by more than 30 %: {'; '.join(behind)}" if behind else "Nothing fell behind by more than 30 %.")
    )
    if "--keep" in sys.argv:
        keep(rows)


if __name__ == "__main__":
    main()

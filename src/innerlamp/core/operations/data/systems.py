"""The parameter in which coordinate system a file's places are."""

from __future__ import annotations

from typing import Any

from ...declaring.operation import param


def system_of_table() -> Any:
    """Declare the system of a table's places, which headings may tell."""
    return _param(
        "Code of their system where it is not the project's, such as EPSG:4326 for degrees; columns called longitude and "
        "latitude are known as degrees. A mine's own grid is told by two or more known points, with a name to use from then on: "
        "Mine grid: 1000 2000 = 500123 7001234; …"
    )


def system_of_file(whose: str = "their") -> Any:
    """Declare the system of a file of shapes or cells, which may name its own."""
    return _param(
        f"Code of {whose} system where the file names none and it is not the project's; or a mine's own grid, by name or known points",
    )


def unit_of_heights() -> Any:
    """Declare the unit of elevations, which headings may tell."""
    return param(
        "auto",
        "Elevations are in",
        more=True,
        help="auto goes by the heading ('Elev ft') and takes metres otherwise; feet are turned into metres",
    )


def _param(help: str) -> Any:
    return param("", "Coordinates are in", editor="crs", more=True, help=help)

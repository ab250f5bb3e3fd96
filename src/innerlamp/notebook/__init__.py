"""Items as what people use in notebooks, and back: pandas, geopandas, xarray, pyvista.

Coordinates stay in the project's system in metres; its code, units, quantities and roles travel along
in ``attrs`` (pandas, geopandas, xarray) or field data (pyvista) and are read again on the way back.
``Project.add`` stores what came back. geopandas, xarray and pyvista are optional: a sentence says
what to install where one is missing.

>>> from innerlamp import Project                                      # doctest: +SKIP
>>> from innerlamp.notebook import to_geopandas, from_xarray, to_xarray  # doctest: +SKIP
>>> with Project.open("west.lamp") as project:                         # doctest: +SKIP
...     soils = to_geopandas(project["Soils"])
...     smooth = to_xarray(project["Soil Sn"]).rolling(x=3, y=3, center=True).mean()
...     project.add(from_xarray(smooth, name="Soil Sn, smooth"))
"""

from __future__ import annotations

from .frames import from_geopandas, from_pandas, tables_of, to_geopandas, to_pandas
from .meshes import from_pyvista, to_pyvista
from .rasters import from_xarray, to_xarray

__all__ = [
    "from_geopandas",
    "from_pandas",
    "from_pyvista",
    "from_xarray",
    "tables_of",
    "to_geopandas",
    "to_pandas",
    "to_pyvista",
    "to_xarray",
]

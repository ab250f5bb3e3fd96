"""What the tracks of a strip log show of a hole, in the pane and on a page: rows of its tables, of planes, and legends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ....core.items.attributes import orientation
from ....core.items.base import Item
from ....core.items.core_pictures import CorePictures
from ....core.items.holes import HoleSet, hole_codes
from ....core.items.legend import Legend
from ....core.items.points import PointSet
from ....core.items.tracks import Track
from .tracks import Rows, rows_of

HereRows = dict[tuple[str, str], NDArray[np.int64]]


@dataclass(frozen=True)
class LogSource:
    """A set of holes and, if any, the planes measured and the pictures taken along them; items are named by their ids."""

    holes: HoleSet
    planes: PointSet | None = None
    holes_id: str = ""
    planes_id: str = ""
    pictures: CorePictures | None = None
    pictures_id: str = ""

    def rows(self, track: Track, hole: str, here: HereRows) -> Rows | None:
        """Return what a track shows of a hole; `here` keeps its rows by table, as several tracks are of one."""
        if track.kind == "planes":
            if self.planes is None or not {"hole", "depth_m"} <= set(self.planes.table.columns):
                return None
            names = orientation(self.planes.attributes) or ("", "")
            table = self.planes.table.rename(columns={names[0]: "dip", names[1]: "dip direction"})
            return rows_of((self.planes_id, ""), table, of_hole(table, hole), ("dip", "dip direction", *self._kinds()))
        if track.kind == "pictures":
            if self.pictures is None:
                return None
            table = self.pictures.table
            made = rows_of((self.pictures_id, ""), table, of_hole(table, hole), ("file",))
            return replace(made, pictures=self.pictures)
        for name, table in {**self.holes.tables, **self.holes.readings}.items():
            if track.attributes and track.attributes[0] in table.columns:
                source = (self.holes_id, name)
                if source not in here:
                    here[source] = of_hole(table, hole)
                return rows_of(source, table, here[source], track.attributes)
        return None

    def legends(self, track: Track, legend: Callable[[str, Item], Legend]) -> dict[str, Legend]:
        """Return the legends of a track by attribute."""
        if track.kind == "planes":
            return {name: legend(name, self.planes) for name in self._kinds()[:1] if self.planes is not None}
        known = self.holes.attributes
        return {n: legend(n, self.holes) for n in track.attributes if n in known or track.kind != "notes"}

    def _kinds(self) -> tuple[str, ...]:
        return tuple(n for n in ("set", "type") if self.planes is not None and n in self.planes.table.columns)


def of_hole(table: pd.DataFrame, hole: str) -> NDArray[np.int64]:
    """Return the rows of one hole; quick for millions of them."""
    return np.flatnonzero(hole_codes(table["hole"], pd.Index([hole])) == 0)

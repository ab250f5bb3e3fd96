"""The slab of a section in 3D: what lies outside of its corridor is cut off, in every item."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPlaneCollection
from vtkmodules.vtkRenderingCore import vtkActor, vtkProp3D

from ...core.compute.geometry.planes import SectionPlane, Side


def slab_planes(plane: SectionPlane, width: float, side: Side, origin: np.ndarray) -> vtkPlaneCollection:
    """Return the two planes between which a scene is kept, relative to its origin."""
    ux, uy = (plane.x1 - plane.x0) / max(plane.length, 1e-9), (plane.y1 - plane.y0) / max(plane.length, 1e-9)
    behind = np.array([-uy, ux, 0.0])
    start = np.array([plane.x0, plane.y0, 0.0]) - [origin[0], origin[1], 0.0]
    thick = max(width, 0.05)
    low = 0.0 if side == "behind" else -thick
    high = 0.0 if side == "in front" else thick
    out = vtkPlaneCollection()
    for at, normal in ((low, behind), (high, -behind)):
        cut = vtkPlane()
        cut.SetOrigin(*(start + at * behind).tolist())
        cut.SetNormal(*normal.tolist())
        out.AddItem(cut)
    return out


def cut_off(props: Iterable[vtkProp3D], planes: vtkPlaneCollection | None) -> None:
    """Keep of actors what lies between planes; None keeps all."""
    for prop in props:
        if isinstance(prop, vtkActor) and prop.GetMapper() is not None:
            if planes is None:
                prop.GetMapper().RemoveAllClippingPlanes()
            else:
                prop.GetMapper().SetClippingPlanes(planes)

"""What 3D is drawn with: actors of meshes, and sheets over the ground."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper, vtkTexture

from .polydata import polydata

FloatArray = NDArray[np.float64]


def actor(
    mesh: vtkPolyData, colour: QColor | None = None, opacity: float = 1.0, point_size: float = 4.0, shaded: bool = True
) -> vtkActor:
    """Return an actor of a mesh, in one colour or in the mesh's own colours of points or cells."""
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(mesh)
    out = vtkActor()
    out.SetMapper(mapper)
    prop = out.GetProperty()
    if colour is not None:
        mapper.ScalarVisibilityOff()
        prop.SetColor(colour.redF(), colour.greenF(), colour.blueF())
    else:
        mapper.SetColorModeToDirectScalars()
    prop.SetOpacity(opacity)
    prop.SetPointSize(point_size)
    prop.SetAmbient(0.35)
    prop.SetDiffuse(0.75)
    if not shaded:
        prop.LightingOff()
    return out


def texture_of(rgba: NDArray[np.uint8]) -> vtkTexture:
    """Return a texture of pixels (rows, columns, 4), the southern row first."""
    rows, columns = rgba.shape[:2]
    flat = rgba.reshape(-1, 4)
    whole = bool((flat[:, 3] == 255).all())
    data = vtkImageData()
    data.SetDimensions(columns, rows, 1)
    data.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(flat[:, : 3 if whole else 4]), deep=True))
    out = vtkTexture()
    out.SetInputData(data)
    out.InterpolateOn()
    out.MipmapOn()
    out.SetColorModeToDirectScalars()
    return out


def sheet(x: FloatArray, y: FloatArray, z: FloatArray, known: NDArray[np.bool_], origin: FloatArray) -> vtkPolyData:
    """Return the mesh of a lattice of places (ny, nx), without the cells that have an unknown corner."""
    ny, nx = z.shape
    points = np.stack([x.ravel(), y.ravel(), np.where(known, z, origin[2]).ravel()], axis=1) - origin
    index = np.arange(nx * ny).reshape(ny, nx)
    quads = np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], axis=-1).reshape(-1, 4)
    quads = quads[known.ravel()[quads].all(axis=1)]
    return polydata(points, faces=quads)

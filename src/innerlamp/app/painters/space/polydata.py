"""VTK meshes from arrays: points, lines and faces in the layout that VTK reads."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkPolyDataNormals, vtkQuadricDecimation
from vtkmodules.vtkFiltersSources import vtkCubeSource

MOST_TRIANGLES = 16_000  # of one item: a scene stays light while it moves


def polydata(
    points: NDArray[np.floating],
    *,
    lines: NDArray[np.integer] | None = None,
    faces: NDArray[np.integer] | None = None,
    vertices: bool = False,
) -> vtkPolyData:
    """Return a mesh.

    Parameters
    ----------
    points
        Shape (n, 3); kept as float32, so subtract the scene's origin first.
    lines, faces
        Shape (m, k): indices of the points of each line or face, all with k points.
    vertices
        Whether every point is drawn as such.
    """
    out = vtkPolyData()
    place = vtkPoints()
    place.SetData(numpy_to_vtk(np.ascontiguousarray(points, dtype=np.float32), deep=True))
    out.SetPoints(place)
    if vertices:
        out.SetVerts(_cells(np.arange(len(points))[:, None]))
    if lines is not None:
        out.SetLines(_cells(np.asarray(lines)))
    if faces is not None:
        out.SetPolys(_cells(np.asarray(faces)))
    return out


def _cells(index: NDArray[np.integer]) -> vtkCellArray:
    count, size = index.shape
    cells = vtkCellArray()
    offsets = np.arange(0, (count + 1) * size, size, dtype=np.int64)
    flat = np.ascontiguousarray(index, dtype=np.int64).ravel()
    cells.SetData(numpy_to_vtkIdTypeArray(offsets, deep=True), numpy_to_vtkIdTypeArray(flat, deep=True))
    return cells


def colour_points(mesh: vtkPolyData, rgb: NDArray[np.uint8]) -> vtkPolyData:
    """Give each point a colour (n, 3)."""
    mesh.GetPointData().SetScalars(named(rgb, "rgb"))
    return mesh


def colour_cells(mesh: vtkPolyData, rgb: NDArray[np.uint8]) -> vtkPolyData:
    """Give each line or face a colour (m, 3)."""
    mesh.GetCellData().SetScalars(named(rgb, "rgb"))
    return mesh


def named(values: NDArray[np.generic], name: str) -> object:
    """Return values as VTK's array of a name."""
    array = numpy_to_vtk(np.ascontiguousarray(values), deep=True)
    array.SetName(name)
    return array


def set_normals(mesh: vtkPolyData, normals: NDArray[np.floating]) -> vtkPolyData:
    """Give each point the normal (n, 3) that light falls on."""
    mesh.GetPointData().SetNormals(named(np.asarray(normals, dtype=np.float32), "Normals"))
    return mesh


def smooth_normals(mesh: vtkPolyData, edge: float | None = None) -> vtkPolyData:
    """Return a mesh of triangles with the mean normals of its points; sharp where faces meet by more than `edge` degrees."""
    work = vtkPolyDataNormals()
    work.SetInputData(mesh)
    work.ConsistencyOff()
    if edge is None:
        work.SplittingOff()
    else:
        work.SetFeatureAngle(edge)
    work.Update()
    made: vtkPolyData = work.GetOutput()
    return made


def thinned(mesh: vtkPolyData, most: int) -> vtkPolyData:
    """Return a mesh of triangles with about `most` of them at the most."""
    count = mesh.GetNumberOfPolys()
    if count <= most:
        return mesh
    work = vtkQuadricDecimation()
    work.SetInputData(mesh)
    work.SetTargetReduction(1.0 - most / count)
    work.Update()
    made: vtkPolyData = work.GetOutput()
    return made


def cube(side: float) -> vtkPolyData:
    """Return a cube around the origin."""
    source = vtkCubeSource()
    source.SetXLength(side)
    source.SetYLength(side)
    source.SetZLength(side)
    source.Update()
    made: vtkPolyData = source.GetOutput()
    return made

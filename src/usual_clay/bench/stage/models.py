"""Arrays as VTK data."""

from __future__ import annotations

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkContourFilter, vtkQuadricClustering

from usual_clay.core.arrays import Floats, Ints


def triangle_data(
    vertices: Floats, triangles: Ints, normals: Floats | None, places: Floats | None = None
) -> vtkPolyData:
    """Return triangles, with normals and texture coordinates at the vertices where given."""
    data = vtkPolyData()
    data.SetPoints(_points(vertices))
    cells = vtkCellArray()
    corners = np.ascontiguousarray(triangles, dtype=np.int64).ravel()
    cells.SetData(3, numpy_to_vtkIdTypeArray(corners, deep=True))
    data.SetPolys(cells)
    if normals is not None:
        data.GetPointData().SetNormals(numpy_to_vtk(normals.astype(np.float32), deep=True))
    if places is not None:
        data.GetPointData().SetTCoords(numpy_to_vtk(places.astype(np.float32), deep=True))
    return data


def with_vertices(data: vtkPolyData, vertices: Floats, normals: Floats) -> vtkPolyData:
    """Return the same triangles, as they are coloured, with their corners elsewhere."""
    moved = vtkPolyData()
    moved.ShallowCopy(data)
    moved.SetPoints(_points(vertices))
    moved.GetPointData().SetNormals(numpy_to_vtk(normals.astype(np.float32), deep=True))
    return moved


def quad_data(corners: Floats) -> vtkPolyData:
    """Return a rectangle for a texture, from its corners going round from the upper left."""
    places = np.array([[0.0, 1], [1, 1], [1, 0], [0, 0]])
    return triangle_data(corners, np.array([[0, 2, 1], [0, 3, 2]]), None, places)


def line_data(lines: list[Floats]) -> vtkPolyData:
    """Return polylines."""
    data = vtkPolyData()
    data.SetPoints(_points(np.concatenate(lines)))
    cells = vtkCellArray()
    ends = np.concatenate([[0], np.cumsum([len(line) for line in lines])]).astype(np.int64)
    order = np.arange(ends[-1], dtype=np.int64)
    cells.SetData(
        numpy_to_vtkIdTypeArray(ends, deep=True), numpy_to_vtkIdTypeArray(order, deep=True)
    )
    data.SetLines(cells)
    return data


def level_data(data: vtkPolyData, values: Floats, levels: Floats) -> vtkPolyData:
    """Return the lines on triangles along which values at their vertices, (n,), reach levels."""
    valued = vtkPolyData()
    valued.SetPoints(data.GetPoints())
    valued.SetPolys(data.GetPolys())
    valued.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(values), deep=True))
    cut = vtkContourFilter()
    cut.SetInputData(valued)
    cut.ComputeScalarsOff()
    for number, level in enumerate(levels.tolist()):
        cut.SetValue(number, level)
    cut.Update()
    return cut.GetOutput()


def paint(data: vtkPolyData, colours: np.ndarray) -> None:
    """Put byte colours, (n, 3), on the vertices."""
    array = numpy_to_vtk(np.ascontiguousarray(colours), deep=True)
    array.SetName("colours")
    data.GetPointData().SetScalars(array)


def stand_in(vertices: Floats, triangles: Ints, most: int) -> tuple[Floats, Ints]:
    """Return a coarser mesh of at most about `most` triangles (Lindstrom 2000)."""
    box = np.ptp(vertices, axis=0)
    longest = float(box.max())
    area = 2 * (box[0] * box[1] + box[1] * box[2] + box[2] * box[0])
    cell = np.sqrt(max(area, 1e-12) * 1.6 / most)
    divisions = [int(np.clip(side / cell, 4, 400)) for side in np.maximum(box, longest / 50)]
    filter_ = vtkQuadricClustering()
    filter_.SetInputData(triangle_data(vertices, triangles, None))
    filter_.SetNumberOfDivisions(*divisions)
    filter_.AutoAdjustNumberOfDivisionsOff()
    filter_.Update()
    made = filter_.GetOutput()
    corners = vtk_to_numpy(made.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    return vtk_to_numpy(made.GetPoints().GetData()).astype(np.float64), corners.astype(np.int64)


def _points(vertices: Floats) -> vtkPoints:
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(vertices, dtype=np.float32), deep=True))
    return points

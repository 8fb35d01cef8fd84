"""Triangles as the drawing library holds them."""

from __future__ import annotations

from typing import Any

import numpy as np


def poly_data(corners: np.ndarray, triangles: np.ndarray, normals: np.ndarray | None = None) -> Any:
    """Polygonal data of the library: corners (n, 3), triangles (m, 3), and vectors across the surface (n, 3)."""
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonCore import VTK_ID_TYPE, vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData

    made, points, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(corners), deep=True))
    ends = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int64)
    chain = np.ascontiguousarray(triangles, np.int64).ravel()
    cells.SetData(
        numpy_to_vtk(ends, deep=True, array_type=VTK_ID_TYPE), numpy_to_vtk(chain, deep=True, array_type=VTK_ID_TYPE)
    )
    made.SetPoints(points)
    made.SetPolys(cells)
    if normals is not None:
        across = numpy_to_vtk(np.ascontiguousarray(normals, np.float32), deep=True)
        across.SetName("Normals")
        made.GetPointData().SetNormals(across)
    return made

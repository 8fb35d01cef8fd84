"""Lines, points and pictures in space, as the drawing library holds them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import VTK_ID_TYPE, VTK_UNSIGNED_CHAR, vtkFloatArray, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkImageData, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkAssembly, vtkPolyDataMapper, vtkTexture

Ink = tuple[float, float, float]


def lines_of(
    lines: Sequence[tuple[np.ndarray, Ink, float]], points: Sequence[tuple[np.ndarray, Ink, float]], origin: np.ndarray
) -> vtkAssembly:
    """Lines (places (n, 3), ink, width in pixels) and points (place (3,), ink, width), without shading."""
    whole = vtkAssembly()
    for places, ink, width in lines:
        chain = np.arange(len(places), dtype=np.int64)
        whole.AddPart(_actor(np.asarray(places) - origin, chain, ink, width, as_line=True))
    for place, ink, width in points:
        dot = _actor(np.asarray(place, float).reshape(1, 3) - origin, np.zeros(1, np.int64), ink, width, as_line=False)
        dot.GetProperty().SetRenderPointsAsSpheres(True)
        whole.AddPart(dot)
    return whole


def _actor(places: np.ndarray, chain: np.ndarray, ink: Ink, width: float, as_line: bool) -> vtkActor:
    data, points, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(places, np.float32), deep=True))
    ends = np.array((0, len(chain)), np.int64)
    cells.SetData(
        numpy_to_vtk(ends, deep=True, array_type=VTK_ID_TYPE), numpy_to_vtk(chain, deep=True, array_type=VTK_ID_TYPE)
    )
    data.SetPoints(points)
    (data.SetLines if as_line else data.SetVerts)(cells)
    mapper, actor = vtkPolyDataMapper(), vtkActor()
    mapper.SetInputData(data)
    actor.SetMapper(mapper)
    look = actor.GetProperty()
    look.SetColor(*ink)
    look.SetLineWidth(width)
    look.SetPointSize(width)
    look.LightingOff()
    return actor


def picture_of(pixels: np.ndarray, corners: np.ndarray, opacity: float) -> Any:
    """A picture of packed colours (rows, columns) on the parallelogram of three corners (3, 3): upper left, upper
    right, lower left."""
    rows, columns = pixels.shape
    parts = np.stack([(pixels >> shift) & 255 for shift in (16, 8, 0)], -1).astype(np.uint8)
    grid = vtkImageData()
    grid.SetDimensions(columns, rows, 1)
    flat = np.ascontiguousarray(parts[::-1].reshape(-1, 3))
    grid.GetPointData().SetScalars(numpy_to_vtk(flat, deep=True, array_type=VTK_UNSIGNED_CHAR))
    left, right, below = corners
    data, points, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    for place in (below, below + right - left, right, left):
        points.InsertNextPoint(*place)
    cells.InsertNextCell(4, [0, 1, 2, 3])
    over = vtkFloatArray()
    over.SetNumberOfComponents(2)
    for u, v in ((0, 0), (1, 0), (1, 1), (0, 1)):
        over.InsertNextTuple2(u, v)
    data.SetPoints(points)
    data.SetPolys(cells)
    data.GetPointData().SetTCoords(over)
    texture, mapper, actor = vtkTexture(), vtkPolyDataMapper(), vtkActor()
    texture.SetInputData(grid)
    texture.InterpolateOn()
    mapper.SetInputData(data)
    actor.SetMapper(mapper)
    actor.SetTexture(texture)
    look = actor.GetProperty()
    look.LightingOff()
    look.SetOpacity(opacity)
    return actor

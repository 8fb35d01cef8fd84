"""Fewer triangles for the same surface."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..progress import Progress, silent
from ..workers import worker_pool
from .smoothing import brought_to
from .surface import Surface, Surfaces

FEWEST = 8
"""Triangles that a closed surface keeps."""


def simplified(surfaces: Surfaces, share: float, progress: Progress = silent()) -> Surfaces:
    """Surfaces with a share of their triangles, each of the volume that it had: edges are taken out where that changes
    least (M. Garland, P. Heckbert, SIGGRAPH 1997). Another process does it, as the library keeps the interpreter."""
    parts: list[Surface] = []
    with worker_pool(1) as pool:
        for one in progress.over(surfaces.parts, what="Leaving triangles out"):
            job = pool.submit(fewer, one.corners, one.triangles, share)
            while not job.done():
                progress.at(len(parts) / len(surfaces.parts), "Leaving triangles out")
                try:
                    job.exception(0.1)
                except TimeoutError:
                    continue
            corners, triangles = job.result()
            parts.append(replace(one, corners=corners, triangles=triangles))
    return replace(surfaces, parts=tuple(parts))


def fewer(corners: np.ndarray, triangles: np.ndarray, share: float) -> tuple[np.ndarray, np.ndarray]:
    """Corners (n, 3) and triangles (m, 3) of a surface with a share of its triangles."""
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkFiltersCore import vtkQuadricDecimation

    from .library import poly_data

    count = len(triangles)
    if count * share < FEWEST or count <= FEWEST:
        return corners, triangles
    middle = corners.mean(0)
    scale = float(np.abs(corners - middle).max()) or 1.0
    work = vtkQuadricDecimation()
    work.SetInputData(poly_data((corners - middle) / scale, triangles))
    work.SetTargetReduction(1 - max(share, FEWEST / count))
    work.VolumePreservationOn()
    work.Update()
    made = work.GetOutput()
    there = vtk_to_numpy(made.GetPoints().GetData()).astype(np.float64)
    sides = vtk_to_numpy(made.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    used, where = np.unique(sides, return_inverse=True)
    there, sides = there[used], where.reshape(-1, 3).astype(np.int32)
    from .smoothing import volume

    wanted = abs(volume((corners - middle) / scale, triangles))
    there = brought_to(there, sides, wanted, 0.02)
    return there * scale + middle, sides

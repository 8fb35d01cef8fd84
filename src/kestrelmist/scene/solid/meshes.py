"""Triangles in the drawing library: fine ones at rest, fewer while the scene moves, and blocks that a brush changed."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import VTK_UNSIGNED_CHAR
from vtkmodules.vtkCommonDataModel import vtkPlaneCollection
from vtkmodules.vtkFiltersCore import vtkPolyDataNormals, vtkQuadricClustering
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from ...core.surface.library import poly_data
from ...core.surface.smoothing import normals as normals_of
from .hits import first_hit

MOVING, LEAST = 30_000, 200
"""Triangles of all surfaces together while the scene moves, and of one at least."""
EACH_SIDE = 4.5
"""Triangles that come of so many cells along each side into which corners are gathered, as a share of their square."""


@dataclass
class Finish:
    """How a surface takes light: its colour (0 to 1), opacity, and whether it shines."""

    ink: tuple[float, float, float] = (1.0, 1.0, 1.0)
    opacity: float = 1.0
    shiny: bool = True
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    """By how much it is drawn beside its place, mm."""


@dataclass(eq=False)
class Mesh:
    """One surface of a scene.

    Parameters
    ----------
    corners : array (n, 3)
        World positions less the scene's origin.
    triangles : int32 array (m, 3)
    finish : Finish
    colours : uint8 array (n, 3), optional
        Of each corner.
    """

    corners: np.ndarray
    triangles: np.ndarray
    finish: Finish
    colours: np.ndarray | None = None
    actor: vtkActor = field(init=False)
    coarse: Any = field(init=False, default=None)
    patches: dict[tuple[int, int, int], tuple[np.ndarray, np.ndarray]] = field(init=False, default_factory=dict)
    share: float = 1.0
    _codes: tuple | None = None
    grid: tuple[np.ndarray, int] | None = None
    """World to voxel (4, 4), and voxels along a side of the blocks, for patches."""

    def __post_init__(self):
        self.fine = self._data(self.corners, self.triangles, self.colours)
        self.actor = vtkActor()
        self.mapper = vtkPolyDataMapper()
        self.mapper.SetInputData(self.fine)
        if self.colours is None:
            self.mapper.ScalarVisibilityOff()
        self.actor.SetMapper(self.mapper)
        self.dress(self.finish)

    @property
    def count(self) -> int:
        """Its triangles at rest."""
        return len(self.triangles)

    def dress(self, finish: Finish) -> None:
        """Give it another look."""
        self.finish = finish
        look = self.actor.GetProperty()
        look.SetColor(*finish.ink)
        look.SetOpacity(finish.opacity)
        look.SetAmbient(0.16)
        look.SetDiffuse(0.88)
        look.SetSpecular(0.16 if finish.shiny else 0.0)
        look.SetSpecularPower(24)
        self.actor.SetPosition(*finish.shift)
        self.actor.SetForceTranslucent(finish.opacity < 1)
        self.actor.SetForceOpaque(finish.opacity >= 1)

    def moving(self, on: bool, share: float = 1.0) -> None:
        """Draw fewer triangles, a share of MOVING at most, or all."""
        if on or self.patches:
            if self.coarse is None:
                self.coarse = self._fewer(share)
            self.mapper.SetInputData(self.coarse)
        else:
            self.mapper.SetInputData(self.fine)

    def cut(self, planes: vtkPlaneCollection) -> None:
        """Draw only what lies before planes."""
        self.mapper.SetClippingPlanes(planes)

    def patch(self, blocks: dict[tuple[int, int, int], tuple[np.ndarray, np.ndarray]]) -> None:
        """Other corners and triangles in blocks: what a brush has changed there."""
        if not self.patches:
            self.coarse = self._fewer(self.share)
        self.patches |= blocks
        self.coarse = self._patched()
        self.mapper.SetInputData(self.coarse)

    def hit(self, place: np.ndarray, ahead: np.ndarray, planes: np.ndarray) -> float:
        """How far along a ray it is met first, mm; infinity for never."""
        there = planes.copy()
        there[:, 3] -= planes[:, :3] @ np.array(self.finish.shift)
        return first_hit(self.corners, self.triangles, place - self.finish.shift, ahead, there)

    def _patched(self) -> Any:
        assert self.grid is not None
        to_voxel, side = self.grid
        if self._codes is None:
            data = self._base
            corners = vtk_to_numpy(data.GetPoints().GetData()).astype(float)
            triangles = vtk_to_numpy(data.GetPolys().GetConnectivityArray()).reshape(-1, 3)
            middles = corners[triangles].mean(1) if len(triangles) else np.zeros((0, 3))
            blocks = np.floor((middles @ to_voxel[:3, :3].T + to_voxel[:3, 3] + 0.5) / side).astype(np.int64)
            self._codes = corners, triangles, _code(blocks)
        corners, triangles, codes = self._codes
        changed = np.array(list(self.patches), np.int64).reshape(-1, 3)
        kept = triangles[~np.isin(codes, _code(changed))]
        parts, sides, first = [corners], [kept], len(corners)
        for points, faces in self.patches.values():
            parts.append(points)
            sides.append(faces + first)
            first += len(points)
        return self._data(np.concatenate(parts), np.concatenate(sides).astype(np.int32), None)

    def _fewer(self, share: float) -> Any:
        self._base, self.share, self._codes = self.fine, share, None
        most = max(LEAST, share * MOVING)
        if self.count > 1.3 * most and self.colours is None:
            cells = max(6, round((most / EACH_SIDE) ** 0.5))
            work = vtkQuadricClustering()
            work.SetInputData(self.fine)
            work.AutoAdjustNumberOfDivisionsOn()
            work.SetNumberOfDivisions(cells, cells, cells)
            work.Update()
            across = vtkPolyDataNormals()
            across.SetInputData(work.GetOutput())
            across.SplittingOff()
            across.ConsistencyOff()
            across.Update()
            self._base = across.GetOutput()
        return self._base

    @staticmethod
    def _data(corners: np.ndarray, triangles: np.ndarray, colours: np.ndarray | None) -> Any:
        places = np.ascontiguousarray(corners, np.float32)
        made = poly_data(places, triangles, normals_of(places, np.ascontiguousarray(triangles, np.int32)))
        if colours is not None:
            made.GetPointData().SetScalars(
                numpy_to_vtk(np.ascontiguousarray(colours, np.uint8), deep=True, array_type=VTK_UNSIGNED_CHAR)
            )
        return made


def _code(blocks: np.ndarray) -> np.ndarray:
    return (blocks[:, 0] << 40) + (blocks[:, 1] << 20) + blocks[:, 2]

"""Volumes drawn by a graphics card, through the drawing library, where one answers."""

from __future__ import annotations

from typing import Any

import numpy as np
import vtkmodules.vtkRenderingVolumeOpenGL2  # noqa: F401  (registers the drawing back end of volumes)
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import VTK_UNSIGNED_SHORT
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPiecewiseFunction, vtkPlaneCollection
from vtkmodules.vtkCommonMath import vtkMatrix4x4
from vtkmodules.vtkRenderingCore import vtkColorTransferFunction, vtkVolume, vtkVolumeProperty
from vtkmodules.vtkRenderingVolumeOpenGL2 import vtkOpenGLGPUVolumeRayCastMapper

from .rays import LEVELS
from .volume import Levels
from .volume_look import VolumeLook, table_of

STEP, COARSE = 0.7, 1.6
"""Lengths of a step at rest and while the scene moves, in sides of a voxel."""
EVERY = 8
"""Levels from one point of a function that the card is given to the next."""


class CardVolume:
    """A volume as the library holds it."""

    def __init__(self, levels: Levels, look: VolumeLook, origin: np.ndarray):
        self.levels = levels
        self.prop, self.mapper = vtkVolume(), vtkOpenGLGPUVolumeRayCastMapper()
        grid = vtkImageData()
        grid.SetDimensions(*levels.voxels.shape[::-1])
        values = np.ascontiguousarray(levels.voxels).reshape(-1)
        grid.GetPointData().SetScalars(numpy_to_vtk(values, deep=True, array_type=VTK_UNSIGNED_SHORT))
        self.mapper.SetInputData(grid)
        self.mapper.AutoAdjustSampleDistancesOff()
        self.mapper.SetUseJittering(True)
        matrix, placed = levels.affine.copy(), vtkMatrix4x4()
        matrix[:3, 3] -= origin
        placed.DeepCopy(matrix.ravel().tolist())
        self.prop.SetMapper(self.mapper)
        self.prop.SetUserMatrix(placed)
        self.dress(look)
        self.moving(False)

    def dress(self, look: VolumeLook) -> None:
        """Give it a look."""
        set_way: Any = {
            "shaded": self.mapper.SetBlendModeToComposite,
            "highest": self.mapper.SetBlendModeToMaximumIntensity,
            "lowest": self.mapper.SetBlendModeToMinimumIntensity,
            "mean": self.mapper.SetBlendModeToAverageIntensity,
        }[look.way]
        set_way()
        table = table_of(look, self.levels.low, self.levels.high)
        opacity, colour, given = vtkPiecewiseFunction(), vtkColorTransferFunction(), vtkVolumeProperty()
        opacity.AddPoint(0.0, 0.0)
        opacity.AddPoint(0.999, 0.0)  # what is nothing
        for level in [*range(1, LEVELS, EVERY), LEVELS - 1]:
            red, green, blue, alpha = (float(v) for v in table[level])
            opacity.AddPoint(level, alpha)
            colour.AddRGBPoint(level, red, green, blue)
        given.SetScalarOpacity(opacity)
        given.SetColor(colour)
        given.SetInterpolationTypeToLinear()
        given.SetScalarOpacityUnitDistance(look.length(self.levels.step))
        if look.edges > 0:
            steep = vtkPiecewiseFunction()
            steep.AddPoint(0.0, 1.0 - look.edges)
            steep.AddPoint(0.1 * LEVELS / self.levels.step, 1.0)
            given.SetGradientOpacity(steep)
        if look.lit and look.way == "shaded":
            given.ShadeOn()
            given.SetAmbient(look.glow)
            given.SetDiffuse(1.0 - 0.5 * look.glow)
            given.SetSpecular(0.2)
            given.SetSpecularPower(18.0)
        self.prop.SetProperty(given)

    def moving(self, on: bool) -> None:
        """Draw it more coarsely, or finely."""
        self.mapper.SetSampleDistance(self.levels.step * (COARSE if on else STEP))
        self.mapper.SetImageSampleDistance(2.0 if on else 1.0)

    def cut(self, planes: vtkPlaneCollection) -> None:
        """Draw only what lies before planes."""
        self.mapper.SetClippingPlanes(planes)

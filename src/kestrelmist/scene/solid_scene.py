"""The scene of the Solid view in VTK: label surfaces inside a ghost of the subject's outline."""

from __future__ import annotations

from typing import Any

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the drawing back end)
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import VTK_ID_TYPE, VTK_UNSIGNED_CHAR, vtkObject, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkImageData, vtkPlane, vtkPolyData, vtkStructuredGrid
from vtkmodules.vtkCommonMath import vtkMatrix4x4
from vtkmodules.vtkCommonTransforms import vtkTransform
from vtkmodules.vtkFiltersCore import (
    vtkAppendPolyData,
    vtkFlyingEdges3D,
    vtkPolyDataNormals,
    vtkWindowedSincPolyDataFilter,
)
from vtkmodules.vtkFiltersGeneral import vtkTransformPolyDataFilter
from vtkmodules.vtkFiltersGeometry import vtkStructuredGridGeometryFilter
from vtkmodules.vtkRenderingCore import (
    vtkActor,
    vtkLight,
    vtkPolyDataMapper,
    vtkRenderer,
    vtkRenderWindow,
    vtkWindowToImageFilter,
)


class SolidScene:
    """Surfaces, lights and a camera; draws into a picture, never into a window."""

    def __init__(self):
        vtkObject.GlobalWarningDisplayOff()
        self.renderer = vtkRenderer()
        self.window = vtkRenderWindow()
        self.window.SetOffScreenRendering(1)
        self.window.SetMultiSamples(0)  # multisampling and depth peeling do not go together
        self.window.SetAlphaBitPlanes(1)
        self.window.AddRenderer(self.renderer)
        self.renderer.SetBackground(0.043, 0.063, 0.075)
        self.renderer.SetBackground2(0.13, 0.17, 0.20)
        self.renderer.GradientBackgroundOn()
        self.renderer.SetUseDepthPeeling(1)
        self.renderer.SetMaximumNumberOfPeels(4)
        self.renderer.UseFXAAOn()
        for place, strength in (((-1, 1.2, 2.0), 0.85), ((1.5, -0.5, 0.4), 0.35)):
            light = vtkLight()
            light.SetLightTypeToCameraLight()
            light.SetPosition(place[0], place[2] * 0.5, 1.0)
            light.SetIntensity(strength)
            self.renderer.AddLight(light)
        self.surfaces: dict[Any, vtkActor] = {}
        self.crop: list[vtkPlane] = []

    def set_surface(
        self,
        key: Any,
        values: np.ndarray | None,
        affine: np.ndarray | None,
        colour: tuple,
        opacity: float,
        level: float = 127.5,
        smoothing: int = 18,
        most: float = np.inf,
        faces: np.ndarray | None = None,
        shiny: bool = True,
    ) -> int:
        """Add, replace or (values None) remove a surface; returns its number of triangles.

        Smoothing moves no point by more than `most` cells, so that what is a voxel thick stays there. `faces` are
        further ones, [n, 4, xyz] in the world, drawn as they are.

        The surface is the level set of a field by flying edges (W. Schroeder et al., LDAV 2015), smoothed by a windowed
        sinc filter (G. Taubin et al., ECCV 1996), which keeps volume.
        """
        if key in self.surfaces:
            self.renderer.RemoveActor(self.surfaces.pop(key))
        if values is None or affine is None:
            return 0
        grid = vtkImageData()
        grid.SetDimensions(*values.shape[::-1])
        flat = numpy_to_vtk(np.ascontiguousarray(values).ravel(), deep=True, array_type=VTK_UNSIGNED_CHAR)
        grid.GetPointData().SetScalars(flat)
        edges = vtkFlyingEdges3D()
        edges.SetInputData(grid)
        edges.SetValue(0, level)
        edges.ComputeNormalsOff()
        edges.ComputeGradientsOff()
        smooth = vtkWindowedSincPolyDataFilter()
        smooth.SetInputConnection(edges.GetOutputPort())
        smooth.SetNumberOfIterations(smoothing)
        smooth.SetPassBand(0.12)
        smooth.NormalizeCoordinatesOn()
        matrix = vtkMatrix4x4()
        matrix.DeepCopy(affine.ravel().tolist())
        turn = vtkTransform()
        turn.SetMatrix(matrix)
        smooth.Update()
        surface = _held(edges.GetOutput(), smooth.GetOutput(), most, values > level)
        placed = vtkTransformPolyDataFilter()
        placed.SetInputData(surface)
        placed.SetTransform(turn)
        normals = vtkPolyDataNormals()
        both = vtkAppendPolyData()
        both.AddInputConnection(placed.GetOutputPort())
        if faces is not None and len(faces):
            both.AddInputData(_faces_of(faces))
        normals.SetInputConnection(both.GetOutputPort())
        normals.SplittingOff()
        normals.Update()
        mapper = vtkPolyDataMapper()
        mapper.SetInputData(normals.GetOutput())
        mapper.ScalarVisibilityOff()
        self._cut(mapper)
        actor = vtkActor()
        actor.SetMapper(mapper)
        look = actor.GetProperty()
        look.SetColor(*colour)
        look.SetOpacity(opacity)
        look.SetAmbient(0.12)
        look.SetDiffuse(0.85)
        look.SetSpecular(0.18 if shiny else 0.0)
        look.SetSpecularPower(22)
        self.renderer.AddActor(actor)
        self.surfaces[key] = actor
        return normals.GetOutput().GetNumberOfPolys()

    def set_relief(self, key: Any, heights: np.ndarray, colours: np.ndarray, affine: np.ndarray) -> int:
        """Add or replace the surface of a height map (rows, columns), mm above its plane, each point in its colour
        (rows, columns, 3); returns its number of triangles."""
        if key in self.surfaces:
            self.renderer.RemoveActor(self.surfaces.pop(key))
        rows, columns = heights.shape
        j, i = np.mgrid[0:rows, 0:columns]
        flat = np.stack([i.ravel(), j.ravel(), np.zeros(i.size), np.ones(i.size)])
        places = (affine @ flat)[:3].T
        places[:, 2] += heights.ravel()
        points = vtkPoints()
        points.SetData(numpy_to_vtk(np.ascontiguousarray(places, np.float32), deep=True))
        grid = vtkStructuredGrid()
        grid.SetDimensions(columns, rows, 1)
        grid.SetPoints(points)
        grid.GetPointData().SetScalars(
            numpy_to_vtk(np.ascontiguousarray(colours.reshape(-1, 3)), deep=True, array_type=VTK_UNSIGNED_CHAR)
        )
        surface = vtkStructuredGridGeometryFilter()
        surface.SetInputData(grid)
        normals = vtkPolyDataNormals()
        normals.SetInputConnection(surface.GetOutputPort())
        normals.SplittingOff()
        normals.Update()
        mapper = vtkPolyDataMapper()
        mapper.SetInputData(normals.GetOutput())
        self._cut(mapper)
        actor = vtkActor()
        actor.SetMapper(mapper)
        look = actor.GetProperty()
        look.SetAmbient(0.15)
        look.SetDiffuse(0.85)
        look.SetSpecular(0.12)
        self.renderer.AddActor(actor)
        self.surfaces[key] = actor
        return normals.GetOutput().GetNumberOfPolys()

    def set_crop(self, ends: Any) -> None:
        """Show only what lies between two world positions, mm; all of it when `ends` is None."""
        self.crop = []
        for n, sign in [(n, sign) for n in range(3) for sign in (1, -1)] if ends is not None else []:
            plane = vtkPlane()
            origin = [0.0, 0.0, 0.0]
            origin[n] = float(ends[0 if sign > 0 else 1][n])
            plane.SetOrigin(*origin)
            plane.SetNormal(*(sign * float(m == n) for m in range(3)))
            self.crop.append(plane)
        for actor in self.surfaces.values():
            self._cut(actor.GetMapper())

    def _cut(self, mapper) -> None:
        mapper.RemoveAllClippingPlanes()
        for plane in self.crop:
            mapper.AddClippingPlane(plane)

    def clear(self) -> None:
        for key in list(self.surfaces):
            self.set_surface(key, None, None, (0, 0, 0), 0)

    def bounds(self) -> list[float]:
        return list(self.renderer.ComputeVisiblePropBounds())

    def picture(self, width: int, height: int, turn: float, tilt: float, zoom: float) -> np.ndarray:
        """Draw; returns (height, width, 3) uint8.

        `turn` is the angle around the up axis in degrees (0 looks from the front, the subject's right on the picture's
        left), `tilt` the angle above the horizontal, `zoom` a factor.
        """
        self.window.SetSize(max(width, 16), max(height, 16))
        low_high = self.bounds()
        camera = self.renderer.GetActiveCamera()
        if low_high[0] <= low_high[1]:
            centre = [(low_high[n] + low_high[n + 1]) / 2 for n in (0, 2, 4)]
            size = max(1e-6, float(np.linalg.norm([low_high[n + 1] - low_high[n] for n in (0, 2, 4)])))
            a, b = np.radians(turn), np.radians(tilt)
            away = np.array([np.sin(a) * np.cos(b), np.cos(a) * np.cos(b), np.sin(b)]) * size * 1.55 / zoom
            camera.SetFocalPoint(*centre)
            camera.SetPosition(*(np.array(centre) + away))
            camera.SetViewUp(0, 0, 1)
            camera.SetViewAngle(36)
            self.renderer.ResetCameraClippingRange()
        self.window.Render()
        grab = vtkWindowToImageFilter()
        grab.SetInput(self.window)
        grab.ReadFrontBufferOff()
        grab.Update()
        image = grab.GetOutput()
        columns, rows, _ = image.GetDimensions()
        return vtk_to_numpy(image.GetPointData().GetScalars()).reshape(rows, columns, 3)[::-1]


def _held(raw: vtkPolyData, smooth: vtkPolyData, most: float, within: np.ndarray) -> vtkPolyData:
    """The smooth surface, no point of it further than `most` from where it was; twice as far where what is within is
    two cells thick in every direction, which steps show on and nothing can vanish from."""
    if not np.isfinite(most) or raw.GetNumberOfPoints() != smooth.GetNumberOfPoints() or not raw.GetNumberOfPoints():
        return smooth
    at, to = (vtk_to_numpy(one.GetPoints().GetData()).astype(float) for one in (raw, smooth))
    thick = _thick(within)
    ends = np.floor(at), np.ceil(at)  # a point lies between two cells, one of them within
    beside = [thick[tuple(end[:, ::-1].astype(int).T)] for end in ends]
    reach = np.where(beside[0] | beside[1], 2 * most, most)[:, None]
    moved = to - at
    far = np.linalg.norm(moved, axis=1, keepdims=True)
    points = vtkPoints()
    held = at + moved * np.minimum(1, reach / np.maximum(far, 1e-9))
    points.SetData(numpy_to_vtk(held.astype(np.float32), deep=True))
    smooth.SetPoints(points)
    return smooth


def _thick(within: np.ndarray) -> np.ndarray:
    """Cells that are part of a block of two by two by two."""
    ahead, behind = slice(1, None), slice(None, -1)
    places = [(k, j, i) for k in (ahead, behind) for j in (ahead, behind) for i in (ahead, behind)]
    blocks = np.logical_and.reduce([within[place] for place in places])
    found = np.zeros_like(within)
    for place in places:
        found[place] |= blocks
    return found


def _faces_of(faces: np.ndarray) -> vtkPolyData:
    points, cells, made = vtkPoints(), vtkCellArray(), vtkPolyData()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(faces.reshape(-1, 3), np.float32), deep=True))
    corners = np.arange(4 * len(faces), dtype=np.int64)
    cells.SetData(
        numpy_to_vtk(np.arange(0, 4 * len(faces) + 1, 4, dtype=np.int64), deep=True, array_type=VTK_ID_TYPE),
        numpy_to_vtk(corners, deep=True, array_type=VTK_ID_TYPE),
    )
    made.SetPoints(points)
    made.SetPolys(cells)
    return made

"""A solid scene as it is drawn: surfaces, lines, pictures by the drawing library, volumes by rays, in one picture."""

from __future__ import annotations

import os
import time
from typing import Any

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the drawing back end)
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkObject, vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPlaneCollection
from vtkmodules.vtkRenderingCore import vtkLight, vtkProp, vtkRenderer, vtkRenderWindow

from .cast_volumes import FINENESS, TURNING, Bundle, Quality
from .eye import Camera, Eye, Frame, around
from .flat import lines_of, picture_of
from .meshes import Finish, Mesh
from .rays import NONE
from .volume import DrawnVolume, Levels, coarser
from .volume_look import VolumeLook

TILE = 2048
"""Pixels along a side that are drawn at a time: a large picture is put together."""
NIGHT = ((0.043, 0.063, 0.075), (0.13, 0.17, 0.20))
PEELS = 6
LIGHTS = (((-0.6, 0.7, 1.0), 0.95), ((0.8, -0.2, 0.8), 0.35), ((0.0, -1.0, 0.3), 0.15))
"""Where lights stand beside the eye, and how strong they are."""
SLOW, QUICK = 0.06, 0.02
"""Seconds of a picture of a scene that moves above which the next one is coarser, and below which finer."""
COARSEST = {"quick": 6, "usual": 4, "finest": 2}
"""By the quality that is asked for: how many columns and rows one stands for at most while the scene moves."""
SOFTWARE = ("llvmpipe", "softpipe", "swrast", "swr", "software")
"""Words in the names of what draws without a graphics card."""
SEEN = 0.3
"""Opacity from which on a surface is met by a click before what lies behind it."""


class SolidScene:
    """What is drawn, and from where; it draws into a picture, never into a window."""

    def __init__(self):
        vtkObject.GlobalWarningDisplayOff()
        self.renderer = vtkRenderer()
        self.window = vtkRenderWindow()
        self.window.SetOffScreenRendering(1)
        self.window.SetMultiSamples(0)  # multisampling and depth peeling do not go together
        self.window.SetAlphaBitPlanes(1)
        self.window.AddRenderer(self.renderer)
        self.renderer.SetMaximumNumberOfPeels(PEELS)
        self.renderer.SetOcclusionRatio(0.002)
        self.renderer.UseFXAAOn()
        self.renderer.SetLightFollowCamera(True)
        self.renderer.AutomaticLightCreationOff()
        for place, strength in LIGHTS:
            light = vtkLight()
            light.SetLightTypeToCameraLight()
            light.SetPosition(*place)
            light.SetIntensity(strength)
            self.renderer.AddLight(light)
        self.meshes: dict[Any, Mesh] = {}
        self.flat: dict[Any, vtkProp] = {}
        self.volumes: dict[Any, tuple[DrawnVolume, DrawnVolume]] = {}
        self.planes = np.zeros((0, 4))
        self.origin = np.zeros(3)
        """What world positions are less of in the drawing library, whose numbers are single ones."""
        self._bundles: dict[bool, Bundle] = {}
        self._drawn_by: str | None = None
        self.quality = "usual"
        """Of pictures at rest; a quick one may be coarser while the scene moves too, and the finest one finer."""
        self.coarseness = 2
        """Columns and rows that one of a picture stands for while the scene moves."""
        self.on_card: dict[Any, Any] = {}
        """Volumes as a graphics card draws them; none where the processor does."""

    # what is in it

    def set_mesh(
        self,
        key: Any,
        corners: np.ndarray,
        triangles: np.ndarray,
        finish: tuple,
        grid: tuple[np.ndarray, int] | None = None,
        colours: np.ndarray | None = None,
    ) -> int:
        """Add or replace a surface; returns its number of triangles.

        Parameters
        ----------
        corners : array (n, 3)
            World positions.
        finish : (ink, opacity, shiny)
        grid : (world to voxel (4, 4), voxels along a side), optional
            Of the blocks that may be patched.
        colours : uint8 array (n, 3), optional
        """
        self.drop(key)
        if not (self.meshes or self.volumes or self.flat):
            self.origin = np.round(corners.mean(0), 3) if len(corners) else np.zeros(3)
        if grid is not None:
            to_voxel = grid[0].copy()
            to_voxel[:3, 3] += to_voxel[:3, :3] @ self.origin
            grid = (to_voxel, grid[1])
        mesh = Mesh(corners - self.origin, np.ascontiguousarray(triangles, np.int32), Finish(*finish), colours)
        mesh.grid = grid
        self.meshes[key] = mesh
        self._cut(mesh)
        self.renderer.AddActor(mesh.actor)
        return mesh.count

    def patch_mesh(self, key: Any, blocks: dict[tuple[int, int, int], tuple[np.ndarray, np.ndarray]]) -> int:
        """What a brush has changed of a surface: corners and triangles in blocks of its grid; returns the number of
        triangles that are drawn."""
        if key not in self.meshes:
            return 0
        mesh = self.meshes[key]
        mesh.patch({b: (c - self.origin, t) for b, (c, t) in blocks.items()})
        return mesh.coarse.GetNumberOfPolys()

    @property
    def drawn_by(self) -> str:
        """What draws: the graphics card by its name, or "" for the processor. The variable KESTRELMIST_DRAW says
        “card” or “processor” to those who know better."""
        if self._drawn_by is None:
            wanted = os.environ.get("KESTRELMIST_DRAW", "")
            told = self.window.ReportCapabilities() or ""
            name = next((line.partition(":")[2].strip() for line in told.splitlines() if "renderer string" in line), "")
            software = any(word in name.lower() for word in SOFTWARE) or not name
            self._drawn_by = "" if wanted == "processor" or (software and wanted != "card") else name or "card"
        return self._drawn_by

    def dress(self, key: Any, finish: tuple) -> None:
        """Another look for a surface."""
        if key in self.meshes:
            self.meshes[key].dress(Finish(*finish))

    def set_volume(self, key: Any, levels: Levels, look: VolumeLook) -> None:
        """Add or replace a volume."""
        self.drop(key)
        self.volumes[key] = (DrawnVolume(levels, look), DrawnVolume(coarser(levels), look))
        if self.drawn_by:
            from .card import CardVolume  # what only a graphics card needs is not loaded without

            one = self.on_card[key] = CardVolume(levels, look, self.origin)
            one.cut(self._collected())
            self.renderer.AddVolume(one.prop)

    def set_look(self, key: Any, look: VolumeLook) -> None:
        """Another look for a volume."""
        if key in self.volumes:
            for one in self.volumes[key]:
                one.look = look
            if key in self.on_card:
                self.on_card[key].dress(look)
            self._bundles.clear()

    def set_lines(self, key: Any, lines: list[tuple[np.ndarray, tuple, float]], points: list) -> None:
        """Add or replace lines, (places (n, 3), ink, width), and points, (place (3,), ink, width)."""
        self.drop(key)
        self._add_flat(key, lines_of(lines, points, self.origin))

    def set_picture(self, key: Any, pixels: np.ndarray, corners: np.ndarray, opacity: float) -> None:
        """Add or replace a picture in space: packed colours (rows, columns), and the world positions (3, 3) of its
        upper left, upper right and lower left corner."""
        self.drop(key)
        self._add_flat(key, picture_of(pixels, np.asarray(corners) - self.origin, opacity))

    def _add_flat(self, key: Any, prop: vtkProp) -> None:
        self.flat[key] = prop
        self.renderer.AddViewProp(prop)

    def drop(self, key: Any) -> None:
        """Take something out."""
        if key in self.meshes:
            self.renderer.RemoveActor(self.meshes.pop(key).actor)
        if key in self.flat:
            self.renderer.RemoveViewProp(self.flat.pop(key))
        if key in self.on_card:
            self.renderer.RemoveVolume(self.on_card.pop(key).prop)
        if self.volumes.pop(key, None) is not None:
            self._bundles.clear()

    def clear(self) -> None:
        """Take everything out."""
        for key in [*self.meshes, *self.flat, *self.volumes]:
            self.drop(key)

    def set_planes(self, planes: np.ndarray) -> None:
        """Draw only what has n·p ≥ d for each (n, d) of float64 (n, 4)."""
        self.planes = np.asarray(planes, float).reshape(-1, 4)
        for mesh in self.meshes.values():
            self._cut(mesh)
        for volume in self.on_card.values():
            volume.cut(self._collected())

    def _cut(self, mesh: Mesh) -> None:
        mesh.cut(self._collected())

    def _collected(self) -> vtkPlaneCollection:
        several = vtkPlaneCollection()
        for x, y, z, d in self.planes.tolist():  # of directions of length 1
            plane, across = vtkPlane(), np.array((x, y, z))
            plane.SetNormal(x, y, z)
            plane.SetOrigin(*(across * d - self.origin))
            several.AddItem(plane)
        return several

    # how it is seen

    def frame(self) -> Frame:
        """The ball that holds what there is."""
        places = [m.corners + self.origin + m.finish.shift for m in self.meshes.values() if len(m.corners)]
        places += [found for fine, _ in self.volumes.values() if len(found := fine.places())]
        for prop in self.flat.values() if not places else ():
            low, high = np.array(prop.GetBounds()).reshape(3, 2).T + self.origin
            places.append(np.stack((low, high)))
        return around(places)

    def eye(self, camera: Camera, width: int, height: int, frame: Frame | None = None) -> Eye:
        """What a camera sees on a picture of so many pixels; `frame` is what it looks at, all when left out."""
        return Eye(camera, frame or self.frame(), max(width, 16), max(height, 16))

    def picture(self, eye: Eye, moving: bool = False, clear: bool = False) -> np.ndarray:
        """Draw: uint8 (height, width, 4), premultiplied by opacity, which is 255 unless the ground is clear.

        Without a graphics card a picture of a scene that moves has a half, a third or a quarter as many columns and
        rows, so that it follows the hand.
        """
        started = time.perf_counter()
        if moving and not self.drawn_by:
            eye = eye.resized(eye.width // self.coarseness, eye.height // self.coarseness)
        (self.renderer.UseFXAAOff if moving else self.renderer.UseFXAAOn)()
        whole = np.empty((eye.height, eye.width, 4), np.uint8)
        for top in range(0, eye.height, TILE):
            for left in range(0, eye.width, TILE):
                part = (left, top, min(TILE, eye.width - left), min(TILE, eye.height - top))
                whole[top : top + part[3], left : left + part[2]] = self._tile(eye, part, moving, clear)
        took = time.perf_counter() - started
        if moving and took > SLOW:
            self.coarseness = min(COARSEST[self.quality], self.coarseness + 1)
        elif moving and took < QUICK:
            self.coarseness = max(1 if self.quality == "finest" else 2, self.coarseness - 1)
        return whole

    def _tile(self, eye: Eye, part: tuple[int, int, int, int], moving: bool, clear: bool) -> np.ndarray:
        _, top, width, height = part
        peeled = any(m.finish.opacity < 1 for m in self.meshes.values()) and not moving
        self.renderer.SetUseDepthPeeling(int(peeled))
        count = sum(mesh.count for mesh in self.meshes.values())
        for mesh in self.meshes.values():
            mesh.moving(moving and not self.drawn_by, mesh.count / max(1, count))
        for volume in self.on_card.values():
            volume.moving(moving)
        ground = np.zeros((height, 4), np.float32)
        if not clear:
            share = 1 - (top + np.arange(height)[:, None] + 0.5) / eye.height
            ground[:, :3] = np.array(NIGHT[0]) * (1 - share) + np.array(NIGHT[1]) * share
            ground[:, 3] = 1
        drawn = bool(self.meshes or self.flat or self.on_card)
        solid: np.ndarray = np.zeros((height, width, 4), np.float32)
        if drawn:
            solid = self._library(eye, part).astype(np.float32) / 255
        colours = solid + (1 - solid[..., 3:]) * ground[:, None, :]
        if self.volumes and not self.on_card:
            quality = TURNING if moving else FINENESS[self.quality]
            backs = self._backs(eye, part) if drawn else None
            light, _ = self._bundle(moving).cast(eye, quality, self.planes, backs, part)
            colours = light + (1 - light[..., 3:]) * colours
        return (np.clip(colours, 0, 1) * 255 + 0.5).astype(np.uint8)

    def _bundle(self, moving: bool) -> Bundle:
        if moving not in self._bundles:
            self._bundles[moving] = Bundle([pair[int(moving)] for pair in self.volumes.values()])
        return self._bundles[moving]

    def _look_from(self, eye: Eye, part: tuple[int, int, int, int]) -> None:
        left, top, width, height = part
        camera = self.renderer.GetActiveCamera()
        _, up, _ = eye.axes
        camera.SetFocalPoint(*(eye.middle - self.origin))
        camera.SetPosition(*(eye.place - self.origin))
        camera.SetViewUp(*up)
        camera.SetParallelProjection(eye.camera.parallel)
        half = eye.half * height / eye.height
        camera.SetParallelScale(half)
        camera.SetViewAngle(float(np.degrees(2 * np.arctan(half / eye.distance))))
        across = (left + width / 2 - eye.width / 2) / (width / 2)
        upward = (eye.height / 2 - top - height / 2) / (height / 2)
        camera.SetWindowCenter(across, upward)
        self.renderer.ResetCameraClippingRange()

    def _library(self, eye: Eye, part: tuple[int, int, int, int]) -> np.ndarray:
        """What the drawing library draws of a part of the picture: premultiplied uint8 (height, width, 4)."""
        self.window.SetSize(part[2], part[3])
        self.renderer.SetBackground(0, 0, 0)
        self.renderer.SetBackgroundAlpha(0.0)
        self._look_from(eye, part)
        self.window.Render()
        pixels = vtkUnsignedCharArray()
        self.window.GetRGBACharPixelData(0, 0, part[2] - 1, part[3] - 1, 0, pixels, 0)
        return vtk_to_numpy(pixels).reshape(part[3], part[2], 4)[::-1]

    def _backs(self, eye: Eye, part: tuple[int, int, int, int]) -> np.ndarray:
        """How far along each ray what is opaque stands, mm."""
        hidden = [m.actor for m in self.meshes.values() if m.finish.opacity < 1]
        for actor in hidden:
            actor.VisibilityOff()
        if hidden:
            self.renderer.SetUseDepthPeeling(0)
            self.window.Render()
        from vtkmodules.vtkCommonCore import vtkFloatArray

        values = vtkFloatArray()
        self.window.GetZbufferData(0, 0, part[2] - 1, part[3] - 1, values)
        for actor in hidden:
            actor.VisibilityOn()
        z = vtk_to_numpy(values).reshape(part[3], part[2])[::-1].astype(float)
        near, far = self.renderer.GetActiveCamera().GetClippingRange()
        if eye.camera.parallel:
            away = near + z * (far - near)
        else:
            away = near * far / (far - z * (far - near))
            x = (part[0] + np.arange(z.shape[1]) + 0.5 - eye.width / 2) * eye.pixel
            y = (part[1] + np.arange(z.shape[0]) + 0.5 - eye.height / 2) * eye.pixel
            away = away * np.sqrt(1 + (x[None, :] ** 2 + y[:, None] ** 2) / eye.distance**2)
        return np.where(z >= 1, NONE, away).astype(np.float32)

    # what is met

    def place_at(self, eye: Eye, x: float, y: float) -> np.ndarray | None:
        """The world position of what is seen at a place of the picture: of a surface, or the visible part of a volume;
        None where there is only ground."""
        place, ahead = eye.ray(x, y)
        planes = self.planes.copy()
        planes[:, 3] -= planes[:, :3] @ self.origin
        found = {True: np.inf, False: np.inf}
        for mesh in self.meshes.values():
            met = mesh.hit(place - self.origin, ahead, planes)
            plain = mesh.finish.opacity >= SEEN
            found[plain] = min(found[plain], met)
        if self.volumes:
            tiny = (int(np.floor(x)), int(np.floor(y)), 1, 1)
            backs = np.full((1, 1), min(found[True], NONE), np.float32)
            _, reached = self._bundle(False).cast(eye, Quality(0.25), self.planes, backs, tiny)
            found[True] = min(found[True], float(reached[0, 0]) if reached[0, 0] < 0.9 * NONE else np.inf)
        met = found[True] if np.isfinite(found[True]) else found[False]
        return None if not np.isfinite(met) else place + met * ahead

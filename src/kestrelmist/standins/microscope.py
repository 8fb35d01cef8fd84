"""A camera on a simulated microscope: objectives whose true magnification is a few percent off what is engraved, a
stage with a ruler or a section of brown fat on it, focus, exposure and noise."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from scipy import ndimage

from ..core.calibration import Setup
from ..core.camera import CAMERAS, Camera, CameraKind, CameraSettings
from ..core.errors import Trouble
from ..demo.stage_ruler import ruler_picture
from ..demo.stained import stained

CAMERA_PIXEL, COLUMNS, ROWS = 0.00345, 1280, 960
"""Side of a pixel of its chip, mm, and how many there are."""
USUAL = 20.0
"""ms that light a picture well."""
FULL = 9000.0
"""Electrons of a white pixel, which tell the noise."""
FRAMES = 4
"""Pictures of noise that are kept, and shifted about for each frame."""


@dataclass(frozen=True)
class Objective:
    """What is engraved, what it truly magnifies, its aperture, and what lies before it."""

    nominal: float
    true: float
    aperture: float
    immersion: str = "air"


OBJECTIVES = {
    "4x": Objective(4, 4.087, 0.10),
    "10x": Objective(10, 10.31, 0.25),
    "20x": Objective(20, 19.56, 0.45),
    "40x": Objective(40, 41.22, 0.75),
    "100x": Objective(100, 97.35, 1.30, "oil"),
}
RULER, SECTION = "stage ruler", "brown fat"
RESOLUTIONS = {f"{COLUMNS} × {ROWS}": 1, f"{COLUMNS // 2} × {ROWS // 2}": 2}
"""Pixels of the chip along a side of one of the picture."""
TURN, BEST_FOCUS = 0.018, {RULER: 3.0, SECTION: -2.0}
"""Of the ruler on the stage, radians; and where each specimen is sharp, µm."""
TILE, TILE_PIXEL, MEETS = 1200, 0.00025, 48
"""Pixels and mm of the piece of section that comes again over the stage, and pixels over which its borders meet."""


class Microscope:
    """The camera; see `core.camera.Camera`."""

    objectives: tuple[str, ...] = tuple(OBJECTIVES)
    resolutions: tuple[str, ...] = tuple(RESOLUTIONS)
    specimens: tuple[str, ...] = (RULER, SECTION)

    def __init__(self, seed: int | None = None):
        """`seed` tells its noise; another one each time when left out."""
        self._settings = CameraSettings(self.objectives[1], self.resolutions[0], RULER)
        self._shown: tuple[CameraSettings, np.ndarray] | None = None
        self._taken = int.from_bytes(os.urandom(4)) if seed is None else seed
        self._noise: dict[tuple[int, int], list[np.ndarray]] = {}

    @property
    def settings(self) -> CameraSettings:
        return self._settings

    @property
    def setup(self) -> Setup:
        objective = OBJECTIVES[self._settings.objective]
        binning = RESOLUTIONS[self._settings.resolution]
        return Setup(self._settings.objective, "stand-in", immersion=objective.immersion, nominal=objective.nominal,
                     camera_pixel=CAMERA_PIXEL, binning=float(binning))  # fmt: skip

    @property
    def true_pixel(self) -> float:
        """Side of a pixel of its pictures on the specimen, mm: what a calibration is to find."""
        return CAMERA_PIXEL * RESOLUTIONS[self._settings.resolution] / OBJECTIVES[self._settings.objective].true

    def set(self, settings: CameraSettings) -> None:
        """Set it; what is left out stays. Raises Trouble for what it does not offer."""
        chosen = {}
        for name, offered in (("objective", self.objectives), ("resolution", self.resolutions),
                              ("specimen", self.specimens)):  # fmt: skip
            wanted = getattr(settings, name) or getattr(self._settings, name)
            if wanted not in offered:
                raise Trouble(f"This camera has no {name} “{wanted[:40]}”", f"it has {', '.join(offered)}")
            chosen[name] = wanted
        if not 0.05 <= settings.exposure <= 10_000:
            raise Trouble(f"An exposure of {settings.exposure:g} ms cannot be set", "give 0.05 to 10000 ms")
        self._settings = replace(settings, **chosen)

    def picture(self) -> np.ndarray:
        """One picture, uint8 (rows, columns, 3)."""
        started = time.monotonic()
        light = self._light()
        share = self._settings.exposure / USUAL
        self._taken += 1
        noise = self._grain(light.shape[:2])
        seen = light * np.float32(share)
        # shot noise grows with the root of the light
        seen += noise * (np.sqrt(np.maximum(seen, 0)) * np.float32(np.sqrt(255 / FULL) * 1.4) + np.float32(0.6))
        made = np.clip(seen, 0, 255, out=seen).astype(np.uint8)
        left = self._settings.exposure / 1000 - (time.monotonic() - started)
        if left > 0:
            time.sleep(left)
        return made

    def close(self) -> None:
        """Nothing is held."""
        self._shown = None

    def _grain(self, shape: tuple[int, int]) -> np.ndarray:
        """Noise of standard deviation 1, another for each picture, (rows, columns, 1)."""
        if shape not in self._noise:
            rng = np.random.default_rng(23)
            self._noise = {shape: [rng.standard_normal(shape).astype(np.float32) for _ in range(FRAMES)]}
        rng = np.random.default_rng([29, self._taken])
        one = self._noise[shape][self._taken % FRAMES]
        rolled = np.roll(one, (int(rng.integers(shape[0])), int(rng.integers(shape[1]))), (0, 1))
        return (rolled if rng.random() < 0.5 else -rolled)[..., None]

    def _light(self) -> np.ndarray:
        """What the specimen lets through as it is set now, 0 to 255, float32; kept until something is set."""
        key = replace(self._settings, exposure=USUAL)
        if self._shown is not None and self._shown[0] == key:
            return self._shown[1]
        pixel, binning = self.true_pixel, RESOLUTIONS[key.resolution]
        size = COLUMNS // binning, ROWS // binning
        objective = OBJECTIVES[key.objective]
        out = abs(key.focus - BEST_FOCUS[key.specimen]) / 1000 * objective.aperture
        blur = float(np.hypot(0.00021 / objective.aperture, 0.4 * out)) / pixel  # mm of diffraction and of focus
        if key.specimen == RULER:
            grey = ruler_picture(pixel, size=size, middle=(key.x, key.y), turn=TURN, blur=max(0.5, blur), noise=0.0)
            light = np.repeat(grey.astype(np.float32)[..., None], 3, 2)
        else:
            light = _section(pixel, size, (key.x, key.y))
            light = ndimage.gaussian_filter(light, (max(blur, 0.3), max(blur, 0.3), 0))
        self._shown = key, light
        return light


@lru_cache(maxsize=1)
def _tile() -> np.ndarray:
    """A piece of section, float32 (rows, columns, 3), whose opposite borders go over into one another."""
    made = stained(11, TILE).colours[:, TILE // 3 :].astype(np.float32)  # without the glass beside it
    for axis in (0, 1):
        made = np.moveaxis(made, axis, 0)
        share = np.linspace(0, 1, MEETS, dtype=np.float32)[:, None, None]
        made[:MEETS] = made[:MEETS] * share + made[-MEETS:] * (1 - share)
        made = np.moveaxis(made[:-MEETS], 0, axis)
    return np.ascontiguousarray(made)


@lru_cache(maxsize=8)
def _coarser(times: int) -> np.ndarray:
    tile = _tile()
    rows, columns = (n // times for n in tile.shape[:2])
    return tile[: rows * times, : columns * times].reshape(rows, times, columns, times, 3).mean((1, 3))


def _section(pixel: float, size: tuple[int, int], middle: tuple[float, float]) -> np.ndarray:
    """The section under the camera, between its pixels linearly."""
    times = max(1, int(pixel / TILE_PIXEL))
    tile, step = _coarser(times), pixel / (TILE_PIXEL * times)
    columns, rows = size
    at = []
    for count, place, whole in ((rows, middle[1], tile.shape[0]), (columns, middle[0], tile.shape[1])):
        along = (np.arange(count) - (count - 1) / 2) * step + place / (TILE_PIXEL * times)
        low = np.floor(along)
        at.append(((low % whole).astype(int), ((low + 1) % whole).astype(int), (along - low).astype(np.float32)))
    (r0, r1, v), (c0, c1, u) = at
    v, u = v[:, None, None], u[None, :, None]
    upper = tile[r0][:, c0] * (1 - u) + tile[r0][:, c1] * u
    lower = tile[r1][:, c0] * (1 - u) + tile[r1][:, c1] * u
    return (upper * (1 - v) + lower * v).astype(np.float32)


def _open() -> Camera:
    return Microscope()


CAMERAS.add("stand-in", CameraKind("stand-in", "Stand-in on a simulated microscope", _open))

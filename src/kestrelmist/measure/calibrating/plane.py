"""The plane of pixels that is calibrated: positions in it as columns and rows, and its values piece by piece."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.space import Space

EDGE = 0.5


@dataclass(frozen=True)
class PixelPlane:
    """The plane of columns and rows of an image at one slice. Positions (u, v) in it are columns and rows, from the
    middle of the first pixel on."""

    image: Image
    slice: int = 0

    @classmethod
    def at(cls, image: Image, *places) -> PixelPlane:
        """The plane that world positions lie in; raises Trouble when they lie in none of the image, or in two."""
        grey = image.frame().grey()
        voxels = grey.space.to_voxel(np.array(places, float).reshape(-1, 3))
        if grey.space.shape[2] == 1:
            return cls(grey, 0)
        slices = np.unique(np.rint(voxels[:, 2]).astype(int))
        if len(slices) > 1:
            raise Trouble("This line runs through several slices", "draw it within one, along columns and rows")
        if not 0 <= slices[0] < grey.space.shape[2]:
            raise Trouble(f"The line lies outside “{image.name}”", "draw it over the image")
        return cls(grey, int(slices[0]))

    @property
    def size(self) -> tuple[int, int]:
        """Columns and rows."""
        return self.image.space.shape[0], self.image.space.shape[1]

    @property
    def aspect(self) -> float:
        """How much longer a pixel is down than across, as the image has it."""
        return self.image.space.spacing[1] / self.image.space.spacing[0]

    def pixels(self, place) -> np.ndarray:
        """Columns and rows of a world position; raises Trouble outside the image."""
        u, v = self.image.space.to_voxel(np.asarray(place, float))[:2]
        columns, rows = self.size
        if not (-1 <= u <= columns and -1 <= v <= rows):
            raise Trouble(f"The line lies outside “{self.image.name}”", "draw it over the image")
        return np.array((u, v))

    def world(self, place) -> np.ndarray:
        """World position of columns and rows."""
        return self.image.space.to_world((*map(float, place), self.slice))

    def values(self, low, high) -> tuple[np.ndarray, int, int]:
        """Values [row, column] (float64) of a part from column and row `low` to before `high`, cut to the image, and
        its first column and row."""
        columns, rows = self.size
        u0, v0 = (max(0, int(n)) for n in low)
        u1, v1 = min(columns, int(high[0])), min(rows, int(high[1]))
        if u1 <= u0 or v1 <= v0:
            return np.zeros((0, 0)), u0, v0
        image = self.image
        if image.part is not None and not image.in_memory and image.space.shape[2] == 1:
            part = np.asarray(image.part((), (u0, u1, v0, v1)))
            return part.reshape(u1 - u0, v1 - v0).T.astype(float), u0, v0
        return image.kji[self.slice, v0:v1, u0:u1].astype(float), u0, v0

    def whole(self) -> np.ndarray:
        """All its values [row, column], as they are stored."""
        return self.image.kji[self.slice]


def require_pixels(space: Space) -> None:
    """Raises Trouble of an image that has no plane of columns and rows."""
    if space.shape[0] < 2 or space.shape[1] < 2:
        raise Trouble("This image has no plane of pixels to measure in", "choose a picture, or an image with slices")

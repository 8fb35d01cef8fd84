"""A slice of an image as a page of its own pixels, and what is drawn over it as a picture with transparency."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from ..core.space import Space
from ..core.values import colour_channels
from ..scene.colours import colour_table
from ..scene.first_look import first_look


@dataclass(frozen=True)
class GridPage:
    """Slice `k` of a grid: columns and rows as they are stored, `scale` pixels a page unit. It answers as a view does
    to what draws marks."""

    space: Space
    k: int = 0
    scale: float = 1.0
    margin: int = 0
    """Pixels that are put on round the slice."""

    @property
    def size(self) -> tuple[int, int]:
        """Columns and rows of the page, in pixels."""
        columns, rows, _ = self.space.shape
        return columns + 2 * self.margin, rows + 2 * self.margin

    @property
    def width(self) -> float:
        """Page units."""
        return self.size[0] / self.scale

    @property
    def height(self) -> float:
        """Page units."""
        return self.size[1] / self.scale

    @property
    def centre(self) -> tuple[float, float, float]:
        """World position of its middle."""
        columns, rows, _ = self.space.shape
        x, y, z = self.space.to_world(((columns - 1) / 2, (rows - 1) / 2, self.k))
        return float(x), float(y), float(z)

    @property
    def normal(self) -> np.ndarray:
        """Direction across it."""
        return self.space.across(2)

    @property
    def pixel(self) -> float:
        """Length of a page unit along columns."""
        return self.space.spacing[0] * self.scale

    def to_page(self, world) -> np.ndarray:
        """Page positions (n, 2) of world positions (n, 3), or of one."""
        voxel = self.space.to_voxel(np.asarray(world, float))[..., :2]
        return (voxel + 0.5 + self.margin) / self.scale

    def to_world(self, x: float, y: float) -> np.ndarray:
        """World position of a page position."""
        u, v = np.array((x, y)) * self.scale - 0.5 - self.margin
        return self.space.to_world((u, v, self.k))


def burned(shown: np.ndarray, drawn: np.ndarray) -> np.ndarray:
    """Colours (rows, columns, 3) with a drawing (rows, columns, 4) over them, uint8."""
    share = drawn[..., 3:].astype(np.float32) / 255
    return np.rint(shown * (1 - share) + drawn[..., :3] * share).astype(np.uint8)


def shown_colours(image: Image, k: int = 0) -> np.ndarray:
    """A slice in the colours of its first look, uint8 (rows, columns, 3)."""
    values = image.kji[k]
    if image.colour:
        return np.ascontiguousarray(colour_channels(values))
    look = first_look(image)
    table = np.ascontiguousarray(colour_channels(colour_table(look.colour_map)))
    with np.errstate(invalid="ignore"):
        at = np.nan_to_num((values - np.float32(look.low)) / np.float32(max(look.high - look.low, 1e-30)) * 255)
    return table[np.clip(np.rint(at), 0, 255).astype(np.uint8)]

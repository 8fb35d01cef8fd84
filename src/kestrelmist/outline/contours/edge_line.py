"""The edge-following line: between two places it runs where the image changes most.

After E. N. Mortensen and W. A. Barrett, Intelligent scissors for image composition, SIGGRAPH 1995: a pixel costs the
less the steeper the image is there and the nearer to where its slope is greatest; the line is the cheapest way.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.filled import plane_of
from ...core.geometry.thinned import thinned
from ...core.image import Image

REACH = 220
"""Pixels to each side of a place within which its ways are known."""
BLUR = 1.0
"""Pixels over which slopes are taken."""
DEAR = 0.012
"""What a pixel costs at least, so that of two ways along one edge the shorter is taken."""


@dataclass
class Tile:
    """A piece of a plane seen from above: values at points `corner` + column · right + row · down.

    `right` and `down` are steps from pixel to pixel, world vectors.
    """

    values: np.ndarray
    corner: np.ndarray
    right: np.ndarray
    down: np.ndarray
    _costs: np.ndarray | None = field(default=None, repr=False)

    @property
    def costs(self) -> np.ndarray:
        """What each pixel costs, 0 to 1."""
        if self._costs is None:
            self._costs = costs_of(self.values)
        return self._costs

    def pixel(self, world) -> tuple[int, int]:
        """Row and column of a place, within the tile."""
        away = np.asarray(world, float) - self.corner
        x = float(away @ self.right) / float(self.right @ self.right)
        y = float(away @ self.down) / float(self.down @ self.down)
        rows, columns = self.values.shape
        return int(np.clip(round(y), 0, rows - 1)), int(np.clip(round(x), 0, columns - 1))

    def world(self, pixels: np.ndarray) -> np.ndarray:
        """Places of rows and columns (n, 2)."""
        return self.corner + pixels[:, 1:] * self.right + pixels[:, :1] * self.down


def costs_of(values: np.ndarray) -> np.ndarray:
    """What a line pays for each pixel: little on edges."""
    from scipy import ndimage

    known = np.isfinite(values)
    soft = ndimage.gaussian_filter(np.where(known, values, values[known].mean() if known.any() else 0.0), BLUR)
    across, down = ndimage.sobel(soft, 1), ndimage.sobel(soft, 0)
    slope = np.hypot(across, down)
    most = float(np.quantile(slope, 0.995))
    steep = np.clip(slope / most, 0, 1) if most > 0 else np.zeros_like(slope)
    # ridges of the slope: no steeper pixel across the edge
    unit = np.stack((down, across)) / np.maximum(slope, 1e-30)
    rows, columns = np.indices(slope.shape, np.float32)
    beside = [
        ndimage.map_coordinates(slope, (rows + s * unit[0], columns + s * unit[1]), order=1, mode="nearest")
        for s in (-1, 1)
    ]
    ridge = (slope >= beside[0]) & (slope >= beside[1]) & (slope > 0)
    return (0.55 * (1 - steep) + 0.45 * (1 - ridge * np.sqrt(steep))).astype(np.float32)


class EdgeLine:
    """The cheapest ways from one place to all others of a tile."""

    def __init__(self, tile: Tile, start):
        from skimage.graph import MCP_Geometric

        self.tile, self.start = tile, tile.pixel(start)
        row, column = self.start
        rows, columns = tile.values.shape
        self.first = max(0, row - REACH), max(0, column - REACH)
        part = tile.costs[self.first[0] : min(rows, row + REACH + 1), self.first[1] : min(columns, column + REACH + 1)]
        self._ways = MCP_Geometric(np.asarray(part, float) + DEAR)
        self._ways.find_costs([(row - self.first[0], column - self.first[1])])
        self._shape = part.shape

    def to(self, world) -> np.ndarray:
        """World positions of the line from the start to a place, both in it; what lies out of reach is gone to
        straight."""
        row, column = self.tile.pixel(world)
        inside = (
            int(np.clip(row - self.first[0], 0, self._shape[0] - 1)),
            int(np.clip(column - self.first[1], 0, self._shape[1] - 1)),
        )
        pixels = np.array(self._ways.traceback(inside), float) + self.first
        line = self.tile.world(pixels)
        return line if np.linalg.norm(line[-1] - np.asarray(world)) < 1e-12 else np.vstack((line[:-1], [world]))


def tile_round(image: Image, places: np.ndarray) -> Tile:
    """The plane through places, with half again as much round them, at the voxel size of an image."""
    space = image.space
    normal = plane_of(places, 0.5 * max(space.spacing), "line") if len(places) > 2 else _slice_normal(places, space)
    steps = [space.affine[:3, n] for n in range(3)]
    along = sorted(range(3), key=lambda n: abs(float(steps[n] @ normal)) / float(np.linalg.norm(steps[n])))[:2]
    right = steps[min(along)] - (steps[min(along)] @ normal) * normal
    down = np.cross(normal, right / np.linalg.norm(right)) * float(np.linalg.norm(steps[max(along)]))
    away = places - places[0]
    x, y = away @ right / (right @ right), away @ down / (down @ down)
    more = 12 + 0.25 * max(np.ptp(x), np.ptp(y))
    columns, rows = (int(np.ceil(np.ptp(v) + 2 * more)) + 1 for v in (x, y))
    if columns * rows > 1 << 26:
        raise Trouble("The line is too long to follow edges", "draw it in shorter stretches")
    corner = places[0] + (np.floor(x.min() - more)) * right + (np.floor(y.min() - more)) * down
    grid = np.indices((rows, columns)).reshape(2, -1).T
    world = corner + grid[:, 1:] * right + grid[:, :1] * down
    return Tile(_values(image, world).reshape(rows, columns), corner, right, down)


def _values(image: Image, world: np.ndarray) -> np.ndarray:
    """Values at places, between voxels linearly; only the part of the image round them is looked at."""
    from scipy import ndimage

    at = image.space.to_voxel(world)[:, ::-1]
    last = np.array(image.space.shape[::-1]) - 1
    low = np.clip(np.floor(at.min(0)), 0, last).astype(int)
    high = np.clip(np.ceil(at.max(0)), 0, last).astype(int)
    part = np.asarray(image.kji[tuple(slice(a, b + 1) for a, b in zip(low, high))], np.float32)
    return ndimage.map_coordinates(part, (at - low).T, order=1, mode="nearest")


def _slice_normal(places: np.ndarray, space) -> np.ndarray:
    """Across the grid's slice that two places lie in: the axis along which they differ least."""
    away = np.abs(np.diff(space.to_voxel(places), axis=0)).max(0)
    flat = [n for n in range(3) if space.shape[n] == 1]
    axis = flat[-1] if flat else int(away.argmin())
    return space.across(axis)


def along_edges(image: Image, places: np.ndarray, closed: bool) -> np.ndarray:
    """A line through places that clings to edges between them, world positions (n, 3)."""
    if len(places) < 2:
        raise Trouble("A line along edges has two points or more", "give more points")
    tile = tile_round(image, places)
    stops = [*places, places[0]] if closed else list(places)
    found = [np.asarray(stops[:1])]
    for a, b in zip(stops, stops[1:]):
        line = EdgeLine(tile, a).to(b)
        found.append(line[1:])
    whole = np.concatenate(found)
    return thinned(
        whole[:-1] if closed else whole, 0.3 * float(min(np.linalg.norm(tile.right), np.linalg.norm(tile.down)))
    )

"""A whole bright-field section of brown fat: a picture that is larger than a screen, and than many memories, as a
pyramid of tiles."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from scipy import ndimage

from ...core.kernel import kernel
from ..scene import Station, scene

COLUMNS, ROWS, TILE = 20_480, 15_360, 512
PIXEL = 0.0005
"""mm."""
CELL = 56
"""Pixels between neighbouring cells, on average."""
LEVELS = 4
FOLD = 0.5
"""Where the noise that shapes the lobes is higher than this there is tissue."""


def lobes(seed: int = 21) -> np.ndarray:
    """How deep in a lobe a place lies, a value for every 32 pixels, float32 [row, column]."""
    rng = np.random.default_rng(seed)
    shape = (ROWS // 32 + 1, COLUMNS // 32 + 1)
    noise = ndimage.gaussian_filter(rng.standard_normal(shape), 26)
    y, x = np.mgrid[-1 : 1 : shape[0] * 1j, -1 : 1 : shape[1] * 1j]
    wide = np.minimum(noise / noise.std() * 0.13 + 1.05 - 0.75 * np.hypot(x / 0.88, y / 0.9) ** 3, 0.9)
    # lobes lie between two sets of winding gaps
    for width, depth in ((17, 0.5), (8, 0.30)):
        gaps = ndimage.gaussian_filter(rng.standard_normal(shape), width)
        wide -= depth * np.exp(-np.abs(gaps / gaps.std()) / 0.035)
    return wide.astype(np.float32)


@kernel
def _noise(a, b, salt):
    """A number from 0 to 1 for a place on a lattice, the same each time."""
    h = (a * 374761393 + b * 668265263 + salt * 2147483647) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 1274126177) & 0xFFFFFFFF
    return ((h ^ (h >> 16)) & 0xFFFFFF) / 16777216.0


@kernel
def _tissue(shape, x, y):
    u, v = x / 32.0, y / 32.0
    i, j = min(int(u), shape.shape[1] - 2), min(int(v), shape.shape[0] - 2)
    a, b = u - i, v - j
    top = shape[j, i] * (1 - a) + shape[j, i + 1] * a
    return top * (1 - b) + (shape[j + 1, i] * (1 - a) + shape[j + 1, i + 1] * a) * b


@kernel
def cells_near(left, top, side, cell):
    """What there is in every cell of a part of the section: middle, shade, five drops of fat, turn and size of the
    nucleus, float64 [b, a, 20]; cells begin one before the part."""
    a0, b0 = left // cell - 1, top // cell - 1
    count = side // cell + 4
    out = np.empty((count, count, 20))
    for b in range(count):
        for a in range(count):
            one = out[b, a]
            na, nb = a + a0, b + b0
            one[0], one[1] = (na + 0.15 + 0.7 * _noise(na, nb, 1)) * cell, (nb + 0.15 + 0.7 * _noise(na, nb, 2)) * cell
            one[2] = 20.0 * (_noise(na, nb, 3) - 0.5)
            for n in range(4):
                one[3 + 3 * n] = (_noise(na, nb, 10 + n) - 0.5) * 0.66 * cell
                one[4 + 3 * n] = (_noise(na, nb, 20 + n) - 0.5) * 0.66 * cell
                one[5 + 3 * n] = (0.05 + 0.15 * _noise(na, nb, 30 + n)) * cell
            turn = _noise(na, nb, 4) * 3.14159
            one[15], one[16] = np.cos(turn), np.sin(turn)
            one[17] = (0.13 + 0.05 * _noise(na, nb, 5)) * cell
            one[18], one[19] = 0.24 * (_noise(na, nb, 7) - 0.5) * cell, 0.24 * (_noise(na, nb, 8) - 0.5) * cell
    return out


@kernel(inline="always")
def _inside(far):
    return min(max(far / 1.5 + 0.5, 0.0), 1.0)


@kernel
def paint(out, left, top, shape, cells, cell, fold):
    """Colours of a part of the section: cells by their nearest two middles (S. Worley, SIGGRAPH 1996), drops of fat and
    a nucleus in each. Returns how many nuclei have their middle in it."""
    found, side = 0, out.shape[0]
    a0, b0 = left // cell - 1, top // cell - 1
    for b in range(cells.shape[0]):
        for a in range(cells.shape[1]):
            x, y = cells[b, a, 0] + cells[b, a, 18], cells[b, a, 1] + cells[b, a, 19]
            if left <= x < left + side and top <= y < top + side and _tissue(shape, x, y) > fold:
                found += 1
    for y in range(side):
        py = float(top + y)
        for x in range(side):
            px = float(left + x)
            here = _tissue(shape, px, py)
            if here < fold - 0.02:
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = 241, 239, 240
                continue
            a1, b1 = int(px) // cell - a0, int(py) // cell - b0
            first, second, na, nb = 1e9, 1e9, 0, 0
            for b in range(b1 - 1, b1 + 2):
                for a in range(a1 - 1, a1 + 2):
                    d = (px - cells[b, a, 0]) ** 2 + (py - cells[b, a, 1]) ** 2
                    if d < first:
                        second, first, na, nb = first, d, a, b
                    elif d < second:
                        second = d
            one = cells[nb, na]
            nx, ny = px - one[0], py - one[1]
            deep = min(max(2.2 * (here - fold), 0.0), 0.5)
            grain = 7.0 * (_noise(left + x, top + y, 9) - 0.5)
            r, g, bl = 230 + one[2] - 28 * deep, 170 + one[2] - 60 * deep, 196 + one[2] - 34 * deep
            edge = min(max(1.0 - (np.sqrt(second) - np.sqrt(first)) / 3.0, 0.0), 1.0) * 0.55
            r, g, bl = r + (190.0 - r) * edge, g + (98.0 - g) * edge, bl + (146.0 - bl) * edge
            for n in range(4):
                dx, dy, size = nx - one[3 + 3 * n], ny - one[4 + 3 * n], one[5 + 3 * n]
                far = dx * dx + dy * dy
                if far < (size + 1.0) * (size + 1.0):
                    drop = _inside(size - np.sqrt(far))
                    r, g, bl = r + (244.0 - r) * drop, g + (238.0 - g) * drop, bl + (242.0 - bl) * drop
            nx, ny = nx - one[18], ny - one[19]
            u, v = nx * one[15] + ny * one[16], 1.3 * (ny * one[15] - nx * one[16])
            far = u * u + v * v
            if far < (one[17] + 1.0) * (one[17] + 1.0):
                core = _inside(one[17] - np.sqrt(far))
                r, g, bl = r + (96 + 3 * grain - r) * core, g + (64 + 3 * grain - g) * core, bl + (136 - bl) * core
            clear = min(max((fold + 0.02 - here) / 0.04, 0.0), 1.0)
            out[y, x, 0] = int(min(max(r + (241.0 - r) * clear + grain, 0.0), 255.0))
            out[y, x, 1] = int(min(max(g + (239.0 - g) * clear + grain, 0.0), 255.0))
            out[y, x, 2] = int(min(max(bl + (240.0 - bl) * clear + grain, 0.0), 255.0))
    return found


@kernel
def halved(fine, out):
    """Means of two by two pixels, colours."""
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            for c in range(3):
                total = int(fine[2 * y, 2 * x, c]) + fine[2 * y, 2 * x + 1, c]
                out[y, x, c] = (total + fine[2 * y + 1, 2 * x, c] + fine[2 * y + 1, 2 * x + 1, c] + 2) // 4


def write_whole_section(path: Path) -> int:
    """The section as a pyramid of JPEG tiles; returns how many nuclei it shows."""
    import tifffile

    shape, found = lobes(), []
    coarse = [np.empty((ROWS >> n, COLUMNS >> n, 3), np.uint8) for n in range(1, LEVELS + 1)]

    def painted(place: tuple[int, int]) -> np.ndarray:
        left, top = place
        tile = np.empty((TILE, TILE, 3), np.uint8)
        found.append(paint(tile, left, top, shape, cells_near(left, top, TILE, CELL), CELL, FOLD))
        fine = tile
        for n, level in enumerate(coarse, 1):
            side = TILE >> n
            part = level[top >> n : (top >> n) + side, left >> n : (left >> n) + side]
            halved(fine, part)
            fine = part
        return tile

    def tiles():
        places = [(left, top) for top in range(0, ROWS, TILE) for left in range(0, COLUMNS, TILE)]
        with ThreadPoolExecutor(2) as pool:
            for n in range(0, len(places), 16):
                yield from pool.map(painted, places[n : n + 16])

    common = {
        "tile": (TILE, TILE),
        "photometric": "rgb",
        "compression": "jpeg",
        "compressionargs": {"level": 75},
    }
    metadata = {"axes": "YXS", "PhysicalSizeX": 1000 * PIXEL, "PhysicalSizeY": 1000 * PIXEL}
    metadata |= {"PhysicalSizeXUnit": "µm", "PhysicalSizeYUnit": "µm", "Name": "Brown fat, whole section"}
    with tifffile.TiffWriter(path, ome=True) as writer:
        writer.write(
            tiles(), shape=(ROWS, COLUMNS, 3), dtype=np.uint8, subifds=LEVELS, metadata=metadata, maxworkers=2, **common
        )
        for level in coarse:
            writer.write(level, subfiletype=1, metadata=None, maxworkers=2, **common)
    return sum(found)


@scene("Whole section", 75)
def whole_section(station: Station) -> None:
    station.truth["nuclei of the whole section"] = write_whole_section(station.folder / "brown fat, whole.ome.tif")

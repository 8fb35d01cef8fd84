"""Drawing panes: every layer is sampled straight at the screen's pixels, in compiled kernels.

One affine leads from pixel to voxel, whatever the tilt and zoom. Where it runs along the grid (the usual case) the slice
is lifted out of the volume first, see `aligned`; the general kernel here serves tilted grids. The kernels release the
interpreter lock and work on bands of rows, so a second core can take half of them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from ..core.image import Image
from ..core.labels import LabelMap
from .aligned import BACKGROUND, blend, draw_colour_plane, draw_plane, in_bands, lifted, sample_plane, shade
from .colours import colour_table, label_colours, packed
from .view import View


@dataclass(frozen=True)
class ImageLook:
    """How an image is shown: range of values, colour map, smooth or true voxels, and a tinted range."""

    low: float
    high: float
    colour_map: str = "Grey"
    smooth: bool = True
    opacity: float = 1.0
    tint: tuple[float, float] | None = None
    tint_colour: str = "#A44E28"


@dataclass(frozen=True)
class LabelLook:
    """How labels are shown: opacity of the filling (0 for edges only), edges on or off, one label or all."""

    fill: float = 0.35
    edges: bool = True
    only: int | None = None


def draw(view: View, image: Image | None, look: ImageLook | None, labels: LabelMap | None = None,
         label_look: LabelLook = LabelLook(), out: np.ndarray | None = None) -> np.ndarray:
    """Draw a pane: the image, and labels over it.

    Returns
    -------
    uint32 array (height, width) of packed colours; `out` itself when given and of that shape.
    """
    out = draw_image(view, image, look, out)
    if labels is not None:
        draw_labels(view, labels, label_look, out)
    return out


def draw_image(view: View, image: Image | None, look: ImageLook | None, out: np.ndarray | None = None) -> np.ndarray:
    """Draw the image alone; see `draw`."""
    shape = (view.height, view.width)
    out = np.empty(shape, np.uint32) if out is None or out.shape != shape else out
    if image is None or look is None:
        out.fill(BACKGROUND)
        return out
    if image.colour:
        return _draw_colour_image(view, image, look, out)
    tint = look.tint or (np.inf, -np.inf)
    colouring = (float(look.low), float(look.high), colour_table(look.colour_map), look.smooth, float(look.opacity), float(tint[0]),
                 float(tint[1]), packed(look.tint_colour), out)
    frame = view.voxel_frame(image.space)
    plane = lifted(image.kji, frame, look.smooth)
    if plane is not None:
        in_bands(shape, lambda a, b: draw_plane(plane.values, plane.columns(shape[1]), plane.rows(shape[0]), *colouring, a, b))
    else:
        in_bands(shape, lambda a, b: _draw_values(image.kji, frame, *colouring, a, b))
    return out


def _draw_colour_image(view: View, image: Image, look: ImageLook, out: np.ndarray) -> np.ndarray:
    """Colours as they are: limits and colour maps are for measured values. Between slices the nearest one is taken."""
    frame = view.voxel_frame(image.space)
    plane = lifted(image.kji, frame, smooth=False)
    if plane is not None:
        columns, rows = plane.columns(out.shape[1]), plane.rows(out.shape[0])
        in_bands(out.shape, lambda a, b: draw_colour_plane(plane.values, columns, rows, look.smooth, float(look.opacity), out, a, b))
    else:
        in_bands(out.shape, lambda a, b: _sample_colours(image.kji, frame, np.uint32(BACKGROUND), out, a, b))
    return out


def draw_labels(view: View, labels: LabelMap, look: LabelLook, out: np.ndarray) -> None:
    """Draw labels over a picture (height, width) of packed colours."""
    numbers = sample_labels(view, labels)
    colours = label_colours(labels.table, look.only)
    in_bands(out.shape, lambda a, b: _draw_labels(numbers, colours, float(look.fill), look.edges, out, a, b))


def sample_labels(view: View, labels: LabelMap) -> np.ndarray:
    """Label numbers under a view's pixels, uint16 (height, width), 0 outside."""
    shape = (view.height, view.width)
    numbers = np.empty(shape, np.uint16)
    frame = view.voxel_frame(labels.space)
    plane = lifted(labels.kji, frame, smooth=False)
    if plane is not None:
        in_bands(shape, lambda a, b: sample_plane(plane.values, plane.columns(shape[1]), plane.rows(shape[0]), numbers, a, b))
    else:
        in_bands(shape, lambda a, b: _sample_labels(labels.kji, frame, numbers, a, b))
    return numbers


def warm() -> None:
    """Compile or load the kernels for the usual number types, so that the first pane is quick."""
    from ..core.space import Space
    from .view import AXIAL

    view = View(AXIAL, (1.5, 1.5, 1.5), 1.0, 4, 4)
    for kind in (np.int16, np.float32, np.uint8, np.uint16):
        for tilt in (np.eye(4), np.array([[1, 0.1, 0, 0], [-0.1, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])):
            for shift in (0.0, 0.3):
                placed = Space((4, 4, 4), tilt)
                moved = view.moved(centre=(1.5, 1.5, 1.0 + shift))
                draw(moved, Image(np.zeros((4, 4, 4), kind), placed), ImageLook(0, 1), LabelMap(placed))
            draw(view, Image(np.zeros((4, 4, 4, 3), np.uint8), placed, colour=True), ImageLook(0, 255))


@numba.njit(nogil=True, cache=True, inline="always")
def _span(start, step, size, count):
    """Pixels a to b-1 of a row whose coordinate start + step * x lies within -0.5 … size - 0.5."""
    low, high = -0.5 - start, size - 0.5 - start
    if step == 0.0:
        return (0, count) if low <= 0.0 < high else (0, 0)
    first, last = low / step, high / step
    if step < 0.0:
        first, last = last, first
    return int(max(0.0, np.ceil(min(first, 1e9)))), int(min(float(count), np.ceil(max(last, -1e9))))


@numba.njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz", "arcp"})
def _draw_values(volume, frame, low, high, colours, smooth, opacity, tint_low, tint_high, tint_colour, out, top, bottom):
    nk, nj, ni = volume.shape
    scale = np.float32(255.0 / (high - low)) if high > low else np.float32(0.0)
    base, under = np.float32(low), np.uint32(BACKGROUND)
    width = out.shape[1]
    for y in range(top, bottom):
        oi = frame[0, 0] + frame[2, 0] * y
        oj = frame[0, 1] + frame[2, 1] * y
        ok = frame[0, 2] + frame[2, 2] * y
        a0, b0 = _span(oi, frame[1, 0], ni, width)
        a1, b1 = _span(oj, frame[1, 1], nj, width)
        a2, b2 = _span(ok, frame[1, 2], nk, width)
        first, last = max(a0, a1, a2), min(b0, b1, b2)
        if last <= first:
            first = last = 0
        for x in range(0, first):
            out[y, x] = under
        for x in range(last, width):
            out[y, x] = under
        for x in range(first, last):
            fi, fj, fk = oi + frame[1, 0] * x, oj + frame[1, 1] * x, ok + frame[1, 2] * x
            if smooth:
                fi, fj, fk = min(max(fi, 0.0), ni - 1.0), min(max(fj, 0.0), nj - 1.0), min(max(fk, 0.0), nk - 1.0)
                i, j, k = int(fi), int(fj), int(fk)
                wi, wj, wk = np.float32(fi - i), np.float32(fj - j), np.float32(fk - k)
                i1, j1 = min(i + 1, ni - 1), min(j + 1, nj - 1)
                p, q = np.float32(volume[k, j, i]), np.float32(volume[k, j, i1])
                r, s = np.float32(volume[k, j1, i]), np.float32(volume[k, j1, i1])
                p += (q - p) * wi
                r += (s - r) * wi
                value = p + (r - p) * wj
                if wk > np.float32(1e-4):
                    k1 = min(k + 1, nk - 1)
                    p, q = np.float32(volume[k1, j, i]), np.float32(volume[k1, j, i1])
                    r, s = np.float32(volume[k1, j1, i]), np.float32(volume[k1, j1, i1])
                    p += (q - p) * wi
                    r += (s - r) * wi
                    value += (p + (r - p) * wj - value) * wk
            else:
                i = min(max(int(np.floor(fi + 0.5)), 0), ni - 1)
                j = min(max(int(np.floor(fj + 0.5)), 0), nj - 1)
                k = min(max(int(np.floor(fk + 0.5)), 0), nk - 1)
                value = np.float32(volume[k, j, i])
            out[y, x] = shade(value, base, scale, colours, under, opacity, tint_low, tint_high, tint_colour)


@numba.njit(nogil=True, cache=True)
def _sample_labels(labels, frame, numbers, top, bottom):
    _nearest(labels, frame, np.uint16(0), numbers, top, bottom)


@numba.njit(nogil=True, cache=True)
def _sample_colours(colours, frame, outside, out, top, bottom):
    _nearest(colours, frame, outside, out, top, bottom)


@numba.njit(nogil=True, cache=True)
def _nearest(labels, frame, outside, numbers, top, bottom):
    nk, nj, ni = labels.shape
    width = numbers.shape[1]
    for y in range(top, bottom):
        oi = frame[0, 0] + frame[2, 0] * y
        oj = frame[0, 1] + frame[2, 1] * y
        ok = frame[0, 2] + frame[2, 2] * y
        a0, b0 = _span(oi, frame[1, 0], ni, width)
        a1, b1 = _span(oj, frame[1, 1], nj, width)
        a2, b2 = _span(ok, frame[1, 2], nk, width)
        first, last = max(a0, a1, a2), min(b0, b1, b2)
        if last <= first:
            first = last = 0
        numbers[y, :first] = outside
        numbers[y, last:] = outside
        for x in range(first, last):
            i = min(int(oi + frame[1, 0] * x + 0.5), ni - 1)
            j = min(int(oj + frame[1, 1] * x + 0.5), nj - 1)
            k = min(int(ok + frame[1, 2] * x + 0.5), nk - 1)
            numbers[y, x] = labels[k, j, i]


@numba.njit(nogil=True, cache=True)
def _draw_labels(numbers, colours, fill, edges, out, top, bottom):
    height, width = numbers.shape
    for y in range(top, bottom):
        for x in range(width):
            number = numbers[y, x]
            if number == 0 or colours[number] == 0:
                continue
            edge = edges and (x == 0 or numbers[y, x - 1] != number or x == width - 1 or numbers[y, x + 1] != number
                              or y == 0 or numbers[y - 1, x] != number or y == height - 1 or numbers[y + 1, x] != number)
            if edge:
                out[y, x] = colours[number]
            elif fill > 0.0:
                out[y, x] = blend(out[y, x], colours[number], fill)

"""What stands over the picture of a solid scene: a lit cube that says which side is which, and a scale bar."""

from __future__ import annotations

import numpy as np

from ...core.space import AXIS_LETTERS
from ..pieces import length_bar_of
from ..primitives import INK, PALE, Path, Primitive, Stroke, Words
from .eye import Eye

SIDE, MARGIN = 17.0, 34.0
"""Page units: half of a side of the cube, and from its middle to the page's edges."""
FACES = ("#8FA1AA", "#C7D2D6", "#E8B68C")
"""Of faces, the darker to the brighter: as they are turned to the light; the last one for left and right."""


def cube(eye: Eye, width: float, height: float, sides_known: bool = True) -> list[Primitive]:
    """A cube in the lower right corner that turns with the scene, a letter on each face that is seen.

    Parameters
    ----------
    width, height : page units
    """
    if not sides_known:
        return []
    right, up, towards = eye.axes
    middle = np.array((width - MARGIN, height - MARGIN))

    def flat(place: np.ndarray) -> tuple[float, float]:
        return float(middle[0] + SIDE * (place @ right)), float(middle[1] - SIDE * (place @ up))

    light = right * eye.light[0] + up * eye.light[1] + towards * eye.light[2]
    light = light / np.linalg.norm(light)
    found: list[Primitive] = []
    faces = [(axis, sign) for axis in range(3) for sign in (-1.0, 1.0)]
    for axis, sign in faces:
        normal = np.array([sign * float(n == axis) for n in range(3)])
        if normal @ towards <= 0.02:
            continue
        a, b = (np.array([float(n == (axis + step) % 3) for n in range(3)]) for step in (1, 2))
        corners = [flat(normal + u * a + v * b) for u, v in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
        bright = 0.45 + 0.55 * max(0.0, float(normal @ light))
        found.append(
            Path(tuple(corners), Stroke(INK, 1.0), True, _shade("#E8B68C" if axis == 0 else "#C7D2D6", bright))
        )
        if normal @ towards > 0.3:
            letter = AXIS_LETTERS[axis][int(sign > 0)]
            found.append(Words(flat(normal), letter, 13, INK, "700"))
    return found


def _shade(colour: str, bright: float) -> str:
    parts = (int(colour[n : n + 2], 16) for n in (1, 3, 5))
    return "#" + "".join(f"{min(255, round(bright * v)):02X}" for v in parts)


def scale(eye: Eye, width: float, height: float, unit: str, page: float) -> list[Primitive]:
    """A scale bar where what is far is drawn as large as what is near; `page` is the size of a page unit in pixels."""
    return length_bar_of(eye.pixel * page, width, height, unit) if eye.camera.parallel else []


def ruler(eye: Eye, ends, page: float, words: str) -> list[Primitive]:
    """A measured distance between two world positions, with its length."""
    (x0, y0), (x1, y1) = (tuple(v / page for v in one[:2]) for one in eye.to_page(np.asarray(ends)))
    line = (float(x0), float(y0)), (float(x1), float(y1))
    middle = ((line[0][0] + line[1][0]) / 2, (line[0][1] + line[1][1]) / 2 - 8)
    return [
        Path(line, Stroke("#0B1013", 4.0)),
        Path(line, Stroke("#F0B263", 2.0)),
        Words(middle, words, 13, PALE, "700", "ms", "#0B1013"),
    ]

"""Roughness of a surface, and of a line on it."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.heights import require_picture
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import LeftOut
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between, LineEnd, Unit
from ..core.quantity import readable
from ..core.table import Column, Table
from .plateaus import COVER
from .readings import Calibration
from .section import Width, section_of
from .step_height import SURE, line_of

ALPHA = math.sqrt(math.log(2) / math.pi)
"""Of the Gaussian filter of ISO 16610-21: half of the amplitude passes at the cut-off."""
PARTS = 5
"""Sampling lengths of a line."""


@operation(
    "measure",
    "Roughness",
    name="roughness",
    keywords="ra rq rz sa sq iso 4287 25178 21920 surface texture surface roughness",
    version=2,
    called={"from_": "From", "cutoff": "Cut-off", "leave_out": "Not within", "calibration": "Scale ±"},
    rare="calibration",
    group="Heights",
    methods="Roughness was measured (Sa, Sq of the surface; Ra, Rq, Rz of a profile)",
    cites=(
        "ISO 25178-2",
        "ISO 21920-2",
        "ISO 16610-21",
    ),
)
def roughness(
    image: Image,
    from_: LineEnd | None = None,
    to: LineEnd | None = None,
    width: Width = 0.0,
    *,
    section: Curve | None = None,
    cutoff: Annotated[float | None, Unit("mm"), Between(0, 1e6), LeftOut("none", was=0.0)] = None,
    leave_out: LabelMap | None = None,
    calibration: Calibration = 0.0,
) -> Table:
    """How rough a surface is: Sa and Sq of the map less its plane (ISO 25178-2), and Ra, Rq and Rz of a line on it,
    when one is given, less its straight line (ISO 21920-2).

    Sa and Ra are the mean of the distances from the mean surface or line, Sq and Rq the root of the mean of their
    squares. Rz is the mean, over five parts of the line, of the distance from the lowest to the highest point.

    Parameters
    ----------
    from_, to, width, section
        The line, as in “Step height”.
    cutoff : mm
        Waves longer than this are taken away first, by the Gaussian filter of ISO 16610-21; none when left out. Half a
        cut-off at each end of the line is then left out.
    leave_out : label map
        Voxels that carry a label do not count in Sa and Sq.
    calibration : %
        Relative standard uncertainty of the scale of heights.

    Raises
    ------
    Trouble
        When the image is no single picture, fewer than 25 points are left, or the line is shorter than two cut-offs.
    """
    require_picture(image)
    rows: list[tuple] = []
    scale = COVER * calibration / 100
    unit, factor = readable(image.unit)
    if from_ is not None or to is not None or section is not None:
        found = section_of(image, line_of(image, from_, to, width, section))
        for name, value, spread in _of_line(found.along, found.values, cutoff or 0.0, image.name):
            rows.append((name, factor * value, factor * math.hypot(spread, scale * value), unit))
    for name, value in _of_surface(image, cutoff or 0.0, leave_out):
        rows.append((name, factor * value, factor * scale * value if scale else None, unit))
    columns = [Column("what"), Column("value", figures=4, sure_by=SURE), Column(SURE, figures=2), Column("unit")]
    table = Table(f"Roughness of {image.name}", columns)
    table.rows.extend(rows)
    return table


def _of_line(along: np.ndarray, values: np.ndarray, cutoff: float, name: str) -> list[tuple[str, float, float]]:
    """Ra, Rq and Rz, and within what of them the true ones lie 95 times of 100, by what five parts differ."""
    there = np.isfinite(values)
    if there.sum() < 5 * PARTS:
        raise Trouble(f"The line has {there.sum()} heights of “{name}”", "draw one of at least 25 points")
    filled = np.interp(along, along[there], values[there])
    if cutoff > 0:
        if along[-1] < 2 * cutoff:
            raise Trouble("The line is shorter than two cut-offs", "draw it longer, or give a shorter cut-off")
        step = along[1] - along[0]
        filled = filled - _gaussian(filled, cutoff / step, 0)
        keep = (along >= cutoff / 2) & (along <= along[-1] - cutoff / 2)
        along, filled, there = along[keep], filled[keep], there[keep]
    filled = filled - np.polyval(np.polyfit(along, filled, 1), along)
    parts = [part[ok] for part, ok in zip(np.array_split(filled, PARTS), np.array_split(there, PARTS)) if ok.sum() > 2]
    from scipy.special import stdtrit

    found = []
    for words, of in (
        ("Ra", lambda z: float(np.abs(z).mean())),
        ("Rq", lambda z: float(np.sqrt((z**2).mean()))),
        ("Rz", lambda z: float(np.ptp(z))),
    ):
        each = [of(part) for part in parts]
        value = float(np.mean(each)) if words == "Rz" else of(filled[there])
        spread = math.nan if len(each) < 2 else float(np.std(each, ddof=1)) / math.sqrt(len(each))
        found.append((words, value, spread * float(stdtrit(len(each) - 1, 0.975)) if len(each) > 1 else math.nan))
    return found


def _of_surface(image: Image, cutoff: float, leave_out: LabelMap | None) -> list[tuple[str, float]]:
    heights = image.kji[0].astype(np.float64)
    there = np.isfinite(heights)
    if leave_out is not None:
        require_same_grid(image, leave_out)
        there &= leave_out.kji[0] == 0
    if there.sum() < 25:
        raise Trouble(f"Only {there.sum()} points of “{image.name}” are left", "leave out less")
    y, x = np.nonzero(there)
    matrix = np.column_stack([np.ones(x.size), x - x.mean(), y - y.mean()])
    solved = np.linalg.lstsq(matrix, heights[there], rcond=None)[0]
    flat = np.zeros_like(heights)
    flat[there] = heights[there] - matrix @ solved
    if cutoff > 0:
        weight = there.astype(float)
        for axis, size in ((1, image.space.spacing[0]), (0, image.space.spacing[1])):
            weight = _gaussian(weight, cutoff / size, axis)
        wave = flat
        for axis, size in ((1, image.space.spacing[0]), (0, image.space.spacing[1])):
            wave = _gaussian(wave, cutoff / size, axis)
        flat = flat - wave / np.maximum(weight, 1e-9)
    z = flat[there] - flat[there].mean()
    return [("Sa", float(np.abs(z).mean())), ("Sq", float(np.sqrt((z**2).mean())))]


def _gaussian(values: np.ndarray, cutoff: float, axis: int) -> np.ndarray:
    """The waves that pass a Gaussian filter whose cut-off is so many points long."""
    from scipy import ndimage

    sigma = ALPHA * cutoff / math.sqrt(2 * math.pi)
    return ndimage.gaussian_filter1d(
        values, sigma, axis=axis, mode="constant" if values.ndim > 1 else "nearest", truncate=4
    )

"""Find cells: nuclei, cells, drops, seeds in a radiograph; whatever is round and of about one size."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.kernel import kernel
from ...core.labels import LARGEST, PALETTE, Label, LabelMap, LabelTable
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, ImageValue, Unit
from ...core.progress import Progress, silent
from ...core.space import Space
from ...core.table import Table
from ..channels import Channel, channels_of, chosen
from .blobs import HALO, blobs_in
from .cell_table import Measured, cell_table, measured
from .ground import WIDE, Ground, ground_of

TILE = 1024
"""Pixels to a side of a piece that is worked on at a time."""
VOXELS = 1 << 21
"""The same of a volume, in voxels."""
LOWER, TRIM = 0.6, 0.55
"""Share of the limit down to which a cell grows, and share of its own height at which it ends."""
NUCLEI = ("nucle", "dapi", "hoechst", "dna", "haematoxylin", "hematoxylin")
"""Names of channels that show nuclei."""


class Cells(NamedTuple):
    """What is found."""

    cells: LabelMap
    table: Table


def _channel(given: dict[str, Any]) -> Found | None:
    image = given.get("image")
    if image is None:
        return None
    if image.axes:
        names = [image.axes[0].words(n) for n in range(image.axes[0].size)]
        for n, name in enumerate(names):
            if any(word in name.casefold() for word in NUCLEI):
                return Found(str(n + 1), f"{name}, which names nuclei")
        return Found("1", f"{names[0]}, the first")
    if image.colour:
        return Found("red", "which blue nuclei take away")
    return Found("1", "the only one")


def _reach(space: Space, settings: dict) -> float:
    """How far round a place the ground is taken from, in the unit of the world."""
    return WIDE * settings["diameter"] * (1.0 if space.unit == "px" else 1e-3)


@operation(
    "outline",
    "Find cells",
    name="find-cells",
    version=2,
    keywords="nuclei count segment blobs spots watershed touching nucleus detection cell counting particles granules",
    takes="series colour",
    called={
        "look": "Cells are",
        "above": "Begin above the ground",
        "least": "Smallest, of the usual area",
        "most": "Largest, of the usual area",
        "roundness": "Roundness from",
        "as_one": "One label for all",
    },
    rare="look above least most roundness as_one name",
    group="Cells",
    reach=_reach,
    coarse=False,
    through_time=True,
    methods="Cells of about {diameter} µm were found as blobs and told apart by watershed",
    cites=("Lindeberg 1998", "Vincent 1991"),
)
def find_cells(
    image: Image,
    diameter: Annotated[float, Unit("µm"), Between(1e-6, 1e7)],
    channel: Annotated[str | None, LeftOut("that of nuclei", _channel)] = None,
    *,
    look: Annotated[Literal["bright", "dark"] | None, LeftOut("as most of them are")] = None,
    above: Annotated[ImageValue | None, LeftOut("by Otsu’s threshold")] = None,
    least: Annotated[float, Between(0, 100)] = 0.2,
    most: Annotated[float, Between(0, 1e6)] = 4.0,
    roundness: Annotated[float, Between(0, 1)] = 0.0,
    as_one: bool = False,
    name: str = "Cells",
    progress: Progress = silent(),
) -> Cells:
    """Find round things of about one size, tell touching ones apart, number and measure them.

    Each is a blob at the scale of its size (T. Lindeberg, Int. J. Comput. Vis. 30, 1998) above the local ground, and
    those that touch are parted along the valley between them (L. Vincent and P. Soille, IEEE Trans. Pattern Anal.
    Mach. Intell. 13, 1991); each ends where it has fallen to about half of its own height. Large pictures are done
    piece by piece, and the pieces leave no seam. A preview takes the ground, and where cells begin, from what is
    in view.

    Parameters
    ----------
    diameter : µm; pixels where there is no scale
        About how wide they are; 0.6 to 1.5 times as wide are found too.
    channel : text
        Number or name of the channel, or red, green, blue.
    look : "bright" or "dark"
        Beside what is round them.
    above : values
        How far above the ground (or below, where they are dark) they begin.
    least, most : shares
        Smallest and largest area (volume) that counts, of that of a disc (ball) of the diameter.
    roundness : 0 to 1
        What is longer does not count: of an ellipse, its width over its length.
    as_one : bool
        Whether all get one label; the table lists each all the same. For more cells than a label map has numbers.
    name : text
        What the label map is called.

    Returns
    -------
    cells : LabelMap
        A number each.
    table : Table
        Number, place, size, length, width and brightness of each.

    Raises
    ------
    Trouble
        When the diameter is below two pixels or wider than the image, there is no such channel, nothing is found, or
        more than 65,535 are.
    """
    space = image.space
    scale = 1.0 if space.unit == "px" else 1e-3
    wide = diameter * scale
    unit = "px" if space.unit == "px" else "µm"
    along = tuple(wide / s if n > 1 else 0.0 for s, n in zip(space.spacing, space.shape))[::-1]
    across = [d for d in along if d]
    if not across or min(across) < 2:
        pixel = min(s for s, n in zip(space.spacing, space.shape) if n > 1) / scale if across else 0.0
        raise Trouble(
            f"{diameter:g} {unit} are less than two pixels of “{image.name}” ({pixel:.3g} {unit} each)",
            "give the width of a cell, or the picture its scale",
        )
    if all(d > n for d, n in zip(along, space.shape[::-1]) if d):
        raise Trouble(
            f"{diameter:g} {unit} are more than “{image.name}” is wide", "give the width of a cell, or the right scale"
        )
    progress.at(0.0, "Looking at the ground")
    named = channel if channel is not None else str(_channel({"image": image}).value)  # type: ignore[union-attr]
    others = channels_of(image, progress.part(0.0, 0.02))
    source = chosen(others, named, image)
    sign = {"bright": 1.0, "dark": -1.0}[look] if look is not None else _sign(source)
    ground = ground_of(source, sign, along, above, progress.part(0.02, 0.2))  # type: ignore[arg-type]
    if not np.isfinite(ground.limit) or ground.limit <= 0:
        raise Trouble(f"Nothing stands out in “{image.name}”", "choose another channel")
    usual = _usual(space, wide)
    made = LabelMap(space, name=name, subject=image.subject)
    found: list[Measured] = []
    count = 0
    parts = list(pieces(source.shape, along))
    for core, wider in progress.part(0.2, 0.95).over(parts, len(parts), "Finding cells"):
        numbers = _in_piece(source, sign, ground, core, wider, along, progress)
        if not numbers.any():
            continue
        rows = measured(numbers, [one[wider] for one in others], space, wider, count)
        keep = rows.keeps(least * usual, most * usual, roundness)
        rows, renumbered = rows.chosen(keep, count)
        count += len(rows.numbers)
        if count > LARGEST and not as_one:
            raise Trouble(
                f"There are more than {LARGEST:,} cells, and a label map has no more numbers",
                "give all of them one label (as-one), which the table does not mind, or crop the picture first",
            )
        if as_one:
            renumbered = np.minimum(renumbered, 1)
        _write(made.kji[wider], numbers, renumbered)
        found.append(rows)
    if not count:
        raise Trouble(
            f"No cell of about {diameter:g} {unit} stands out in “{image.name}”", "give another width, or look"
        )
    made.recount()
    names = [name] if as_one else [f"Cell {n}" for n in range(1, count + 1)]
    made.table = LabelTable(Label(n, text, PALETTE[(n - 1) % len(PALETTE)]) for n, text in enumerate(names, 1))
    table = cell_table(found, space, [one.name for one in others], f"{name} of {image.name}")
    return Cells(made, table)


def _sign(source: Channel) -> float:
    """Cells take less room than what lies between them: on which side the values reach further from the middle."""
    k, j, i = source.shape
    rows = max(1, min(j, 2_000_000 // max(1, i)))
    part = source[slice(k // 2, k // 2 + 1), slice((j - rows) // 2, (j + rows) // 2 + 1), slice(0, i)]
    known = part[np.isfinite(part)] if part.dtype.kind == "f" else part.ravel()
    low, middle, high = np.percentile(known, (2, 50, 98)) if known.size else (0, 0, 0)
    return 1.0 if high - middle >= middle - low else -1.0


def _usual(space: Space, wide: float) -> float:
    """Area or volume of a cell of the diameter, in voxels."""
    if 1 in space.shape:
        return math.pi / 4 * wide**2 / space.extent[1] if space.unit != "px" else math.pi / 4 * wide**2
    return math.pi / 6 * wide**3 / (space.voxel_volume if space.unit != "px" else 1.0)


Box = tuple[slice, slice, slice]


def pieces(shape: tuple[int, int, int], diameter) -> Iterator[tuple[Box, Box]]:
    """Parts of a grid [k, j, i] that are worked on one after another, and each with what lies round it."""
    halo = [math.ceil(HALO * d) + 2 if d else 0 for d in diameter]
    side = [shape[0], TILE, TILE]
    if shape[0] > 1:
        flat = max(32, int((VOXELS / 64) ** 0.5))
        side = [64, flat, flat]
    for k in range(0, shape[0], side[0]):
        for j in range(0, shape[1], side[1]):
            for i in range(0, shape[2], side[2]):
                core = tuple(slice(a, min(n, a + s)) for a, s, n in zip((k, j, i), side, shape))
                wider = tuple(slice(max(0, c.start - h), min(n, c.stop + h)) for c, h, n in zip(core, halo, shape))
                yield core, wider  # type: ignore[misc]


def _in_piece(
    source: Channel, sign: float, ground: Ground, core: Box, wider: Box, diameter, progress: Progress
) -> np.ndarray:
    """Numbers of the cells whose middle lies in the core of a piece, on the wider part."""
    values = np.asarray(source[wider], np.float32)
    under = ground.under(wider)
    blobs = blobs_in(values, sign, under, LOWER * ground.limit, diameter, progress.stop)
    if not len(blobs.middles):
        return blobs.numbers
    _trim(blobs.numbers, np.float32(sign) * (values - under), ground.limit, len(blobs.middles))
    inside = np.ones(len(blobs.middles) + 1, bool)
    inside[0] = False
    for axis in range(3):
        at = blobs.middles[:, axis] + wider[axis].start
        inside[1:] &= (at >= core[axis].start) & (at < core[axis].stop)
    return np.where(inside[blobs.numbers], blobs.numbers, 0)


def _trim(numbers: np.ndarray, heights: np.ndarray, limit: float, count: int) -> None:
    """End each cell where it has fallen to a share of its own height."""
    heights = np.where(np.isfinite(heights), heights, np.float32(0)).astype(np.float32)
    core = (numbers > 0) & (heights > limit)
    held = np.bincount(numbers[core], minlength=count + 1)
    total = np.bincount(numbers[core], weights=heights[core], minlength=count + 1)
    own = (TRIM * total / np.maximum(held, 1)).astype(np.float32)
    _cut(numbers, _softened(heights), own)


def _softened(heights: np.ndarray) -> np.ndarray:
    """Heights averaged with their neighbours, so that single pixels of noise make no holes."""
    from scipy import ndimage

    size = [3 if n > 2 else 1 for n in heights.shape]
    return ndimage.uniform_filter(heights, size, mode="nearest")


@kernel
def _cut(numbers, heights, own):
    for k in range(numbers.shape[0]):
        for j in range(numbers.shape[1]):
            for i in range(numbers.shape[2]):
                number = numbers[k, j, i]
                if number > 0 and heights[k, j, i] < own[number]:
                    numbers[k, j, i] = 0


@kernel
def _write(target, numbers, renumbered):
    for k in range(numbers.shape[0]):
        for j in range(numbers.shape[1]):
            for i in range(numbers.shape[2]):
                number = renumbered[numbers[k, j, i]]
                if number > 0 and target[k, j, i] == 0:
                    target[k, j, i] = number

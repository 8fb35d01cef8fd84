"""Class cells by how bright they are in another channel: those that carry a marker, and those that do not."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LARGEST, LabelMap
from ...core.left_out import Found, LeftOut
from ...core.names import typed_name
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, ImageValue, Unit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ..channels import Channel, channel_named
from ..otsu import otsu_limits
from .classed import classed

SIDE = 1024
"""Pixels to a side of a piece that is worked on at a time."""
THICK = 32
"""The same in slices."""
Box = tuple[slice, slice, slice]


class Classed(NamedTuple):
    """Which cells are of which class."""

    classes: LabelMap
    table: Table


def _look(given: dict[str, Any]) -> Found | None:
    image = given.get("image")
    if image is None:
        return None
    return Found("dark", "stains take light away") if image.colour else Found("bright", "a marker that shines")


@operation(
    "outline",
    "Class cells",
    name="class-cells",
    keywords="positive negative marker second channel phenotype labelling index proliferation stained fraction",
    takes="series colour",
    called={"look": "Carriers are", "above": "Limit", "ring": "Ring round each", "positive": "Class of carriers",
            "negative": "Class of others"},
    rare="look above ring positive negative",
    group="Cells",
    methods="Cells were classed by their mean value in channel {channel}, the limit by Otsu’s method unless given",
    cites=("Otsu 1979",),
)  # fmt: skip
def class_cells(
    image: Image,
    labels: LabelMap,
    channel: str,
    *,
    look: Annotated[Literal["bright", "dark"] | None, LeftOut("dark in stains, else bright", _look)] = None,
    above: Annotated[ImageValue | None, LeftOut("by Otsu’s threshold of the cells")] = None,
    ring: Annotated[float, Unit("µm"), Between(0, 1e6)] = 0.0,
    positive: str = "Positive",
    negative: str = "Negative",
    progress: Progress = silent(),
) -> Classed:
    """Tell cells that carry a marker from those that do not, by their mean value in the marker's channel.

    The limit between both is that of N. Otsu, IEEE Trans. SMC 9, 1979, among the cells' means, when it is left out.

    Parameters
    ----------
    labels : label map
        A number each cell, as they were found.
    channel : text
        Number or name of the marker's channel, or red, green, blue.
    look : "bright" or "dark"
        Whether cells that carry it are above the limit, or below.
    above : values
        The limit.
    ring : µm; pixels where there is no scale
        Measure in a ring of this width round each cell, instead of within it, as for what lies beside a nucleus.
    positive, negative : text
        What the classes are called.

    Returns
    -------
    classes : LabelMap
        Two labels, the classes; each cell is wholly of one.
    table : Table
        Number, place, mean and class of each cell, and the limit; cells without a value are of no class.

    Raises
    ------
    Trouble
        When there is no such channel, fewer than two cells, the classes have one name, or all cells are alike and no
        limit is given.
    """
    require_same_grid(image, labels)
    names = typed_name(positive), typed_name(negative)
    if not all(names) or names[0].casefold() == names[1].casefold():
        raise Trouble("Both classes need names that differ", "type others")
    source = channel_named(image, channel, progress.part(0.0, 0.1))
    if np.count_nonzero(labels.counts[1:]) < 2:
        raise Trouble(f"“{labels.name}” has fewer than two cells", "find cells first, a number each")
    space = labels.space
    wide = ring * (1.0 if space.unit == "px" else 1e-3)
    held, total, places = _measured(labels, source, wide, progress.part(0.1, 0.9))
    with np.errstate(invalid="ignore", divide="ignore"):
        means = total / held
    numbers = np.flatnonzero(labels.counts)
    numbers = numbers[numbers > 0]
    if look is None:
        look = _look({"image": image}).value  # type: ignore[union-attr]
    limits = [above] if above is not None else otsu_limits(means[numbers])
    if not limits:
        raise Trouble(
            f"All cells of “{labels.name}” are alike in channel {channel}", "give the limit, or another channel"
        )
    limit = float(limits[0])
    carries = means > limit if look == "bright" else means < limit
    class_of = np.where(carries, 1, 2).astype(np.uint16)
    class_of[~np.isfinite(means)] = 0
    class_of[0] = 0
    made = classed(labels, class_of, names, progress.part(0.9, 1.0))
    return Classed(made, _table(labels, image, source, numbers, places, means, class_of, ("", *names), limit, look))


def _measured(
    labels: LabelMap, source: Channel, wide: float, progress: Progress
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Voxels and total by number, where values are measured, and the middle of each cell in the world."""
    from scipy import ndimage

    space = labels.space
    shape = labels.kji.shape
    spacing = [s if n > 1 else 0.0 for s, n in zip(space.spacing, space.shape)][::-1]
    margin = [math.ceil(wide / s) + 1 if s and wide else 0 for s in spacing]
    held, total = np.zeros(LARGEST + 1), np.zeros(LARGEST + 1)
    moments, voxels = np.zeros((LARGEST + 1, 3)), np.zeros(LARGEST + 1)
    parts = list(_parts(shape))
    for core in progress.over(parts, len(parts), "Measuring cells"):
        outer = tuple(slice(max(0, c.start - m), min(n, c.stop + m)) for c, m, n in zip(core, margin, shape))
        numbers = np.asarray(labels.kji[outer])
        if not numbers.any():
            continue
        inner = tuple(slice(c.start - o.start, c.stop - o.start) for c, o in zip(core, outer))
        at = np.argwhere(numbers[inner])
        which = numbers[inner][tuple(at.T)]
        voxels += np.bincount(which, minlength=LARGEST + 1)
        for axis in range(3):
            moments[:, axis] += np.bincount(which, at[:, axis] + core[axis].start, LARGEST + 1)
        if wide:
            away, nearest = ndimage.distance_transform_edt(
                numbers == 0, [s or 1.0 for s in spacing], return_indices=True
            )
            numbers = np.where((away > 0) & (away <= wide), numbers[tuple(nearest)], 0)
        measured = numbers[inner]
        values = np.asarray(source[core], np.float64)
        counts = (measured > 0) & np.isfinite(values)
        held += np.bincount(measured[counts], minlength=LARGEST + 1)
        total += np.bincount(measured[counts], values[counts], LARGEST + 1)
    middle = moments / np.maximum(voxels, 1)[:, None]
    return held, total, space.to_world(middle[:, ::-1])


def _parts(shape: tuple[int, ...]) -> Iterator[Box]:
    for k in range(0, shape[0], THICK):
        for j in range(0, shape[1], SIDE):
            for i in range(0, shape[2], SIDE):
                yield (
                    slice(k, min(shape[0], k + THICK)),
                    slice(j, min(shape[1], j + SIDE)),
                    slice(i, min(shape[2], i + SIDE)),
                )


def _table(labels, image, source, numbers, places, means, class_of, names, limit, look) -> Table:
    from ...core.digits import decimals_of

    space = labels.space
    flat = space.shape[2] == 1
    small = space.unit == "mm" and max(space.spacing) < 0.05
    factor, unit = (1e3, "µm") if small else (1.0, space.unit)
    digits = decimals_of(min(space.spacing) * factor / 10)
    counts = [int(np.count_nonzero(class_of[numbers] == n)) for n in (1, 2)]
    share = 100 * counts[0] / max(1, sum(counts))
    side = "above" if look == "bright" else "below"
    title = f"{labels.name}: {counts[0]} of {sum(counts)} {names[1]} ({share:.1f} %), {side} {limit:.4g}"
    mean = f"mean {source.name}".strip()
    columns = [Column("cell"), *(Column(axis, unit, digits) for axis in ("xy" if flat else "xyz"))]
    columns += [
        Column(mean.replace(" ", "_"), image.unit or "", 4, shown_as=mean),
        Column("limit", image.unit or "", 4),
    ]
    columns += [Column("class")]
    table = Table(title, columns)
    for n in numbers.tolist():
        place = (places[n, : 2 if flat else 3] * factor).tolist()
        value = float(means[n]) if np.isfinite(means[n]) else None
        table.rows.append((n, *place, value, limit, names[int(class_of[n])]))
    return table

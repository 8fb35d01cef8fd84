"""Arithmetic of images by a formula."""

from __future__ import annotations

import numpy as np

from ...core.errors import Trouble
from ...core.formula import Formula
from ...core.image import Image
from ...core.memory import require_room
from ...core.operation import operation
from ...core.progress import Progress, silent
from ...core.resampling import frame_between, resampled
from ..grid.lost import caveats_of

SLICES = 8
"""That are worked out between two looks at the cancel button."""
LETTERS = "abcdefghijklmnopqrstuvwxyz"


@operation(
    "prepare",
    "Calculate",
    name="calculate",
    keywords=(
        "arithmetic formula expression subtract divide ratio where compare maths image math calculator algebra ratio"
    ),
    takes="series",
    version=2,
    group="Values",
    reach=0.0,
    called={"others": "b, c, d …"},
    methods="Images were combined voxel by voxel by the formula {formula}",
)
def calculate(
    image: Image, formula: str, others: list[Image] | None = None, *, unit: str = "", progress: Progress = silent()
) -> Image:
    """Work out a formula voxel by voxel: `a` is the image, `b`, `c` and so on are the others in their order.

    Images on another grid are brought onto the first one's, linearly, by position. A voxel where the formula has no
    value (a division by zero, the logarithm of what is not positive, a place that an image does not reach) has none.

    Parameters
    ----------
    formula : text
        As in `a - 0.5*b`, `where(a > 100, a, 0)`, `max(a, b)`, `log(a)`, `a > 10 and a < 20`. Comparisons give 1 and
        0; `&`, `|` and `~` are read as and, or and not.
    others : images
        `b`, `c`, `d` …; a series counts volume by volume with another one of as many volumes, a single volume with
        each.
    unit : text
        Of the result.

    Returns
    -------
    Image
        float32, on the grid of the first image.

    Raises
    ------
    Trouble
        When the formula cannot be read, holds a name or a call that is not known, or images do not fit together.
    """
    everyone = [image, *(others or [])]
    if len(everyone) > len(LETTERS):
        raise Trouble(f"A formula has at most {len(LETTERS)} images", "work it out in parts")
    names = LETTERS[: len(everyone)]
    read = Formula(formula, names)
    for one in everyone[1:]:
        _require_together(image, one)
    frames = [None if one.space.same_grid(image.space) else frame_between(one.space, image.space) for one in everyone]
    counts = {one.count for one in everyone if one.axes}
    if len(counts) > 1:
        raise Trouble(
            f"These series have different numbers of volumes: {', '.join(map(str, sorted(counts)))}",
            "choose series of one length",
        )
    lead = next((one for one in everyone if one.axes), image)
    for one in everyone:
        if one.axes and [a.size for a in one.axes] != [a.size for a in lead.axes]:
            along = [" and ".join(f"{a.name} ({a.size})" for a in of.axes) for of in (lead, one)]
            raise Trouble(
                f"“{lead.name}” goes along {along[0]}, and “{one.name}” along {along[1]}",
                "choose series of the same axes, or keep one place along an axis first",
            )
    require_room(4 * len(read.used) * int(np.prod(image.space.shape, dtype=object)), "This formula")

    def given_at(index: tuple[int, ...], progress: Progress) -> dict[str, np.ndarray]:
        given = {}
        for name, one, frame in zip(names, everyone, frames):
            if name in read.used:
                values = one.frame(index if one.axes else ()).fetch(progress).T
                given[name] = (values if frame is None else resampled(values, frame, image.space.shape)).astype(
                    np.float32, copy=False
                )
        return given

    def worked_out(given: dict[str, np.ndarray], progress: Progress) -> np.ndarray:
        """A few slices at a time, so that work can be stopped."""
        out = np.empty(image.space.shape[::-1], np.float32)
        for k in progress.over(range(0, len(out), SLICES), what="Calculating"):
            out[k : k + SLICES] = read({name: values[k : k + SLICES] for name, values in given.items()})
        return out

    def volume(index: tuple[int, ...], progress: Progress) -> np.ndarray:
        return worked_out(given_at(index, progress), progress).T

    first = given_at((0,) * len(lead.axes), progress)
    found = worked_out(first, progress)
    there = np.logical_and.reduce([np.isfinite(values) for values in first.values()])
    about = {
        "name": f"{formula} of {image.name}"[:120],
        "unit": unit,
        "caveats": caveats_of(lead, found, there, "a division by zero, or a root or logarithm of what is too low,"),
    }
    if lead.axes:
        return image.like(volume, axes=lead.axes, **about)
    return image.like(np.asfortranarray(found.T), **about)


def _require_together(image: Image, one: Image) -> None:
    from ...core.overlap import require_overlap

    if not one.space.same_grid(image.space):
        require_overlap(image, one)

"""Checks of height maps: lines that what is tall has pulled, and polynomials that bend what is straight."""

from __future__ import annotations

import re

import numpy as np

from ..core.digits import rounded
from ..core.heights import is_height_map
from ..core.image import Image
from ..core.quantity import nanometres
from ..prepare.heights.left_out import medians
from ..prepare.heights.level import LEVELLED
from .notice import Mend, Notice, Subject, check

MOST = 1 << 22
"""Points that are looked at."""
SHARE = 0.02
"""Lines of which this share is tall are ones that could be pulled."""
PULLED = 4.0
"""How many times more than those of other lines, by the median of their size, the offsets of pulled lines are."""
FEWEST = 4
ORDER = re.compile(r"^(?:lines|surface), order ([23])$")


@check("gather", "prepare", "measure", rank=1)
def heights_without_a_unit(subject: Subject) -> list[Notice]:
    """A picture of real numbers from a file that cannot say, or does not, what they are: perhaps heights."""
    image = subject.image
    if image.unit or image.colour or image.axes or image.space.shape[2] != 1 or image.space.sides_known:
        return []
    if image.origin.format != "TIFF" or image.data.dtype.kind != "f":
        return []
    mend = Mend("Say that they are nm", "calculate", {"formula": "a", "unit": "nm"}, ask=True)
    sentence = "The file does not say what its values are. If they are heights, say their unit: nm, µm or mm."
    return [Notice("look", sentence, mend, "no unit")]


@check("prepare", "measure", rank=1)
def streaks(subject: Subject) -> list[Notice]:
    """Lines of a levelled map that lie lower or higher than their neighbours because of what is tall on them.

    What is tall is told from the ground by the threshold of N. Otsu (IEEE Trans. SMC 9, 1979). The offset of a line is
    the median of its ground against that of the lines round it.
    """
    image = subject.image
    if not _levelled_by_lines(image):
        return []
    found = pulled_lines(image)
    if found is None:
        return []
    lines, limit, sign = found
    factor = nanometres(image.unit) or 1.0
    setting = {"limit_above" if sign > 0 else "limit_below": rounded(limit * factor, 0.0, abs(limit * factor) or 1.0)}
    what = "tall" if sign > 0 else "deep"
    order = int(image.facts[LEVELLED].rpartition(" ")[2])
    mend = Mend("Level again without it", "level", {"how": "lines", "robust": False, "order": order, **setting})
    sentence = (
        f"{len(lines)} lines beside what is {what} lie off their neighbours: its height has pulled their fit. "
        f"Leave it out of the fit."
    )
    return [Notice("look", sentence, mend, "streaks")]


@check("prepare", rank=2)
def bent(subject: Subject) -> list[Notice]:
    """A polynomial of order 2 or 3 where there was no bow."""
    order = ORDER.match(subject.image.facts.get(LEVELLED, ""))
    if order is None:
        return []
    sentence = (
        f"Order {order.group(1)} takes a bow away, and bends what is straight when there was none: "
        "compare with order 1 on a flat sample."
    )
    return [Notice("look", sentence, None, "bent")]


def _levelled_by_lines(image: Image) -> bool:
    return is_height_map(image) and image.facts.get(LEVELLED, "").startswith("lines")


def pulled_lines(image: Image) -> tuple[np.ndarray, float, int] | None:
    """Lines (rows) of a level map that were pulled, the height that parts what pulled them from the ground, and whether
    it is tall (1) or deep (−1); None when there are none."""
    from skimage.filters import threshold_otsu

    heights = image.kji[0].astype(np.float32, copy=False)
    rows, columns = heights.shape
    if rows < 3 * FEWEST or columns < 16:
        return None
    heights = heights[:, :: max(1, heights.size // MOST)]
    there = np.isfinite(heights)
    if there.mean() < 0.5:
        return None
    middle = float(np.median(heights[there]))
    spread = 1.4826 * float(np.median(np.abs(heights[there] - middle)))
    best = None
    for sign in (1, -1):
        turned = sign * (heights - middle)
        far = turned[there & (turned > 3 * spread)]
        if far.size < 8:
            continue
        limit = max(float(threshold_otsu(turned[there & (turned > 0)])), 3 * spread)
        tall = there & (turned > limit)
        share = tall.mean(1)
        ground = medians(np.where(there & ~tall, turned, np.float32(np.nan)))
        offset = ground - np.nanmedian(ground)
        touched = share > SHARE
        if touched.sum() < FEWEST or (~touched).sum() < FEWEST:
            continue
        usual = 1.4826 * float(np.nanmedian(np.abs(offset[~touched]))) + 1e-12
        pulled = touched & (offset < -PULLED * usual)  # what is tall draws the fit up, and the ground lies too low
        if (
            pulled.sum() >= FEWEST
            and pulled.sum() > 0.3 * touched.sum()
            and (best is None or pulled.sum() > best[0].size)
        ):
            best = np.flatnonzero(pulled), middle + sign * limit, sign
    return best

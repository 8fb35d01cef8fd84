"""Checks of a mask of the brain."""

from __future__ import annotations

import numpy as np

from ..core.labels import HUGE
from ..core.quantity import short_size
from .notice import Mend, Notice, Subject, check

AIR = 0.12
"""Share of the label's median brightness below which a voxel is as dark as air."""
OUTSIDE = 0.03
"""Share of the label that may be so dark: vessels and the edge are."""
SMALLEST, LARGEST = 0.02, 0.85
"""Shares of the head that a brain has, at least and at most."""
HOLE = 1e-4
"""Share of the label below which what it encloses is not worth a word."""


@check("prepare", "outline", "measure")
def mask_of_the_brain(subject: Subject) -> list[Notice]:
    """A label called Brain that leaves the head, has holes, or is too large or small for a brain."""
    from scipy import ndimage

    labels, image = subject.labels, subject.image
    row = next((r for r in labels.table if r.name.casefold() == "brain"), None) if labels is not None else None
    if labels is None or row is None or not labels.counts[row.number] or labels.kji.size > HUGE:
        return []
    if not labels.space.same_grid(image.space) or image.colour or not image.in_memory:
        return []
    inside, values = labels.kji == row.number, image.kji
    where = ndimage.find_objects(inside.view(np.uint8))[0]
    _, cell, unit = labels.space.extent
    again = Mend("Take out again", "take-out-brain", {"label": row.name}, ask=True)
    found: list[Notice] = []

    def say(sentence: str) -> None:
        found.append(Notice("look", sentence, again, "mask_of_the_brain"))

    seen = values[where][inside[where]]
    middle = float(np.median(seen[np.isfinite(seen)])) if np.isfinite(seen).any() else 0.0
    if middle > 0:
        dark = int(np.count_nonzero(~(seen > AIR * middle)))
        if dark > OUTSIDE * seen.size:
            say(f"{row.name} leaves the head: {short_size(dark * cell, unit)} of it is as dark as air.")
        head = int(np.count_nonzero(values > 0.25 * middle))
        share = seen.size / max(head, 1)
        if not SMALLEST < share < LARGEST and min(labels.space.shape) > 3:
            size = "large" if share >= LARGEST else "small"
            say(f"{row.name} is {100 * share:.0f} % of the head, which is oddly {size}.")
    box = np.pad(inside[where], 1)
    holes = int(np.count_nonzero(ndimage.binary_fill_holes(box) & ~box & (np.pad(labels.kji[where], 1) == 0)))
    if holes > max(HOLE * seen.size, 1):
        say(f"{row.name} has holes, {short_size(holes * cell, unit)}.")
    return found

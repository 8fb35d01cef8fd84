"""Which parts of a region in one slice go on in the next drawn slice."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

CORNERS = np.ones((3, 3), bool)


@dataclass(frozen=True)
class Fellows:
    """Parts of two drawn slices that go together: numbers of pieces in the one and in the other. One side is empty
    where a part ends."""

    below: tuple[int, ...]
    above: tuple[int, ...]


def pieces(mask: np.ndarray) -> tuple[np.ndarray, int]:
    """Connected pieces of a slice, numbered from 1, and how many there are; pixels touch by corners too."""
    from scipy import ndimage

    return ndimage.label(mask, CORNERS)


def fellows(below: np.ndarray, above: np.ndarray, reach: float, spacing: tuple[float, float]) -> list[Fellows]:
    """Which pieces of two slices go together: those that overlap, and of those that overlap nothing the nearest one.

    A piece that goes with several, as a branch does, makes them one group.

    Parameters
    ----------
    below, above : arrays [row, column]
        Numbers of pieces, 0 where there is none.
    reach : in the unit of the spacing
        How far beside it a piece may go on that overlaps nothing.
    spacing : two numbers
        Of rows and of columns.
    """
    from scipy import ndimage
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    ones, others = int(below.max(initial=0)), int(above.max(initial=0))
    both = (below > 0) & (above > 0)
    met = np.bincount(below[both].astype(np.int64) * (others + 1) + above[both]) if both.any() else np.zeros(0, int)
    links = [divmod(int(n), others + 1) for n in np.flatnonzero(met)]
    for mine, theirs, count, known, turned in (
        (below, above, ones, {a for a, _ in links}, False),
        (above, below, others, {b for _, b in links}, True),
    ):
        lonely = [n for n in range(1, count + 1) if n not in known]
        if not lonely or not theirs.any():
            continue
        away, at = ndimage.distance_transform_edt(theirs == 0, sampling=spacing, return_indices=True)
        for number in lonely:
            own = np.flatnonzero(mine.ravel() == number)
            nearest = own[int(away.ravel()[own].argmin())]
            if away.ravel()[nearest] <= reach:
                fellow = int(theirs[at[0].ravel()[nearest], at[1].ravel()[nearest]])
                links.append((fellow, number) if turned else (number, fellow))
    rows, columns = [a - 1 for a, _ in links], [ones + b - 1 for _, b in links]
    graph = coo_array((np.ones(len(links)), (rows, columns)), (ones + others, ones + others))
    count, group = connected_components(graph, directed=False)
    found = []
    for n in range(count):
        members = np.flatnonzero(group == n)
        found.append(
            Fellows(
                tuple(int(m) + 1 for m in members if m < ones), tuple(int(m) - ones + 1 for m in members if m >= ones)
            )
        )
    return found

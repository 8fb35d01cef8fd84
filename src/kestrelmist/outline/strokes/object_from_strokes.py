"""From strokes to object: a few strokes inside and outside, and the object between them is found."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.filled import covered
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.numbers_of import numbers_of
from ...core.image import Image
from ...core.label_boxes import Box, boxes_of, round_all, seen_from
from ...core.labels import Label, LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.patch import LabelEdit, patch_to
from ...core.progress import Progress, silent
from .geodesic import geodesic
from .likeness import likeness
from .walker import walked

OUTSIDE = ("outside", "background", "not", "rest")
"""Names of strokes that tell what does not belong."""
BLUR = 0.5
"""Voxels over which values are taken together."""
STEEP, LIKE, FAR, HOLD, EDGE = 0.2, 0.5, 3.0, 0.003, 2.0
"""How dear slopes are, how much values and ways count, how firmly each voxel keeps to them, and how sharp edges are."""
WIDEN = 1.3
"""Power with which walking gets harder as what lies equally far from the strokes inside gets larger."""
ROUND, SPIKES = 0.5, 0.1
"""Voxels over which shares are taken together at the end, and the share of an object that may be spikes."""
BESIDE = 0.6
"""How far beyond strokes inside, in their own extent, the object may go on where no stroke outside bounds it."""
LEAST = 12
WIDER = 3
"""Times that more room is given where an object reaches the end of it."""
MOST = 1 << 27
"""Voxels between strokes that are worked on."""


@dataclass(frozen=True)
class Strokes:
    """What was drawn: numbers from 1 on for objects, by name, and where; 255 is outside."""

    names: list[str]
    marked: np.ndarray
    box: Box


@operation(
    "outline",
    "From strokes to object",
    name="object-from-strokes",
    version=2,
    keywords="random walker scribbles graph cut geodesic interactive segmentation paint seeds foreground background",
    called={
        "strokes": "Strokes as labels",
        "marks": "Strokes as marks",
        "which": "Marks that are strokes",
        "outside": "Name of strokes outside",
    },
    rare="which outside beyond",
    group="By value",
    methods="Objects were found from strokes inside and outside by geodesic distances and a random walker",
    cites=("Criminisi 2008", "Grady 2006"),
)
def object_from_strokes(
    image: Image,
    labels: LabelMap,
    strokes: LabelMap | None = None,
    marks: Marks | None = None,
    which: str = "all",
    *,
    outside: str = "Outside",
    beyond: bool = False,
    progress: Progress = silent(),
) -> LabelEdit:
    """Find what strokes inside and outside mean: every voxel goes to the strokes that it hangs together with.

    Ways from the strokes are long across edges and through what looks otherwise (geodesic distances: A. Criminisi et
    al., ECCV 2008); then neighbours that are alike go together (random walker: L. Grady, IEEE Trans. Pattern Anal.
    Mach. Intell. 28, 2006). The object keeps to the strokes: it goes no further than those outside, and is joined to
    those inside. More strokes mend it.

    Parameters
    ----------
    strokes : label map
        Strokes as labels: each label an object of its name, those called “Outside” what does not belong.
    marks : marks
        Strokes as marks (lines and contours), by their names; instead of labels, or beside them.
    which : text
        Numbers of the marks that are strokes, as in 3, 5-9; or "all".
    outside : text
        What strokes outside are called; “background” and “rest” mean it too.
    beyond : bool
        Whether the whole image counts, and not only what lies between the strokes.

    Raises
    ------
    Trouble
        When there are no strokes, or of one side only, the label is locked, or they lie on another grid.
    """
    lines = [] if marks is None else [marks[n] for n in numbers_of(which, marks)]
    drawn = _drawn(labels, strokes, lines, outside)
    table = labels.table
    rows: list[Label] = []
    for name in drawn.names:
        if table.has_name(name):
            row = table.named(name)
            labels.require_unlocked(row)
        else:
            like = strokes.table.named(name).colour if strokes is not None and strokes.table.has_name(name) else None
            table, row = table.with_new(name, like)
        rows.append(row)
    require_same_grid(image, labels)
    everything: Box = tuple(slice(0, n) for n in image.kji.shape)  # type: ignore[assignment]
    box = everything if beyond else _between(drawn, image)
    if np.prod([s.stop - s.start for s in box], dtype=float) > MOST:
        raise Trouble("The strokes lie too far apart", "draw strokes outside that bound the object more closely")
    numbers, box, cut = _closed(image, drawn, box, len(rows), progress)
    whole = _with_old(labels, rows, box)
    after = labels.kji[whole].copy()
    for row in rows:  # what an earlier try has left
        after[after == row.number] = 0
    here = seen_from(box, whole)
    for n, row in enumerate(rows, 1):
        part = after[here]
        part[(numbers == n) & (part == 0)] = row.number
    k, j, i = (s.start for s in whole)
    named = f"“{rows[0].name}”" if len(rows) == 1 else f"{len(rows)} objects"
    told = ", cut off beyond the strokes: draw some there too" if cut else ""
    return LabelEdit(f"{named} from strokes{told}", patch_to(labels, after, (k, j, i)), labels.table, table)


def _with_old(labels: LabelMap, rows: list[Label], box: Box) -> Box:
    """A box with all voxels that some labels have now."""
    there = boxes_of(labels.kji) if any(labels.counts[row.number] for row in rows) else {}
    return round_all([box, *(there[row.number] for row in rows if row.number in there)])


def _drawn(labels: LabelMap, strokes: LabelMap | None, marks: list[Mark], outside: str) -> Strokes:
    """The strokes on the grid of the labels."""
    known = {outside.strip().casefold(), *OUTSIDE}
    marked = np.zeros(labels.kji.shape, np.uint8)
    names: list[str] = []
    if strokes is not None:
        if not strokes.space.same_grid(labels.space):
            raise Trouble(f"“{strokes.name}” lies on another grid", "bring the strokes onto the image")
        for row in strokes.table:
            if strokes.counts[row.number]:
                marked[strokes.kji == row.number] = _number(row.name, names, known)
    for mark in marks:
        if mark.shape in ("text", "arrow", "angle"):
            continue
        cover = covered(mark, labels.space)
        if cover is not None:
            number = _number(mark.name or "Object", names, known)
            marked[cover.part][cover.mask.view(bool)] = number
    there = np.flatnonzero(np.bincount(marked.ravel(), minlength=256))
    if there.size < 2:
        raise Trouble("There are no strokes", "draw some inside the object, and some outside it")
    if not names:
        raise Trouble("All strokes are outside", "draw one inside the object, under its name")
    if len(names) == 1 and 255 not in there:
        raise Trouble(f"All strokes are of “{names[0]}”", f"draw some outside it, called “{outside}”")
    at = np.nonzero(marked)
    box: Box = tuple(slice(int(a.min()), int(a.max()) + 1) for a in at)  # type: ignore[assignment]
    return Strokes(names, marked, box)


def _number(name: str, names: list[str], known: set[str]) -> int:
    if name.strip().casefold() in known:
        return 255
    if name not in names:
        names.append(name)
    if len(names) > 254:
        raise Trouble("There are more than 254 objects", "find them in turns")
    return names.index(name) + 1


def _between(drawn: Strokes, image: Image) -> Box:
    """What lies between the strokes; on sides that no stroke outside bounds, so much more as the object may go on."""
    inside = np.nonzero((drawn.marked > 0) & (drawn.marked < 255))
    found = []
    for n, (axis, whole) in enumerate(zip(inside, drawn.box)):
        low, high = int(axis.min()), int(axis.max())
        more = max(LEAST, round(BESIDE * (high - low + 1)))
        first = whole.start if whole.start < low else low - more
        last = whole.stop - 1 if whole.stop - 1 > high else high + more
        found.append(slice(max(0, first), min(image.kji.shape[n], last + 1)))
    return tuple(found)  # type: ignore[return-value]


def _closed(image: Image, drawn: Strokes, box: Box, count: int, progress: Progress) -> tuple[np.ndarray, Box, bool]:
    """The objects, the box they were looked for in, and whether they are cut off where no stroke outside bounds them:
    a wider box is tried a few times, and taken when they end within it."""

    def found(part: Box, inner: Progress) -> np.ndarray:
        values = np.asarray(image.kji[part], np.float32)
        return objects_in(values, drawn.marked[part], count, image.space.spacing[::-1], inner)

    first = found(box, progress.part(0.0, 0.4))
    numbers, wide = first, box
    for n in range(WIDER):
        sides = _touched(numbers, wide, drawn, image.kji.shape)
        if not sides:
            return numbers, wide, False
        ends = [[s.start, s.stop] for s in wide]
        for axis, side in sides:
            more = max(LEAST, (wide[axis].stop - wide[axis].start) // 2)
            ends[axis][side] += more if side else -more
        k, j, i = (slice(max(0, a), min(size, b)) for (a, b), size in zip(ends, image.kji.shape))
        wide = k, j, i
        if np.prod([s.stop - s.start for s in wide], dtype=float) > MOST:
            break
        numbers = found(wide, progress.part(0.4 + 0.6 * n / WIDER, 0.4 + 0.6 * (n + 1) / WIDER))
    if not _touched(numbers, wide, drawn, image.kji.shape):
        return numbers, wide, False
    return first, box, True


def _touched(numbers: np.ndarray, box: Box, drawn: Strokes, shape: tuple[int, ...]) -> list[tuple[int, int]]:
    """Sides (axis, 0 or 1) of a box that objects reach, where neither a stroke outside nor the image ends them."""
    inside = np.nonzero((drawn.marked > 0) & (drawn.marked < 255))
    found = []
    for axis in range(3):
        low, high = int(inside[axis].min()), int(inside[axis].max())
        bounded = drawn.box[axis].start < low, drawn.box[axis].stop - 1 > high
        ends = box[axis].start <= 0, box[axis].stop >= shape[axis]
        for side in (0, 1):
            face = np.take(numbers, -1 if side else 0, axis)
            if not bounded[side] and not ends[side] and face.any():
                found.append((axis, side))
    return found


def objects_in(values: np.ndarray, marked: np.ndarray, count: int, spacing, progress: Progress) -> np.ndarray:
    """Which object every voxel belongs to, 0 for none.

    Parameters
    ----------
    values : float32 array [k, j, i]
    marked : uint8 array like it
        Strokes: 1 to `count` for objects, 255 outside, 0 where nothing is drawn.
    spacing : three numbers along k, j, i
    """
    from scipy import ndimage

    known = np.isfinite(values)
    if not known.any():
        raise Trouble("The image has no value between the strokes", "draw them where it has")
    middle, spread = float(np.mean(values[known], dtype=float)), float(np.std(values[known], dtype=float))
    scale = spread if spread > 1e-6 * abs(middle) else np.inf  # what differs by rounding only is even
    values = np.where(known, (values.astype(float) - middle) / scale, 0).astype(np.float32)
    wide = [BLUR if n > 1 else 0.0 for n in values.shape]
    soft = ndimage.gaussian_filter(values, wide)
    slope = np.sqrt(sum(np.gradient(soft, axis=a) ** 2 for a in range(3) if soft.shape[a] > 1) + np.zeros_like(soft))
    usual = float(np.median(slope[marked > 0])) or float(slope.mean()) or 1.0
    cost = (1 + STEEP * np.minimum(slope / usual, 1e6)).astype(np.float32)
    shares = []
    for n in range(1, count + 1):
        progress.at((n - 1) / count, "Following the strokes")
        inside, outside = marked == n, (marked > 0) & (marked != n)
        shares.append(_share(soft, cost, usual, inside, outside, spacing, progress))
    found = np.zeros(marked.shape, np.uint8)
    best = np.full(marked.shape, np.float32(0.5))
    for n, share in enumerate(shares, 1):
        mine = _without_spikes(_joined(share > 0.5, marked == n), marked == n)
        wins = mine & (share > best)
        found[wins], best[wins] = n, share[wins]
    progress.at(1.0)
    return found


def _share(soft, cost, usual: float, inside, outside, spacing, progress: Progress) -> np.ndarray:
    from scipy import ndimage

    step = min(spacing)
    with ThreadPoolExecutor(2) as pool:
        ways = list(pool.map(lambda s: geodesic(s, cost, np.array(spacing) / step, progress.stop), (inside, outside)))
    progress.at(progress.fraction)
    like = likeness(soft, inside, outside)
    odds = FAR * np.log((ways[1] + 1) / (ways[0] + 1)) + LIKE * np.clip(like, -4, 4)
    prior = (1 / (1 + np.exp(-np.clip(odds, -30, 30)))).astype(np.float32)
    seeds = np.full(inside.shape, -1, np.int8)
    seeds[outside], seeds[inside] = 0, 1
    share = walked(soft, _ease(ways[0]), prior, HOLD, seeds, EDGE / usual**2, spacing, progress.stop)
    progress.at(progress.fraction)
    rounded = ndimage.gaussian_filter(share, [ROUND if n > 1 else 0.0 for n in share.shape])
    rounded[inside], rounded[outside] = 1, 0
    return rounded


def _ease(way: np.ndarray) -> np.ndarray:
    """How easily one walks, by how much there is that lies equally far from the strokes inside.

    A walker starts from a short line inside and a long one round it: without this he would be outside nearly always,
    and objects shrink to their strokes. So each shell round the strokes lets about the same pass.
    """
    from scipy import ndimage

    shell = np.minimum(np.round(way), 10_000).astype(np.int32)
    count = ndimage.gaussian_filter1d(np.bincount(shell.ravel()).astype(float), 1.0)
    ease = np.maximum(count, 0.5) ** -WIDEN
    return (ease / (ease[shell].mean()))[shell].astype(np.float32)


def _without_spikes(mask: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """A mask without what is only a voxel or two thick, where that is little of it."""
    from scipy import ndimage

    cross = ndimage.generate_binary_structure(3, 1)
    for axis, n in enumerate(mask.shape):
        if n == 1:
            cross = np.take(cross, [1], axis)
    rounded = ndimage.binary_dilation(ndimage.binary_erosion(mask, cross, border_value=1), cross) & mask
    kept = _joined(rounded | inside, inside)
    return kept if np.count_nonzero(kept) >= (1 - SPIKES) * np.count_nonzero(mask) else mask


def _joined(mask: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """What of a mask hangs together with strokes."""
    from scipy import ndimage

    pieces, _ = ndimage.label(mask | inside, np.ones((3, 3, 3), bool))
    kept = np.zeros(int(pieces.max()) + 1, bool)
    kept[pieces[inside]] = True
    kept[0] = False
    return kept[pieces]

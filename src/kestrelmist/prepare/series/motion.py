"""Head motion in a series: found against a reference, taken out with one resampling, and told."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...align.rigid_fit import Reference
from ...core.chain import PerVolume
from ...core.curve import COLOURS, Curve
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.mapping import Mapping
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, NewPath, OrThing, Unit
from ...core.progress import Progress, silent
from ...core.resampling import resampled
from ...core.rigid import moved_by
from ...core.table import Column, Table
from ...formats.grid_facts import turned_in_the_world
from ...formats.transform_files import write_transform_list
from .one_series import bright_part

VOLUMES = ("first", "middle", "last", "mean")
"""Words for the volume that others are compared with."""
SHIFTS, TURNS = ("trans_x", "trans_y", "trans_z"), ("rot_x", "rot_y", "rot_z")
"""Names of the columns, as BIDS derivatives have them."""
DISPLACEMENT, MEAN = "framewise_displacement", "global_mean"
BEFORE, AFTER = "dvars_before", "dvars_after"
"""Of the series as it came, and of the one without motion."""


class Still(NamedTuple):
    """The series without motion, and what the motion was."""

    image: Image
    motion: Table
    curves: list[Curve]
    moves: Mapping


@operation(
    "prepare",
    "Correct motion",
    name="correct-motion",
    keywords=(
        "realign head movement series rigid framewise displacement dvars motion correction realignment head "
        "motion volume registration"
    ),
    takes="series",
    version=3,
    group="Series",
    called={
        "separate": "Reference image",
        "mask": "Only within",
        "how": "Interpolation",
        "radius": "Radius of head",
        "table": "Table to file",
        "transforms": "Moves to file",
    },
    rare="how radius table transforms",
    methods=(
        "Head motion was corrected by aligning every volume with a reference ({reference}) by six rigid "
        "parameters found by least squares, with one resampling ({how})"
    ),
    cites=(
        "Baker 2004",
        "Power 2012",
    ),
)
def correct_motion(
    image: Image,
    reference: Annotated[str, OrThing("separate", VOLUMES)] = "middle",
    *,
    separate: Image | None = None,
    mask: LabelMap | None = None,
    how: Literal["linear", "cubic", "sinc"] = "cubic",
    radius: Annotated[float | None, Unit("mm"), Between(0, 1e4), LeftOut("of what is compared", was=0.0)] = None,
    table: NewPath | None = None,
    transforms: NewPath | None = None,
    progress: Progress = silent(),
) -> Still:
    """Bring every volume of a series onto a reference by three shifts and three turns, with one resampling.

    Found by least squares, with a gain and an offset fitted along (S. Baker and I. Matthews, 2004). The numbers say
    where the head is: a place p of the reference is found in the volume at R (p − c) + c + t, c being the middle of the
    grid, t the shifts in mm along the world's x, y and z, and R the turns in rad about x, then y, then z.

    Parameters
    ----------
    reference : text
        "first", "middle", "last", "mean" (of all, made twice), the number of a volume, from 1 on, or the name of a
        separate image.
    separate : image
        One volume on the same grid, in place of one of the series.
    mask : label map
        Only voxels that carry a label are compared, in the reference; the head when left out.
    how : text
        Linear, cubic B-spline or windowed sinc.
    radius : mm
        Of the head, by which turns count in the framewise displacement (J. D. Power et al., NeuroImage 59, 2012); that
        of the voxels that are compared when 0.
    table : path
        A new CSV file for the table.
    transforms : path
        A new file of ITK text with one transform for every volume, that leads from a place of the reference to where it
        is found in the volume.

    Returns
    -------
    image : Image
        float32; a place beyond a volume has no value.
    motion : Table
        For each volume: trans_x, trans_y, trans_z (mm), rot_x, rot_y, rot_z (rad), framewise_displacement (mm),
        dvars_before and dvars_after (percent of the mean: of the series as it came, and of the one without motion) and
        global_mean (of the series as it came).
    curves : Curve
        The same through time.
    moves : Mapping
        From a place of the reference to where it is found in each volume: the last one of a chain that brings the
        series as it was taken elsewhere, with one interpolation for all.

    Raises
    ------
    Trouble
        When the image is no series, the reference is none, lies on another grid or holds nothing, or a volume is empty.
    """
    if not image.axes:
        raise Trouble(f"“{image.name}” is one volume, not a series", "choose a series")
    if len(image.axes) > 1:
        raise Trouble(f"“{image.name}” has more than one axis besides space", "keep one place along it first")
    count = image.axes[0].size
    target, listed = (None if given is None else Path(given) for given in (table, transforms))
    for path in (target, listed):
        if path is not None and path.exists():
            raise Trouble("There is something of this name already", "name a new file", path)
    if target is not None and target == listed:
        raise Trouble("The table and the transforms cannot be one file", "name another for one of them", target)
    chosen = _reference(image, reference, separate, progress.part(0.0, 0.1))
    inside = None
    if mask is not None:
        require_same_grid(image.frame((0,)), mask)
        inside = mask.kji > 0
        if not inside.any():
            raise Trouble("The mask is empty", "choose one with voxels")
    fit = Reference(chosen, image.space, inside)
    found = _found(image, fit, progress.part(0.1, 0.5 if reference == "mean" else 0.9))
    if reference == "mean" and separate is None:
        again = np.zeros(chosen.shape, np.float64)
        for n, matrix in enumerate(found):
            progress.at(0.5 + 0.1 * n / count, "Averaging")
            again += np.nan_to_num(_placed(image, n, matrix, "linear", progress))
        fit = Reference(again / count, image.space, inside)
        found = _found(image, fit, progress.part(0.6, 0.9), found)
    moved = np.array([moved_by(matrix, image.space.centre) for matrix in found])

    def fetch(index: tuple[int, ...], progress: Progress) -> np.ndarray:
        return _placed(image, index[0], found[index[0]], how, progress).T

    facts = turned_in_the_world(image, [matrix[:3, :3].T for matrix in found])
    still = image.like(fetch, name=f"{image.name}, still", facts=facts)
    made = _table(image, still, moved, radius or fit.radius, progress.part(0.9, 1.0))
    if target is not None:
        made.save_csv(target)
    if listed is not None:
        write_transform_list(listed, found)
    world = image.space.world
    moves = PerVolume(np.array(found), world, world, f"{image.name}, motion", image.subject)
    return Still(still, made, _curves(image, made), moves)


def _reference(image: Image, wanted: str, separate: Image | None, progress: Progress) -> np.ndarray:
    count = image.axes[0].size
    if separate is not None:
        if separate.axes:
            raise Trouble(f"“{separate.name}” is a series, and one volume is wanted", "choose one, as in name@3")
        if not separate.space.same_grid(image.space):
            raise Trouble(f"“{separate.name}” lies on another grid than “{image.name}”", "resample it onto that first")
        return separate.kji
    text = wanted.strip().lower()
    if text == "mean":
        total = np.zeros(image.space.shape[::-1], np.float64)
        for n in range(count):
            progress.at(n / count, "Averaging")
            total += np.nan_to_num(image.frame((n,)).fetch(progress).T)
        return total / count
    named = {"first": 1, "middle": count // 2 + 1, "last": count}
    if text not in named and not (text.isdigit() and 1 <= int(text) <= count):
        raise Trouble(
            f"“{wanted}” is no volume of “{image.name}”",
            f"give first, middle, last, mean, or a number from 1 to {count}",
        )
    number = named[text] if text in named else int(text)
    return image.frame((number - 1,)).fetch(progress).T


def _found(image: Image, fit: Reference, progress: Progress, start: list[np.ndarray] | None = None) -> list[np.ndarray]:
    """The matrix of every volume; each search begins where the head was in the volume before."""
    count = image.axes[0].size
    found: list[np.ndarray] = []
    for n in range(count):
        progress.at(n / count, "Finding the motion")
        values = image.frame((n,)).fetch(progress).T
        there = values[np.isfinite(values)] if values.dtype.kind == "f" else values
        if not there.size or there.min() == there.max():
            raise Trouble(f"Volume {n + 1} of “{image.name}” is empty", "leave it out first")
        begin = start[n] if start is not None else found[-1] if found else None
        found.append(fit.find(values, begin))
    return found


def _placed(image: Image, n: int, matrix: np.ndarray, how: str, progress: Progress) -> np.ndarray:
    space = image.space
    frame = (space.inverse @ matrix @ space.affine)[:3]
    return resampled(image.frame((n,)).fetch(progress).T, frame, space.shape, how)  # type: ignore[arg-type]


def framewise_displacement(moved: np.ndarray, radius: float) -> np.ndarray:
    """How far the head has moved since the volume before, mm: shifts, and turns as arcs on a sphere, added up (J. D.
    Power et al., NeuroImage 59, 2012). 0 for the first volume."""
    steps = np.abs(np.diff(moved, axis=0, prepend=moved[:1]))
    return steps[:, :3].sum(1) + radius * steps[:, 3:].sum(1)


def change_of_signal(image: Image, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
    """DVARS and the mean of every volume: the root mean square of the change since the volume before over voxels of the
    head, in percent of their mean (J. D. Power et al., 2012). No value for the first volume."""
    count = image.axes[0].size
    dvars, means = np.full(count, np.nan), np.empty(count)
    before = inside = None
    for n in range(count):
        progress.at(n / count, "Looking at the changes")
        values = image.frame((n,)).fetch(progress).astype(np.float32)
        if inside is None:
            inside = bright_part(np.nan_to_num(values))
        seen = values[inside].astype(np.float64)
        there = np.isfinite(seen)
        means[n] = seen[there].mean() if there.any() else np.nan
        if before is not None and means[n]:
            change = (seen - before)[there & np.isfinite(before)]
            dvars[n] = 100 * np.sqrt((change**2).mean()) / abs(means[n]) if change.size else np.nan
        before = seen
    return dvars, means


def _table(image: Image, still: Image, moved: np.ndarray, radius: float, progress: Progress) -> Table:
    far = framewise_displacement(moved, radius)
    before, means = change_of_signal(image, progress.part(0.0, 0.3))
    after, _ = change_of_signal(still, progress.part(0.3, 1.0))
    columns = [Column("volume"), *(Column(n, "mm", 4) for n in SHIFTS), *(Column(n, "rad", 6) for n in TURNS)]
    columns += [
        Column(DISPLACEMENT, "mm", 4),
        *(Column(n, "%", 3) for n in (BEFORE, AFTER)),
        Column(MEAN, image.unit, 2),
    ]
    made = Table(f"Motion of {image.name}", columns)
    for n, row in enumerate(moved):
        numbers = (*row, far[n], before[n], after[n], means[n])
        made.rows.append((n + 1, *(None if np.isnan(v) else float(v) for v in numbers)))
    return made


def _curves(image: Image, table: Table) -> list[Curve]:
    found = []
    units = {c.name: c.unit for c in table.columns}
    for n, name in enumerate((*SHIFTS, *TURNS, DISPLACEMENT, BEFORE, AFTER, MEAN)):
        values = np.array([np.nan if v is None else v for v in table.column(name)], float)
        found.append(
            Curve.over(
                image.axes[0],
                values,
                unit=units[name],
                of=f"motion of {image.name}",
                colour=COLOURS[n % 3 if n < 6 else n - 2],
                dashes="dashed" if name in TURNS else "solid",
                name=f"{name} of {image.name}",
                subject=image.subject,
            )
        )
    return found

"""Labels of another image brought along onto this one's grid, by position."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.at_places import Places
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap, LabelTable
from ...core.left_out import Leads
from ...core.mapping import Mapping
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.overlap import apart, gap_between, gap_through
from ...core.patch import LabelEdit, whole_difference
from ...core.progress import Progress, silent
from ...core.resampling import frame_between, resampled
from ...core.space import Space
from ...core.through import resampled_through
from ...core.transform import Transform
from .resample import as_seen, softened, softening


@operation(
    "prepare",
    "Bring labels along",
    name="bring-labels",
    keywords="labels resample onto another grid majority transfer carry propagate",
    takes="series colour",
    group="Grid",
    called={"source": "From"},
    methods="Labels were brought along by world position, each voxel taking the label that is nearest",
)
def bring_labels(
    image: Image,
    labels: LabelMap,
    source: LabelMap,
    *,
    through: Annotated[Mapping | None, Leads("image", "source")] = None,
    progress: Progress = silent(),
) -> LabelEdit:
    """Bring the labels of another image onto this one, by position in the world: after a crop, a resampling or a turn,
    say. Every voxel gets the label that most of it carries, or none when most of it carries none.

    Labels of one name are one: what carries it here already keeps it. Voxels that carry a label here keep theirs.

    Parameters
    ----------
    source : label map
        The labels to bring.
    through : transform
        Where they lie in another space than the image: from that of the image to theirs. In a study the way is found
        among its transforms.

    Raises
    ------
    Trouble
        When the source is empty, does not lie where the image does, or a label of one name is locked here.
    """
    require_same_grid(image if not image.axes else image.frame((0,) * len(image.axes)), labels)
    present = [row for row in source.table if source.counts[row.number]]
    if not present:
        raise Trouble(f"“{source.name}” has no voxel with a label", "choose other labels")
    require_together(image, source, through)
    way = through if through is not None else Transform(np.eye(4))
    here, best = _most(source, [row.number for row in present], image.space, way, progress)
    table, numbers = labels.table, {}
    for row in present:
        if not (best == row.number).any():
            continue
        table, own = (table, table.named(row.name)) if table.has_name(row.name) else _added(table, row.name, row.colour)
        labels.require_unlocked(own)
        numbers[row.number] = own.number
    if not numbers:
        raise Trouble(f"No label of “{source.name}” lies within “{image.name}”", "choose other labels")
    work = labels.copied()
    free = here & (labels.kji == 0)
    for theirs, own in numbers.items():
        work.kji[free & (best == theirs)] = own
    changed = (work.kji != labels.kji).view(np.uint8)
    title = f"Bring the labels of “{source.name}” along"
    return LabelEdit(title, whole_difference(labels, work, changed), labels.table, table)


def _added(table: LabelTable, name: str, colour: str):
    """The table with a label of this name in the colour that it has elsewhere."""
    table, row = table.with_new(name)
    row = replace(row, colour=colour)
    return LabelTable([row if one.number == row.number else one for one in table]), row


def require_together(image: Image, source: LabelMap, through: Mapping | None) -> None:
    """Raises Trouble when labels do not lie where an image does, or nothing leads from one to the other."""
    a, b = image.space, source.space
    if through is None and a.world.id and b.world.id and not a.same_grid(b) and not a.world.is_one_with(b.world):
        raise apart(source.name, b.world, image.name, a.world)
    gap = gap_between(b, a) if through is None else gap_through(a, b, through)
    if a.unit != b.unit or gap > 0:
        raise Trouble(f"“{source.name}” does not lie where “{image.name}” does", "place one of them first")


def _most(
    source: LabelMap, numbers: list[int], target: Space, way: Mapping, progress: Progress
) -> tuple[np.ndarray, np.ndarray]:
    """Where most of a voxel carries some label, and which of them it carries most of; [k, j, i]."""
    places = Places(source.space, target, way) if not isinstance(way, Transform) else None
    seen, shape = as_seen(target, way), target.shape[::-1]
    frame = frame_between(source.space, seen)
    widths = softening(source.space, seen)
    if isinstance(way, Transform) and not any(widths) and _falls_on_voxels(frame):  # each voxel is one of the source's
        found = resampled(source.kji, frame, target.shape, "nearest", 0, progress)
        return found > 0, found.astype(np.uint16)
    share, best, all_ = np.zeros(shape, np.float32), np.zeros(shape, np.uint16), np.zeros(shape, np.float32)
    for n, number in enumerate(numbers):
        part = progress.part(n / len(numbers), (n + 1) / len(numbers))
        part.at(0.0, "Bringing labels along")
        inside = (source.kji == number).astype(np.float32)
        there = resampled_through(softened(inside, widths), source.space, target, way, "linear", 0.0, part, places)
        more = there > share
        best[more], share[more] = number, there[more]
        all_ += there
    return all_ >= 0.5, best


def _falls_on_voxels(frame: np.ndarray) -> bool:
    return bool(np.abs(frame - np.round(frame)).max() < 1e-4)

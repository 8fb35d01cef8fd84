"""How well two images fit once they are aligned, as a table."""

from __future__ import annotations

import numpy as np

from ..core.digits import decimals_of
from ..core.flows import exponential, folding
from ..core.mapping import Mapping
from ..core.table import Column, Table
from .affine_fit import Judged
from .freedom import Freedom, numbers_of
from .levels import Level
from .looks import Looks
from .similar import Seen, Similarity
from .warp_fit import Bent

FINE = 100
"""Parts of a voxel that shifts are told to."""


def score(level: Level, similarity: Similarity, matrix: np.ndarray) -> float:
    """How alike both images are by a matrix, as a person is told; NaN where too little overlaps."""
    found = Judged(level, similarity).cost(matrix)
    return float("nan") if found is None else similarity.score(found[0])


def score_through(level: Level, similarity: Similarity, way: Mapping) -> float:
    """The same through any mapping from the fixed world to the moving one."""
    places = way.to(level.places.astype(float) + level.centre)
    known = np.isfinite(places).all(1)
    middle = np.where(known[:, None], places, 0).mean(0)
    looks = Looks(
        level.moving, level.moving_space, np.where(known[:, None], places - middle, 0).astype(np.float32), middle
    )
    found, inside = looks.look(np.eye(4))
    inside = level.weighed((inside & known).astype(np.uint8))
    measure = similarity.made(Seen(level.values, level.limits, level.shape if similarity.whole else None))
    return similarity.score(measure(found, inside)[0])


def fit_report(
    name: str,
    of: Freedom,
    similarity: Similarity,
    level: Level,
    matrix: np.ndarray,
    before: float,
    mirror: str,
) -> Table:
    """What an affine alignment did, and how alike both are; `mirror` is what there is to say of swapped sides."""
    numbers = numbers_of(matrix, level.centre)
    digits = decimals_of(level.pixel / FINE)
    overlap = Judged(level, similarity).overlap(matrix)
    columns = [
        Column("freedom"),
        Column("similarity"),
        Column("before", digits=4),
        Column("after", digits=4),
        *(Column(f"shift {axis}", level.unit, digits) for axis in "xyz"),
        *(Column(f"turn {axis}", "degrees", 3) for axis in "xyz"),
        *(Column(f"scale {axis}", digits=4) for axis in "xyz"),
        Column("overlap", "%", 1),
    ]
    row = [str(of.number), similarity.title, before, score(level, similarity, matrix)]
    row += [*numbers[:3], *np.degrees(numbers[3:6]), *np.exp(numbers[6:9]), 100 * overlap]
    if mirror:
        columns.append(Column("swapped sides"))
        row.append(mirror)
    return Table(f"{name}, how it fits", columns, [tuple(row)])


def with_warp(table: Table, level: Level, similarity: Similarity, found: Bent) -> Table:
    """The same with what the warp did beyond the affine transform: how far it moves, how much it stretches."""
    shift = exponential(found.warp.velocity)
    far = np.linalg.norm(shift @ found.warp.space.affine[:3, :3].T.astype(np.float32), axis=-1)
    stretched = folding(shift)
    digits = decimals_of(level.pixel / FINE)
    row = dict(zip((c.name for c in table.columns), table.rows[0]))
    row |= {"freedom": f"{row['freedom']} and warp", "after": score_through(level, similarity, found.warp)}
    columns = [
        *table.columns,
        Column("warp, mean", level.unit, digits),
        Column("warp, most", level.unit, digits),
        Column("least Jacobian", digits=3),
        Column("most Jacobian", digits=3),
    ]
    more = float(far.mean()), float(far.max()), float(stretched.min()), float(stretched.max())
    return Table(table.title, columns, [(*row.values(), *more)])

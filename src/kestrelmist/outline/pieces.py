"""Loose pieces of a label: find, list, remove."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import Between, LabelName
from ..core.patch import LabelEdit, patch_from_mask
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .runs import Runs, find_runs


@dataclass(frozen=True)
class Piece:
    """One connected piece of a label."""

    voxels: int
    seed_kji: tuple[int, int, int]
    root: int


def pieces_of(
    labels: LabelMap, number: int, neighbours: int = 26, stop: np.ndarray | None = None
) -> tuple[list[Piece], Runs | None]:
    """Connected pieces of a label, largest first, and the runs they are made of."""
    if not labels.counts[number]:
        return [], None
    runs = find_runs(labels.kji, number, number, neighbours, None, stop)
    assert runs is not None  # there is no limit to their number here
    roots, sizes = runs.regions()
    found = []
    for root, size in zip(roots, sizes):
        row = int(np.searchsorted(runs.rows, root, "right")) - 1
        seed = (row // labels.kji.shape[1], row % labels.kji.shape[1], int(runs.first[root]))
        found.append(Piece(int(size), seed, int(root)))
    return sorted(found, key=lambda p: -p.voxels), runs


@operation(
    "outline",
    "List loose pieces",
    name="pieces",
    keywords="connected components islands connected component labelling count objects",
    called={"neighbours": "Joined by"},
    group="Loose pieces",
)
def list_pieces(labels: LabelMap, label: LabelName, neighbours: Literal[26, 18, 6] = 26) -> Table:
    """List the connected pieces of a label, largest first, with volume and place.

    Parameters
    ----------
    label : str
    neighbours : 6, 18 or 26
        Voxels count as joined by a face; by a face or an edge; by a face, an edge or a corner.
    """
    row = labels.table.named(label)
    what, cell, unit = labels.space.extent
    length = labels.space.unit
    table = Table(
        f"Pieces of {row.name}",
        [
            Column("label"),
            Column("piece"),
            Column("voxels"),
            Column(what, unit, min(12, max(0, math.ceil(-math.log10(cell)) + 2))),
            Column("x", length, 2),
            Column("y", length, 2),
            Column("z", length, 2),
        ],
    )
    for n, piece in enumerate(pieces_of(labels, row.number, neighbours)[0], 1):
        x, y, z = (float(v) for v in labels.space.to_world(piece.seed_kji[::-1]))
        table.rows.append((row.name, n, piece.voxels, piece.voxels * cell, x, y, z))
    return table


@operation(
    "outline",
    "Remove loose pieces",
    name="remove-pieces",
    keywords="keep largest island clean islands small objects despeckle clean up",
    called={"below": "Smaller than", "neighbours": "Joined by"},
    rare="neighbours",
    group="Loose pieces",
    methods="Loose pieces of labels were removed",
)
def remove_pieces(
    image: Image,
    labels: LabelMap,
    label: LabelName,
    below: Annotated[int, Between(0, 10**12)] = 0,
    neighbours: Literal[26, 18, 6] = 26,
    progress: Progress = silent(),
) -> LabelEdit:
    """Clear the loose pieces of a label and keep its largest piece.

    Parameters
    ----------
    label : str
    below : voxels
        Clear only pieces with fewer voxels than this; 0 clears all but the largest.
    neighbours : 6, 18 or 26
        Voxels count as joined by a face; by a face or an edge; by a face, an edge or a corner.
    """
    row = labels.table.named(label)
    labels.require_unlocked(row)
    pieces, runs = pieces_of(labels, row.number, neighbours, progress.stop)
    loose = [p for p in pieces[1:] if not below or p.voxels < below]
    mask = np.zeros(labels.kji.shape, np.uint8)
    for piece in progress.over(loose, what="Removing pieces"):
        assert runs is not None
        runs.fill(piece.root, mask)
    patch = patch_from_mask(labels, mask, 0, only=row.number)
    return LabelEdit(f"Remove {len(loose)} loose pieces of “{row.name}”", patch, labels.table, labels.table)

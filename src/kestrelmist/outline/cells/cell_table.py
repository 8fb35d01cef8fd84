"""What is measured of each cell: its place, size, shape and brightness."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...core.digits import decimals_of
from ...core.quantity import measure_unit
from ...core.space import Space
from ...core.table import Column, Table


@dataclass(frozen=True)
class Measured:
    """Cells of a piece: numbers, places (n, 3) in the world, voxels, length and width in its unit, and the mean of
    each channel (channels, n)."""

    numbers: np.ndarray
    places: np.ndarray
    voxels: np.ndarray
    length: np.ndarray
    width: np.ndarray
    means: np.ndarray

    def keeps(self, least: float, most: float, roundness: float) -> np.ndarray:
        """Which of them have a size and a shape that counts."""
        round_ = self.width >= roundness * self.length * (1 - 1e-9)
        return (self.voxels >= least) & (self.voxels <= most) & round_

    def chosen(self, keep: np.ndarray, before: int) -> tuple[Measured, np.ndarray]:
        """Those alone, numbered after `before` others, and the new number by the one in the piece."""
        fresh = np.zeros(int(self.numbers.max(initial=0)) + 1, np.uint16)
        numbers = before + 1 + np.arange(int(keep.sum()))
        fresh[self.numbers[keep]] = np.minimum(numbers, 65535)
        places, voxels, length, width = self.places[keep], self.voxels[keep], self.length[keep], self.width[keep]
        return Measured(numbers, places, voxels, length, width, self.means[:, keep]), fresh


def measured(numbers: np.ndarray, channels: Sequence[np.ndarray], space: Space, part, before: int) -> Measured:
    """Measure cells of a piece.

    Parameters
    ----------
    numbers : int32 array [k, j, i]
    channels : arrays like it
    part : slices along k, j, i
        Where the piece lies in the grid.
    """
    at = np.flatnonzero(numbers.ravel())
    which = numbers.ravel()[at]
    known = np.unique(which)
    row = np.zeros(int(known.max(initial=0)) + 1, np.int64)
    row[known] = np.arange(known.size)
    of = row[which]
    count = np.bincount(of, minlength=known.size)
    k, j, i = np.unravel_index(at, numbers.shape)
    world = space.to_world(np.stack((i + part[2].start, j + part[1].start, k + part[0].start), 1))
    middle = np.stack([np.bincount(of, world[:, n], known.size) / count for n in range(3)], 1)
    away = world - middle[of]
    spread = np.zeros((known.size, 3, 3))
    for a in range(3):
        for b in range(a, 3):
            spread[:, a, b] = spread[:, b, a] = np.bincount(of, away[:, a] * away[:, b], known.size) / count
    flat = 1 in space.shape
    axes = space.affine[:3, :3]
    cell = sum(np.outer(axes[:, n], axes[:, n]) for n in range(3) if space.shape[n] > 1) / 12  # of a voxel itself
    sizes = np.linalg.eigvalsh(spread + cell)[:, ::-1]
    factor = 4.0 if flat else 2 * 5**0.5  # full axis of a uniform ellipse, or ellipsoid, from its variance
    length, width = (factor * np.sqrt(np.maximum(sizes[:, n], 0)) for n in (0, 1 if flat else 2))
    means = [np.bincount(of, np.asarray(c).ravel()[at].astype(float), known.size) / count for c in channels]
    return Measured(known, middle, count, length, width, np.array(means))


def cell_table(several: Sequence[Measured], space: Space, channels: Sequence[str], title: str) -> Table:
    """One row a cell. Lengths of pictures and volumes of a microscope's size are in µm."""
    small = space.unit == "mm" and max(space.spacing) < 0.05
    factor, unit = (1e3, "µm") if small else (1.0, space.unit)
    what, cell, _ = space.extent
    power = 2 if what == "area" else 3
    size = cell * factor**power if space.unit != "px" else 1.0
    digits = decimals_of(size)
    fine = decimals_of(min(space.spacing) * factor / 10)
    columns = [Column("cell"), *(Column(axis, unit, fine) for axis in ("x", "y", "z")[: 2 if what == "area" else 3])]
    columns += [
        Column(
            what, measure_unit(unit, power) if unit in ("mm", "px") else f"{unit}{'²' if power == 2 else '³'}", digits
        )
    ]
    columns += [Column("length", unit, fine), Column("width", unit, fine), Column("roundness", "", 3)]
    columns += [
        Column("mean" if not name else f"mean_{name}", "", 4, shown_as=f"mean, {name}" if name else "mean")
        for name in channels
    ]
    table = Table(title, columns)
    axes = 2 if what == "area" else 3
    for part in several:
        for n, number in enumerate(part.numbers):
            place = (part.places[n, :axes] * factor).tolist()
            length, width = float(part.length[n]) * factor, float(part.width[n]) * factor
            table.rows.append(
                (
                    int(number),
                    *place,
                    float(part.voxels[n]) * size,
                    length,
                    width,
                    width / length if length else 0.0,
                    *(float(m[n]) for m in part.means),
                )
            )
    return table

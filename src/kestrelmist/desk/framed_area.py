"""The area a person frames on a picture, for the tools that keep or blank it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class FramedArea:
    """A framed area of a picture: first column and row, and how many of each, in pixels of the image's grid i and j."""

    column: int
    row: int
    columns: int
    rows: int

    @property
    def text(self) -> str:
        return f"{self.column},{self.row},{self.columns},{self.rows}"


def framed_corners(desk) -> list[np.ndarray]:
    """World positions of the corners of the framed area, on the crosshair's slice."""
    area, space = desk.framed, desk.record.space
    k = float(space.to_voxel(desk.crosshair)[2])
    left, top, right, bottom = area.column - 0.5, area.row - 0.5, area.column + area.columns - 0.5, area.row + area.rows - 0.5
    return [space.to_world((i, j, k)) for i, j in ((left, top), (right, top), (right, bottom), (left, bottom))]

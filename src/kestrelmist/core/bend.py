"""Mappings that bend space once, in the form in which they are quickly worked out for many places."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .space import Space


@dataclass(frozen=True, eq=False)
class Bend:
    """An affine transform, then a shift that is looked up in a field, then another affine transform.

    Parameters
    ----------
    before, after : arrays (4, 4)
    shifts : float32 array (I, J, K, 3)
        mm, at the voxels of a grid; linear in between, none beyond.
    space : Space
        That grid.
    """

    before: np.ndarray
    shifts: np.ndarray
    space: Space
    after: np.ndarray

    def frames(self, start, right, down, to_voxel: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """For the pixels of a plane: their places in the field's voxels and in those of an image where nothing is
        shifted, as columns right, down, start (3, 3) each; and by how much a shift (mm) moves them in the latter."""
        plane = np.array([[*right, 0.0], [*down, 0.0], [*start, 1.0]]).T  # (4, 3)
        in_field = self.space.inverse @ self.before @ plane
        on_image = to_voxel @ self.after
        return in_field[:3], (on_image @ self.before @ plane)[:3], on_image[:3, :3].copy()

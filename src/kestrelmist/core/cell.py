"""Where a place lies between voxels, for kernels that mix eight of them."""

from __future__ import annotations

from .kernel import kernel


@kernel(inline="always")
def cell(at, size):
    """The two voxels along an axis that a coordinate lies between, and its share of the way; kept within the grid."""
    at = min(max(at, 0.0), size - 1.0)
    lower = min(int(at), max(size - 2, 0))
    return lower, min(lower + 1, size - 1), at - lower


@kernel(inline="always")
def within(x, y, z, ni, nj, nk):
    """Whether voxel coordinates lie in the grid, half a voxel round the outer ones with it; not where they are NaN."""
    return -0.5 <= x <= ni - 0.5 and -0.5 <= y <= nj - 0.5 and -0.5 <= z <= nk - 0.5

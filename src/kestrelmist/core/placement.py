"""A new place for a thing that is there: its values are neither touched nor copied."""

from __future__ import annotations

from dataclasses import dataclass

from .caveat import Caveat
from .space import Space


@dataclass(frozen=True)
class Placement:
    """What an operation returns that moves an image in the world, or gives it another voxel size.

    Parameters
    ----------
    space : Space
        Where the image's grid lies from now on; of the same shape as before.
    settled : tuple of str
        Codes of the caveats that no longer hold; see `kestrelmist.core.caveat`.
    caveats : tuple of Caveat
        New ones.
    """

    space: Space
    settled: tuple[str, ...] = ()
    caveats: tuple[Caveat, ...] = ()

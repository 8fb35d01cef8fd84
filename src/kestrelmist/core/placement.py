"""Something else that is said of an image that is there: its place, or how it was taken. Its values are neither touched
nor copied."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .caveat import Caveat
from .space import Space

if TYPE_CHECKING:
    from .axis import Axis


@dataclass(frozen=True)
class Placement:
    """What an operation returns that moves an image in the world, gives it another voxel size, or says otherwise how it
    was taken.

    Parameters
    ----------
    space : Space
        Where the image's grid lies from now on; of the same shape as before.
    settled : tuple of str
        Codes of the caveats that no longer hold; see `kestrelmist.core.caveat`.
    caveats : tuple of Caveat
        New ones.
    facts : dict, optional
        Header facts from now on; as they were when left out.
    axes : tuple of Axis, optional
        Axes beyond space, of the same sizes; as they were when left out.
    was : Space, optional
        Where the image lay when this was worked out; filled in by whoever ran the operation.
    """

    space: Space
    settled: tuple[str, ...] = ()
    caveats: tuple[Caveat, ...] = ()
    facts: dict[str, str] | None = None
    axes: tuple[Axis, ...] | None = None
    was: Space | None = None

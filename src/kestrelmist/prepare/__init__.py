"""Operations that make new images from images."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.axis import Axis
from ..core.quantity import nanometres

GROUPS = (
    "Grid",
    "Noise and brightness",
    "Taken out",
    "Series",
    "Field maps",
    "Height maps",
    "Sections",
    "Sets",
    "Values",
)
"""Headings under which the Bench lists the operations, in this order."""
MEANT_FOR = {
    "Taken out": "volume",
    "Series": "series",
    "Field maps": "volume",
    "Height maps": "heights",
    "Sections": "picture",
}
FIRST = ("series", "heights", "picture")
"""Images whose own operations come before all others."""


def groups_for(shape: Sequence[int], axes: Sequence[Axis], unit: str) -> tuple[str, ...]:
    """`GROUPS` in the order in which an image needs them: what is meant for its kind first, for other kinds last.

    Parameters
    ----------
    shape : three numbers
        Voxels along i, j and k.
    axes : Axis
        The image's own ones, such as time.
    unit : text
        Of its values.
    """
    kinds = {"volume"} if shape[2] > 1 else {"heights"} if nanometres(unit) is not None else {"picture"}
    kinds |= {"series"} if any(axis.name == "time" for axis in axes) else set()

    def place(group: str) -> int:
        kind = MEANT_FOR.get(group)
        return 1 if kind is None else 2 if kind not in kinds else 0 if kind in FIRST else 1

    return tuple(sorted(GROUPS, key=place))

"""One place along an axis of a series: an echo, a channel, a volume."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.at_place import at_place
from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between


@operation(
    "prepare",
    "One place along an axis",
    name="one-place",
    keywords="volume frame echo channel detector phase extract split series time",
    takes="series",
    group="Series",
    called={"axis": "Along", "number": "Place"},
)
def one_place(image: Image, axis: str, number: Annotated[int, Between(1, 1_000_000)] = 1) -> Image:
    """One volume of a series, or of a series with several axes a series with one axis less.

    Parameters
    ----------
    axis : text
        Name of the axis that goes: "time", "echo", "channel" …
    number : number
        Which place along it stays, counted from 1.

    Returns
    -------
    Image
        Of the same values; volumes are read when they are looked at.

    Raises
    ------
    Trouble
        When the image has no such axis, or it has no such place.
    """
    names = [a.name for a in image.axes]
    if not names:
        raise Trouble(f"“{image.name}” is one volume, not a series", "choose a series")
    if axis not in names:
        raise Trouble(f"“{image.name}” has no axis “{axis}”", f"choose one of: {', '.join(names)}")
    gone = names.index(axis)
    along = image.axes[gone]
    if number > along.size:
        raise Trouble(f"“{image.name}” has {along.size} {along.plural}", f"give a number from 1 to {along.size}")
    made = at_place(image, gone, number - 1)
    if made.axes:
        return made
    return image.like(np.array(image.frame((number - 1,)).data, order="F"), axes=(), name=made.name)

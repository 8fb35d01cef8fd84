"""What a file that was written does not say of its image."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.quantity import nanometres
from .measured_facts import measured_facts
from .opening import open_image
from .sidecar import facts_of

GRADIENTS = ("bValues", "bVectors")
MOST = 4
"""Names of facts that are told."""


def lost_in(path: Path, image: Image) -> list[str]:
    """What a file that was written does not say of the image, told by reading its header again; each a few words, such
    as "the unit nm"."""
    try:
        read = open_image(path)
    except Trouble:  # it is written; whoever opens it hears what there is to say
        return []
    lost = []
    if image.unit and read.unit != image.unit and not _same_values(image.unit, read.unit):
        lost.append(f"the unit {image.unit}")
    if not read.space.sides_known and image.space.sides_known:
        lost.append("place and sides")
    if read.space.unit != image.space.unit and image.space.unit == "mm":
        lost.append("the scale")
    for axis in image.axes:
        same = next((a for a in read.axes if a.name == axis.name and a.size == axis.size), None)
        if same is None:
            lost.append(f"the axis “{axis.name}”")
            continue
        if axis.step and (not same.step or abs(same.step - axis.step) > 1e-5 * axis.step or same.unit != axis.unit):
            lost.append(f"the steps of {axis.name}")
        if axis.labels and same.labels != axis.labels:
            lost.append(f"the names along {axis.name}")
    said, there = measured_facts(image), facts_of(read)
    missing = sorted(name for name in said if name not in there)
    if any(name in missing for name in GRADIENTS):
        lost.append("the gradients")
    if how := [name for name in missing if name not in GRADIENTS]:
        lost.append(f"how it was taken ({', '.join(how[:MOST])}{', …' if len(how) > MOST else ''})")
    return lost


def _same_values(one: str, other: str) -> bool:
    """Whether two units are both lengths: values are then written in the other one."""
    return nanometres(one) is not None and nanometres(other) is not None

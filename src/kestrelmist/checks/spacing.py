"""Checks of an image's place and scale."""

from __future__ import annotations

from ..core.camera import setup_of
from ..core.caveat import (
    AT_DETECTOR,
    NO_SCALE,
    SCALE_DISAGREES,
    SCALE_UNSURE,
    SIDES_NOT_GIVEN,
    SIDES_UNKNOWN,
    SLICES_DOUBLED,
    SLICES_MISSING,
    SLICES_SIDEWAYS,
    SLICES_UNEVEN,
)
from .notice import Mend, Notice, Subject, check

SIZE = Mend("Set size", "set-spacing", ask=True)
CALIBRATE = Mend("Calibration", "use-calibration", ask=True)
MAGNIFIED = Mend("Set magnification", "set-magnification", ask=True)
AGAIN = Mend("Gather again", "gather", ask=True)
FACTS = Mend("Show facts", "facts")


@check("gather", "outline", "measure", "report")
def spacing_unsure(subject: Subject) -> list[Notice]:
    """Voxel sizes that the file did not give, sides that nobody knows, and stacks that had to be mended."""
    notices = []
    name = "spacing_unsure"
    if subject.series.space.unit == "px":
        taken = setup_of(subject.series).words
        sentence = "No scale is known: lengths on this image are in pixels."
        if taken:
            sentence = f"Taken with {taken}, without a calibration of it: lengths on this image are in pixels."
        notices.append(Notice("wrong", sentence, CALIBRATE if taken else SIZE, name))
    for caveat in subject.series.caveats:
        if caveat.code in (SCALE_UNSURE, SIDES_UNKNOWN):
            sentence = f"{caveat.sentence}: lengths and sides on this image are unsure."
            notices.append(Notice("wrong", sentence, SIZE, name))
        elif caveat.code == NO_SCALE and subject.series.space.unit != "px":
            notices.append(Notice("wrong", f"{caveat.sentence}.", SIZE, name))
        elif caveat.code == SCALE_DISAGREES:
            notices.append(Notice("wrong", f"{caveat.sentence}.", CALIBRATE, name))
        elif caveat.code == AT_DETECTOR:
            notices.append(Notice("look", f"{caveat.sentence}: lengths come out larger.", MAGNIFIED, name))
        elif caveat.code == SIDES_NOT_GIVEN:
            notices.append(Notice("look", f"{caveat.sentence}.", FACTS, name))
        elif caveat.code in (SLICES_MISSING, SLICES_DOUBLED, SLICES_UNEVEN, SLICES_SIDEWAYS):
            notices.append(Notice("look", f"{caveat.sentence}.", AGAIN, name))
    return notices


@check("gather", "outline", "measure")
def thick_slices(subject: Subject) -> list[Notice]:
    """Voxels much longer than wide: surfaces and volumes of small things will be coarse."""
    space = subject.series.space
    ratio = max(space.spacing) / min(space.spacing)
    if ratio < 4 or space.flat_axis is not None:
        return []
    longest = f"{max(space.spacing):.3g} {space.unit}"
    return [Notice("look", f"Voxels are {ratio:.1f} times longer than wide ({longest}).", FACTS, "thick_slices")]

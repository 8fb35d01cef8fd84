"""Checks of an image's place and scale."""

from __future__ import annotations

from .notice import Mend, Notice, Subject, check


@check("gather", "outline", "measure")
def spacing_unsure(subject: Subject) -> list[Notice]:
    """Voxel sizes that the file did not give, and stacks that had to be mended."""
    notices = []
    space = subject.image.space
    if space.unit == "px":
        notices.append(Notice("wrong", "No scale is known: lengths on this image are in pixels.", Mend("Set size", "set-spacing", ask=True), "spacing_unsure"))
    for note in subject.image.origin.notes:
        if not space.sides_known and ("sides are unknown" in note or "spacing is missing" in note):
            if "sides are unknown" in note:
                notices.append(Notice("look", f"{note}.", Mend("Show facts", "facts"), "spacing_unsure"))
        elif "gives no scale" in note and space.unit == "px":
            continue
        elif "sides are unknown" in note or "spacing" in note or "voxel size" in note:
            notices.append(Notice("wrong", f"{note}: lengths and sides on this image are unsure.",
                                  Mend("Set size", "set-spacing", ask=True), "spacing_unsure"))
        elif "missing" in note or "same place" in note or "uneven" in note:
            notices.append(Notice("look", f"{note}.", Mend("Gather again", "gather", ask=True), "spacing_unsure"))
    return notices


@check("gather", "outline", "measure")
def thick_slices(subject: Subject) -> list[Notice]:
    """Voxels much longer than wide: surfaces and volumes of small things will be coarse."""
    space = subject.image.space
    ratio = max(space.spacing) / min(space.spacing)
    if ratio < 4 or space.flat_axis is not None:
        return []
    return [Notice("look", f"Voxels are {ratio:.1f} times longer than wide ({max(space.spacing):.3g} mm).", Mend("Show facts", "facts"),
                   "thick_slices")]

"""Checks of pictures that say with which optical set-up they were taken, and of what they are calibrated by."""

from __future__ import annotations

from ..core.calibration import Setup
from ..core.camera import setup_of
from ..core.scale import scale_of
from .notice import Mend, Notice, Subject, check

CALIBRATE = Mend("Use a calibration", "use-calibration", ask=True)


@check("gather", "measure", "report")
def calibration_of_another_setup(subject: Subject) -> list[Notice]:
    """A picture whose calibration was made with another objective, camera or resolution than it was taken with."""
    taken = setup_of(subject.series)
    scale = scale_of(subject.series)
    if not taken.words or not scale.calibration:
        return []
    made = Setup.from_dict(scale.setup)
    if made.fits(taken):
        return []
    sentence = f"Calibration “{scale.calibration}” is of {made.words}, and this was taken with {taken.words}."
    return [Notice("wrong", sentence, CALIBRATE, "calibration_of_another_setup")]

"""The marks of an image that are in hand."""

from __future__ import annotations

from ...core.operation import operation
from ..kinds import AnyMarks
from ..study import Study


@operation(
    "measure",
    "Take marks in hand",
    name="choose-marks",
    keywords="select switch work on set landmarks annotations",
    repeats=False,
    group="Marks",
)
def choose_marks(study: Study, marks: AnyMarks) -> None:
    """Choose the marks that are drawn on, on the image that they are of."""
    study.marks.take_in_hand(marks.id)

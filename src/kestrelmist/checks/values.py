"""Checks of an image's values."""

from __future__ import annotations

from ..core.caveat import VALUES_LOST
from .notice import Notice, Subject, check
from .spacing import FACTS


@check("prepare", "outline", "measure")
def values_lost(subject: Subject) -> list[Notice]:
    """Voxels that lost their value in a step, as by a division by zero."""
    lost = [caveat for caveat in subject.series.caveats if caveat.code == VALUES_LOST]
    return [Notice("look", f"{caveat.sentence}.", FACTS, "values_lost") for caveat in lost]

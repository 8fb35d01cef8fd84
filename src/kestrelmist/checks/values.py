"""Checks of an image's values, and of what is said of them."""

from __future__ import annotations

from ..core.caveat import FACTS_BY_HAND, FIELD_DOUBTFUL, SIDECAR_CONTRADICTS, VALUES_LOST
from .notice import Notice, Subject, check
from .spacing import FACTS


@check("prepare", "outline", "measure")
def values_lost(subject: Subject) -> list[Notice]:
    """Voxels that lost their value in a step, as by a division by zero."""
    return _told(subject, "values_lost", VALUES_LOST)


@check("gather", "prepare")
def facts_doubtful(subject: Subject) -> list[Notice]:
    """A sidecar that says something else than the file, and facts that were set by hand."""
    return _told(subject, "facts_doubtful", SIDECAR_CONTRADICTS, FACTS_BY_HAND)


@check("prepare", "align", "measure")
def field_doubtful(subject: Subject) -> list[Notice]:
    """A distortion that was undone although something speaks against how."""
    return _told(subject, "field_doubtful", FIELD_DOUBTFUL)


def _told(subject: Subject, name: str, *codes: str) -> list[Notice]:
    found = [caveat for caveat in subject.series.caveats if caveat.code in codes]
    return [Notice("look", f"{caveat.sentence}.", FACTS, name) for caveat in found]

"""What a recipe needs of a machine, about."""

from __future__ import annotations

from math import prod

from ...core.operation import find_operation
from ..items import ImageRecord
from .plan_notice import Looked
from .recipe import Recipe
from .units import Unit

COPIES = 12
"""Volumes that a step may hold besides a series."""


def volumes_of(record: ImageRecord) -> int:
    """Volumes of a series."""
    return prod(axis.size for axis in record.axes)


def memory_for(record: ImageRecord, whole: bool) -> int:
    """About how many bytes a step may take that works on an image; on the `whole` series, or on one volume."""
    return 4 * prod(record.grid.shape) * (COPIES + (volumes_of(record) if whole else 0))


def bytes_of(recipe: Recipe, unit: Unit, looked: Looked) -> int:
    """About what the steps of a unit write: each image that is made as many voxels as what led, in float32."""
    total = 0
    for step in recipe.steps:
        about = find_operation(step.operation)
        lead = about.lead
        given = step.inputs.get(lead.name, []) if lead is not None else []
        record = looked.source(unit, given[0]) if given else None
        if not isinstance(record, ImageRecord):
            continue
        images = sum(r.kind.leads for r in about.results)
        total += 4 * prod(record.grid.shape) * (volumes_of(record) if "series" in about.takes else 1) * images
    return total

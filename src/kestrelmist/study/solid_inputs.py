"""What of a study stands in the solid scene of an image, as inputs of the operations that draw it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..core.kind import is_solid
from ..scene.solid.shown import Shown
from .study import Study


def solid_inputs(
    study: Study, image: int, shown: Shown, over: Sequence[int] = (), others: Sequence[int] = ()
) -> dict[str, Any]:
    """Ids by the names of inputs of `render`: the map in hand where it is drawn or says where the volume is, other
    maps, and surfaces, marks and images over it that are shown.

    Parameters
    ----------
    over, others : ids
        Of images that lie over it, and of label maps that are seen beside the one in hand.
    """
    hand, drawn_on = study.in_hand(image), study.marks.in_hand(image)
    surfaces = [one.id for one in study.items.owned(image) if is_solid(one.kind) and not one.removed]
    return {
        "labels": hand if shown.labels or shown.inside >= 0 else None,
        "others": list(others) if shown.labels and not shown.only else [],
        "volumes": list(over) if shown.over else [],
        "surfaces": surfaces if shown.surfaces else [],
        "marks": [drawn_on] if shown.marks and drawn_on is not None else [],
    }

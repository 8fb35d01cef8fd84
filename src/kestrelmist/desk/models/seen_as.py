"""What is seen on the Light table, as inputs and settings of operations that draw planes: a form that is opened from
there shows what one sees."""

from __future__ import annotations

from typing import Any

from ...scene.layer import ImageLook
from .layers import Layers
from .viewing import Viewing


def seen_as(viewing: Viewing, layers: Layers) -> dict[str, Any]:
    """The range of the image that leads, its slab, what lies over it with its range, how both are compared, and the map
    in hand. Of several that lie over it in different ranges, ranges are left out."""
    found: dict[str, Any] = {}
    image, look = viewing.image, viewing.look
    if look is not None and image is not None and not image.colour:
        found |= {"low": look.low, "high": look.high, "colours": look.colour_map}
        found |= {"slab": look.slab, "slab_way": look.slab_way}
    above = [row for row in reversed(layers.rows) if not row.leads and row.layer.shown]
    looks = [row.layer.look for row in above if isinstance(row.layer.look, ImageLook)]
    found["over"] = [row.record.id for row in above]
    ranges = {(one.low, one.high, one.colour_map, one.below_map) for one in looks}
    if len(ranges) == 1:
        low, high, colours, below = ranges.pop()
        found |= {"over_low": low, "over_high": high, "over_colours": colours, "below_colours": below or ""}
        found["opacity"] = above[0].layer.opacity
    how = layers.comparison
    found |= {"compare": how.way, "share": how.share, "square": how.square}
    found["labels"] = viewing.maps.map.id if viewing.maps.map is not None else None
    return found

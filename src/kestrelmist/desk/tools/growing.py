"""Grow from point: a click fills what is joined to it; inside the label itself it keeps only what is joined."""

from __future__ import annotations

from ...core.errors import Trouble
from ..tool import Gesture, Tool, ToolEvent, register


def _start(event: ToolEvent) -> Gesture | None:
    desk = event.desk
    try:
        label = desk.hand.require_label()
    except Trouble as trouble:
        desk.session.trouble.emit(str(trouble))
        return None
    settings, labels = desk.hand.settings, desk.viewing.maps.labels
    inside = labels is not None and labels.at(event.world) == label.number
    desk.run(
        "grow",
        {
            "label": label.name,
            "point": tuple(float(v) for v in event.world),
            "low": settings.low,
            "high": settings.high,
            "neighbours": settings.neighbours,
            "through": "label" if inside else "range",
        },
    )
    return None


register(
    Tool(
        "grow",
        "Grow from point",
        "sprout",
        "Click in a structure: all that is joined to it in range gets the label. Click inside the label: only the part"
        " joined there is kept.",
        _start,
        ("Outline",),
        ("range", "neighbours"),
        order=3,
        more="region growing magic wand flood fill segmentation segment",
    )
)

"""Pick points: each click in a pane adds one to the field that asks for them."""

from __future__ import annotations

from ..tool import Gesture, Tool, ToolEvent, register


def _start(event: ToolEvent) -> Gesture | None:
    event.desk.hand.pick(tuple(float(v) for v in event.world))
    return None


register(
    Tool(
        "pick",
        "Pick points",
        "crosshair",
        "Click on places; the field that asked for them takes the last ones.",
        _start,
        ("Prepare", "Measure"),
        offered=False,
        order=10,
        more="landmarks click",
    )
)

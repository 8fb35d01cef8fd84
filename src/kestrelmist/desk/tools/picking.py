"""Pick points: each click in a pane adds one to the field that asks for them."""

from __future__ import annotations

from ..tool import Gesture, Tool, ToolEvent, register
from .marks import Moving, can_draw


def _start(event: ToolEvent) -> Gesture | None:
    desk = event.desk
    if not can_draw(desk):
        return None
    found = desk.marks.hit(event.view, event.world)
    if found is not None and found.mark.id in desk.asked.places:
        return Moving(event, found.mark, found.handle)
    x, y, z = map(float, event.world)
    desk.asked.pick((x, y, z))
    return None


register(
    Tool(
        "pick",
        "Pick points",
        "crosshair",
        "Click on places, drag one to move it; the field that asked for them takes the last ones.",
        _start,
        ("Prepare", "Measure"),
        offered=False,
        order=10,
        more="landmarks click",
    )
)

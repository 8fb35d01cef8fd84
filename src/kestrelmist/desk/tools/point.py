"""Point: the crosshair follows the pointer."""

from __future__ import annotations

from ..tool import Gesture, Tool, ToolEvent, register


class Pointing(Gesture):
    """The crosshair goes where the pointer goes."""

    def __init__(self, event: ToolEvent):
        self.move(event)

    def move(self, event: ToolEvent) -> None:
        event.desk.viewing.go_to(event.world)


register(
    Tool(
        "point",
        "Point",
        "crosshair",
        "Click to move the crosshair, wheel to step through slices, Ctrl+wheel to zoom, drag with the middle button to"
        " pan and with the right one for the display range.",
        Pointing,
        more="crosshair cursor pointer navigate",
    )
)

"""What a tool is, and the list of tools. Each tool is one file of the package `tools`, which registers itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from PySide6.QtCore import Qt

from ..core.registry import Registry
from ..scene.primitives import Primitive
from ..scene.view import View
from .models.drawn_marks import DrawnMarks
from .models.hand import Hand
from .models.layers import Layers
from .models.laying import Laying
from .models.sections import Sections
from .models.session import Session
from .models.viewing import Viewing


class OpenDesk(Protocol):
    """What tools see of the window: its three models, and the way to run an operation on what leads."""

    session: Session
    viewing: Viewing
    hand: Hand
    layers: Layers
    laying: Laying
    sections: Sections
    marks: DrawnMarks

    def run(self, name: str, settings: dict[str, Any], done: Any = None, title: str | None = None) -> Any: ...
    def run_now(self, name: str, settings: dict[str, Any]) -> bool: ...


@dataclass(frozen=True)
class ToolEvent:
    """Where the hand is: a world position in the plane of a pane."""

    desk: OpenDesk
    world: np.ndarray
    view: View
    modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier


class Gesture:
    """What a tool does from press to release. Each method does nothing unless a tool says otherwise."""

    def move(self, event: ToolEvent) -> None:
        """The pointer has moved with the button down."""

    goes_on = False
    """Whether it goes on when the button is up: the next press is one of its own, until it is ended."""

    def press(self, event: ToolEvent) -> None:
        """The button is down once more, in a gesture that goes on."""

    def key(self, key: Qt.Key) -> bool:
        """A key was pressed; whether it meant something here."""
        return False

    def wheel(self, notches: float) -> bool:
        """The wheel was turned; whether it meant something here."""
        return False

    def over(self, view: View) -> list[Primitive]:
        """What is drawn over the pane."""
        return []

    def finish(self) -> None:
        """The button is up, or something else begins: what was done is kept."""

    def cancel(self) -> None:
        """What was done is taken back."""


@dataclass(frozen=True)
class Tool:
    """A tool of the hand.

    Parameters
    ----------
    name, title, icon, hint : str
    start : callable
        `start(event)`: the gesture that begins with a press; None when the press was all.
    stages : tuple of str
        Stages in which it is offered; kept in the hand in these only. All when empty.
    groups : tuple of str
        Names of the groups of settings on the Bench that belong to it.
    cursor : Qt.CursorShape
    hover : callable, optional
        `hover(view, desk, world)`: what is drawn at the pointer while no button is down.
    key : callable, optional
        `key(event, key)`: what a key does while the tool is in hand and no gesture is under way; whether it meant
        something. The event tells where the pointer is, or the crosshair.
    offered : bool
        Whether it has a button of its own on the Bench.
    order : int
        Its place among the buttons.
    more : str
        More words to find it by.
    """

    name: str
    title: str
    icon: str
    hint: str
    start: Callable[[ToolEvent], Gesture | None]
    stages: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    cursor: Qt.CursorShape = Qt.CursorShape.CrossCursor
    hover: Callable[[View, OpenDesk, np.ndarray], list[Primitive]] | None = None
    key: Callable[[ToolEvent, Qt.Key], bool] | None = None
    offered: bool = True
    order: int = 0
    more: str = ""


TOOLS: Registry[Tool] = Registry("tool", f"{__package__}.tools", order=lambda t: (t.order, t.title))


def register(tool: Tool) -> Tool:
    """Make a tool known."""
    return TOOLS.add(tool.name, tool)


def tool_named(name: str) -> Tool:
    """The tool of that name; the one that points when there is none."""
    return TOOLS.get(name) or TOOLS.get("point")  # type: ignore[return-value]

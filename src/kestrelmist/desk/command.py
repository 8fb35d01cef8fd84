"""What keys, buttons of the mouse and fingers do: one list, by which they are handled and from which they are told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..core.registry import Registry

GROUPS = ("Going", "Looking", "Layers", "Panes", "Time", "Measure", "Window")


@dataclass(frozen=True)
class Command:
    """Something that is done by a key, or by its name in the Finder.

    Parameters
    ----------
    name : str
    title : str
        What it is called in the Finder and on the sheet.
    group : str
        One of GROUPS.
    do : callable
        `do(window)`, or `do(canvas)` of a command of a pane.
    keys : tuple of str
        Key sequences, as Qt writes them.
    more : str
        More words to find it by.
    pane : bool
        Its keys work in a pane that has the keyboard.
    order : int
    """

    name: str
    title: str
    group: str
    do: Callable[[Any], object]
    keys: tuple[str, ...] = ()
    more: str = ""
    pane: bool = False
    order: int = 50


@dataclass(frozen=True)
class Handling:
    """Something that is done with the mouse or with fingers in a pane.

    Parameters
    ----------
    by : str
        What the hand does, for the sheet: "Right drag".
    words : str
        What comes of it.
    group : str
    button, modifier : str
        Names of Qt's, "" when none; "Wheel", "Fingers" and "Pinch" stand for what is no button.
    does : str
        What the canvas is to do: a name that it knows.
    """

    name: str
    by: str
    words: str
    group: str
    button: str
    does: str
    modifier: str = ""
    order: int = 50


COMMANDS: Registry[Command] = Registry(
    "command", f"{__package__}.commands", order=lambda c: (GROUPS.index(c.group), c.order)
)
HANDLINGS: Registry[Handling] = Registry(
    "handling", f"{__package__}.commands", order=lambda h: (GROUPS.index(h.group), h.order)
)


def command(name: str, title: str, group: str, *keys: str, more: str = "", pane: bool = False, order: int = 50):
    """Register a function as a command."""

    def register(do: Callable[[Any], object]) -> Callable[[Any], object]:
        COMMANDS.add(name, Command(name, title, group, do, keys, more, pane, order))
        return do

    return register


def handling(name: str, by: str, words: str, group: str, button: str, does: str, modifier: str = "") -> None:
    """Register what the mouse or fingers do."""
    HANDLINGS.add(name, Handling(name, by, words, group, button, does, modifier))


def what_does(button: str, modifiers: set[str]) -> str:
    """What a button, the wheel or fingers do with some modifiers held; "" when nothing. The plain meaning is taken when
    nothing is said of the modifiers."""
    plain = ""
    for one in HANDLINGS.values():
        if one.button == button and one.modifier in modifiers:
            return one.does
        if one.button == button and not one.modifier:
            plain = one.does
    return plain

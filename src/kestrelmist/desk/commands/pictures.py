"""Pictures that leave the window: to the clipboard, to paper."""

from __future__ import annotations

from ..bench.to_figure import put_panes_on_figure
from ..command import command


@command("copy-picture", "Copy the lead picture", "Window", "Ctrl+Shift+C", more="clipboard paste", order=14)
def copy_picture(window) -> None:
    window.copy_picture()


@command("print-picture", "Print the lead picture…", "Window", more="paper printer pdf", order=15)
def print_picture(window) -> None:
    window.ask_and_print()


@command(
    "panes-on-figure",
    "These panes as panels of a figure…",
    "Window",
    more="arrangement picture of all panes multi-panel screenshot",
    order=15,
)
def panes_on_figure(window) -> None:
    put_panes_on_figure(window, window.desk)


@command(
    "larger-letters", "Larger letters", "Window", more="type size font size zoom interface accessibility", order=16
)
def larger_letters(window) -> None:
    window.set_letters(0.1)


@command("smaller-letters", "Smaller letters", "Window", more="type size font size zoom interface", order=17)
def smaller_letters(window) -> None:
    window.set_letters(-0.1)


@command("usual-letters", "Letters of the usual size", "Window", more="type size font size reset", order=18)
def usual_letters(window) -> None:
    window.set_letters(None)


@command(
    "same-range",
    "This range for all images of its kind",
    "Looking",
    more="copy window level display range apply",
    order=30,
)
def same_range(window) -> None:
    window.desk.copied.for_all()


@command("copy-range", "Copy the range", "Looking", more="copy window level display range colours", order=31)
def copy_range(window) -> None:
    window.desk.copied.copy()


@command("give-range", "Give this image the copied range", "Looking", more="paste window level display range", order=32)
def give_range(window) -> None:
    window.desk.copied.give()

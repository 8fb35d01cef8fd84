"""Measuring by hand."""

from __future__ import annotations

from ..command import command


@command(
    "section", "Draw a section", "Measure", "D", more="profile line cross-section step height", pane=True, order=10
)
def section(part) -> None:
    part.desk.parent().drawer.open_page("sections")
    part.desk.hand.set_tool("section")


@command("sections", "Sections", "Measure", "Ctrl+D", more="profile line drawer plot", order=11)
def sections(window) -> None:
    window.toggle_drawer("sections")


@command("marks", "Marks", "Measure", "Ctrl+M", more="list landmarks annotations regions of interest drawer", order=13)
def marks(window) -> None:
    window.toggle_drawer("marks")


@command("keep-section", "Keep the section of the line in hand", "Measure", more="profile hold", order=12)
def keep_section(window) -> None:
    window.desk.sections.keep()

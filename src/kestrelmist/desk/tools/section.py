"""Draw a section: a drag draws a line over the picture; a drag at one of its ends moves that end, one between them the
whole line. The line in hand is a mark; another drag elsewhere draws it anew."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.hits import hit_of
from ...core.geometry.mark import Mark
from ...core.geometry.shape import shape_named
from ..models.sections import SECTION
from ..tool import Gesture, Tool, ToolEvent, register
from .marks import Drawing, Moving


class MovingSection(Moving):
    """The line, or an end of it, follows the pointer."""

    def put(self, title: str, mark: Mark) -> list[int]:
        return self.desk.sections.keep_line(title, mark, self.of, self.image)


class DrawingSection(Drawing):
    """A line from the press to the pointer, in place of the one in hand."""

    def __init__(self, event: ToolEvent):
        self.kept = event.desk.sections.mark
        super().__init__(event, shape_named(SECTION))

    def draw(self, points) -> None:
        number, across = (0 if self.kept is None else self.kept.id), self.desk.sections.width
        ends = tuple(map(tuple, np.asarray(points).tolist()))
        self.show(Mark(SECTION, ends, number, place=self.place, across=across))  # type: ignore[arg-type]

    def put(self, title: str, mark: Mark) -> list[int]:
        return self.desk.sections.keep_line(title, mark, self.of, self.image)


def _start(event: ToolEvent) -> Gesture | None:
    desk = event.desk
    mark = desk.sections.mark
    if not desk.session.study.read_only:
        try:
            desk.session.study.catalogue.require_writable()
        except Trouble as trouble:
            desk.session.trouble.emit(str(trouble))
            return None
    if mark is not None:
        at = tuple(event.view.to_page(event.world).tolist())
        found = hit_of(mark, at, event.view.to_page)  # type: ignore[arg-type]
        if found is not None:
            return MovingSection(event, replace(mark, across=desk.sections.width), found.handle)
    return DrawingSection(event)


register(
    Tool(
        "section",
        "Draw a section",
        "ruler",
        "Drag a line over the picture; drag its ends or the line to move it. Shift, held while you drag, keeps it"
        " straight.",
        _start,
        offered=False,
        order=11,
        more="line profile draw a line cross section ruler measure distance",
    )
)
